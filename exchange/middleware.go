package exchange

import (
	"context"
	"log/slog"
	"net/http"
	"reflect"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// A Middleware is between the server and the routes: it can act before and
// after them, answer in their place, and change their requests and answers. What it says of
// itself is for listings, for the catalogue of problems and for the contract.
type Middleware struct {
	Name string
	// Does says in a line what it does.
	Does string
	// Wrap returns a handler that does its work and calls next to go on. It is
	// called once for each place at which the middleware is in a description.
	// The handler is called by many requests at a time.
	Wrap func(next http.Handler) http.Handler
	// Raises are the kinds of problem that it answers with itself.
	Raises []*problem.Kind
	// Sets are the header fields that it sets on answers.
	Sets []facts.Field
	// Reads are the types of attached values that it reads (see wicketway.Attach).
	Reads []reflect.Type
	// Repeats says that it may be more than once in a chain.
	Repeats bool
	// HidesFlush says that what is behind it cannot send a part of an answer before its end.
	HidesFlush bool
	// FindsClient says that the client and the requested host are known only behind it.
	FindsClient bool
	// Log is where a middleware that logs requests writes in a mode. The API's own lines go there as well,
	// unless the setting Log says otherwise, so that all lines of one stream have one format.
	Log func(development bool) *slog.Logger
	// Observes is notified of the steps of requests behind it, and of its own; nil: it need not
	// know.
	Observes Observer
	// Check returns the mistakes in the middleware itself, joined (errors.Join); nil: it cannot have any. Build calls
	// it once where the middleware is in a chain, and reports the errors.
	Check func() error
	// CheckRoute returns an error about a route behind it; nil where it works
	// behind any. Build asks it about each route, with its own place in the chain as Asked, and reports the error.
	CheckRoute func(facts.Route) error
}

// Wrap makes a middleware of any func(http.Handler) http.Handler.
func Wrap(name string, wrap func(http.Handler) http.Handler) Middleware {
	return Middleware{Name: name, Wrap: wrap}
}

// A Step is one of the things that happen to a request, in this order: the middleware of its
// chain, with the guard in its place among it, the seats that Limits.AtOnce counts,
// reading the input, the rules of Allow, the call of the route's function or handler, and sending the output.
// Where one fails the rest is left out, and the failure is sent.
type Step struct {
	Kind StepKind
	// Name is that of the middleware, or of the guard; else "".
	Name string
}

// A StepKind says what a step does.
type StepKind uint8

const (
	// StepMiddleware is a middleware, with all that is behind it.
	StepMiddleware StepKind = iota
	// StepGuard asks the guard, and holds the caller's scopes against the route's.
	StepGuard
	// StepSeats takes one of the seats of Limits.AtOnce.
	StepSeats
	// StepRead reads and checks the input.
	StepRead
	// StepAllow asks the rules of Allow.
	StepAllow
	// StepCall calls the route's function, or its handler.
	StepCall
	// StepSend sends the output.
	StepSend
	// StepFail sends a problem. It comes wherever something failed.
	StepFail
)

// String gives the kind in lower case: middleware, guard, seats, read, allow, call, send, fail.
func (k StepKind) String() string {
	return [...]string{"middleware", "guard", "seats", "read", "allow", "call", "send", "fail"}[k]
}

// An Observer is notified of the steps of requests as they happen, by the goroutine in
// which they do: it must be quick, and safe for concurrent use.
type Observer interface {
	// StepBegins is called before a step.
	StepBegins(ctx context.Context, step Step)
	// StepEnds is called after it. The error is what the step decided: nil lets the
	// request go on; that of StepFail is the problem that was sent. One that panics
	// ends with an error that says so.
	StepEnds(ctx context.Context, step Step, err error)
}
