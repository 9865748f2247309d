// Package exchange is one request and its answer (an exchange, RFC 9110, 3.4) as middleware,
// guards and observers see it: its route, its caller, the state of the
// answer, the failure, and the values that others have kept for it.
//
// [Of] gives the exchange that a context belongs to. Everything in this package works under
// plain net/http as well, where an exchange knows less: a middleware that imports this package
// alone runs in an API of package wicketway and around any other handler.
//
//	func Slow(logger *slog.Logger, limit time.Duration) exchange.Middleware {
//		return exchange.Wrap("slow", func(next http.Handler) http.Handler {
//			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
//				w, answer := exchange.WriterOf(w)
//				start := time.Now()
//				next.ServeHTTP(w, r)
//				if d := time.Since(start); d > limit {
//					logger.Warn("slow", "route", exchange.Of(r.Context()).Template(), "status", answer.Status(), "took", d)
//				}
//			})
//		})
//	}
//
// # Files
//
//	exchange.go    Of and the questions to an exchange
//	middleware.go  Middleware, the steps of a request, observers
//	caller.go      guards and the callers that they know
//	client.go      where a request comes from, and its place in a trace
//	kept.go        values kept for a request, or attached to its route
//	writer.go      the response writer
//	failure.go     Fail, and the failure of a request
//	state.go       the state that package wicketway keeps of a request
package exchange

import (
	"context"
	"fmt"
	"net/http"

	"github.com/google/uuid"
)

// An Exchange is a request and its answer. It is a small value: ask [Of] for it whenever it is
// needed. Its methods are safe for concurrent use. Outside of an API, under plain net/http, each
// says so in the way that its comment states.
type Exchange struct {
	ctx   context.Context
	state *State
}

// Of gives the exchange that a context belongs to.
func Of(ctx context.Context) Exchange { return Exchange{ctx, StateOf(ctx)} }

// Request is the request as the chain of the API got it: for header fields and the like, which an
// input does not name. It is nil outside of an API, and must not be changed.
func (x Exchange) Request() *http.Request {
	if x.state == nil {
		return nil
	}
	return x.state.server.Request()
}

// ID is the id that the request was given by [WithID], as a UUID is written (RFC 9562, 4); "" where
// it was given none.
func (x Exchange) ID() string {
	for s := x.state; s != nil; s = s.outer() {
		if id := s.id.Load(); id != nil {
			return *id
		}
	}
	id, _ := x.ctx.Value(keptKey[requestID]{}).(requestID)
	return string(id)
}

type requestID string

// WithID gives the request an id, a UUID (RFC 9562), so that a problem can name it as its instance.
// The context that comes back has it; in an API it is the one that was given.
func WithID(ctx context.Context, id [16]byte) context.Context {
	text := uuid.UUID(id).String()
	if s := StateOf(ctx); s != nil {
		s.id.Store(&text)
		return ctx
	}
	return Keep(ctx, requestID(text))
}

// Method is that of the route that the request is for: GET for a HEAD that it serves; "" for a
// mounted handler, and where no route takes the request.
func (x Exchange) Method() string {
	method, _ := x.route()
	return method
}

// Template is the path template of the route that the request is for: /locks/{lock}; "" where no
// route takes the request.
func (x Exchange) Template() string {
	_, template := x.route()
	return template
}

func (x Exchange) route() (method, template string) {
	if x.state == nil {
		return "", ""
	}
	return x.state.server.Route()
}

// Source says which function serves the request and where it is, for logs: passages.find
// (passages.go:211); for methods and for other handlers where the route was declared; "" where no
// route takes the request.
func (x Exchange) Source() string {
	if x.state == nil {
		return ""
	}
	return x.state.server.Source()
}

// Version is the version of the API that serves the request; "" where there is none.
func (x Exchange) Version() string {
	if x.state == nil {
		return ""
	}
	return x.state.server.Version()
}

// Link builds the path of a route from its name and its input, as the method Link of an API does: of the API that serves the
// request, and of the version being served where that has a route of the name.
func (x Exchange) Link(name string, input any) (string, error) {
	if x.state == nil {
		return "", fmt.Errorf("link: %q: the context is not that of an API's request", name)
	}
	return x.state.server.Link(name, input)
}

// Development reports whether the route is in development.
func (x Exchange) Development() bool { return x.state != nil && x.state.server.Development() }

// BodyLimit is how many bytes of a body the route reads at most, as its limits say; 0 where it does
// not read a body itself. It is for middleware that unpacks.
func (x Exchange) BodyLimit() int64 {
	if x.state == nil {
		return 0
	}
	return x.state.server.BodyLimit()
}

// BytesRead is how many bytes of the request's body were received, and how many came out of an
// unpacker; the same where there is none.
func (x Exchange) BytesRead() (received, unpacked int64) {
	if x.state == nil {
		return 0, 0
	}
	received = x.state.server.BytesReceived()
	if n := x.state.unpacked.Load(); n > 0 {
		return received, n
	}
	return received, received
}

// SetUnpacked says how many bytes have come out of an unpacker so far.
func (x Exchange) SetUnpacked(bytes int64) {
	if x.state != nil {
		x.state.unpacked.Store(bytes)
	}
}

// ChainSets are the header fields of answers that the chain of the request says it sets. They must
// not be changed: requests that pass the same chain get the same slice.
func (x Exchange) ChainSets() []string {
	if x.state == nil {
		return nil
	}
	return x.state.server.ChainSets()
}

// AtPath says which methods the path of the request has, HEAD and OPTIONS among them, and which
// header fields its routes and their guards read: what a preflight is about (the Fetch standard,
// 3.3.3). A path that would be redirected counts as the one that it would be redirected to. Both are
// nil where no route is there, and outside of an API.
func (x Exchange) AtPath() (methods, fields []string) {
	if x.state == nil {
		return nil, nil
	}
	return x.state.server.AtPath()
}

// Draining is closed when the server has begun to stop: a stream without an end of its own should
// end then. It is nil, which is never closed, where the request is not served by API.Serve.
func (x Exchange) Draining() <-chan struct{} {
	draining, _ := x.ctx.Value(drainKey{}).(<-chan struct{})
	return draining
}

type drainKey struct{}

// WithDraining gives a context the channel of [Exchange.Draining], for servers.
func WithDraining(ctx context.Context, draining <-chan struct{}) context.Context {
	return context.WithValue(ctx, drainKey{}, draining)
}

// Caller returns the caller: the zero Identity as long as no guard has identified it. In an API that is
// mounted in another one and has no guard of its own it is the caller of that one.
func (x Exchange) Caller() Identity {
	for s := x.state; s != nil; s = s.outer() {
		if id := s.caller.Load(); id != nil {
			return *id
		}
	}
	return Identity{}
}

// ClaimsOf gives the claims of the caller's token; false where they are of another type.
func ClaimsOf[T any](ctx context.Context) (claims T, ok bool) {
	claims, ok = Of(ctx).Caller().Claims.(T)
	return claims, ok
}

// AccountOf gives the account of the caller, as the guard has loaded it; false where it is of
// another type.
func AccountOf[T any](ctx context.Context) (account T, ok bool) {
	account, ok = Of(ctx).Caller().Account.(T)
	return account, ok
}
