package wicketway

import (
	"net/http"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/here"
)

// A Middleware is between the server and the routes; see [exchange.Middleware].
type Middleware = exchange.Middleware

// Wrap makes a middleware of any func(http.Handler) http.Handler.
func Wrap(name string, wrap func(http.Handler) http.Handler) Middleware {
	return exchange.Wrap(name, wrap)
}

// A chained middleware is one in its place in a chain.
type chained struct {
	Middleware
	at      here.Place
	depth   int          // how many of the chain come before it
	handler http.Handler // made when the description is compiled
}
