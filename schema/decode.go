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
// is the text skimmed once more. Only when something failed is it gone over again
// to find every fault: along the value, if the text could be decoded, or else token
// by token.
func (t *Type) Decode(data []byte, into any, lenient Leniency) []Fault {
	if t.open && tooDeep(data) {
		return []Fault{{Rule: "depth", Want: MaxDepth, Detail: fmt.Sprintf("is nested deeper than %d levels", MaxDepth), Unreadable: true}}
	}
	if ok, err := t.fast(data, into, lenient); !ok {
		if err == nil {
			if found := t.collect(data, reflect.ValueOf(into).Elem()); found != nil {
				return found
			}
		}
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
	ok, doubts := t.examine(v)
	if !ok || doubts == 0 {
		return ok, nil
	}
	s := skimmer{data: data}
	if t.shape == object {
		s.doubts = doubts
	}
	return s.value(t, v), nil
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

// A doubtSet is what an examination is unsure of: of an object, bit i stands for
// member i, and the last for that and all after it; of anything else, any bit
// stands for the whole.
type doubtSet uint64

const lastDoubt = 63

func doubtOf(unsure bool) doubtSet {
	if unsure {
		return 1
	}
	return 0
}

// examine asks every rule at and below v. It is unsure where a value is zero:
// its member may have been absent or null, unless null has a place there.
func (t *Type) examine(v reflect.Value) (ok bool, doubts doubtSet) {
	switch t.shape {
	case pointer, either:
		if v, there := t.reach(v); there {
			return t.base().examine(v)
		}
	case list:
		if !t.elem.deep {
			return true, doubtOf(!t.elem.null && t.unsure(v))
		}
		for i := range v.Len() {
			ok, d := t.elem.examine(v.Index(i))
			if !ok {
				return false, 0
			}
			doubts |= d
		}
	case mapping:
		if !t.elem.deep {
			return true, doubtOf(t.unsure(v))
		}
		for i := v.MapRange(); i.Next(); {
			ok, d := t.elem.examine(i.Value())
			if !ok {
				return false, 0
			}
			doubts |= d
		}
	case object:
		return t.examineObject(v)
	}
	return true, doubts
}

func (t *Type) examineObject(v reflect.Value) (ok bool, doubts doubtSet) {
	base := addressOf(v)
	for i, f := range t.fields {
		bit := doubtSet(1) << min(i, lastDoubt)
		if f.reads != byReflection && base != nil {
			zero, holds := f.peek(base)
			if zero {
				doubts |= bit
			}
			if !holds && !(zero && !f.required) { // the skimmer knows whether such a zero was sent
				return false, 0
			}
			continue
		}
		fv, there := f.of(v)
		if !there {
			continue
		}
		if fv.IsZero() && (!f.typ.null || f.required || f.fallback.IsValid()) {
			doubts |= bit
			if !f.required {
				continue // the skimmer knows whether the zero was sent
			}
		}
		if !f.hold(fv) {
			return false, 0
		}
		if f.typ.deep {
			ok, d := f.typ.examine(fv)
			if !ok {
				return false, 0
			}
			if d != 0 {
				doubts |= bit
			}
		}
	}
	return true, doubts
}

// unsure reports whether a value does not tell all about what was sent for it:
// it is zero, so it may have been absent or null; or such a value may be in it.
func (t *Type) unsure(v reflect.Value) bool {
	if !t.null && v.IsZero() {
		return true
	}
	v, there := t.reach(v)
	if t = t.base(); !there || !t.deep {
		return false
	}
	switch t.shape {
	case object:
		for _, f := range t.fields {
			if fv, there := f.of(v); !there || f.doubtful(fv) {
				return true
			}
		}
	case list:
		for i := range v.Len() {
			if t.elem.unsure(v.Index(i)) {
				return true
			}
		}
	case mapping:
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
