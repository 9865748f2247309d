package check

import (
	"iter"
	"reflect"
	"strings"
)

// isOneOf reports whether a type is a schema.OneOf; its fields are an array of no declarations and the value.
func isOneOf(t reflect.Type) bool {
	return t.Kind() == reflect.Struct && t.PkgPath() == optionalPath && strings.HasPrefix(t.Name(), "OneOf[")
}

// eachCase goes over the types of a closed set as values, eachText as JSON, by name.
func (t *Type) eachCase() iter.Seq[*Type] {
	return func(yield func(*Type) bool) {
		if t.cases == nil {
			return
		}
		for _, c := range t.cases.set.Cases {
			if !yield(t.cases.of[c.Type]) {
				return
			}
		}
	}
}

func (t *Type) eachText() iter.Seq[*Type] {
	return func(yield func(*Type) bool) {
		if t.cases == nil {
			return
		}
		for _, c := range t.cases.set.Cases {
			if !yield(t.cases.texts[c.Name]) {
				return
			}
		}
	}
}

// holding gives the type that a schema.OneOf holds a value of, and the value; nil where it holds none.
func (c *choice) holding(v reflect.Value) (*Type, reflect.Value) {
	if v.Field(1).IsNil() {
		return nil, v
	}
	known, held := c.set.Holding(v.Field(1))
	if known == nil {
		return nil, v
	}
	return c.of[known.Type], held
}

// change has the value that a schema.OneOf holds changed: what is in an interface cannot be changed in place.
func (c *choice) change(v reflect.Value, by func(of *Type, held reflect.Value) bool) bool {
	of, held := c.holding(v)
	if of == nil {
		return false
	}
	if !held.CanSet() {
		own := reflect.New(held.Type()).Elem()
		own.Set(held)
		held = own
	}
	ok := by(of, held)
	known, _ := c.set.Holding(v.Field(1))
	v.Field(1).Set(reflect.ValueOf(known.Value(held)))
	return ok
}
