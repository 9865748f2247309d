package schema

import (
	"fmt"
	"reflect"
	"strconv"
)

// A Report takes down what a type's own Check finds wrong. A type with a method
//
//	Check(*schema.Report)
//
// is asked once its members are all well, so that it can compare them. It is not
// asked of the zero value of a member that need not be there.
type Report struct {
	pointer string
	faults  []Fault
}

// Fault notes a fault. The place is a JSON Pointer from the value that is checked
// ("/slot"; "" for the value as a whole), the rule a short name for programs, and
// the detail, formatted as fmt.Sprintf does, a sentence that leaves the place out.
func (r *Report) Fault(place, rule, format string, args ...any) {
	r.faults = append(r.faults, Fault{Pointer: r.pointer + place, Rule: rule, Detail: fmt.Sprintf(format, args...)})
}

type checker interface{ Check(*Report) }

var checkerType = reflect.TypeFor[checker]()

// CheckOwn asks a value's own Check, if it has one, for faults.
func CheckOwn(v reflect.Value) []Fault {
	r := Report{}
	r.ask(v, "")
	return r.faults
}

func (r *Report) ask(v reflect.Value, pointer string) {
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
	r.pointer = pointer
	c.Check(r)
}

// judge asks the Check of every value at and below v, inner ones first.
func (t *Type) judge(v reflect.Value, pointer string, r *Report) {
	v, there := t.reach(v)
	if t = t.base(); !there || !t.judges {
		return
	}
	before := len(r.faults)
	switch t.shape {
	case list:
		for i := range v.Len() {
			t.elem.judge(v.Index(i), pointer+"/"+strconv.Itoa(i), r)
		}
	case mapping:
		for i := v.MapRange(); i.Next(); {
			t.elem.judge(i.Value(), site{pointer: pointer}.below(fmt.Sprint(i.Key())), r)
		}
	case object:
		for _, f := range t.fields {
			if fv, there := f.of(v); there && (f.required || !fv.IsZero()) {
				f.typ.judge(fv, pointer+"/"+f.name, r)
			}
		}
	}
	if t.checks && len(r.faults) == before {
		r.ask(v, pointer)
	}
}
