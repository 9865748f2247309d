package wicketway

import (
	"context"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/route"
)

// A state is what is known of one request. It is made when the request comes in,
// carried as its context, and never used for another: something may have kept
// the context. What changes after the start is atomic, since middleware may go
// on in another goroutine, even after the request has been answered.
type state struct {
	context.Context // the server's
	exchange.State
	api        *API
	target     *target
	resolution table.Resolution // where no route was found
	match      table.Match
	out        writer.Writer
	body       *bind.Body
	request    http.Request // as the chain gets it

	before  atomic.Pointer[headerBefore]
	cut     atomic.Bool  // the answer broke off after its header
	bare    atomic.Bool  // what failed says nothing of what callers sent: no route took the request, say
	reached atomic.Int32 // the last middleware whose turn it was, in development

	conditions atomic.Pointer[heldConditions]
	deadline   *time.Timer // of a stream, until its first item
}

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

// The methods of exchange.Server.

func (s *state) Request() *http.Request { return &s.request }
func (s *state) Base() context.Context  { return s.Context }

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

func (s *state) Version() string     { return s.target.terms().version }
func (s *state) Development() bool   { return s.target.terms().development }
func (s *state) BodyLimit() int64    { return s.target.bodyLimit() }
func (s *state) ChainSets() []string { return s.target.steps.sets }
func (s *state) Attached() []any     { return s.target.list.terms.attached }

func (s *state) BytesReceived() int64 {
	if s.body == nil {
		return 0
	}
	return s.body.BytesReceived()
}

// Parameter and Received are what reading an input needs.

func (s *state) Parameter(i int) string { return s.match.Value(i) }

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

// escapedQuery escapes what cannot stand in a query (RFC 3986, 3.4), and nothing else.
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

// Attached gives the value of a type that [Attach] has put at the route of a request, or at a group
// around it; false where none is attached, and outside of an API. In an API that is mounted in another
// one its own values come first.
func Attached[T any](ctx context.Context) (value T, ok bool) { return exchange.Attached[T](ctx) }

// VersionOf is the version of the API that serves a request; "" where there is none.
func VersionOf(ctx context.Context) string {
	return exchange.Of(ctx).Version()
}
