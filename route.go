package wicketway

import (
	"context"
	"fmt"
	"net/http"
	"reflect"
	"runtime"
	"sync"

	"github.com/wicketway/wicketway/schema"
)

// None is the input of a route that reads nothing, or the output of one that
// has nothing to say; such a route answers 204.
type None struct{}

// Optional tells absent, null and a value apart; see [schema.Optional].
type Optional[T any] = schema.Optional[T]

type routePart struct {
	at       place
	line     string        // the method is empty for what is mounted
	function *runtime.Func // that serves it; nil for handlers
	settings []Setting
	mounted  bool // for every method and all that is below
	compile  func(*site) endpoint
}

func (p routePart) part() place { return p.at }

// An endpoint serves a request at the end of its chain. An error that it returns
// has not been answered.
type endpoint interface {
	serve(w http.ResponseWriter, r *http.Request, s *state) error
}

// Route declares a route. The line reads like HTTP's own request line: a method,
// a space, a path template. The function gets an input that has been read and
// checked, and its output is sent as JSON. It is called by many requests at a
// time; its context is the request's, and ends when the caller leaves.
func Route[In, Out any](line string, serve func(ctx context.Context, in In) (Out, error), settings ...Setting) Part {
	return routePart{at: here(0), line: line, function: functionOf(serve), settings: settings, compile: func(at *site) endpoint {
		if serve == nil {
			at.mistakef("the function is nil")
		}
		in := compileInput(at, reflect.TypeFor[In]())
		return &typed[In, Out]{call: serve, input: in, output: compileOutput(at, reflect.TypeFor[Out](), in)}
	}}
}

// typed is the endpoint for a function with an input and an output.
type typed[In, Out any] struct {
	call   func(context.Context, In) (Out, error)
	input  *inputPlan
	output output
	// holders keeps values to read inputs into; the function gets a copy, so
	// no handler can keep one.
	holders sync.Pool
}

func (t *typed[In, Out]) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	holder, _ := t.holders.Get().(*In)
	if holder == nil {
		holder = new(In)
	}
	err := t.input.read(reflect.ValueOf(holder).Elem(), r, s)
	in := *holder
	*holder = *new(In)
	t.holders.Put(holder)
	if err != nil {
		return err
	}
	if t.output.conditional && r.Method != http.MethodGet && r.Method != http.MethodHead {
		if err := s.precondition(r); err != nil {
			return err
		}
	}
	out, err := t.call(r.Context(), in)
	if err != nil {
		if s.target.development && s.target.undeclared(err) {
			return fmt.Errorf("the route raised a kind of problem that its Fails does not name: %v", err)
		}
		return err
	}
	return t.output.send(w, r, any(out))
}

func (t *typed[In, Out]) linkInput() (reflect.Type, *inputPlan) {
	return reflect.TypeFor[In](), t.input
}
