// Package adapt describes the older shape of a type, both ways, so that
// a route of that version can be served by the function of the newer one (wicketway.Adapted).
//
//	var oldLock = adapt.Struct[locks.Lock](
//		adapt.Rename("lock", "id"),
//		adapt.Drop("chamber"),
//		adapt.Compute("chamber/length", "length_ft", feet, metres),
//	)
//
//	wicketway.Adapted("GET /locks/{lock}", desk.Find, adapt.Same(), oldLock)
//
// Package wicketwaytest holds the two ways of an adapter against each other.
package adapt

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/shape"
)

// An Adapter describes the shape that a type had in an older version: [Same], [Func] and [Struct] make
// one. It is immutable and safe for concurrent use.
type Adapter struct{ declared shape.Declared }

// Declared is the adapter as package wicketway reads it.
func (a Adapter) Declared() shape.Declared { return a.declared }

// Same leaves a type as it is.
func Same() Adapter { return Adapter{shape.Declared{At: here.Here(0)}} }

// Func adapts by a function for each way; a nil one is for types of which only the other way is used:
// outputs need the one to the old type, inputs the one from it. Where an old input has no present value
// toNew returns an error, whose text the caller sees with a 422, unless it is a problem.
func Func[New, Old any](toOld func(New) Old, toNew func(Old) (New, error)) Adapter {
	return Adapter{shape.Declared{At: here.Here(0), Made: functions(toOld, toNew)}}
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

// Struct adapts a struct of which only some members were different: the old type is made of the present
// one and of the members given here, and has the rules and notes of all others. Members go by their JSON
// names, those of an input by their from tags: "query limit", "body".
func Struct[New any](members ...Member) Adapter {
	d := shape.Declared{At: here.Here(0)}
	if len(members) == 0 {
		d.Wrong = []error{errors.New("Struct names no member that was different: use Same")}
		return Adapter{d}
	}
	d.Made, d.Wrong = shape.Derive(reflect.TypeFor[New](), of(members))
	return Adapter{d}
}

// AsList has a wicketway.Page sent as the array of its items.
func (a Adapter) AsList() Adapter {
	a.declared.AsList = true
	return a
}

// Ignore names members of the present type that the old one does not have, so that they do not come back
// as they were: package wicketwaytest does not compare them. Struct knows those that it drops.
func (a Adapter) Ignore(members ...string) Adapter {
	if a.declared.Made == nil {
		return a
	}
	made := *a.declared.Made
	for _, m := range members {
		made.Loses = append(slices.Clip(made.Loses), strings.Split(m, "/"))
	}
	a.declared.Made = &made
	return a
}

// Ignored are the members that do not come back, with slashes before those further in.
func (a Adapter) Ignored() (members []string) {
	if a.declared.Made != nil {
		for _, path := range a.declared.Made.Lost() {
			members = append(members, shape.Text(path))
		}
	}
	return members
}

// ToOld gives the old value of one of the present type.
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

// ToNew gives the present value of an old one. The error joins everything that is wrong with it.
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

func (a Adapter) given(
	value any, way func(*shape.Adapter) (reflect.Type, bool),
) (made *shape.Adapter, held reflect.Value, err error) {
	v := reflect.ValueOf(value)
	if made = a.declared.Made; made == nil {
		if made, err = a.declared.Lift(v.Type()); err != nil {
			return nil, held, err
		}
	}
	t, there := way(made)
	switch {
	case !there:
		return nil, held, shape.ErrOneWay
	case v.Type() != t:
		return nil, held, fmt.Errorf("the value is %s, want %s", v.Type(), t)
	}
	held = reflect.New(t).Elem()
	held.Set(v)
	return made, held, nil
}
