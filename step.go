package wicketway

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/wicketway/wicketway/problem"
)

// A Step is one of the things that happen to a request, in this order: the middleware of its
// chain, with the guard in its place among it, the seats that Limits.AtOnce counts,
// reading the input, the call of the route's function or handler, and sending the output.
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
	// StepCall calls the route's function, or its handler.
	StepCall
	// StepSend sends the output.
	StepSend
	// StepFail sends a problem. It comes wherever something failed.
	StepFail
)

// String gives the kind in lower case: middleware, guard, seats, read, call, send, fail.
func (k StepKind) String() string {
	return [...]string{"middleware", "guard", "seats", "read", "call", "send", "fail"}[k]
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
	return setting{at: here(0), name: "Observe", slot: slotObserve, mode: ofGroups, apply: func(b *builder, at place, t *terms) {
		if isNil(by) {
			b.mistake(at, "Observe: the observer is nil")
			return
		}
		t.observers = append(t.observers[:len(t.observers):len(t.observers)], by)
	}}
}

// Steps are what a request passes before its route: those from the k-th middleware on begin at from[k].
type steps struct {
	list []step
	from []int // by number of the middleware; the last is for what comes behind all of it
}

// A step is a Step with what it needs.
type step struct {
	Step
	middleware http.Handler
	seat       chan struct{}
}

// makeSteps orders what a request passes before its route. Where the guard is not asked the
// same terms have other steps.
func (t *terms) makeSteps(guarded bool) *steps {
	s := &steps{}
	for k := range len(t.chain) + 1 {
		s.from = append(s.from, len(s.list))
		if guarded && k == t.after {
			s.list = append(s.list, step{Step: Step{StepGuard, t.guard.Scheme().Name}})
		}
		if k < len(t.chain) {
			s.list = append(s.list, step{Step: Step{StepMiddleware, t.chain[k].Name}, middleware: t.chain[k].handler})
		}
	}
	for _, seat := range t.seats {
		s.list = append(s.list, step{Step: Step{Kind: StepSeats}, seat: seat})
	}
	return s
}

// A next is the handler behind a middleware: it goes on with the steps of whichever route the
// request is for. One middleware serves many routes, so only the request knows what
// comes next. Its value is the number of the middleware that does.
type next int

func (k next) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s := stateOf(r.Context())
	if s == nil {
		Fail(w, r, errLostContext)
		return
	}
	s.goOn(int(k), w, r)
}

// goOn goes through the steps of a request, beginning at the k-th middleware. It returns
// when the request has been answered, whatever happens on the way.
func (s *state) goOn(k int, w http.ResponseWriter, r *http.Request) {
	defer s.catch(w, r)
	s.run(s.target.steps.from[k], w, r)
}

// run goes through the steps from the i-th on.
func (s *state) run(i int, w http.ResponseWriter, r *http.Request) {
	t := s.target
	for ; i < len(t.steps.list); i++ {
		switch step := &t.steps.list[i]; step.Kind {
		case StepMiddleware:
			s.take(step.Step, func() error { step.middleware.ServeHTTP(w, r); return nil })
			return
		case StepGuard:
			if err := s.take(step.Step, func() error { return t.terms().admit(r, s) }); err != nil {
				Fail(w, r, err)
				return
			}
		case StepSeats:
			s.runSeated(i, w, r)
			return
		}
	}
	if err := t.end.serve(w, r, s); err != nil {
		Fail(w, r, err)
	}
}

// runSeated goes on as long as there is a seat.
func (s *state) runSeated(i int, w http.ResponseWriter, r *http.Request) {
	step := &s.target.steps.list[i]
	if err := s.take(step.Step, func() error { return sit(step.seat) }); err != nil {
		Fail(w, r, err)
		return
	}
	defer func() { <-step.seat }()
	s.run(i+1, w, r)
}

func sit(seat chan struct{}) error {
	select {
	case seat <- struct{}{}:
		return nil
	default:
		return problem.Overloaded.Newf("%d requests are being served already.", cap(seat)).RetryAfter(time.Second)
	}
}

// take takes a step, and notifies the observers.
func (s *state) take(step Step, do func() error) error {
	if observers := s.target.terms().observers; observers != nil {
		return s.takeObserved(observers, step, do)
	}
	return do()
}

var errPanicked = errors.New("the step panicked")

func (s *state) takeObserved(observers []Observer, step Step, do func() error) error {
	for _, o := range observers {
		o.StepBegins(s, step)
	}
	err := errPanicked
	defer func() {
		for _, o := range observers {
			o.StepEnds(s, step, err)
		}
	}()
	err = do()
	return err
}
