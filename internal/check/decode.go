package check

import (
	stdbytes "bytes"
	"errors"
	"fmt"
	"reflect"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/peek"
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
// There are up to three passes over the text, each of which takes time linear in it:
//
//	fast     json.Unmarshal decodes, and examine asks the rules of the Go value. Nothing is known of what the value
//	         does not show: whether a zero was sent, a null, or nothing. Where that matters it leaves a doubt.
//	skim     where there are doubts: goes over the tokens for presence and null alone.
//	report   only where one of the two said no: goes over the tokens and lists every fault.
//
// What holds them together: the first two say yes where report finds nothing, and there alone, but for members that
// are read only, which only report looks for, and texts that it rewrites. They never say why not, so no fault is
// described in two places. FuzzDecode holds that for any text.
func (t *Type) Decode(data []byte, into any, how Reading) (found []schema.Fault, more bool) {
	f := t.decode(data, into, how, true)
	return f.found, f.more
}

func (t *Type) decode(data []byte, into any, how Reading, mayRewrite bool) faults {
	if t.open {
		if f := t.depth(data); f.Rule != "" {
			all := bounded(how.Most)
			all.add(f)
			return all
		}
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
	case oneOf:
		t.cases.change(v, func(of *Type, held reflect.Value) bool { of.clear(held); return true })
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
	outbound // what is read only may be there
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

// maxLate is how many objects can be inside each other whose type is told by a member that comes behind lists and
// objects: to find it, each time all of them are looked at.
const maxLate = 8

// depth is the fault of a text that is nested so deep that it could cost more than its size; no rule where it is not.
func (t *Type) depth(data []byte) schema.Fault {
	f := schema.Fault{Rule: "depth", Unreadable: true}
	switch {
	case tooDeep(data):
		f.Want, f.Detail = MaxDepth, fmt.Sprintf("is nested deeper than %d levels", MaxDepth)
	case len(t.tells) > 0 && peek.Late(data, t.tells) > maxLate:
		f.Want = maxLate
		f.Detail = fmt.Sprintf("has more than %d objects inside each other whose member %s comes behind lists or objects; "+
			"write it before them", maxLate, strings.Join(t.tells, " or "))
	default:
		return schema.Fault{}
	}
	return f
}

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

// fast decodes and checks; where it is not ok it does not know why, except for an
// error of decoding.
func (t *Type) fast(data []byte, into any, lenient Leniency) (ok bool, err error) {
	if err := json.Unmarshal(data, into, lenient.options()); err != nil {
		return false, err
	}
	return t.holds(data, into), nil
}

// holds checks a value that was decoded from a text.
func (t *Type) holds(data []byte, into any) bool {
	if !t.null && isNull(data) {
		return false
	}
	v := reflect.ValueOf(into).Elem()
	if !t.deep {
		return true
	}
	ok, doubts := t.examine(v)
	if !ok || doubts == 0 {
		return ok
	}
	if t.shape == object && t.settles(doubts, data) {
		return true
	}
	s := skimmer{data: data}
	if t.shape == object || t.shape == oneOf {
		s.doubts = doubts
	}
	return s.value(t, t.null, v)
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
