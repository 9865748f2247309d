package schema

import (
	stdbytes "bytes"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/clip"
)

// A reporter walks the tokens of a text along a type and lists every fault. It goes
// over each byte once, however deep the text is nested.
type reporter struct {
	faults
	data     []byte
	lenient  Leniency
	in       *jsontext.Decoder
	path     path
	ready    []piece   // well-formed pieces whose types' own Check is still to be asked
	rewrites []rewrite // what the standard allows and plain decoding does not read
	scratch  map[*Type]reflect.Value
}

// A piece of the text holds one value without a fault.
type piece struct {
	start, end uint32
	typ        *Type
	needed     bool // or else a zero value is as good as none
}

// A rewrite says what the JSON package reads in place of a piece of the text.
type rewrite struct {
	start, end int
	text       string
}

func (t *Type) report(data []byte, how Reading) *reporter {
	r := &reporter{
		faults:  bounded(how.Most),
		data:    data,
		lenient: how.Lenient,
		in:      jsontext.NewDecoder(stdbytes.NewBuffer(data), jsontext.AllowDuplicateNames(true)),
		scratch: map[*Type]reflect.Value{},
	}
	err := r.value(site{typ: t, null: t.null, needed: true})
	syntax := err != nil
	if err == nil && !r.more {
		if _, err = r.in.ReadToken(); err == nil {
			syntax = true
			r.fault("syntax", nil, "is followed by something more; a body is one JSON value", true)
		} else if err == io.EOF {
			err = nil
		}
	}
	syntax = syntax || err != nil
	if err != nil && !r.more {
		e, ok := errors.AsType[*jsontext.SyntacticError](err)
		if !ok {
			e = &jsontext.SyntacticError{Err: err}
		}
		r.add(syntaxFault(data, e))
	}
	if len(r.ready) > 0 && !r.more && !syntax {
		a := asker{skimmer: skimmer{data: data}, Report: Report{faults: r.faults}, ready: r.ready, lenient: r.lenient}
		a.value()
		r.faults = a.Report.faults
	}
	return r
}

func syntaxFault(data []byte, e *jsontext.SyntacticError) Fault {
	return Fault{Pointer: clip.Text(string(e.JSONPointer), longestPointer), Rule: "syntax", Detail: syntaxDetail(data, e), Unreadable: true}
}

// rewritten is the text as plain decoding reads it; nil where that would change
// nothing.
func (r *reporter) rewritten() []byte {
	if r.rewrites == nil || r.found != nil {
		return nil
	}
	var text []byte
	from := 0
	for _, w := range r.rewrites {
		text = append(append(text, r.data[from:w.start]...), w.text...)
		from = w.end
	}
	return append(text, r.data[from:]...)
}

// A site is what is asked of a value where it stands.
type site struct {
	typ    *Type
	null   bool
	rules  rules
	items  rules
	quoted bool
	needed bool // or else a zero value is as good as none
}

func (r *reporter) fault(rule string, want any, detail string, unreadable bool) {
	r.add(Fault{Pointer: r.path.pointer(), Rule: rule, Want: want, Detail: detail, Unreadable: unreadable})
}

// below reads a value one step further down.
func (r *reporter) below(s spot, at site) error {
	r.path.push(s)
	err := r.value(at)
	r.path.pop()
	return err
}

// value reads one value. Its error is one of syntax, which ends the walk; where the
// bound is reached the walk ends without one.
func (r *reporter) value(at site) error {
	kind := r.in.PeekKind()
	if kind == jsontext.KindInvalid {
		_, err := r.in.ReadToken()
		return err
	}
	if kind == jsontext.KindNull && !at.null {
		r.fault("type", at.typ.name(), "must not be null", true)
		return r.in.SkipValue()
	}
	at.typ = at.typ.base()
	switch {
	case kind == jsontext.KindNull:
		return r.in.SkipValue()
	case at.typ.shape == object && kind == jsontext.KindBeginObject, at.typ.shape == mapping && kind == jsontext.KindBeginObject,
		at.typ.shape == list && kind == jsontext.KindBeginArray:
		return r.container(at)
	}
	return r.leaf(at)
}

// container reads an object or a list. One without a fault is ready for the Check of
// its type, and stands for all that is ready inside it.
func (r *reporter) container(at site) error {
	before, ready := len(r.found), len(r.ready)
	if _, err := r.in.ReadToken(); err != nil {
		return err
	}
	start := r.in.InputOffset() - 1
	var err error
	switch at.typ.shape {
	case object:
		err = r.object(at.typ)
	case mapping:
		err = r.mapping(at)
	default:
		err = r.list(at)
	}
	if err != nil || r.more {
		return err
	}
	if _, err := r.in.ReadToken(); err != nil {
		return err
	}
	end := r.in.InputOffset()
	if at.typ.shape == list {
		r.wholeList(at, r.data[start:end])
	}
	if at.typ.judges && len(r.found) == before {
		r.ready = append(r.ready[:ready], piece{uint32(start), uint32(end), at.typ, at.needed})
	}
	return nil
}

// leaf reads a value as Decode does, alone, and asks its rules.
func (r *reporter) leaf(at site) error {
	raw, err := r.in.ReadValue()
	if err != nil {
		return err
	}
	v, known := r.scratch[at.typ]
	if !known {
		v = reflect.New(at.typ.goType).Elem()
		r.scratch[at.typ] = v
	}
	if !at.quoted && at.typ.readPlain(raw, v) {
		r.ask(at, v)
		return nil
	}
	v.SetZero()
	options := []json.Options{r.lenient.options()}
	if at.quoted {
		options = append(options, json.StringifyNumbers(true))
	}
	err = json.Unmarshal(raw, v.Addr().Interface(), options...)
	if err != nil && !at.quoted {
		if other := at.typ.otherwise(raw); other != "" {
			end := int(r.in.InputOffset())
			r.rewrites = append(r.rewrites, rewrite{end - len(raw), end, other})
			err = json.Unmarshal([]byte(other), v.Addr().Interface())
		}
	}
	if err != nil {
		rule := "type"
		if raw.Kind() == jsontext.KindString && (at.typ.shape == moment || at.typ.shape == encoded || at.typ.shape == bytes) {
			rule = "format"
		}
		r.fault(rule, at.typ.name(), at.typ.refusal(raw), true)
		return nil
	}
	r.ask(at, v)
	return nil
}

// ask asks a value's rules, and its type's own Check.
func (r *reporter) ask(at site, v reflect.Value) {
	before := len(r.found)
	for i := range at.rules {
		if rule := &at.rules[i]; !rule.holds(v) {
			r.fault(rule.keyword, rule.want, rule.detail, false)
		}
	}
	if at.typ.checks && len(r.found) == before && !r.more {
		own := Report{path: r.path, faults: r.faults}
		own.ask(v)
		r.faults = own.faults
	}
}

func (r *reporter) object(t *Type) error {
	seen := make([]bool, len(t.fields))
	var others map[string]bool
	for r.in.PeekKind() != jsontext.KindEndObject {
		raw, err := r.in.ReadValue()
		if err != nil {
			return err
		}
		f, name := t.member(raw)
		r.path.push(spot{name: name})
		switch {
		case f != nil && seen[f.number] || f == nil && others[name]:
			r.fault("unique", nil, "stands twice", true)
			err = r.in.SkipValue()
		case f == nil:
			if others == nil {
				others = map[string]bool{}
			}
			others[name] = true
			if r.lenient&UnknownMembers == 0 {
				r.fault("additionalProperties", nil, t.unknown(name), false)
			}
			err = r.in.SkipValue()
		case f.readOnly && r.lenient&(outbound|ReadOnlyMembers) == 0:
			seen[f.number] = true
			r.fault("readOnly", nil, sentReadOnly, false)
			err = r.in.SkipValue()
		default:
			seen[f.number] = true
			err = r.value(site{f.typ, f.null, f.rules, f.items, f.quoted, f.required})
		}
		r.path.pop()
		if err != nil || r.more {
			return err
		}
	}
	for _, f := range t.fields {
		if f.required && !seen[f.number] {
			r.path.push(spot{name: f.name})
			r.fault("required", nil, "is missing", false)
			r.path.pop()
		}
	}
	return nil
}

// member finds a member by its name as it stands in the text.
func (t *Type) member(raw jsontext.Value) (*field, string) {
	if name := raw[1 : len(raw)-1]; stdbytes.IndexByte(name, '\\') < 0 {
		if f := t.byName[string(name)]; f != nil {
			return f, f.name
		}
	}
	name, _ := jsontext.AppendUnquote(nil, raw) // valid: it was read
	return t.byName[string(name)], string(name)
}

// unknown says that a member has no place, and which are meant perhaps.
func (t *Type) unknown(name string) string {
	known := make([]string, len(t.fields))
	for i, f := range t.fields {
		if strings.EqualFold(f.name, name) {
			return "is not known here; did you mean " + f.name + "?"
		}
		known[i] = f.name
	}
	return "is not known here; known are " + strings.Join(known, ", ")
}

func (r *reporter) mapping(at site) error {
	seen := map[string]bool{}
	key := reflect.New(at.typ.goType.Key())
	plain := at.typ.goType.Key().Kind() == reflect.String && !implements(at.typ.goType.Key(), textInterfaces)
	for r.in.PeekKind() != jsontext.KindEndObject {
		token, err := r.in.ReadToken()
		if err != nil {
			return err
		}
		name := token.String()
		readable := true
		if !plain {
			quoted, _ := jsontext.AppendQuote(nil, name)
			readable = json.Unmarshal(quoted, key.Interface(), json.StringifyNumbers(true)) == nil
		}
		r.path.push(spot{name: name})
		switch {
		case seen[name]:
			r.fault("unique", nil, "stands twice", true)
			err = r.in.SkipValue()
		case !readable:
			r.fault("propertyNames", nil, "has a name that cannot be read as "+at.typ.goType.Key().String(), true)
			err = r.in.SkipValue()
		default:
			err = r.value(site{typ: at.typ.elem, null: at.typ.elem.null, needed: true})
		}
		r.path.pop()
		if err != nil || r.more {
			return err
		}
		seen[name] = true
	}
	r.bySize(at, reflect.ValueOf(seen))
	return nil
}

// bySize asks the rules that count members or items.
func (r *reporter) bySize(at site, sized reflect.Value) {
	for i := range at.rules {
		if rule := &at.rules[i]; rule.bySize && !rule.holds(sized) {
			r.fault(rule.keyword, rule.want, rule.detail, false)
		}
	}
}

func (r *reporter) list(at site) error {
	n := 0
	for ; r.in.PeekKind() != jsontext.KindEndArray; n++ {
		item := site{typ: at.typ.elem, null: at.typ.elem.null, rules: at.items, needed: true}
		if err := r.below(spot{index: n, item: true}, item); err != nil || r.more {
			return err
		}
	}
	if t := at.typ.goType; t.Kind() == reflect.Array {
		if n != t.Len() {
			r.fault("maxItems", t.Len(), fmt.Sprintf("must have %d items", t.Len()), true)
		}
		return nil
	}
	r.bySize(at, reflect.MakeSlice(reflect.SliceOf(emptyType), n, n))
	return nil
}

// wholeList asks the rules that look at a list's items together, if they could
// all be read.
func (r *reporter) wholeList(at site, raw []byte) {
	for i := range at.rules {
		rule := &at.rules[i]
		if rule.bySize {
			continue
		}
		v := reflect.New(at.typ.goType)
		if json.Unmarshal(raw, v.Interface(), r.lenient.options()) == nil && !rule.holds(v.Elem()) {
			r.fault(rule.keyword, rule.want, rule.detail, false)
		}
	}
}

var emptyType = reflect.TypeFor[struct{}]()

// An asker goes over a text once more, to the pieces that are ready for the Check of
// their types, so that each is decoded once and its place is known.
type asker struct {
	skimmer
	Report
	ready   []piece
	lenient Leniency
}

func (a *asker) value() {
	if len(a.ready) == 0 || a.Report.more {
		return
	}
	a.space()
	p := a.ready[0]
	switch {
	case a.at == int(p.start):
		a.ready = a.ready[1:]
		a.at = int(p.end)
		v := reflect.New(p.typ.goType)
		ok, _ := p.typ.fast(a.data[p.start:p.end], v.Interface(), a.lenient)
		if ok && (p.needed || !v.Elem().IsZero()) {
			p.typ.judge(v.Elem(), &a.Report)
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

// syntaxDetail tells what is no JSON, and where.
func syntaxDetail(data []byte, e *jsontext.SyntacticError) string {
	if len(stdbytes.TrimSpace(data)) == 0 {
		return "is empty; a JSON value was expected"
	}
	if errors.Is(e.Err, io.ErrUnexpectedEOF) {
		return "ends too early: the JSON text is cut off"
	}
	upTo := data[:min(int(e.ByteOffset), len(data))]
	line := 1 + stdbytes.Count(upTo, []byte("\n"))
	column := len(upTo) - stdbytes.LastIndexByte(upTo, '\n')
	reason := "a mistake"
	if e.Err != nil {
		reason = clip.Text(e.Err.Error(), longestMessage)
	}
	return "is not valid JSON at line " + strconv.Itoa(line) + ", column " + strconv.Itoa(column) + ": " + reason
}
