package check

import (
	stdbytes "bytes"
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/peek"
	"github.com/wicketway/wicketway/schema"
)

// A reporter walks a text along a type and lists every fault. It goes over each byte
// once, however deep the text is nested.
type reporter struct {
	skimmer
	faults
	end     int  // of what is valid JSON
	cut     bool // the walk has come to the end, in the middle of a value
	decoded bool // the text could be decoded, so only rules can be broken
	lenient Leniency
	path    path
	seen    []bool  // of the members of all objects that are open, a run for each
	ready   []piece // faultless pieces whose types' own Check is still to be asked
	other   []byte  // the text up to copied, as plain decoding reads it
	copied  int
	scratch map[*Type]reflect.Value
	last    *Type // that was scratched on
	lastV   reflect.Value

	spots [8]spot  // what path begins with
	marks [64]bool // what seen begins with
}

// report lists the faults of a text. The error is what came of decoding it; nil says
// that it is JSON of the right types.
func (t *Type) report(data []byte, how Reading, err error) *reporter {
	r := &reporter{
		skimmer: skimmer{data: data},
		faults:  bounded(how.Most),
		end:     len(data),
		lenient: how.Lenient,
		decoded: err == nil,
	}
	r.path, r.seen = r.spots[:0], r.marks[:0]
	var broken *jsontext.SyntacticError
	if err != nil {
		broken = r.findEnd(err)
	}
	r.value(&site{typ: t, null: t.null, needed: true})
	switch {
	case r.faults.more:
	case broken != nil && !r.cut && r.at > 0:
		r.fault("syntax", nil, "is followed by something more; a body is one JSON value", true)
	case broken != nil:
		r.add(syntaxFault(data, broken))
	case len(r.ready) > 0:
		a := asker{
			skimmer: skimmer{data: data},
			report:  report{faults: r.faults},
			ready:   r.ready[:min(len(r.ready), mostAsked)],
			lenient: r.lenient,
		}
		a.value()
		r.faults = a.report.faults
	}
	return r
}

// rewritten is the text as plain decoding reads it; nil where that would change
// nothing.
func (r *reporter) rewritten() []byte {
	if r.other == nil || r.found != nil {
		return nil
	}
	return append(r.other, r.data[r.copied:]...)
}

// rewrite puts what the JSON package reads in the place of the value from start to here.
func (r *reporter) rewrite(start int, text string) {
	r.other = append(append(r.other, r.data[r.copied:start]...), text...)
	r.copied = r.at
}

func (r *reporter) fault(rule string, want any, detail string, unreadable bool) {
	r.add(schema.Fault{Pointer: r.path.pointer(), Rule: rule, Want: want, Detail: detail, Unreadable: unreadable})
}

// stopped reports whether the walk is over: at the bound, or at the end of what is JSON.
func (r *reporter) stopped() bool { return r.faults.more || r.cut }

// value reads one value.
func (r *reporter) value(at *site) {
	r.space()
	if r.at >= r.end {
		r.cut = true
		return
	}
	start := r.at
	if r.data[start] == 'n' {
		if r.at += len("null"); r.at > r.end {
			r.cut = true
		} else if !at.null {
			r.fault("type", at.typ.name(), cmp.Or(at.unread, "must not be null"), true)
		}
		return
	}
	typ := at.typ.base()
	switch c := r.data[start]; {
	case c == '{' && (typ.shape == object || typ.shape == mapping || typ.shape == oneOf), c == '[' && typ.shape == list:
		r.container(at, typ)
		return
	}
	if r.skip(); r.at > r.end {
		r.cut = true
		return
	}
	r.leaf(at, typ, start)
}

// another goes to the next piece of an object or a list; false where there is none.
func (r *reporter) another(end byte) bool {
	if !r.skimmer.more(end) {
		r.cut = r.at > r.end
		return false
	}
	r.cut = r.at >= r.end
	return !r.cut
}

// anotherName goes to the next name in an object; false where there is none.
func (r *reporter) anotherName() bool {
	if !r.another('}') {
		return false
	}
	r.cut = r.data[r.at] != '"' // what is no JSON begins here
	return !r.cut
}

// container reads an object or a list. One without a fault is ready for the Check of
// its type, and stands for all that is ready inside it.
func (r *reporter) container(at *site, typ *Type) {
	before, ready, start := len(r.found), len(r.ready), r.at
	r.at++
	switch typ.shape {
	case object:
		r.object(typ)
	case mapping:
		r.mapping(at, typ)
	case oneOf:
		r.oneOf(typ)
	default:
		r.list(at, typ)
	}
	if r.stopped() {
		return
	}
	if typ.judges && len(r.found) == before {
		r.ready = append(r.ready[:ready], piece{uint32(start), uint32(r.at), typ, at.needed})
	}
}

// leaf reads the value from start to here as Decode does, alone, and asks its rules.
func (r *reporter) leaf(at *site, typ *Type, start int) {
	raw := jsontext.Value(r.data[start:r.at])
	if r.decoded && len(at.rules) == 0 && !typ.checks || !at.quoted && r.direct(at, typ, raw) {
		return
	}
	v := r.scratchOf(typ)
	if !at.quoted {
		if typ.readPlain(raw, v) {
			r.ask(at, typ, v)
			return
		}
		if other := typ.otherwise(raw); other != "" && typ.readPlain(jsontext.Value(other), v) {
			r.rewrite(start, other)
			r.ask(at, typ, v)
			return
		}
	}
	v.SetZero()
	options := []json.Options{r.lenient.options()}
	if at.quoted {
		options = append(options, json.StringifyNumbers(true))
	}
	if err := json.Unmarshal(raw, v.Addr().Interface(), options...); err != nil {
		rule := "type"
		if raw.Kind() == jsontext.KindString {
			rule = typ.unreadRule()
		}
		r.fault(rule, typ.name(), cmp.Or(at.unread, typ.refusal(raw)), true)
		return
	}
	r.ask(at, typ, v)
}

// direct reads a text or a number whose rules can all be asked without reflection, and
// asks them; false where that is not so, or the value is of another type.
func (r *reporter) direct(at *site, typ *Type, raw jsontext.Value) bool {
	if typ.checks {
		return false
	}
	switch kind := raw.Kind(); {
	case typ.shape == text && kind == jsontext.KindString:
		s := string(nameIn(raw))
		for i := range at.rules {
			if rule := &at.rules[i]; !rule.ofText(s) {
				r.fault(rule.keyword, rule.want, rule.detail, false)
			}
		}
		return true
	case typ.shape == integer && kind == jsontext.KindNumber:
		n, ok := shortInteger(raw)
		if bits := typ.goType.Bits(); !ok || n<<(64-bits)>>(64-bits) != n || !typ.signed() || !at.rules.allOfWhole() {
			return false
		}
		for i := range at.rules {
			if rule := &at.rules[i]; !rule.ofWhole(n) {
				r.fault(rule.keyword, rule.want, rule.detail, false)
			}
		}
		return true
	}
	return false
}

// scratchOf gives a value to read a leaf into, the same for all of its type.
func (r *reporter) scratchOf(t *Type) reflect.Value {
	if r.last == t {
		return r.lastV
	}
	v, known := r.scratch[t]
	if !known {
		if r.scratch == nil {
			r.scratch = map[*Type]reflect.Value{}
		}
		v = reflect.New(t.goType).Elem()
		r.scratch[t] = v
	}
	r.last, r.lastV = t, v
	return v
}

// ask asks a value's rules, and its type's own Check.
func (r *reporter) ask(at *site, typ *Type, v reflect.Value) {
	before := len(r.found)
	for i := range at.rules {
		if rule := &at.rules[i]; !rule.holds(v) {
			r.fault(rule.keyword, rule.want, rule.detail, false)
		}
	}
	if typ.checks && len(r.found) == before && !r.faults.more {
		own := report{path: r.path, faults: r.faults}
		own.ask(v)
		r.faults = own.faults
	}
}

func (r *reporter) object(t *Type) {
	base := len(r.seen)
	for range t.fields {
		r.seen = append(r.seen, false)
	}
	var others map[string]bool
	next := 0
	for r.anotherName() {
		start := r.at
		i := r.member(t, next)
		if next = i + 1; i < 0 {
			name := string(nameIn(r.data[start:r.at]))
			if others == nil {
				others = map[string]bool{}
			}
			r.unknown(t, name, others[name])
			others[name] = true
			if r.skip(); r.stopped() {
				return
			}
			continue
		}
		f := t.fields[i]
		r.path.push(spot{name: f.name})
		switch {
		case r.seen[base+i]:
			r.fault("unique", nil, "is given twice", true)
			r.skip()
		case f.readOnly && r.lenient&(outbound|ReadOnlyMembers) == 0:
			r.fault("readOnly", nil, sentReadOnly, false)
			r.skip()
		default:
			r.value(&f.site)
		}
		r.path.pop()
		r.seen[base+i] = true
		if r.stopped() {
			return
		}
	}
	if r.cut {
		return
	}
	for i, f := range t.fields {
		if f.required && !r.seen[base+i] {
			r.path.push(spot{name: f.name})
			r.fault("required", nil, f.missing, false)
			r.path.pop()
		}
	}
	r.seen = r.seen[:base]
}

// oneOf reads an object as the type that its member says. Where that is none of them, nothing is known of the other
// members.
func (r *reporter) oneOf(t *Type) {
	name, _ := peek.Member(r.data[r.at-1:], t.cases.set.Member)
	if text := t.cases.texts[string(name)]; text != nil {
		r.object(text)
		return
	}
	before := r.lenient
	r.lenient |= UnknownMembers
	r.object(t.cases.unknown)
	r.lenient = before
}

const sentReadOnly = "is read-only: the server sets it, so it cannot be sent"

// unknown notes a member that the type does not have.
func (r *reporter) unknown(t *Type, name string, again bool) {
	r.path.push(spot{name: name})
	switch {
	case again:
		r.fault("unique", nil, "is given twice", true)
	case r.lenient&UnknownMembers == 0:
		r.fault("additionalProperties", nil, t.unknown(name), false)
	}
	r.path.pop()
}

// unknown says that a member has no place, and which are meant perhaps.
func (t *Type) unknown(name string) string {
	known := make([]string, len(t.fields))
	for i, f := range t.fields {
		if strings.EqualFold(f.name, name) {
			return "is not a known member; did you mean " + f.name + "?"
		}
		known[i] = f.name
	}
	return "is not a known member (known: " + strings.Join(known, ", ") + ")"
}

func (r *reporter) mapping(at *site, typ *Type) {
	seen := map[string]bool{}
	key := reflect.New(typ.goType.Key())
	plain := isPlainText(typ.goType.Key())
	item := site{typ: typ.elem, null: typ.elem.null, needed: true}
	for r.anotherName() {
		start := r.at
		name := string(r.name())
		r.path.push(spot{name: name})
		switch {
		case seen[name]:
			r.fault("unique", nil, "is given twice", true)
			r.skip()
		case !plain && json.Unmarshal(r.data[start:r.at], key.Interface(), json.StringifyNumbers(true)) != nil:
			r.fault("propertyNames", nil, "has a name that cannot be read as "+typ.goType.Key().String(), true)
			r.skip()
		default:
			r.value(&item)
		}
		r.path.pop()
		if r.stopped() {
			return
		}
		seen[name] = true
	}
	if !r.cut {
		r.bySize(at, reflect.ValueOf(seen))
	}
}

// bySize asks the rules that count members or items.
func (r *reporter) bySize(at *site, sized reflect.Value) {
	for i := range at.rules {
		if rule := &at.rules[i]; rule.bySize && !rule.holds(sized) {
			r.fault(rule.keyword, rule.want, rule.detail, false)
		}
	}
}

func (r *reporter) list(at *site, typ *Type) {
	n := 0
	item := site{typ: typ.elem, null: typ.elem.null, rules: at.items, needed: true}
	unique := slices.IndexFunc(at.rules, func(r rule) bool { return r.keyword == "uniqueItems" })
	whole := typ.elem.shape == integer && typ.elem.signed() && !typ.elem.checks && at.items.allOfWhole()
	var items map[identity]bool
	twice := false
	for ; r.another(']'); n++ {
		start := r.at
		if !whole || !r.wholeItem(&item) {
			r.path.push(spot{index: n, item: true})
			r.value(&item)
			r.path.pop()
		}
		if r.stopped() {
			return
		}
		if unique >= 0 && !twice {
			if items == nil {
				items = map[identity]bool{}
			}
			id := identify(r.data[start:r.at])
			twice = items[id]
			items[id] = true
		}
	}
	if r.cut {
		return
	}
	if twice {
		r.fault("uniqueItems", true, at.rules[unique].detail, false)
	}
	if t := typ.goType; t.Kind() == reflect.Array {
		if n != t.Len() {
			r.fault("maxItems", t.Len(), fmt.Sprintf("must have %d items", t.Len()), true)
		}
		return
	}
	r.bySize(at, reflect.MakeSlice(reflect.SliceOf(emptyType), n, n))
}

// wholeItem reads a whole number that keeps all rules, without the ado that faults
// need; false where there is none.
func (r *reporter) wholeItem(item *site) bool {
	at, n := r.at, int64(0)
	negative := r.data[at] == '-'
	if negative {
		at++
	}
	start := at
	for ; at < r.end && r.data[at]-'0' <= 9; at++ {
		n = 10*n + int64(r.data[at]-'0')
	}
	if digits := at - start; digits == 0 || digits > 18 || at < r.end && !stops[r.data[at]] {
		return false
	}
	if negative {
		n = -n
	}
	if bits := item.typ.goType.Bits(); n<<(64-bits)>>(64-bits) != n {
		return false
	}
	for i := range item.rules {
		if !item.rules[i].ofWhole(n) {
			return false
		}
	}
	r.at = at
	return true
}

var emptyType = reflect.TypeFor[struct{}]()

// findEnd finds out how far the text is JSON, and gives the error where that is not to
// its end. Decoding knows it, unless it stopped for another reason before.
func (r *reporter) findEnd(err error) *jsontext.SyntacticError {
	broken, known := errors.AsType[*jsontext.SyntacticError](err)
	if !known || errors.Is(err, jsontext.ErrDuplicateName) {
		if jsontext.Value(r.data).IsValid(jsontext.AllowDuplicateNames(true)) {
			return nil
		}
		d := jsontext.NewDecoder(stdbytes.NewBuffer(r.data), jsontext.AllowDuplicateNames(true))
		if err = d.SkipValue(); err == nil {
			_, err = d.ReadToken()
		}
		if broken, known = errors.AsType[*jsontext.SyntacticError](err); !known {
			broken = &jsontext.SyntacticError{ByteOffset: d.InputOffset(), Err: err}
		}
	}
	r.end = min(int(broken.ByteOffset), len(r.data))
	r.data = append(r.data[:r.end:r.end], `""]`...) // so that every token has an end, if beyond this one
	return broken
}
