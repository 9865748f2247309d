package wicketway

import (
	"errors"
	"fmt"
	"net/http"
	"reflect"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/problem"
)

// An Answerer is an output that sends itself, for what no other output can say. [Content] and
// [Redirect] are some.
type Answerer interface {
	// Answer answers the request. An error that it returns before the header has gone out is
	// sent as a problem; one after that cuts the connection. It is called once at most,
	// and not where the route has returned an error.
	Answer(w http.ResponseWriter, r *http.Request) error
	// Answers says what it can send. It is asked of the zero value, and for listings only.
	Answers() []facts.Answer
}

// An outputKind says how an output is sent.
type outputKind uint8

const (
	valueOutput outputKind = iota // in a format
	noOutput
	streamOutput
	ownOutput // by itself
)

// An outputType is what is known of a route's output type.
type outputType struct {
	kind    outputKind
	value   reflect.Type // of the value, or of the items of a stream; nil where nothing is
	at      reflect.Type // of the input that makes a location; nil: none
	reply   bool         // it stands in a Reply, or another output with a header of its own
	pointer bool         // the route returns a pointer to an output of this package
	page    bool         // the value is a Page
	info    func() []facts.Answer
}

func outputOf(t reflect.Type) outputType {
	var o outputType
	if t.Kind() == reflect.Pointer && isOutput(t.Elem()) {
		o.pointer = true
		t = t.Elem()
	}
	o.value = t
	if r, ok := reflect.New(t).Interface().(replier); ok {
		types := r.replied()
		o.reply, o.value, o.at = true, types.value, types.at
	}
	if r, ok := reflect.New(o.value).Interface().(interface{ replied() outputTypes }); ok && !o.reply {
		o.at = r.replied().at
	}
	switch {
	case o.value == noneType:
		o.kind, o.value = noOutput, nil
	case streamed(o.value) != nil:
		o.kind, o.value = streamOutput, streamed(o.value)
	case o.value.Implements(answererType) || reflect.PointerTo(o.value).Implements(answererType):
		o.kind, o.info, o.value = ownOutput, infoOf(o.value), nil
	case o.value.Kind() != reflect.Interface:
		o.page = reflect.PointerTo(o.value).Implements(reflect.TypeFor[pager]())
	}
	return o
}

var answererType = reflect.TypeFor[Answerer]()

// isOutput reports whether a type is an output of this package, rather than a value.
func isOutput(t reflect.Type) bool {
	to := reflect.PointerTo(t)
	return to.Implements(reflect.TypeFor[replier]()) ||
		t.PkgPath() == noneType.PkgPath() && t.Implements(answererType)
}

// infoOf asks the zero value of an Answerer's type.
func infoOf(t reflect.Type) func() []facts.Answer {
	return func() []facts.Answer {
		v := reflect.New(t)
		if t.Kind() == reflect.Pointer {
			v.Elem().Set(reflect.New(t.Elem()))
		}
		if a, ok := v.Interface().(Answerer); ok {
			return a.Answers()
		}
		if a, ok := v.Elem().Interface().(Answerer); ok {
			return a.Answers()
		}
		return nil // an interface says nothing
	}
}

// send answers with what a function returned, given by a pointer so that nothing is
// copied. When it returns an error another answer can be sent, or the connection is to be cut.
func (s *state) send(w http.ResponseWriter, r *http.Request, out any, offer int, varies bool) error {
	of := &s.target.part.out
	if of.pointer {
		held := reflect.ValueOf(out).Elem()
		if held.IsNil() {
			return s.nothing(r)
		}
		out = held.Interface()
	}
	to := reply{value: out}
	if of.reply {
		to = out.(replier).reply()
		if of.at != nil {
			var err error
			if to.header, err = s.withLocation(to.header, out); err != nil {
				return err
			}
		}
	}
	if isNilBelow(to.value) && (of.kind != valueOutput || s.target.namesValue()) {
		return s.nothing(r)
	}
	err := s.sendOutput(w, r, to, offer, varies)
	if err == nil {
		return nil
	}
	if _, unwritten := errors.AsType[answer.Unwritten](err); unwritten {
		return err
	}
	if _, broken := errors.AsType[answer.Broken](err); broken || of.kind == ownOutput && !exchange.CallerLeft(s.Context) {
		return err
	}
	s.Failed(err, problem.CallerLeft.New("").Because(err)) // the caller is gone: there is nobody to tell
	return nil
}

func (s *state) sendOutput(w http.ResponseWriter, r *http.Request, to reply, offer int, varies bool) error {
	t := s.target
	switch t.part.out.kind {
	case streamOutput:
		return s.sendStream(w, r, to, to.value, offer)
	case ownOutput:
		if to.status != 0 {
			return fmt.Errorf("the route answered with a Reply of status %d, but its value has one of its own", to.status)
		}
		for name, values := range to.header {
			w.Header()[name] = append(w.Header()[name], values...)
		}
		if own, ok := to.value.(Answerer); ok {
			return own.Answer(w, r)
		}
		return reflect.ValueOf(to.value).Elem().Interface().(Answerer).Answer(w, r)
	}
	if t.pages() {
		to.header = withLinks(to.header, r, t.input.QueryField(cursorType), to.value.(pager))
	}
	if err := s.checkTag(to, offer); err != nil {
		return err
	}
	to.header = s.withTag(to, r, offer)
	var broken func(string)
	if t.terms().development {
		broken = s.adviseBroken
	}
	return t.output.Send(w, r, answer.Sending{
		Status: to.status,
		Header: to.header,
		Value:  to.value,
		Route:  t.name,
		Offer:  offer,
		Varies: varies,
		Broken: broken,
	})
}

// isNilBelow reports whether a pointer leads to nothing.
func isNilBelow(pointer any) bool {
	switch v := reflect.ValueOf(pointer).Elem(); v.Kind() {
	case reflect.Pointer, reflect.Interface, reflect.Func:
		return v.IsNil()
	}
	return false
}

// withLocation adds the address of what was created to the header fields of a reply.
func (s *state) withLocation(own http.Header, out any) (http.Header, error) {
	location, at := out.(located).place()
	if location == "" {
		var err error
		if location, err = s.location(at); err != nil {
			return nil, err
		}
	}
	if own = own.Clone(); own == nil { // the route's own is not ours to change
		own = http.Header{}
	}
	own.Set("Location", location)
	return own, nil
}

// location makes the path of the route that LocatedBy names, for an input.
func (s *state) location(at any) (string, error) {
	return s.api.targets[s.target.ties.locates].link(s.api, at)
}

// namesValue reports whether the path says which value is wanted, so that nil means that it is not there.
func (t *target) namesValue() bool { return len(t.names) > 0 && t.method == http.MethodGet }

// nothing is what becomes of a nil that was returned without an error: where the path names a value, there
// is none. Elsewhere a value that is nil is null; of another output the route has forgotten its
// answer.
func (s *state) nothing(r *http.Request) error {
	t := s.target
	if t.namesValue() {
		return problem.NotFound.Newf("Nothing is at %s.", r.URL.EscapedPath())
	}
	return fmt.Errorf("the route %s returned nil without an error: return a value, a problem, or make the output wicketway.None", t.line())
}
