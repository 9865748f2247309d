package contract

import (
	"iter"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// A Map is a JSON object whose members are all of one kind. It keeps their order. The zero Map is empty.
type Map[T any] struct {
	names  []string
	values []T
	at     map[string]int // once there are many
}

// many is from how many members on a Map has an index.
const many = 8

// Len is how many members there are.
func (m *Map[T]) Len() int {
	if m == nil {
		return 0
	}
	return len(m.names)
}

// IsZero reports whether there is no member, so that omitzero leaves the object out.
func (m Map[T]) IsZero() bool { return len(m.names) == 0 }

// All gives the members in their order.
func (m *Map[T]) All() iter.Seq2[string, T] {
	return func(yield func(string, T) bool) {
		for i := range m.Len() {
			if !yield(m.names[i], m.values[i]) {
				return
			}
		}
	}
}

func (m *Map[T]) index(name string) int {
	if m == nil {
		return -1
	}
	if m.at != nil {
		if i, has := m.at[name]; has {
			return i
		}
		return -1
	}
	for i, other := range m.names {
		if other == name {
			return i
		}
	}
	return -1
}

// Get gives a member.
func (m *Map[T]) Get(name string) (value T, has bool) {
	i := m.index(name)
	if i < 0 {
		return value, false
	}
	return m.values[i], true
}

// Set adds a member, or replaces its value.
func (m *Map[T]) Set(name string, value T) {
	if i := m.index(name); i >= 0 {
		m.values[i] = value
		return
	}
	m.names, m.values = append(m.names, name), append(m.values, value)
	switch {
	case m.at != nil:
		m.at[name] = len(m.names) - 1
	case len(m.names) > many:
		m.at = make(map[string]int, 2*len(m.names))
		for i, n := range m.names {
			m.at[n] = i
		}
	}
}

// Delete takes a member away, if it is there.
func (m *Map[T]) Delete(name string) {
	i := m.index(name)
	if i < 0 {
		return
	}
	m.names, m.values = slices.Delete(slices.Clone(m.names), i, i+1), slices.Delete(slices.Clone(m.values), i, i+1)
	for j := i; m.at != nil && j < len(m.names); j++ {
		m.at[m.names[j]] = j
	}
	delete(m.at, name)
}

// put and each are what a document is read and written with.
func (m *Map[T]) put(name string, read func(reflect.Value) error) error {
	var value T
	err := read(reflect.ValueOf(&value).Elem())
	m.Set(name, value)
	return err
}

func (m *Map[T]) each(visit func(string, reflect.Value)) {
	for i := range m.values {
		visit(m.names[i], reflect.ValueOf(&m.values[i]).Elem())
	}
}

// member is a member as a value; the zero Value where there is none.
func (m *Map[T]) member(name string) (v reflect.Value) {
	if i := m.index(name); i >= 0 {
		v = reflect.ValueOf(&m.values[i]).Elem()
	}
	return v
}

// An Extensible is a Map that can have members of anybody's own: those that begin with x- (4.9).
type Extensible[T any] struct {
	Map[T]
	Extensions Map[jsontext.Value]
	order      []string // in which both were read; nil where that is one after the other
}

// IsZero reports whether there is no member.
func (m Extensible[T]) IsZero() bool { return m.Map.IsZero() && m.Extensions.IsZero() }

func (m *Extensible[T]) put(name string, read func(reflect.Value) error) error {
	m.order = append(m.order, name)
	if strings.HasPrefix(name, "x-") || name == "$ref" {
		return m.Extensions.put(name, read)
	}
	return m.Map.put(name, read)
}

func (m *Extensible[T]) each(visit func(string, reflect.Value)) {
	seen := map[string]bool{}
	one := func(name string, value reflect.Value) {
		if !seen[name] {
			seen[name] = true
			visit(name, value)
		}
	}
	for _, name := range m.order {
		if i := m.Map.index(name); i >= 0 {
			one(name, reflect.ValueOf(&m.Map.values[i]).Elem())
		} else if i := m.Extensions.index(name); i >= 0 {
			one(name, reflect.ValueOf(&m.Extensions.values[i]).Elem())
		}
	}
	m.Map.each(one)
	m.Extensions.each(one)
}

func (m *Extensible[T]) member(name string) reflect.Value {
	if v := m.Map.member(name); v.IsValid() {
		return v
	}
	return m.Extensions.member(name)
}

// An Object has those members of an object that its type does not know, and remembers in which order all were read.
type Object struct {
	More  Map[jsontext.Value]
	order []string
}

// Forget has an empty member left out that was read.
func (o *Object) Forget(name string) {
	o.order = slices.DeleteFunc(slices.Clone(o.order), func(one string) bool { return one == name })
}
