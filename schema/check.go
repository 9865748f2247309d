package schema

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"

	"github.com/wicketway/wicketway/internal/clip"
)

// A Report takes down what a type's own Check finds wrong. A type with a method
//
//	Check(*schema.Report)
//
// is asked once its members are all well, so that it can compare them. It is not
// asked of the zero value of a member that need not be there, and where a body cannot
// be decoded as a whole only of the first 1,000 values in it that can. A report keeps as
// many faults as the bound of the input allows; what is noted after that only
// counts as "more".
type Report struct {
	path path
	faults
}

// Fault notes a fault. The place is a JSON Pointer from the value that is checked
// ("/slot"; "" for the value as a whole), the rule a short name for programs, and
// the detail, formatted as fmt.Sprintf does, a sentence that leaves the place out.
func (r *Report) Fault(place, rule, format string, args ...any) {
	r.add(Fault{Pointer: clip.Text(r.path.pointer()+place, longestPointer), Rule: rule, Detail: fmt.Sprintf(format, args...)})
}

type checker interface{ Check(*Report) }

var checkerType = reflect.TypeFor[checker]()

// CheckOwn asks a value's own Check, if it has one, for faults: at most as many as
// most says (0: [MostFaults]), and whether there are more.
func CheckOwn(v reflect.Value, most int) (found []Fault, more bool) {
	r := Report{faults: bounded(most)}
	r.ask(v)
	return r.found, r.more
}

func (r *Report) ask(v reflect.Value) {
	c, ok := v.Interface().(checker)
	if !ok {
		if !v.CanAddr() {
			held := reflect.New(v.Type()).Elem()
			held.Set(v)
			v = held
		}
		if c, ok = v.Addr().Interface().(checker); !ok {
			return
		}
	}
	c.Check(r)
}

// judge asks the Check of every value at and below v, inner ones first.
func (t *Type) judge(v reflect.Value, r *Report) {
	v, there := t.reach(v)
	if t = t.base(); !there || !t.judges {
		return
	}
	before := len(r.found)
	switch t.shape {
	case list:
		for i := 0; i < v.Len() && !r.more; i++ {
			r.below(spot{index: i, item: true}, t.elem, v.Index(i))
		}
	case mapping:
		for i := v.MapRange(); i.Next() && !r.more; {
			r.below(spot{name: keyText(i.Key())}, t.elem, i.Value())
		}
		slices.SortStableFunc(r.found[before:], func(a, b Fault) int { return cmp.Compare(a.Pointer, b.Pointer) })
	case object:
		for _, f := range t.fields {
			if fv, there := f.of(v); there && !r.more && f.typ.judges && (f.required || !fv.IsZero()) {
				r.below(spot{name: f.name}, f.typ, fv)
			}
		}
	}
	if t.checks && len(r.found) == before && !r.more {
		r.ask(v)
	}
}

func (r *Report) below(s spot, t *Type, v reflect.Value) {
	r.path.push(s)
	t.judge(v, r)
	r.path.pop()
}

func keyText(key reflect.Value) string {
	if key.Kind() == reflect.String {
		return key.String()
	}
	return fmt.Sprint(key)
}
