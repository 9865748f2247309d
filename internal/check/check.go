package check

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/schema"
)

// A report gathers what the Checks of a value and of those below it find wrong.
type report struct {
	path path
	faults
}

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

// Judges reports whether the type, or one below it, has a Check of its own.
func (t *Type) Judges() bool { return t.judges }

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
	case oneOf:
		if of, held := t.cases.holding(v); of != nil {
			of.judge(held, r)
		}
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

// How many pieces of a text that has a fault elsewhere, and how many bytes of it, are
// decoded again for the Checks of their types. An ordinary body has fewer.
const (
	mostAsked  = 1000
	bytesAsked = 128 << 10
)

// A piece of the text holds one value without a fault.
type piece struct {
	start, end uint32
	typ        *Type
	needed     bool // or else a zero value is as good as none
}

// An asker goes over a text once more, to the pieces that are ready for the Check of
// their types, so that each is decoded once and its place is known.
type asker struct {
	skimmer
	report
	ready   []piece
	asked   int // bytes
	lenient Leniency
}

func (a *asker) value() {
	if len(a.ready) == 0 || a.report.more {
		return
	}
	a.space()
	p := a.ready[0]
	switch {
	case a.at == int(p.start):
		a.ready = a.ready[1:]
		a.at = int(p.end)
		if a.asked += a.at - int(p.start); a.asked > bytesAsked {
			a.ready = nil
			return
		}
		v := reflect.New(p.typ.goType)
		text := a.data[p.start:p.end]
		if json.Unmarshal(text, v.Interface(), a.lenient.options()) == nil && (p.needed || !v.Elem().IsZero()) {
			s := skimmer{data: text}
			s.value(p.typ, true, v.Elem()) // sets the defaults
			p.typ.judge(v.Elem(), &a.report)
		}
	case a.data[a.at] == '{':
		a.at++
		for len(a.ready) > 0 && a.skimmer.more('}') {
			a.path.push(spot{name: string(a.name())})
			a.value()
			a.path.pop()
		}
	case a.data[a.at] == '[':
		a.at++
		for i := 0; len(a.ready) > 0 && a.skimmer.more(']'); i++ {
			a.path.push(spot{index: i, item: true})
			a.value()
			a.path.pop()
		}
	default:
		a.skip()
	}
}
