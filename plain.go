package wicketway

import (
	"net/http"
	"net/url"
	"strings"

	"github.com/wicketway/wicketway/route"
)

// Handle declares a route that a plain handler serves. It reads its parameters
// with r.PathValue, and reports failure with [Fail].
func Handle(line string, h http.Handler, settings ...Setting) Part {
	return routePart{at: here(0), line: line, settings: settings, compile: func(at *site) endpoint {
		if isNil(h) {
			at.mistakef("the handler is nil")
			return plain{}
		}
		return plain{at.asTold(h)}
	}}
}

// asTold makes a handler's errors uniform where the settings say so.
func (s *site) asTold(h http.Handler) http.Handler {
	if s.target.uniform {
		return reshaped(h)
	}
	return h
}

// plain is the endpoint for a handler.
type plain struct{ handler http.Handler }

func (p plain) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	for i, name := range s.target.names {
		r.SetPathValue(name, s.match.Value(i))
	}
	s.begin(w)
	p.handler.ServeHTTP(w, r)
	return nil
}

// begin notes what the chain has set in the header: what a handler adds goes away
// if it fails.
func (s *state) begin(w http.ResponseWriter) { s.before = w.Header().Clone() }

// Mount puts a foreign handler under a prefix, for all methods and all paths
// below it. The handler sees the path without the prefix. Routes that are more
// specific than the prefix still come first.
func Mount(prefix string, h http.Handler, settings ...Setting) Part {
	line := route.AnyMethod + " " + strings.TrimSuffix(prefix, "/") + "/{+mounted}"
	return routePart{at: here(0), line: line, settings: settings, mounted: true, compile: func(at *site) endpoint {
		if isNil(h) {
			at.mistakef("the handler is nil")
			return plain{}
		}
		return mounted{at.asTold(h), strings.Count(at.target.path, "/")}
	}}
}

// mounted is the endpoint for a handler that sees only what follows its prefix.
type mounted struct {
	handler http.Handler
	slash   int // which slash of the path the rest begins with, from 1
}

func (m mounted) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	s.begin(w)
	inner := *r
	u := *r.URL
	inner.URL = &u
	if u.RawPath == "" {
		u.Path = fromSlash(u.Path, m.slash)
	} else {
		u.RawPath = fromSlash(u.RawPath, m.slash)
		path, err := url.PathUnescape(u.RawPath)
		if err != nil {
			return err // the path was matched, so it is well-formed
		}
		u.Path = path
	}
	m.handler.ServeHTTP(w, &inner)
	return nil
}

// fromSlash gives a path from its n-th slash on.
func fromSlash(path string, n int) string {
	for i := range len(path) {
		if path[i] == '/' {
			if n--; n == 0 {
				return path[i:]
			}
		}
	}
	return "/"
}
