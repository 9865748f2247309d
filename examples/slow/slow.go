// Package slow is a middleware that imports package exchange alone: it runs in an API and around any
// other http.Handler.
package slow

import (
	"log/slog"
	"net/http"
	"time"

	"github.com/wicketway/wicketway/exchange"
)

// Report writes a line for each request that took longer than a limit: its route where an API serves
// it, the caller, the status and what failed. The clock is time.Now but in tests. The middleware is safe
// to share.
func Report(to *slog.Logger, limit time.Duration, clock func() time.Time) exchange.Middleware {
	m := exchange.Wrap("slow", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w, answer := exchange.WriterOf(w)
			begun := clock()
			next.ServeHTTP(w, r)
			took := clock().Sub(begun)
			if took <= limit {
				return
			}
			x := exchange.Of(r.Context())
			attrs := []any{
				"route",
				x.Template(),
				"caller",
				x.Caller().Subject,
				"status",
				answer.Status(),
				"took_ms",
				took.Milliseconds(),
			}
			if f := x.Failure(); f != nil {
				attrs = append(attrs, "code", f.Code())
			}
			to.WarnContext(r.Context(), "slow", attrs...)
		})
	})
	m.Does = "logs requests that took longer than " + limit.String()
	return m
}
