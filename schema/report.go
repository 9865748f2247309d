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
)

// A reporter walks the tokens of a text along a type and lists every fault.
type reporter struct {
	data    []byte
	lenient Leniency
	in      *jsontext.Decoder
	found   []Fault
}

func (t *Type) report(data []byte, lenient Leniency) []Fault {
	r := reporter{data: data, lenient: lenient, in: jsontext.NewDecoder(stdbytes.NewReader(data), jsontext.AllowDuplicateNames(true))}
	err := r.value(site{typ: t, needed: true})
	if err == nil {
		if _, err = r.in.ReadToken(); err == io.EOF {
			return r.found
		}
		if err == nil {
			r.fault(site{}, "syntax", nil, "is followed by something more; a body is one JSON value", true)
			return r.found
		}
	}
	e, ok := errors.AsType[*jsontext.SyntacticError](err)
	if !ok {
		e = &jsontext.SyntacticError{Err: err}
	}
	r.found = append(r.found, Fault{Pointer: string(e.JSONPointer), Rule: "syntax", Detail: syntaxDetail(data, e), Unreadable: true})
	return r.found
}

// A site is a value's place in the text and what is asked of it there.
type site struct {
	pointer string
	typ     *Type
	rules   rules
	items   rules
	quoted  bool
	needed  bool // or else a zero value is as good as none
}

func (at site) below(token string) string {
	return at.pointer + "/" + escapeToken(token)
}

func (r *reporter) fault(at site, rule string, want any, detail string, unreadable bool) {
	r.found = append(r.found, Fault{Pointer: at.pointer, Rule: rule, Want: want, Detail: detail, Unreadable: unreadable})
}

// value reads one value. Its error is one of syntax, which ends the walk.
func (r *reporter) value(at site) error {
	kind := r.in.PeekKind()
	if kind == jsontext.KindInvalid {
		_, err := r.in.ReadToken()
		return err
	}
	if kind == jsontext.KindNull && !at.typ.null {
		r.fault(at, "type", at.typ.name(), "must not be null", true)
		return r.in.SkipValue()
	}
	at.typ = at.typ.base()
	switch {
	case kind == jsontext.KindNull:
		return r.in.SkipValue()
	case at.typ.shape == object && kind == jsontext.KindBeginObject:
		return r.object(at)
	case at.typ.shape == mapping && kind == jsontext.KindBeginObject:
		return r.mapping(at)
	case at.typ.shape == list && kind == jsontext.KindBeginArray:
		return r.list(at)
	}
	return r.leaf(at)
}

// leaf reads a value as Decode does, alone, and asks its rules.
func (r *reporter) leaf(at site) error {
	raw, err := r.in.ReadValue()
	if err != nil {
		return err
	}
	v := reflect.New(at.typ.goType)
	options := []json.Options{r.lenient.options()}
	if at.quoted {
		options = append(options, json.StringifyNumbers(true))
	}
	if err := json.Unmarshal(raw, v.Interface(), options...); err != nil {
		rule := "type"
		if raw.Kind() == jsontext.KindString && (at.typ.shape == moment || at.typ.shape == encoded || at.typ.shape == bytes) {
			rule = "format"
		}
		r.fault(at, rule, at.typ.name(), at.typ.expects(), true)
		return nil
	}
	r.found = append(r.found, at.rules.faults(v.Elem(), at.pointer)...)
	return nil
}

func (r *reporter) object(at site) error {
	t := at.typ
	before := len(r.found)
	if _, err := r.in.ReadToken(); err != nil {
		return err
	}
	start := r.in.InputOffset() - 1
	seen := map[string]bool{}
	for r.in.PeekKind() != jsontext.KindEndObject {
		token, err := r.in.ReadToken()
		if err != nil {
			return err
		}
		name := token.String()
		f := t.byName[name]
		place := site{pointer: at.below(name)}
		switch {
		case seen[name]:
			r.fault(place, "unique", nil, "stands twice", true)
			err = r.in.SkipValue()
		case f == nil:
			if r.lenient != UnknownMembers {
				r.fault(place, "additionalProperties", nil, t.unknown(name), false)
			}
			err = r.in.SkipValue()
		default:
			err = r.value(site{place.pointer, f.typ, f.rules, f.items, f.quoted, f.required})
		}
		if err != nil {
			return err
		}
		seen[name] = true
	}
	for _, f := range t.fields {
		if f.required && !seen[f.name] {
			r.fault(site{pointer: at.below(f.name)}, "required", nil, "is missing", false)
		}
	}
	_, err := r.in.ReadToken()
	if err == nil && t.checks && len(r.found) == before {
		v := reflect.New(t.goType)
		if ok, _ := t.fast(r.data[start:r.in.InputOffset()], v.Interface(), r.lenient); ok && (at.needed || !v.Elem().IsZero()) {
			own := Report{}
			own.ask(v.Elem(), at.pointer)
			r.found = append(r.found, own.faults...)
		}
	}
	return err
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
	if _, err := r.in.ReadToken(); err != nil {
		return err
	}
	seen := map[string]bool{}
	for r.in.PeekKind() != jsontext.KindEndObject {
		token, err := r.in.ReadToken()
		if err != nil {
			return err
		}
		name := token.String()
		place := site{pointer: at.below(name), typ: at.typ.elem, needed: true}
		key := reflect.New(at.typ.goType.Key())
		quoted, _ := jsontext.AppendQuote(nil, name)
		switch {
		case seen[name]:
			r.fault(place, "unique", nil, "stands twice", true)
			err = r.in.SkipValue()
		case json.Unmarshal(quoted, key.Interface(), json.StringifyNumbers(true)) != nil:
			r.fault(place, "propertyNames", nil, "has a name that cannot be read as "+at.typ.goType.Key().String(), true)
			err = r.in.SkipValue()
		default:
			err = r.value(place)
		}
		if err != nil {
			return err
		}
		seen[name] = true
	}
	if _, err := r.in.ReadToken(); err != nil {
		return err
	}
	sized := reflect.ValueOf(seen)
	for _, rule := range at.rules {
		if !rule.holds(sized) {
			r.fault(at, rule.keyword, rule.want, rule.detail, false)
		}
	}
	return nil
}

func (r *reporter) list(at site) error {
	if _, err := r.in.ReadToken(); err != nil {
		return err
	}
	start := r.in.InputOffset() - 1
	n := 0
	for ; r.in.PeekKind() != jsontext.KindEndArray; n++ {
		if err := r.value(site{pointer: at.below(strconv.Itoa(n)), typ: at.typ.elem, rules: at.items, needed: true}); err != nil {
			return err
		}
	}
	t := at.typ.goType
	if t.Kind() == reflect.Array {
		if n != t.Len() {
			r.fault(at, "maxItems", t.Len(), fmt.Sprintf("must have %d items", t.Len()), true)
		}
	} else {
		sized := reflect.MakeSlice(reflect.SliceOf(emptyType), n, n)
		for _, rule := range at.rules {
			if rule.bySize && !rule.holds(sized) {
				r.fault(at, rule.keyword, rule.want, rule.detail, false)
			}
		}
	}
	if _, err := r.in.ReadToken(); err != nil {
		return err
	}
	r.wholeList(at, r.data[start:r.in.InputOffset()])
	return nil
}

// wholeList asks the rules that look at a list's items together, if they could
// all be read.
func (r *reporter) wholeList(at site, raw []byte) {
	for _, rule := range at.rules {
		if rule.bySize {
			continue
		}
		v := reflect.New(at.typ.goType)
		if json.Unmarshal(raw, v.Interface(), r.lenient.options()) == nil && !rule.holds(v.Elem()) {
			r.fault(at, rule.keyword, rule.want, rule.detail, false)
		}
	}
}

var emptyType = reflect.TypeFor[struct{}]()

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
		reason = e.Err.Error()
	}
	return fmt.Sprintf("is not valid JSON at line %d, column %d: %s", line, column, reason)
}
