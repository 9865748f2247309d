package wicketway

import "net/http"

// A Middleware stands between the server and the routes: it can act before and
// after them, answer in their place, and change what they read and write. Its
// name is for listings.
type Middleware struct {
	Name string
	// Wrap returns a handler that does its work and calls next to go on. It is
	// called once for each place at which the middleware stands in a description.
	// The handler is called by many requests at a time.
	Wrap func(next http.Handler) http.Handler
}

// Wrap makes a middleware of any func(http.Handler) http.Handler.
func Wrap(name string, wrap func(http.Handler) http.Handler) Middleware {
	return Middleware{name, wrap}
}

// A link is a middleware in its place in a chain.
type link struct {
	name    string
	at      place
	handler http.Handler
}

func newLink(m Middleware, at place, depth int) *link {
	return &link{m.Name, at, m.Wrap(step(depth + 1))}
}

// A step is the handler behind a link: it goes on with the chain of whichever
// route the request is for. One middleware serves many routes, so only the
// request knows what comes next.
type step int

func (k step) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s := stateOf(r.Context())
	if s == nil {
		Fail(w, r, errLostContext)
		return
	}
	s.target.from(int(k), w, r, s)
}
