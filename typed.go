package wicketway

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"sync"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/problem"
)

// typed is the endpoint for a function with an input and an output.
type typed[In, Out any] struct {
	call func(context.Context, In) (Out, error)
	// holders keeps values to read inputs into; the function gets a copy, so
	// no handler can keep one.
	holders sync.Pool
}

func (t *typed[In, Out]) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	var in In
	if err := s.take(Step{Kind: StepRead}, func() error { return t.read(&in, r, s) }); err != nil {
		return err
	}
	var out Out
	if err := s.take(Step{Kind: StepCall}, func() (err error) {
		out,
			err = t.call(r.Context(), in)
		return err
	}); err != nil {
		return s.declared(err)
	}
	return s.take(Step{Kind: StepSend}, func() error { return s.send(w, r, &out) })
}

// read reads an input, and asks the conditions of a request that would change something.
func (t *typed[In, Out]) read(in *In, r *http.Request, s *state) error {
	holder, _ := t.holders.Get().(*In)
	if holder == nil {
		holder = new(In)
	}
	err := s.target.input.Read(reflect.ValueOf(holder).Elem(), r, s)
	*in = *holder
	*holder = *new(In)
	t.holders.Put(holder)
	if err == nil && s.target.output.Conditional && r.Method != http.MethodGet && r.Method != http.MethodHead {
		err = s.precondition(r)
	}
	return err
}

// present is the header that a GET of the route would answer with.
func (t *typed[In, Out]) present(r *http.Request, s *state) (http.Header, error) {
	var in In
	if err := t.read(&in, r, s); err != nil {
		return nil, err
	}
	out, err := t.call(r.Context(), in)
	if err != nil {
		return nil, err
	}
	unseen := unseen{http.Header{}}
	return unseen.header, s.send(unseen, r, &out)
}

// declared is what becomes of a route's error: in development a kind that its Fails does
// not name is a mistake.
func (s *state) declared(err error) error {
	if !s.target.terms().development {
		return err
	}
	if s.target.undeclared(err) {
		return fmt.Errorf("the route raised a kind of problem that its Fails does not name: %v", err)
	}
	if p := problem.In(err); p != nil {
		if wrong := p.CheckMembers(); wrong != nil {
			return fmt.Errorf("%w (of %v)", wrong, err)
		}
	}
	return err
}

// send answers with what a function returned, given by a pointer so that nothing is
// copied. When it returns an error nothing has been sent.
func (s *state) send(w http.ResponseWriter, r *http.Request, out any) error {
	of := &s.target.part.out
	var status int
	var own http.Header
	if of.pointer {
		held := reflect.ValueOf(out).Elem()
		if held.IsNil() {
			return s.nothing(r)
		}
		out = held.Interface()
	}
	if of.reply {
		status, own, out = out.(replier).reply()
	}
	if of.value != nil {
		if k := of.value.Kind(); (k == reflect.Pointer || k == reflect.Interface) &&
			isNil(reflect.ValueOf(out).Elem().Interface()) {
			return s.nothing(r)
		}
	}
	if of.page {
		own = withLinks(own, r, s.target.input.QueryField(cursorType), out.(pager))
	}
	err := s.target.output.Send(w, r, status, own, out)
	if _, unwritten := errors.AsType[answer.Unwritten](err); err == nil || unwritten {
		return err
	}
	s.noteFailure(err, problem.CallerLeft.New("").Because(err)) // the caller is gone: there is nobody to tell
	return nil
}

// nothing is what becomes of a nil that was returned without an error: where the path
// names a value, there is none; anywhere else the route has forgotten its answer.
func (s *state) nothing(r *http.Request) error {
	t := s.target
	if len(t.names) > 0 && t.method == http.MethodGet {
		return problem.NotFound.Newf("Nothing is at %s.", r.URL.EscapedPath())
	}
	return fmt.Errorf("the route %s returned nil without an error: return a value, a problem, or make the output wicketway.None", t.line())
}
