package wicketway

import (
	"log/slog"
	"net/http"
	"reflect"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// A Middleware stands between the server and the routes: it can act before and
// after them, answer in their place, and change what they read and write. What it says of
// itself is for listings, for the catalogue of problems and for the contract.
type Middleware struct {
	Name string
	// Does says in a line what it does.
	Does string
	// Wrap returns a handler that does its work and calls next to go on. It is
	// called once for each place at which the middleware stands in a description.
	// The handler is called by many requests at a time.
	Wrap func(next http.Handler) http.Handler
	// Raises are the kinds of problem that it answers with itself.
	Raises []*problem.Kind
	// Sets are the header fields that it sets on answers.
	Sets []string
	// Reads are the types of attached values that it reads (see [Attach]).
	Reads []reflect.Type
	// Repeats says that it may stand more than once in a chain.
	Repeats bool
	// HidesFlush says that what is behind it cannot send a part of an answer before its end.
	HidesFlush bool
	// Log is where a middleware that logs requests writes in a mode. The API's own lines go there as well,
	// unless the setting [Log] says otherwise, so that all lines of one stream have one format.
	Log func(development bool) *slog.Logger
	// Observes is notified of the steps of requests behind it, and of its own; nil: it need not
	// know.
	Observes Observer
	// Check says what is wrong with it by itself, several joined (errors.Join); nil where nothing can
	// be. Build asks it once where it stands in a chain, and reports the errors.
	Check func() error
	// CheckRoute says what is wrong about a route behind it; nil where it works
	// behind any. Build asks it about each route, and reports the error.
	CheckRoute func(facts.Route) error
}

// Wrap makes a middleware of any func(http.Handler) http.Handler.
func Wrap(name string, wrap func(http.Handler) http.Handler) Middleware {
	return Middleware{Name: name, Wrap: wrap}
}

// A chained middleware is one in its place in a chain.
type chained struct {
	Middleware
	at      place
	depth   int          // how many of the chain come before it
	handler http.Handler // made when the description is compiled
}
