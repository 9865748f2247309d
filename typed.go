package wicketway

import (
	"context"
	"net/http"
	"reflect"
	"sync"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/secret"
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
		if s.target.input.Secret == secret.Certain {
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
