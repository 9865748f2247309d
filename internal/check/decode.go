package check

import (
	stdbytes "bytes"
	"errors"
	"fmt"
	"reflect"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/schema"
)

var strict, lax = json.RejectUnknownMembers(true), json.RejectUnknownMembers(false)

// Reading says how a text is read.
type Reading struct {
	Lenient Leniency
	// Most is how many faults are looked for; 0 means [MostFaults].
	Most int
}

// Decode reads a JSON text into the value that into points to (of the type that
// t was compiled from), sets defaults and checks every rule. It returns nil, or
// the faults in the order of the text, those of types' own Checks behind the others
// where the text could not be decoded as a whole (and none of theirs where it is no
// JSON); more says that there are further
// ones, beyond the bound. After a fault the value is undefined.
//
// What is right takes the fast path: the text is decoded, the rules are asked of
// the Go value, and only where a zero value could mean an absent member or a null
// is the text skimmed once more. Only when something failed is it gone over again
// to find every fault. All of it takes time linear in the text.
func (t *Type) Decode(data []byte, into any, how Reading) (found []schema.Fault, more bool) {
	f := t.decode(data, into, how, true)
	return f.found, f.more
}

func (t *Type) decode(data []byte, into any, how Reading, mayRewrite bool) faults {
	if t.open && tooDeep(data) {
		f := bounded(how.Most)
		f.add(schema.Fault{Rule: "depth", Want: MaxDepth, Detail: fmt.Sprintf("is nested deeper than %d levels",
			MaxDepth), Unreadable: true})
		return f
	}
	v := reflect.ValueOf(into).Elem()
	ok, err := t.fast(data, into, how.Lenient)
	if !ok || t.readOnly && how.Lenient&ReadOnlyMembers == 0 {
		r := t.report(data, how, err)
		if other := r.rewritten(); other != nil && mayRewrite {
			v.SetZero()
			return t.decode(other, into, how, false)
		}
		if r.found == nil && err != nil {
			r.add(unexplained(data, err))
		}
		if r.found != nil {
			return r.faults
		}
		if !ok { // what differed in the text is alike in Go, or the other way round
			s := skimmer{data: data}
			s.value(t, t.null, v) // sets the defaults
		}
	}
	if t.readOnly {
		t.clear(v)
	}
	if !t.judges {
		return faults{}
	}
	r := report{faults: bounded(how.Most)}
	t.judge(v, &r)
	return r.faults
}

// clear makes zero what is only the server's to set, at and below v.
func (t *Type) clear(v reflect.Value) {
	v, there := t.reach(v)
	if t = t.base(); !there || !t.readOnly {
		return
	}
	switch t.shape {
	case list:
		for i := range v.Len() {
			t.elem.clear(v.Index(i))
		}
	case mapping:
		held := reflect.New(t.elem.goType).Elem()
		for i := v.MapRange(); i.Next(); {
			held.Set(i.Value()) // what is in a map cannot be changed in place
			t.elem.clear(held)
			v.SetMapIndex(i.Key(), held)
		}
	case object:
		for _, f := range t.fields {
			fv, there := f.of(v)
			switch {
			case there && f.readOnly:
				fv.SetZero()
			case there:
				f.typ.clear(fv)
			}
		}
	}
}

// Check holds a text that is to be sent against the type, and lists its faults as
// Decode does.
func (t *Type) Check(data []byte) []schema.Fault {
	return t.report(data, Reading{Lenient: outbound}, errUnknown).found
}

// Leniency says what Decode lets pass beyond what the type has, as a set of bits.
type Leniency uint8

const (
	// Strict lets nothing pass.
	Strict Leniency = 0
	// UnknownMembers ignores the members that the type does not have.
	UnknownMembers Leniency = 1 << iota
	// ReadOnlyMembers ignores the members that only the server sets.
	ReadOnlyMembers
	outbound // what is read only may stand there
)

func (l Leniency) options() json.Options {
	if l&UnknownMembers != 0 {
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
	if !t.null && isNull(data) {
		return false, nil
	}
	v := reflect.ValueOf(into).Elem()
	if !t.deep {
		return true, nil
	}
	ok, doubts := t.examine(v)
	if !ok || doubts == 0 {
		return ok, nil
	}
	s := skimmer{data: data}
	if t.shape == object {
		s.doubts = doubts
	}
	return s.value(t, t.null, v), nil
}

// unexplained is the fault for an error of decoding that the reporter did not find.
func unexplained(data []byte, cause error) schema.Fault {
	f := schema.Fault{Rule: "type", Detail: "cannot be read", Unreadable: true}
	if e, ok := errors.AsType[*json.SemanticError](cause); ok {
		f.Pointer = clip.Text(string(e.JSONPointer), longestPointer)
	} else if e, ok := errors.AsType[*jsontext.SyntacticError](cause); ok {
		f = syntaxFault(data, e)
	}
	return f
}

var null = []byte("null")

func isNull(data []byte) bool {
	return len(data) > 0 && data[0] != '{' && data[0] != '[' && stdbytes.Equal(stdbytes.TrimSpace(data), null)
}

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
			return true, doubtOf(t.unsure(v))
		}
		doubts = doubtOf(v.IsZero()) // a nil list may have been null
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
		doubts = doubtOf(v.IsZero())
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
	zeros := 0 // if all members are zero, null may have been sent in the object's place
	for i, f := range t.fields {
		bit := doubtSet(1) << min(i, lastDoubt)
		if f.reads != byReflection && base != nil {
			zero, holds := f.peek(base)
			if zero {
				doubts |= bit
				zeros++
			}
			if !holds && !(zero && !f.required) { // the skimmer knows whether such a zero was sent
				return false, 0
			}
			continue
		}
		fv, there := f.of(v)
		if !there {
			zeros++
			continue
		}
		if fv.IsZero() {
			zeros++
			if !f.null || f.required || f.fallback.IsValid() {
				doubts |= bit
				if !f.required {
					continue // the skimmer knows whether the zero was sent
				}
			}
		}
		if !f.null && f.typ.null && !fv.IsZero() {
			if _, there := f.typ.reach(fv); !there {
				return false, 0 // an Optional that is null
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
	if zeros == len(t.fields) {
		doubts |= 1
	}
	return true, doubts
}

// unsure reports whether a value does not tell all about what was sent for it:
// it is zero, so it may have been absent or null; or such a value may be in it.
func (t *Type) unsure(v reflect.Value) bool {
	if !t.null && v.IsZero() || t.recursive {
		return true // looking through a type that contains itself would cost its depth each time
	}
	v, there := t.reach(v)
	if t = t.base(); !there || !t.deep {
		return false
	}
	if t.recursive {
		return true
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
