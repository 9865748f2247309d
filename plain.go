package wicketway

import (
	"net/http"
	"net/url"
	"strings"

	"github.com/wicketway/wicketway/exchange"
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
	w = s.begin(w)
	if s.target.terms().uniform {
		h = reshaped(h)
	}
	return s.take(exchange.Step{Kind: exchange.StepCall}, func() error { h.ServeHTTP(w, r); return nil })
}

// mounted is the endpoint for a handler that sees only what follows its prefix.
type mounted struct {
	handler http.Handler
	rest    rest
}

func (m mounted) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	inner := *r
	u := *r.URL
	inner.URL = &u
	if u.RawPath == "" {
		u.Path = m.rest.of(u.Path)
	} else {
		u.RawPath = m.rest.of(u.RawPath)
		path, err := url.PathUnescape(u.RawPath)
		if err != nil {
			return err // the path was matched, so it is well-formed
		}
		u.Path = path
	}
	return s.call(w, &inner, m.handler)
}

// A rest is what follows the prefix of a route in a path.
type rest struct {
	slash   int    // with which slash it begins, from 1
	version string // that may be missing from the path; "": none
	under   int    // how many segments come before the version
}

func (t *target) rest() rest {
	r := rest{slash: strings.Count(t.path, "/")}
	if v := t.terms().versions; v.defaultsTo(t.terms().version) {
		r.version, r.under = t.terms().version, strings.Count(v.under.String(), "/")
	}
	return r
}

// of gives the rest of a path, with the slash before it.
func (r rest) of(path string) string {
	if r.version == "" {
		return fromSlash(path, r.slash)
	}
	at, _, _ := strings.Cut(fromSlash(path, r.under+1)[1:], "/")
	if plain, err := url.PathUnescape(at); err == nil && plain == r.version {
		return fromSlash(path, r.slash)
	}
	return fromSlash(path, r.slash-1)
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
