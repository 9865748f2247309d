package wicketway

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/shape"
)

// Adapted declares a route of an older version over the function that serves the newer one: in says
// what its input, or the body of it, looked like, and out the same of its output, or of what that
// holds: the value of a [Reply] or a [Created], the items of a list, a [Page] or a [Stream], each by
// itself. Links, conditions and tags are those of the older version.
//
//	wicketway.Adapted("GET /passages/{passage}", desk.Find, wicketway.Same(), oldPassage)
//
// An old input keeps the rules of its own type, and what it becomes those of the function's: faults
// of the latter are told at the place where the old input has the member.
func Adapted[In, Out any](line string, serve func(ctx context.Context, in In) (Out, error), in, out Adapter, settings ...Setting) Part {
	p := &routePart{
		at:       here(0),
		line:     line,
		settings: settings,
		function: functionOf(serve),
		in:       reflect.TypeFor[In](),
		out:      outputOf(reflect.TypeFor[Out]()),
		serve:    func(t *target) endpoint { return &typed[In, Out]{call: serve, adapted: t.adapted} },
	}
	p.adapts = &adaptation{in: in, out: out}
	return needs(p, serve, "function")
}

// An Adapter says what values of a type looked like in an older version, both ways: [Same], [By] and
// [Shaped] make one. It is immutable and safe for concurrent use.
type Adapter struct {
	at      place
	made    *shape.Adapter // nil: the same, or wrong
	unpaged bool
	wrong   []error
}

// Same leaves a type as it is.
func Same() Adapter { return Adapter{at: here(0)} }

// By adapts by a function for each way; a nil one is for types of which only the other way is used:
// outputs need the one to the old type, inputs the one from it. What an old input cannot be becomes
// the error of toNew, whose text the caller sees with a 422, unless it is a problem.
func By[New, Old any](toOld func(New) Old, toNew func(Old) (New, error)) Adapter {
	return Adapter{at: here(0), made: functions(toOld, toNew)}
}

func functions[New, Old any](toOld func(New) Old, toNew func(Old) (New, error)) *shape.Adapter {
	a := &shape.Adapter{New: reflect.TypeFor[New](), Old: reflect.TypeFor[Old]()}
	if toOld != nil {
		a.ToOld = func(now, old reflect.Value) error {
			*shape.At[Old](old) = toOld(*shape.At[New](now))
			return nil
		}
	}
	if toNew != nil {
		a.ToNew = func(old, now reflect.Value, f *shape.Faults) {
			v, err := toNew(*shape.At[Old](old))
			if err != nil {
				f.Add(err)
				return
			}
			*shape.At[New](now) = v
		}
	}
	return a
}

// Shaped adapts a struct of which only some members were different: the old type is made of the
// present one and of what is said of these, and has the rules and notes of all that stays. Members
// go by their JSON names, those of an input by what its from tags say: "query limit", "body".
//
//	var oldLock = wicketway.Shaped[locks.Lock](
//		wicketway.Renamed("lock", "id"),
//		wicketway.Dropped("chamber"),
//		wicketway.Computed("chamber/length", "length_ft", feet, metres),
//	)
func Shaped[New any](members ...Member) Adapter {
	a := Adapter{at: here(0)}
	if len(members) == 0 {
		a.wrong = []error{errors.New("Shaped names no member that was different: use Same")}
		return a
	}
	a.made, a.wrong = shape.Derive(reflect.TypeFor[New](), of(members), isConditional)
	return a
}

func isConditional(t reflect.Type) bool { return reflect.PointerTo(t).Implements(conditionalFieldType) }

// isSame reports whether nothing was different.
func (a Adapter) isSame() bool { return a.made == nil && a.wrong == nil && !a.unpaged }

// Unpaged has a [Page] sent as the array of its items.
func (a Adapter) Unpaged() Adapter {
	a.unpaged = true
	return a
}

// Loses names members of the present type that the old one does not tell, so that they do not come
// back as they were: package wicketwaytest does not compare them. Shaped knows what is dropped.
func (a Adapter) Loses(members ...string) Adapter {
	if a.made == nil {
		return a
	}
	made := *a.made
	for _, m := range members {
		made.Loses = append(slices.Clip(made.Loses), strings.Split(m, "/"))
	}
	a.made = &made
	return a
}

// Lost are the members that do not come back, with slashes before what is further in.
func (a Adapter) Lost() (members []string) {
	if a.made != nil {
		for _, path := range a.made.Lost() {
			members = append(members, shape.Text(path))
		}
	}
	return members
}

// ToOld gives what a value of the present type looked like.
func (a Adapter) ToOld(value any) (any, error) {
	made, now, err := a.given(value, func(of *shape.Adapter) (reflect.Type, bool) { return of.New, of.ToOld != nil })
	if err != nil {
		return nil, err
	}
	old := reflect.New(made.Old).Elem()
	if err := made.ToOld(now, old); err != nil {
		return nil, err
	}
	return old.Interface(), nil
}

// ToNew gives the present value of an old one. The error lists all that it cannot be.
func (a Adapter) ToNew(value any) (any, error) {
	made, old, err := a.given(value, func(of *shape.Adapter) (reflect.Type, bool) { return of.Old, of.ToNew != nil })
	if err != nil {
		return nil, err
	}
	now := reflect.New(made.New).Elem()
	var f shape.Faults
	made.ToNew(old, now, &f)
	for _, fault := range f.Found {
		err = errors.Join(err, fmt.Errorf("%s: %w", shape.Text(fault.Path), fault.Err))
	}
	return now.Interface(), err
}

var errOneWay = errors.New("the adapter has no function for this way")

func (a Adapter) given(value any, way func(*shape.Adapter) (reflect.Type, bool)) (made *shape.Adapter, held reflect.Value, err error) {
	v := reflect.ValueOf(value)
	if made = a.made; made == nil {
		if made, err = a.lift(v.Type()); err != nil {
			return nil, held, err
		}
	}
	t, there := way(made)
	switch {
	case !there:
		return nil, held, errOneWay
	case v.Type() != t:
		return nil, held, fmt.Errorf("the value is %s, want %s", v.Type(), t)
	}
	held = reflect.New(t).Elem()
	held.Set(v)
	return made, held, nil
}

// lift is the adapter for a type that holds what this one is for.
func (a Adapter) lift(t reflect.Type) (*shape.Adapter, error) {
	switch {
	case a.wrong != nil:
		return nil, errors.Join(a.wrong...)
	case a.made == nil:
		return shape.Same(t), nil
	}
	if lifted := shape.Lift(a.made, t); lifted != nil {
		return lifted, nil
	}
	return nil, fmt.Errorf("the adapter is for %s, which is not in %s", typeName(a.made.New), typeName(t))
}

// A Member says what one member of a type was in an older version; see [Shaped].
type Member struct{ of shape.Member }

// Tagged adds to the tag of a member that was other than it is: rule:"minimum=1" note:"In feet".
func (m Member) Tagged(tag string) Member {
	m.of.Tag = tag
	return m
}

// Renamed says that a member had another name.
func Renamed(now, old string) Member {
	return Member{shape.Member{Call: fmt.Sprintf("Renamed(%q, %q)", now, old), New: now, Old: old}}
}

// Dropped says that a member was not there. Of an old input it has its default, or else is zero.
func Dropped(now string) Member {
	return Member{shape.Member{Call: fmt.Sprintf("Dropped(%q)", now), New: now}}
}

// Fixed says that a member was not there, and what it is for an old input.
func Fixed(now string, value any) Member {
	return Member{shape.Member{Call: fmt.Sprintf("Fixed(%q)", now), New: now, Fixed: reflect.ValueOf(value)}}
}

// Computed says that a member was something else, under the same name or another, with a function
// for each way as in [By]. Now may lead further in, with slashes: chamber/length.
func Computed[New, Old any](now, old string, toOld func(New) Old, toNew func(Old) (New, error)) Member {
	return Member{shape.Member{Call: fmt.Sprintf("Computed(%q, %q)", now, old), New: now, Old: old, By: functions(toOld, toNew)}}
}

// Added says that there was a member which is made of the whole value. Into puts the one of an old
// input to use, and may be nil.
func Added[New, Old any](old string, of func(New) Old, into func(*New, Old)) Member {
	by := functions(of, func(Old) (n New, err error) { return n, nil })
	by.ToNew = func(old, now reflect.Value, _ *shape.Faults) {
		if into != nil {
			into(shape.At[New](now), *shape.At[Old](old))
		}
	}
	return Member{shape.Member{Call: fmt.Sprintf("Added(%q)", old), Old: old, By: by, Of: true}}
}

// Within says what was different further in: in an object, or in each of a list.
func Within(now string, members ...Member) Member {
	return Member{shape.Member{Call: fmt.Sprintf("Within(%q)", now), New: now, Old: now, Within: of(members)}}
}

func of(members []Member) []shape.Member {
	all := make([]shape.Member, len(members))
	for i, m := range members {
		all[i] = m.of
	}
	return all
}
