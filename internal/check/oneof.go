package check

import (
	"fmt"
	"iter"
	"reflect"
	"strings"

	"github.com/wicketway/wicketway/internal/oneof"
)

// isOneOf reports whether a type is a schema.OneOf; its fields are an array of no declarations and the value.
func isOneOf(t reflect.Type) bool {
	return t.Kind() == reflect.Struct && t.PkgPath() == optionalPath && strings.HasPrefix(t.Name(), "OneOf[")
}

// A choice is what is known of a closed set of types.
type choice struct {
	set *oneof.Set
	// of are the types by their Go type, for values; texts by name, for JSON: they have the member that tells the
	// types apart as well, and are never asked for a value.
	of    map[reflect.Type]*Type
	texts map[string]*Type
	// unknown is what an object of no known type must have.
	unknown *Type
}

// choice compiles the types of a closed set.
func (c *compiler) choice(typ *Type, where string) {
	set, err := oneof.Of(typ.goType)
	if err != nil {
		for _, e := range Unjoin(err) {
			c.failf("%s: %w", where, e)
		}
		typ.shape, typ.null, typ.open, typ.deep = anything, true, true, false
		return
	}
	typ.called = readable(set.Interface.Name())
	typ.tells = []string{set.Member}
	typ.cases = &choice{set: set, of: map[reflect.Type]*Type{}}
	for _, each := range set.Cases {
		inner := c.compile(each.Type, where+"("+each.Name+")")
		if inner.shape != object {
			c.failf("%s: %s.Cases: %q is a %s: in JSON it is %s, and only objects are told apart by a member", where,
				typ.goType.Field(0).Type.Elem(), each.Name, each.Type, inner.Name())
		}
		typ.cases.of[each.Type] = inner
	}
}

// describe makes the types for texts, once those for values have their members.
func (c *choice) describe() {
	if c.texts != nil {
		return
	}
	teller := func(r rule) *field {
		said := &Type{goType: reflect.TypeFor[string](), shape: text}
		f := &field{name: c.set.Member, plain: true, required: true, always: true, typ: said, rules: rules{r},
			rule: fmt.Sprintf("%s=%v", r.keyword, r.want)}
		f.site = site{typ: said, rules: f.rules, needed: true}
		return f
	}
	object := func(fields ...*field) *Type {
		t := &Type{shape: object, deep: true, byName: map[string]*field{}}
		for i, f := range fields {
			own := *f
			own.number = i
			t.fields = append(t.fields, &own)
			t.byName[f.name] = &own
		}
		return t
	}
	names := c.set.Names()
	one := textRule(names, "must be one of "+strings.Join(names, ", "), func(string) bool { return false })
	one.keyword = "enum"
	c.unknown = object(teller(one))
	c.unknown.goType = c.set.Interface
	c.texts = map[string]*Type{}
	for _, each := range c.set.Cases {
		is := textRule(each.Name, "must be "+each.Name, func(s string) bool { return s == each.Name })
		is.keyword = "const"
		of := c.of[each.Type]
		t := object(append([]*field{teller(is)}, of.fields...)...)
		t.goType, t.called, t.readOnly = each.Text, readable(each.Type.Name()), of.readOnly
		c.texts[each.Name] = t
	}
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
