package wicketway

import (
	"context"
	"fmt"
	"net/http"
	"reflect"
	"sync/atomic"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/problem"
)

// Conditions are what a request that changes something asks of the present state: If-Match,
// If-None-Match and If-Unmodified-Since (RFC 9110, 13.1). A route under [Conditional] takes
// them as a field of its input, and holds them against what is there, inside its own
// transaction. T is what the GET of the same path answers.
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
// A condition that was sent and never held is a line of the log, in every mode. With the tag rule:"required" a request without any gets 428 (RFC 6585, 3). The answer
// carries the new tag where its output is a T.
type Conditions[T any] struct {
	_    shape.Filled
	held *heldConditions
}

// Hold returns a problem of status 412 where a condition does not hold for what is there; nil
// where all do, or none was sent.
func (c Conditions[T]) Hold(present T) error {
	return c.held.hold(func() (answer.State, error) { return c.held.get.output.StateOf(&present, c.held.get.name) })
}

// HoldNone is [Conditions.Hold] where nothing is there yet: If-None-Match: * lets a PUT create
// it.
func (c Conditions[T]) HoldNone() error {
	return c.held.hold(func() (answer.State, error) { return answer.State{}, nil })
}

// Sent reports whether the request has conditions.
func (c Conditions[T]) Sent() bool { return c.held != nil }

func (Conditions[T]) of() reflect.Type         { return reflect.TypeFor[T]() }
func (c *Conditions[T]) set(h *heldConditions) { c.held = h }

// A conditional field is one of type Conditions.
type conditionalField interface {
	of() reflect.Type
	set(*heldConditions)
}

var conditionalFieldType = reflect.TypeFor[conditionalField]()

// Held conditions are those of one request. They may be asked by any goroutine.
type heldConditions struct {
	sent  answer.Preconditions
	get   *target
	asked atomic.Bool
}

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

// A conditional route takes conditions.
type conditional struct {
	field    []int // of the input
	required bool
}

// conditionsOf finds the field of an input that takes conditions; nil where there is none.
func conditionsOf(in reflect.Type) (index []int, of reflect.Type, required bool) {
	if in == nil {
		return nil, nil, false
	}
	if in.Kind() == reflect.Pointer {
		in = in.Elem()
	}
	if in.Kind() != reflect.Struct {
		return nil, nil, false
	}
	for i := range in.NumField() {
		f := in.Field(i)
		if reflect.PointerTo(f.Type).Implements(conditionalFieldType) {
			of := reflect.New(f.Type).Interface().(conditionalField).of()
			return []int{i}, of, f.Tag.Get("rule") == "required"
		}
		if f.Anonymous {
			if inner, of, required := conditionsOf(f.Type); inner != nil {
				return append([]int{i}, inner...), of, required
			}
		}
	}
	return nil, nil, false
}

// inputs are the header fields that conditions come from.
func (c *conditional) inputs() (all []facts.Input) {
	for _, name := range []string{"If-Match", "If-None-Match", "If-Unmodified-Since"} {
		all = append(all, facts.Input{In: "header", Name: name, Type: "string", Note: "RFC 9110, 13.1"})
	}
	return all
}

// raises are the kinds of problem of requests whose conditions are missing.
func (c *conditional) raises() []*problem.Kind {
	if c.required {
		return []*problem.Kind{problem.PreconditionRequired}
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

// withTag adds the entity tag of the new state to the header fields of a reply: to a PATCH, to
// what was created, and to a PUT whose body is stored as it was sent (RFC 9110, 9.3.4). It is
// the tag that a GET in the same format would answer with.
func (s *state) withTag(to reply, r *http.Request, offer int) http.Header {
	t := s.target
	if t.ties == nil || t.ties.reads < 0 || !t.ties.tagged || to.header.Get("Etag") != "" {
		return to.header
	}
	get := &s.api.targets[t.ties.reads]
	if r.Method == http.MethodPut && !s.storedAsSent(get.output, to.value, get.name) {
		return to.header
	}
	tag, err := get.output.TagOf(to.value, get.name, get.output.OfferLike(t.output, offer))
	if err != nil {
		return to.header // the GET says what is wrong with its tag
	}
	own := to.header.Clone()
	if own == nil {
		own = http.Header{}
	}
	own.Set("Etag", tag)
	return own
}

// checkTag says what is wrong with a tag that a reply has by hand: the conditions of its callers are held
// against that of the value, so another one would never hold.
func (s *state) checkTag(to reply, offer int) error {
	t := s.target
	given := to.header.Get("Etag")
	if given == "" || !t.output.Conditional || !t.isReading() {
		return nil
	}
	tag, err := t.output.TagOf(to.value, t.name, offer)
	if err == nil && tag != given {
		err = fmt.Errorf("the reply of %s has the Etag %s, but conditions ask for that of its value, %s: give the value a method ETag() string", t.line(), given, tag)
	}
	return err
}

// storedAsSent compares a value with the body of the request, as JSON in its canonical form
// (RFC 8785).
func (s *state) storedAsSent(get *answer.Plan, value any, route string) bool {
	var sent, stored jsontext.Value
	sent = s.Received().Kept()
	stored, err := get.PlainJSON(value)
	return err == nil && sent.Canonicalize() == nil && stored.Canonicalize() == nil && string(sent) == string(stored)
}

// resolveConditions finds the GET that the conditions of a route are about, and says what is
// wrong with them.
func (b *builder) resolveConditions(r *resolved) {
	index, of, required := conditionsOf(r.part.in)
	under := r.terms().conditional
	switch {
	case index == nil && under && !r.isReading() && r.output != nil:
		b.mistake(r.at, "%s: is under Conditional, but its input takes no conditions: add a field of type wicketway.Conditions, or Undo(Conditional()) here", r.line())
		return
	case index == nil:
		return
	case r.isReading():
		b.mistake(r.at, "%s: takes Conditions, but Conditional() holds those of a route that reads", r.line())
		return
	case !under:
		b.mistake(r.at, "%s: takes Conditions, but is not under Conditional(): add it here and to the GET of the path", r.line())
		return
	}
	number := b.get(r)
	if number < 0 {
		b.mistake(r.at, "%s: takes Conditions, but no GET has its path, so there is nothing to compare with", r.line())
		return
	}
	get := b.routes[number]
	switch {
	case get.output == nil || get.part.out.value != of:
		b.mistake(r.at, "%s: takes Conditions of %s, but %s at %s answers %s", r.line(), of, get.line(), get.at, get.answers())
	case !get.terms().conditional:
		b.mistake(r.at, "%s: takes Conditions, but %s at %s is not under Conditional(), so callers get no tag", r.line(), get.line(), get.at)
	default:
		t := r.tie()
		t.conditional = &conditional{index, required}
		t.reads = number
		t.tagged = r.part.out.value == of && (r.method == http.MethodPatch || r.method == http.MethodPut)
	}
}

// answers names what a route sends, for mistakes.
func (r *resolved) answers() string {
	if r.output == nil || r.part.out.value == nil {
		return "no value"
	}
	return r.part.out.value.String()
}

// get is the number of the GET with the template and the version of another route; -1 where
// there is none.
func (b *builder) get(like *resolved) int {
	if b.gets == nil {
		b.gets = map[string]int{}
		for i, r := range b.routes {
			if r.method == http.MethodGet {
				b.gets[r.terms().version+r.path] = i
			}
		}
	}
	if i, ok := b.gets[like.terms().version+like.path]; ok {
		return i
	}
	return -1
}
