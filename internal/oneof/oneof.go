// Package oneof compiles closed sets of types: which there are, which member of an object tells them apart, and as
// which Go type the text of each is read and written.
package oneof

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"

	"github.com/wicketway/wicketway/internal/members"
)

// A Set is a closed set of types. It is immutable.
type Set struct {
	Interface reflect.Type
	Member    string
	Cases     []*Case // by name
	byName    map[string]*Case
	byType    map[reflect.Type]*Case
}

// A Case is one type of a set.
type Case struct {
	Name string
	// Type is a struct, and the value holds it, or a pointer to it.
	Type    reflect.Type
	Pointer bool
	// Text is a struct of the member and, embedded, the Type: the JSON of a value of the set.
	Text reflect.Type
}

// Named finds a case; nil where there is none.
func (s *Set) Named(name []byte) *Case { return s.byName[string(name)] }

// Holding finds the case that a value of the interface is, and the struct itself; nil where it is none, as a nil
// pointer is not.
func (s *Set) Holding(value reflect.Value) (*Case, reflect.Value) {
	v := value.Elem()
	if v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	if !v.IsValid() {
		return nil, v
	}
	return s.byType[v.Type()], v
}

// Names lists the names of the cases.
func (s *Set) Names() []string {
	names := make([]string, len(s.Cases))
	for i, c := range s.Cases {
		names[i] = c.Name
	}
	return names
}

// Value is what the interface holds for a struct.
func (c *Case) Value(of reflect.Value) any {
	if c.Pointer {
		of = of.Addr()
	}
	return of.Interface()
}

// The sets that were compiled, by the type that holds their values. A program has few.
var compiled sync.Map

// Of compiles the set of a type that holds its values: a struct of an array of the declaration's type, and the
// interface. The error joins all mistakes of the declaration.
func Of(holder reflect.Type) (*Set, error) {
	if known, ok := compiled.Load(holder); ok {
		return known.(*Set), nil
	}
	set, err := compile(holder.Field(0).Type.Elem(), holder.Field(1).Type)
	if err != nil {
		return nil, err
	}
	known, _ := compiled.LoadOrStore(holder, set)
	return known.(*Set), nil
}

func compile(declaration, of reflect.Type) (*Set, error) {
	if of.Kind() != reflect.Interface {
		return nil, fmt.Errorf("%s is no interface: a closed set is declared for an interface that its types implement", of)
	}
	if declaration.Kind() == reflect.Interface {
		return nil, fmt.Errorf("%s is an interface: the type that declares a closed set has a method Cases of its own",
			declaration)
	}
	by := reflect.New(declaration).Elem()
	if declaration.Kind() == reflect.Pointer {
		by = reflect.New(declaration.Elem())
	}
	told := by.MethodByName("Cases").Call(nil)
	s := &Set{
		Interface: of,
		Member:    told[0].String(),
		byName:    map[string]*Case{},
		byType:    map[reflect.Type]*Case{},
	}
	var errs []error
	wrong := func(format string, args ...any) {
		errs = append(errs, fmt.Errorf("%s.Cases: "+format, append([]any{declaration}, args...)...))
	}
	if s.Member == "" || strings.ContainsAny(s.Member, "\\'\"`,") || s.Member == "-" {
		wrong("%q cannot be the name of the member that tells the types apart", s.Member)
	}
	if told[1].Len() == 0 {
		wrong("the set has no types")
	}
	types := map[string]reflect.Value{}
	for each := told[1].MapRange(); each.Next(); {
		types[each.Key().String()] = each.Value()
	}
	for _, name := range slices.Sorted(maps.Keys(types)) {
		c := &Case{Name: name}
		if v := types[name]; !v.IsNil() {
			c.Type = v.Elem().Type()
		}
		if c.Type != nil && c.Type.Kind() == reflect.Pointer {
			c.Type, c.Pointer = c.Type.Elem(), true
		}
		switch {
		case name == "":
			wrong("a type has the empty name")
			continue
		case c.Type == nil:
			wrong("%q is nil: give a value of its type", name)
			continue
		case c.Type.Kind() != reflect.Struct:
			wrong("%q is a %s: only structs are told apart by a member", name, c.Type)
			continue
		case s.byType[c.Type] != nil:
			wrong("%q and %q are both a %s, so they cannot be told apart when they are sent", s.byType[c.Type].Name, name,
				c.Type)
			continue
		}
		has, _ := members.Of(c.Type)
		if slices.ContainsFunc(has, func(m members.Member) bool { return m.Name == s.Member }) {
			wrong("%s has a member %q itself: leave it out, since the set reads and writes it", c.Type, s.Member)
			continue
		}
		s.byName[name], s.byType[c.Type] = c, c
		s.Cases = append(s.Cases, c)
	}
	if errs != nil {
		return nil, errors.Join(errs...)
	}
	for _, c := range s.Cases {
		c.Text = reflect.StructOf([]reflect.StructField{
			{Name: "Case", Type: reflect.TypeFor[string](), Tag: reflect.StructTag(fmt.Sprintf(`json:"%s"`, s.Member))},
			{Name: "Value", Type: c.Type, Tag: `json:",embed"`},
		})
	}
	return s, nil
}
