package check

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strconv"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/schema"
)

// A report gathers what the Checks of a value and of those below it find wrong.
type report struct {
	path path
	faults
}

type checker interface{ Check(*schema.Report) }

var checkerType = reflect.TypeFor[checker]()

// CheckOwn asks a value's own Check, if it has one, for faults: at most as many as
// most says (0: [MostFaults]), and whether there are more.
func CheckOwn(v reflect.Value, most int) (found []schema.Fault, more bool) {
	r := report{faults: bounded(most)}
	r.ask(v)
	return r.found, r.more
}

func (r *report) ask(v reflect.Value) {
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
	own := schema.NewReport(r.most - len(r.found))
	c.Check(own)
	found, more := own.Faults()
	for _, f := range found {
		f.Pointer = clip.Text(r.path.pointer()+f.Pointer, longestPointer)
		r.add(f)
	}
	r.more = r.more || more
}

// Judge holds a value against the rules of a field that it is for. What is wrong with the rules Type says.
func (s *Set) Judge(field reflect.StructField, value reflect.Value) []schema.Fault {
	one := reflect.StructOf([]reflect.StructField{{
		Name: "Value",
		Type: field.Type,
		Tag:  reflect.StructTag(`json:"value" rule:` + strconv.Quote(field.Tag.Get("rule"))),
	}})
	t, err := s.Type(one)
	if err != nil {
		return nil
	}
	held := reflect.New(one)
	held.Elem().Field(0).Set(value)
	text, err := json.Marshal(held.Interface())
	if err != nil {
		return []schema.Fault{{Detail: err.Error()}}
	}
	found, _ := t.Decode(text, reflect.New(one).Interface(), Reading{Lenient: ReadOnlyMembers})
	return found
}

// judge asks the Check of every value at and below v, inner ones first.
func (t *Type) judge(v reflect.Value, r *report) {
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
		slices.SortStableFunc(r.found[before:], func(a, b schema.Fault) int {
			return cmp.Compare(a.Pointer, b.Pointer)
		})
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

func (r *report) below(s spot, t *Type, v reflect.Value) {
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
