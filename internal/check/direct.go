package check

import (
	"reflect"
	"unsafe"
)

const (
	byReflection reading = iota
	asString
	asBool
	asInt64
	asFloat64
)

// directly says how a member can be read from memory, if all its rules can be asked
// of what is found there.
func (f *field) directly(sf reflect.StructField) reading {
	if !f.direct || f.items != nil || f.typ.checks {
		return byReflection
	}
	how := byReflection
	switch f.typ.shape {
	case text:
		how = asString
	case boolean:
		how = asBool
	case integer:
		if sf.Type.Kind() == reflect.Int64 || sf.Type.Kind() == reflect.Int && unsafe.Sizeof(int(0)) == 8 {
			how = asInt64
		}
	case number:
		if sf.Type.Kind() == reflect.Float64 {
			how = asFloat64
		}
	}
	for _, r := range f.rules {
		if how == asString && r.ofText == nil || how == asInt64 && r.ofWhole == nil || how == asFloat64 &&
			r.ofReal == nil || how == asBool {
			return byReflection
		}
	}
	return how
}

// peek reads a member of the struct at base: whether it is zero, and whether it
// keeps its rules.
func (f *field) peek(base unsafe.Pointer) (zero, holds bool) {
	at := unsafe.Add(base, f.offset)
	switch f.reads {
	case asString:
		s := *(*string)(at)
		for i := range f.rules {
			if !f.rules[i].ofText(s) {
				return s == "", false
			}
		}
		return s == "", true
	case asInt64:
		n := *(*int64)(at)
		for i := range f.rules {
			if !f.rules[i].ofWhole(n) {
				return n == 0, false
			}
		}
		return n == 0, true
	case asFloat64:
		x := *(*float64)(at)
		for i := range f.rules {
			if !f.rules[i].ofReal(x) {
				return x == 0, false
			}
		}
		return x == 0, true
	}
	return !*(*bool)(at), true
}

// addressOf is where a struct lies. One that is in an interface is only read there. It lies nowhere where an interface
// holds it as a pointer itself, but then it has no member that is read directly.
func addressOf(v reflect.Value) unsafe.Pointer {
	if v.CanAddr() {
		return v.Addr().UnsafePointer()
	}
	in := v.Interface()
	return (*[2]unsafe.Pointer)(unsafe.Pointer(&in))[1]
}
