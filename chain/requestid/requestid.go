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
// answer. An id that the caller sent is not taken over: callers who choose the ids
// could make the log say what they want.
func Assign() wicketway.Middleware {
	return wicketway.Middleware{
		Name: "requestid",
		Does: "gives each request an id, and sends it with the answer",
		Sets: []string{Header},
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				id := uuid.New()
				wicketway.SetRequestID(r.Context(), id)
				text := wicketway.RequestID(r.Context())
				if text == "" { // it stands alone
					text = id.String()
				}
				w.Header()[Header] = []string{text}
				next.ServeHTTP(w, r)
			})
		},
	}
}
