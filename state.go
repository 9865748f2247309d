package wicketway

import (
	"context"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// A state is what is known of one request. It is made when the request comes in,
// carried as its context, and never used for another: something may have kept
// the context. What changes after the start is atomic, since middleware may go
// on in another goroutine, even after the request has been answered.
type state struct {
	context.Context // the server's
	api             *API
	target          *target
	resolution      table.Resolution // where no route was found
	match           table.Match
	out             answer.Writer
	body            *bind.Body
	request         http.Request // as the chain gets it

	around    atomic.Pointer[state] // what outer has found
	before    atomic.Pointer[headerBefore]
	caller    atomic.Pointer[Identity]
	requestID atomic.Pointer[string]
	failure   atomic.Pointer[failure]
	cut       atomic.Bool  // the answer broke off after its header
	bare      atomic.Bool  // what failed says nothing of what callers sent: no route took the request, say
	reached   atomic.Int32 // the last middleware whose turn it was, in development

	conditions atomic.Pointer[heldConditions]
	kept       atomic.Pointer[keptNode]
	unpacked   atomic.Int64
	deadline   *time.Timer // of a stream, until its first item
}

// A failure is the first thing that went wrong with a request.
type failure struct {
	err     error
	problem *problem.Problem // what the caller was told
	logged  atomic.Bool
}

type stateKey struct{}

func (s *state) Value(key any) any {
	switch key {
	case stateKey{}:
		return s
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

func stateOf(ctx context.Context) *state {
	if s, ok := ctx.(*state); ok {
		return s
	}
	s, _ := ctx.Value(stateKey{}).(*state)
	return s
}

// outer is the state of the API that this one is mounted in, if it is.
func (s *state) outer() *state {
	found := s.around.Load()
	if found == nil {
		if found = stateOf(s.Context); found == nil {
			found = noState
		}
		s.around.Store(found)
	}
	if found == noState {
		return nil
	}
	return found
}

// noState is around a request that no other API has passed on.
var noState = &state{}

// stateBehind finds the state of a request whose context a middleware has lost, by
// the writer that the middleware passed on.
func stateBehind(w http.ResponseWriter) *state {
	if own := answer.Behind(w); own != nil {
		s, _ := own.Owner.(*state)
		return s
	}
	return nil
}

// Parameter and Received are what reading an input needs.

func (s *state) Parameter(i int) string { return s.match.Value(i) }

func (s *state) Received() *bind.Body {
	if s.body == nil { // a middleware has made one up
		return new(bind.Body)
	}
	return s.body
}

// Request is the request that a context is of, as the chain of the API got it: for header fields and
// the like, which an input does not name. It is nil outside of an API's request, and must not be
// changed.
func Request(ctx context.Context) *http.Request {
	if s := stateOf(ctx); s != nil {
		return &s.request
	}
	return nil
}

// RequestID is the id that the request was given, as a UUID is written (RFC 9562, 4); ""
// where it was given none.
func RequestID(ctx context.Context) string {
	for s := stateOf(ctx); s != nil; s = s.outer() {
		if id := s.requestID.Load(); id != nil {
			return *id
		}
	}
	id, _ := ctx.Value(keptKey[requestID]{}).(requestID)
	return string(id)
}

type requestID string

// SetRequestID gives the request an id, a UUID (RFC 9562), so that a problem can name it as
// its instance. The context that comes back has it; it is the one that was given in an API's
// request.
func SetRequestID(ctx context.Context, id [16]byte) context.Context {
	text := uuid.UUID(id).String()
	if s := stateOf(ctx); s != nil {
		s.requestID.Store(&text)
		return ctx
	}
	return Keep(ctx, requestID(text))
}

// RoutePattern is the method and the path template of the route that the request
// is for: GET and /locks/{lock}; "" and "" where no route takes it. The method of
// what is mounted is "".
func RoutePattern(ctx context.Context) (method, template string) {
	if s := stateOf(ctx); s != nil && !s.target.isFallback() {
		return s.target.method, s.target.path
	}
	return "", ""
}

// BodyLimit is how many bytes of a body the route reads at most, as its Limits
// say; 0 where it does not read a body itself. It is for middleware that unpacks.
func BodyLimit(ctx context.Context) int64 {
	if s := stateOf(ctx); s != nil {
		return s.target.bodyLimit()
	}
	return 0
}

// RouteSource says which function serves the request and where it stands, for logs:
// passages.find (passages.go:211); for methods and for other handlers where the route
// was declared; "" where no route takes the request.
func RouteSource(ctx context.Context) string {
	if s := stateOf(ctx); s != nil && !s.target.isFallback() {
		return s.target.source()
	}
	return ""
}

// Failure is the first error that the request met, with its cause; nil where there was
// none.
func Failure(ctx context.Context) error {
	if s := stateOf(ctx); s != nil {
		if f := s.failure.Load(); f != nil {
			return f.err
		}
	}
	return nil
}

// MarkLogged says that the failure of the request is in a log. Wicketway logs a failure of
// its own accord only where the answer is a 5xx and nobody has said so.
func MarkLogged(ctx context.Context) {
	if s := stateOf(ctx); s != nil {
		if f := s.failure.Load(); f != nil {
			f.logged.Store(true)
		}
	}
}

// noteFailure keeps what failed, for the request and for that of an API around this one.
func (s *state) noteFailure(err error, p *problem.Problem) {
	f := &failure{err: err, problem: p}
	for ; s != nil; s = s.outer() {
		s.failure.CompareAndSwap(nil, f)
	}
}

// A Writer is an http.ResponseWriter that knows what became of the answer. It is for one
// goroutine at a time.
type Writer interface {
	http.ResponseWriter
	// Status is the status of the answer as soon as it is announced, and 0 before; 101
	// for a connection that was given away by http.Hijacker.
	Status() int
	// Written and Sent are the bytes of the body before coding, and after it.
	Written() int64
	Sent() int64
	// Hijacked reports whether the connection was given away.
	Hijacked() bool
}

// WriterOf finds the writer of a request's answer, for a middleware that wants to know what
// became of it. Where the middleware stands alone, under plain net/http, there is none, and
// one is made around w. In either case pass is what to call the next handler with.
func WriterOf(w http.ResponseWriter) (pass http.ResponseWriter, of Writer) {
	if own := answer.Behind(w); own != nil {
		return w, own
	}
	own := answer.Around(w)
	return own.Outside(), own
}

// BeforeHeader has f called once, when the header of the answer is about to go out and its status
// is known: it may change the header still. Of several the innermost comes first. What it gives is
// what to call the next handler with.
func BeforeHeader(w http.ResponseWriter, f func(status int, h http.Header)) http.ResponseWriter {
	own := answer.Direct(w)
	if own == nil || own.HeaderSent() {
		own = answer.Around(w)
		w = own.Outside()
	}
	own.Before(f)
	return w
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

// Attached gives the value of a type that holds for the route of a request; false where
// none is attached, and outside of an API's request. In an API that is mounted in another
// one its own come first.
func Attached[T any](ctx context.Context) (value T, ok bool) {
	for s := stateOf(ctx); s != nil; s = s.outer() {
		for _, a := range s.target.list.terms.attached {
			if found, same := a.(attachment[T]); same {
				return found.value, true
			}
		}
	}
	return value, false
}
