package wicketway

import (
	"context"
	"net/http"
	"reflect"
	"sync"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/problem"
)

// typed is the endpoint for a function with an input and an output.
type typed[In, Out any] struct {
	call    func(context.Context, In) (Out, error)
	adapted *adapted
	// holders keeps values to read inputs into; the function gets a copy, so
	// no handler can keep one.
	holders sync.Pool
}

func (t *typed[In, Out]) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	if varies := s.target.input.Vary; varies != nil {
		w = exchange.BeforeHeader(w, varies)
	}
	var in In
	var offer int
	var varies bool
	if err := s.take(exchange.Step{Kind: exchange.StepRead}, func() (err error) {
		if offer, varies, err = s.choose(r); err == nil {
			if t.adapted != nil && t.adapted.in != nil {
				err = t.readOld(&in, r, s)
			} else {
				err = t.read(&in, r, s)
			}
		}
		if s.target.input.Secret == secret.Certain || s.developing {
			s.keepInput(in)
		}
		if p, ok := err.(*problem.Problem); ok && p.Unwrap() == nil { // it counts faults, and has no values
			s.bare.Store(true)
		}
		return err
	}); err != nil {
		return err
	}
	if t := s.target.terms(); t.rules != nil && s.State.Caller() != nil {
		if err := s.take(exchange.Step{Kind: exchange.StepAllow}, func() error { return t.allow(r, &in, s) }); err != nil {
			return err
		}
	}
	var out Out
	if err := s.take(exchange.Step{Kind: exchange.StepCall}, func() (err error) {
		if out, err = t.call(r.Context(), in); err == nil {
			s.askedConditions(r.Context())
		}
		return err
	}); err != nil {
		if s.target.input.Secret == secret.Maybe {
			s.keepInput(in)
		}
		if s.target.part.out.kind == ownOutput {
			discard(&out)
		}
		if t.adapted != nil {
			err = t.adapted.replaced(err)
		}
		return err
	}
	return s.take(exchange.Step{Kind: exchange.StepSend}, func() error { return s.send(w, r, &out, offer, varies) })
}

// keepInput keeps an input for those who log the request, also in APIs around this one.
func (s *state) keepInput(in any) {
	for around := s; around != nil; around = around.outer() {
		exchange.KeepIn(&around.State, secret.Input{Value: in})
	}
}

// discard closes what a failed route has returned all the same.
func discard(out any) {
	if held := reflect.ValueOf(out).Elem(); held.Kind() == reflect.Pointer && !held.IsNil() {
		out = held.Interface()
	}
	if d, ok := out.(interface{ discard() }); ok {
		d.discard()
	}
}

// read reads an input, with its conditions.
func (t *typed[In, Out]) read(in *In, r *http.Request, s *state) error {
	holder, _ := t.holders.Get().(*In)
	if holder == nil {
		holder = new(In)
	}
	err := s.target.input.Read(reflect.ValueOf(holder).Elem(), r, s)
	if err == nil && s.target.ties != nil && s.target.ties.conditional != nil {
		err = s.takeConditions(reflect.ValueOf(holder).Elem(), r)
	}
	*in = *holder
	*holder = *new(In)
	t.holders.Put(holder)
	return err
}

// readOld reads what an input looked like, and makes the input of it.
func (t *typed[In, Out]) readOld(in *In, r *http.Request, s *state) error {
	old, v := reflect.New(t.adapted.in.Old).Elem(), reflect.ValueOf(in).Elem()
	err := s.target.input.Read(old, r, s)
	if err == nil {
		err = t.adapted.take(old, v)
	}
	if err == nil && s.target.ties != nil && s.target.ties.conditional != nil {
		err = s.takeConditions(v, r)
	}
	return err
}

// Conditions are the conditions of a request that changes something: If-Match,
// If-None-Match and If-Unmodified-Since (RFC 9110, 13.1). A route under [Conditional] takes
// them as a field of its input, and holds them against the present state, inside its own
// transaction. T is the output of the GET of the same path.
//
//	type changePassage struct {
//		Passage int64                           `from:"path passage"`
//		If      wicketway.Conditions[Passage]
//		Body    PassagePatch                    `from:"body"`
//	}
//
//	err := store.Change(ctx, in.Passage, func(p *store.Passage) error {
//		if err := in.If.Hold(show(*p)); err != nil {
//			return err
//		}
//		...
//
// A condition that was sent and never held is a line of the log, in every mode. With the tag rule:"required" a
// request without any gets 428 (RFC 6585, 3). The answer carries the new tag where its output is a T.
type Conditions[T any] struct {
	_    shape.Filled
	held *heldConditions
}

// Hold returns a problem of status 412 where a condition does not hold for the present state; nil
// where all do, or none was sent.
func (c Conditions[T]) Hold(present T) error {
	return c.held.hold(func() (answer.State, error) { return c.held.get.output.StateOf(&present, c.held.get.shown()) })
}

// HoldNone is [Conditions.Hold] where nothing is there yet: If-None-Match: * lets a PUT create
// it.
func (c Conditions[T]) HoldNone() error {
	return c.held.hold(func() (answer.State, error) { return answer.State{}, nil })
}

// Sent reports whether the request has conditions.
func (c Conditions[T]) Sent() bool { return c.held != nil }

func (Conditions[T]) of() reflect.Type { return reflect.TypeFor[T]() }

func (c *Conditions[T]) set(h *heldConditions) { c.held = h }

func (h *heldConditions) hold(state func() (answer.State, error)) error {
	if h == nil {
		return nil
	}
	h.asked.Store(true)
	present, err := state()
	if err != nil {
		return err
	}
	if v := h.sent.Hold(present, false); v.Status != 0 {
		if !present.Exists {
			return problem.PreconditionFailed.Newf("%s failed: the resource does not exist.", v.Field)
		}
		return problem.PreconditionFailed.Newf("%s failed: the resource has changed.", v.Field)
	}
	return nil
}

// takeConditions gives the conditions of a request to the input.
func (s *state) takeConditions(in reflect.Value, r *http.Request) error {
	c := s.target.ties.conditional
	sent := answer.PreconditionsOf(r.Header)
	if !sent.Guards() {
		if c.required {
			return problem.PreconditionRequired.New("Send the ETag of the last answer in the field If-Match.")
		}
		return nil
	}
	held := &heldConditions{sent: sent, get: &s.api.targets[s.target.ties.reads]}
	s.conditions.Store(held)
	if in.Kind() == reflect.Pointer {
		in = in.Elem()
	}
	in.FieldByIndex(c.field).Addr().Interface().(conditionalField).set(held)
	return nil
}

// unasked is said where a route has changed something whose caller had conditions.
const unasked = "the request has conditions, and the route did not hold them: call Hold or HoldNone of its Conditions"

// askedConditions reports a success that never held the conditions of its request: in the log, since nothing
// that the caller could be told now would be true.
func (s *state) askedConditions(ctx context.Context) {
	held := s.conditions.Load()
	if held == nil || held.asked.Load() {
		return
	}
	if t := s.target.terms(); !t.development {
		t.logger().ErrorContext(ctx, unasked, "route", s.target.line(), "at", s.target.at.String())
		return
	}
	s.advise("%s: %s", s.who(), unasked)
}
