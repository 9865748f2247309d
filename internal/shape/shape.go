// Package shape adapts values of a type to what they looked like before, and back. What a type
// looked like can be a type of its own, or be derived from the present one, member by member.
package shape

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// An Adapter knows the present type and the old one, and the ways between their values. It is
// immutable and safe for concurrent use.
type Adapter struct {
	New, Old reflect.Type
	// ToOld fills an old value from a present one, and ToNew the other way round; nil: there is no
	// such way. Both values are addressable, and the one that is filled is zero.
	ToOld func(now, old reflect.Value) error
	ToNew func(old, now reflect.Value, f *Faults)
	// Loses names more members of the present type that do not come back, as paths.
	Loses [][]string

	steps   []step // of a derived type
	item    *Adapter
	sources bool
}

// HasSources reports whether the members are those of an input: query limit, or body.
func (a *Adapter) HasSources() bool { return a.sources || a.steps == nil && hasSources(a.New) }

// IsDerived reports whether the old type was made of the present one.
func (a *Adapter) IsDerived() bool { return a.steps != nil || a.item != nil && a.item.IsDerived() }

// IsEmpty reports whether nothing is left of a struct.
func (a *Adapter) IsEmpty() bool { return a.steps != nil && a.Old.NumField() == 0 }

// Structs are the adapters of the types that are filled member by member, outer ones first.
func (a *Adapter) Structs() (all []*Adapter) {
	if a.item != nil {
		return a.item.Structs()
	}
	if a.steps == nil {
		return nil
	}
	all = append(all, a)
	for _, s := range a.steps {
		if s.by != nil {
			all = append(all, s.by.Structs()...)
		}
	}
	return all
}

// Missing are the present members that an old value says nothing of, as paths.
func (a *Adapter) Missing() [][]string {
	return a.untold(func(s *step) bool { return !s.fixed.IsValid() })
}

// Lost are the present members that do not come back from an old value, as paths.
func (a *Adapter) Lost() [][]string {
	return append(a.untold(func(*step) bool { return true }), a.Loses...)
}

// A Fixed is what a present member has where the old type lacks it.
type Fixed struct {
	Path  []string
	Field reflect.StructField
	Value reflect.Value
}

// Fixed are these members, however deep.
func (a *Adapter) Fixed() (all []Fixed) {
	if a.item != nil {
		return a.item.Fixed()
	}
	for _, s := range a.steps {
		switch {
		case s.fixed.IsValid():
			all = append(all, Fixed{s.name, a.New.FieldByIndex(s.index), s.fixed})
		case s.by != nil:
			for _, inner := range s.by.Fixed() {
				inner.Path = append(slices.Clone(s.name), inner.Path...)
				all = append(all, inner)
			}
		}
	}
	return all
}

// untold are those of the dropped members that count, except what others have from further in.
func (a *Adapter) untold(counts func(*step) bool) (all [][]string) {
	if a.item != nil {
		return a.item.untold(counts)
	}
	for i := range a.steps {
		s := &a.steps[i]
		switch {
		case s.by != nil:
			for _, inner := range s.by.untold(counts) {
				all = append(all, append(slices.Clone(s.name), inner...))
			}
		case s.field < 0 && counts(s) && !slices.ContainsFunc(a.steps, func(o step) bool {
			return o.field >= 0 && len(o.name) > len(s.name) && slices.Equal(o.name[:len(s.name)], s.name)
		}):
			all = append(all, s.name)
		}
	}
	return all
}

// Faults are mistakes in an old value that has no present one, and what is asked for the latter.
type Faults struct {
	Most int // how many are kept; 0: all
	// Fresh is given each present struct before it is filled; nil: it is zero then.
	Fresh func(now reflect.Value)
	Found []Fault
	path  []string
}

// A Fault says where, in the members of the old type, and what.
type Fault struct {
	Path []string
	Err  error
}

// Add notes what is wrong at the place that is being adapted.
func (f *Faults) Add(err error) {
	if f.Most == 0 || len(f.Found) < f.Most {
		f.Found = append(f.Found, Fault{slices.Clone(f.path), err})
	}
}

func (f *Faults) at(name string, do func()) {
	f.path = append(f.path, name)
	do()
	f.path = f.path[:len(f.path)-1]
}

// Same adapts a type to itself.
func Same(t reflect.Type) *Adapter {
	return &Adapter{New: t, Old: t,
		ToOld: func(now, old reflect.Value) error { old.Set(now); return nil },
		ToNew: func(old, now reflect.Value, _ *Faults) { now.Set(old) },
	}
}

// Lift finds the adapter for a type that is, or holds, values of the one that a is for: pointers and
// lists. It is nil where t does not.
func Lift(a *Adapter, t reflect.Type) *Adapter {
	if t == a.New {
		return a
	}
	if t.Name() != "" || t.Kind() != reflect.Pointer && t.Kind() != reflect.Slice {
		return nil
	}
	of := Lift(a, t.Elem())
	if of == nil {
		return nil
	}
	lifted := &Adapter{New: t, Old: reflect.PointerTo(of.Old), item: of}
	one := func(from, to reflect.Value, do func(from, to reflect.Value)) {
		if !from.IsNil() {
			to.Set(reflect.New(to.Type().Elem()))
			do(from.Elem(), to.Elem())
		}
	}
	if t.Kind() == reflect.Slice {
		lifted.Old = reflect.SliceOf(of.Old)
		one = func(from, to reflect.Value, do func(from, to reflect.Value)) {
			if from.IsNil() {
				return
			}
			to.Set(reflect.MakeSlice(to.Type(), from.Len(), from.Len()))
			for i := range from.Len() {
				do(from.Index(i), to.Index(i))
			}
		}
	}
	if of.ToOld != nil {
		lifted.ToOld = func(now, old reflect.Value) (err error) {
			one(now, old, func(now, old reflect.Value) { err = errors.Join(err, of.ToOld(now, old)) })
			return err
		}
	}
	if of.ToNew != nil {
		lifted.ToNew = func(old, now reflect.Value, f *Faults) {
			at := -1
			one(old, now, func(old, now reflect.Value) {
				if at++; t.Kind() != reflect.Slice {
					of.ToNew(old, now, f)
					return
				}
				f.at(fmt.Sprint(at), func() { of.ToNew(old, now, f) })
			})
		}
	}
	return lifted
}

// Place is where something that is at a place of the present value is in the old one, as members and
// numbers of items. What the old one does not have is at the place around it.
func (a *Adapter) Place(path []string) []string {
	switch {
	case len(path) == 0:
		return nil
	case a.item != nil && a.New.Kind() == reflect.Slice:
		return append([]string{path[0]}, a.item.Place(path[1:])...)
	case a.item != nil:
		return a.item.Place(path)
	case a.steps == nil:
		return path
	}
	var best *step
	for i := range a.steps {
		s := &a.steps[i]
		if s.oldName != "" && len(s.name) <= len(path) && slices.Equal(s.name, path[:len(s.name)]) && s.name != nil &&
			(best == nil || len(s.name) > len(best.name)) {
			best = s
		}
	}
	if best == nil {
		return nil
	}
	rest := path[len(best.name):]
	if best.by != nil {
		if rest = best.by.Place(rest); best.by.steps == nil && best.by.item == nil {
			rest = nil // a function has made it: what is inside is not known
		}
	}
	return append([]string{best.oldName}, rest...)
}

// Text writes a path with slashes.
func Text(path []string) string { return strings.Join(path, "/") }
