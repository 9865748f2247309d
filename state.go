package wicketway

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/route"
)

// stateOf is the state of the request that a context belongs to; nil outside of an API.
func stateOf(ctx context.Context) *state {
	if s, ok := ctx.(*state); ok {
		return s
	}
	return ofAPI(exchange.StateOf(ctx))
}

func ofAPI(of *exchange.State) *state {
	if of == nil {
		return nil
	}
	s, _ := of.Server().(*state)
	return s
}

// outer is the state of the API that this one is mounted in, if it is.
func (s *state) outer() *state { return ofAPI(s.State.Outer()) }

func (s *state) Value(key any) any {
	if exchange.IsStateKey(key) {
		return &s.State
	}
	switch key {
	case secret.Key{}:
		return s.secrets()
	case secret.PathKey{}:
		if s.hasSecretPath() {
			return s.secrets()
		}
		return nil
	case secret.FailureKey{}:
		if s.bare.Load() {
			return nil
		}
		return s.secrets()
	}
	return s.Context.Value(key)
}

// secrets are the values that the request had under the names of secrets, which no text about it shows.
func (s *state) secrets() *secret.Values {
	in, _ := exchange.KeptIn[secret.Input](&s.State) // keepInput has seen to the states around
	var path []string
	if !s.target.isFallback() {
		for i, name := range s.target.names {
			if secret.Known.Has(name) {
				path = append(path, s.match.Value(i))
			}
		}
	}
	return secret.Of(in.Value, &s.request, path...)
}

// hasSecretPath reports whether the path of the request can have a secret in it.
func (s *state) hasSecretPath() bool {
	t := s.target
	if len(t.names) == 0 {
		return false
	}
	if t.input != nil && t.input.Secret == secret.Certain {
		return true
	}
	for _, name := range t.names {
		if secret.Known.Has(name) {
			return true
		}
	}
	return false
}

// The methods of exchange.Server.

func (s *state) Request() *http.Request { return &s.request }

func (s *state) Base() context.Context { return s.Context }

func (s *state) Route() (method, template string) {
	if s.target.isFallback() {
		return "", ""
	}
	return s.target.method, s.target.path
}

func (s *state) Source() string {
	if s.target.isFallback() {
		return ""
	}
	return s.target.source()
}

func (s *state) Version() string { return s.target.terms().version }

func (s *state) Development() bool { return s.target.terms().development }

func (s *state) BodyLimit() int64 { return s.target.bodyLimit() }

func (s *state) ChainSets() []string { return s.target.steps.sets }

func (s *state) Attached() []any { return s.target.list.terms.attached }

func (s *state) BytesReceived() int64 {
	if s.body == nil {
		return 0
	}
	return s.body.BytesReceived()
}

// Parameter and Received are what reading an input needs.

func (s *state) Parameter(i int) string { return s.match.Value(i) }

func (s *state) SentDeprecated(names []string) {
	exchange.KeepIn(&s.State, exchange.Deprecated(names))
}

func (s *state) Received() *bind.Body {
	if s.body == nil { // a middleware has made one up
		return new(bind.Body)
	}
	return s.body
}

// redirectTo is where the caller is to be sent: the path, with what a handler further out
// stripped from the front of the one that was asked for, and with the query.
func redirectTo(r *http.Request, path string) string {
	asked := route.Escaped(r.URL)
	if u, err := url.ParseRequestURI(r.RequestURI); err == nil {
		if front, ok := strings.CutSuffix(route.Escaped(u), asked); ok && strings.HasPrefix(front, "/") &&
			route.Clean(front) == front {
			path = front + path
		}
	}
	if r.URL.RawQuery != "" {
		path += "?" + escapedQuery(r.URL.RawQuery)
	}
	return path
}

const upperHex = "0123456789ABCDEF"

// escapedQuery escapes what cannot be in a query (RFC 3986, 3.4), and nothing else.
func escapedQuery(query string) string {
	var b strings.Builder
	for i := range len(query) {
		if c := query[i]; c > ' ' && c < 0x7f && strings.IndexByte("\"#<>\\^`{|}", c) < 0 {
			b.WriteByte(c)
		} else {
			b.WriteString(string([]byte{'%', upperHex[c>>4], upperHex[c&15]}))
		}
	}
	return b.String()
}
