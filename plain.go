package wicketway

import (
	"net/http"
	"net/url"
	"strings"

	"github.com/wicketway/wicketway/internal/answer"
)

// plain is the endpoint for a handler.
type plain struct{ handler http.Handler }

func (p plain) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	for i, name := range s.target.names {
		r.SetPathValue(name, s.match.Value(i))
	}
	return s.call(w, r, p.handler)
}

// call lets a handler answer.
func (s *state) call(w http.ResponseWriter, r *http.Request, h http.Handler) error {
	s.begin(w)
	if s.target.terms().uniform {
		h = reshaped(h)
	}
	return s.take(Step{Kind: StepCall}, func() error { h.ServeHTTP(w, r); return nil })
}

// mounted is the endpoint for a handler that sees only what follows its prefix.
type mounted struct {
	handler http.Handler
	slash   int // which slash of the path the rest begins with, from 1
}

func (m mounted) serve(w http.ResponseWriter, r *http.Request, s *state) error {
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
	return s.call(w, &inner, m.handler)
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

// reshaped turns a handler's plain error answers into problems.
func reshaped(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := answer.Reshape(w, func(status int, h http.Header) bool {
			return status >= 400 && !strings.Contains(h.Get("Content-Type"), "json")
		}, func(w http.ResponseWriter) { h.ServeHTTP(w, r) })
		if p == nil {
			return
		}
		if s := stateOf(r.Context()); s != nil {
			s.before.Store(nil) // the handler has answered: its fields are part of that
		}
		Fail(w, r, p)
	})
}
