package schema

import (
	stdbytes "bytes"
	"errors"
	"fmt"
	"reflect"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A Fault is one thing that is wrong with a value.
type Fault struct {
	// Pointer is the place in the JSON text (RFC 6901); "" is the whole.
	Pointer string
	// Rule is the keyword that was broken: one of JSON Schema's, "syntax" where
	// the text is no JSON, or "unique" where a name stands twice.
	Rule string
	// Want is what the rule asks for, as JSON; nil where the rule says all.
	Want any
	// Detail says it in a sentence that leaves the place out.
	Detail string
	// Unreadable: the value could not be read at all, so no rule was asked.
	Unreadable bool
}

var strict, lax = json.RejectUnknownMembers(true), json.RejectUnknownMembers(false)

// Decode reads a JSON text into the value that into points to (of the type that
// t was compiled from), sets defaults and checks every rule. It returns nil, or
// all faults in the order of the text. After a fault the value is undefined.
//
// What is well takes the fast path: the text is decoded, the rules are asked of
// the Go value, and only where a zero value could mean an absent member or a null
// is the text skimmed once more. Only when something failed is it walked again to
// find every fault.
func (t *Type) Decode(data []byte, into any, lenient Leniency) []Fault {
	if t.open && tooDeep(data) {
		return []Fault{{Rule: "depth", Want: MaxDepth, Detail: fmt.Sprintf("is nested deeper than %d levels", MaxDepth), Unreadable: true}}
	}
	if ok, err := t.fast(data, into, lenient); !ok {
		return t.explain(data, lenient, err)
	}
	if !t.judges {
		return nil
	}
	var r Report
	t.judge(reflect.ValueOf(into).Elem(), "", &r)
	return r.faults
}

// Check holds a text against the type as Decode does, and lists all faults.
func (t *Type) Check(data []byte) []Fault { return t.report(data, Strict) }

// Leniency says what Decode lets pass beyond what the type has.
type Leniency uint8

const (
	// Strict lets nothing pass.
	Strict Leniency = iota
	// UnknownMembers ignores the members that the type does not have.
	UnknownMembers
)

func (l Leniency) options() json.Options {
	if l == UnknownMembers {
		return lax
	}
	return strict
}

// MaxDepth is how deep objects and lists may be nested where the type sets no
// bound itself, since it contains itself or takes anything.
const MaxDepth = 64

// tooDeep reports whether a text opens more than MaxDepth brackets inside each
// other. It need not be valid.
func tooDeep(data []byte) bool {
	depth := 0
	for i := 0; i < len(data); i++ {
		switch data[i] {
		case '"':
			for i++; i < len(data) && data[i] != '"'; i++ {
				if data[i] == '\\' {
					i++
				}
			}
		case '{', '[':
			if depth++; depth > MaxDepth {
				return true
			}
		case '}', ']':
			depth--
		}
	}
	return false
}

// fast decodes and checks; where it is not ok it does not know why, but for an
// error of decoding.
func (t *Type) fast(data []byte, into any, lenient Leniency) (ok bool, err error) {
	if err := json.Unmarshal(data, into, lenient.options()); err != nil {
		return false, err
	}
	if !t.deep {
		return t.null || !isNull(data), nil
	}
	v := reflect.ValueOf(into).Elem()
	ok, unsure := t.examine(v)
	if !ok {
		return false, nil
	}
	if unsure {
		ok = (&skimmer{data: data}).value(t, v)
	}
	return ok, nil
}

// explain finds every fault of a text that is known to have one.
func (t *Type) explain(data []byte, lenient Leniency, cause error) []Fault {
	if found := t.report(data, lenient); found != nil {
		return found
	}
	f := Fault{Rule: "type", Detail: "cannot be read", Unreadable: true}
	if e, ok := errors.AsType[*json.SemanticError](cause); ok {
		f.Pointer = string(e.JSONPointer)
	} else if e, ok := errors.AsType[*jsontext.SyntacticError](cause); ok {
		f.Pointer, f.Rule, f.Detail = string(e.JSONPointer), "syntax", syntaxDetail(data, e)
	}
	return []Fault{f}
}

var null = []byte("null")

func isNull(data []byte) bool { return stdbytes.Equal(stdbytes.TrimSpace(data), null) }

// examine asks every rule at and below v. It is unsure where a value is zero:
// its member may have been absent or null, unless null has a place there.
func (t *Type) examine(v reflect.Value) (ok, unsure bool) {
	switch t.shape {
	case pointer:
		if v.IsNil() {
			return true, false
		}
		return t.elem.examine(v.Elem())
	case either:
		if v, there := t.reach(v); there {
			return t.base().examine(v)
		}
	case list:
		if !t.elem.deep {
			return true, t.unsure(v)
		}
		for i := range v.Len() {
			ok, u := t.elem.examine(v.Index(i))
			if !ok {
				return false, false
			}
			unsure = unsure || u
		}
	case mapping:
		if !t.elem.deep {
			return true, t.unsure(v)
		}
		for i := v.MapRange(); i.Next(); {
			ok, u := t.elem.examine(i.Value())
			if !ok {
				return false, false
			}
			unsure = unsure || u
		}
	case object:
		for _, f := range t.fields {
			fv, there := f.of(v)
			if !there {
				continue
			}
			if fv.IsZero() && (!f.typ.null || f.required || f.fallback.IsValid()) {
				unsure = true
				if !f.required {
					continue // the skimmer knows whether the zero was sent
				}
			}
			if !f.hold(fv) {
				return false, false
			}
			if f.typ.deep {
				ok, u := f.typ.examine(fv)
				if !ok {
					return false, false
				}
				unsure = unsure || u
			}
		}
	}
	return true, unsure
}

// unsure reports whether a value does not tell all about what was sent for it:
// it is zero, so it may have been absent or null; or such a value may be in it.
func (t *Type) unsure(v reflect.Value) bool {
	switch {
	case t.members:
		return true
	case !t.null && v.IsZero():
		return true
	case t.shape == list && !t.elem.null:
		for i := range v.Len() {
			if t.elem.unsure(v.Index(i)) {
				return true
			}
		}
	case t.shape == mapping && !t.elem.null:
		for i := v.MapRange(); i.Next(); {
			if t.elem.unsure(i.Value()) {
				return true
			}
		}
	}
	return false
}

// of gives the field's value in a struct; false where it stands in an embedded
// pointer that is nil.
func (f *field) of(v reflect.Value) (reflect.Value, bool) {
	if f.direct {
		return v.Field(f.first), true
	}
	for i, n := range f.index {
		if i > 0 && v.Kind() == reflect.Pointer {
			if v.IsNil() {
				return reflect.Value{}, false
			}
			v = v.Elem()
		}
		v = v.Field(n)
	}
	return v, true
}
