package check

import (
	"reflect"
)

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
	case oneOf:
		if of, held := t.cases.holding(v); of != nil {
			return of.examine(held)
		}
		return true, 1
	}
	return true, doubts
}

func (t *Type) examineObject(v reflect.Value) (ok bool, doubts doubtSet) {
	base := addressOf(v)
	zeros := 0 // if all members are zero, null may have been sent in the object's place
	for i, f := range t.fields {
		bit := doubtSet(1) << min(i, lastDoubt)
		if f.reads != byReflection {
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
	case oneOf:
		of, held := t.cases.holding(v)
		return of == nil || of.unsure(held)
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

// doubtful reports whether a member must be looked at in the text.
func (f *field) doubtful(v reflect.Value) bool {
	return f.typ.unsure(v) || (!f.null || f.required || f.fallback.IsValid()) && v.IsZero()
}

// keeps asks all rules at and below a member that turned out to be there.
func (f *field) keeps(v reflect.Value) bool {
	if !f.hold(v) {
		return false
	}
	ok, _ := f.typ.examine(v)
	return ok
}
