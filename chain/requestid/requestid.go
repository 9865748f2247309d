// Package requestid gives every request an id, by which its answer, its problem
// and its line in the log can be brought together.
package requestid

import (
	"net/http"

	"github.com/google/uuid"

	"github.com/wicketway/wicketway"
)

// Header is the field that carries the id of the answer.
const Header = "X-Request-Id"

// Assign gives each request a random UUID (RFC 9562, 5.4) and sends it with the
// answer. An id that the caller sent is not taken over: whoever chooses the ids
// could make the log say what he wants.
func Assign() wicketway.Middleware {
	return wicketway.Wrap("requestid", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			id := uuid.NewString()
			wicketway.SetRequestID(r.Context(), id)
			w.Header()[Header] = []string{id}
			next.ServeHTTP(w, r)
		})
	})
}
