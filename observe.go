package wicketway

import "context"

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

// Observe adds an observer of the requests of a group. Without one the steps cost nothing.
func Observe(by Observer) Setting {
	return setting{at: here(0), name: "Observe", slot: slotObserve, mode: ofGroups,
		apply: func(b reporter, at place, t *terms) {
			if isNil(by) {
				b.mistake(at, "Observe: the observer is nil")
				return
			}
			askWrong(b, at, "Observe", by)
			t.observers = append(t.observers[:len(t.observers):len(t.observers)], by)
		}}
}
