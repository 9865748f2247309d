package schema

import (
	"reflect"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
)

// A collector lists the faults of a text that could be decoded: what is absent,
// what is null, and which rules the Go value breaks. It goes over the text only
// for their order and for what the value does not tell.
type collector struct {
	skimmer
	path  []spot // to the value that is being looked at
	found []Fault
}

// A spot is a step in a path, made into a JSON Pointer only where it is at fault.
type spot struct {
	name  string
	index int // of an item, which has no name
	item  bool
}

func (c *collector) pointer() string {
	var b []byte
	for _, p := range c.path {
		b = append(b, '/')
		if p.item {
			b = strconv.AppendInt(b, int64(p.index), 10)
		} else {
			b = append(b, escapeToken(p.name)...)
		}
	}
	return string(b)
}

// below looks at a value one step further down.
func (c *collector) below(p spot, f *field, v reflect.Value) {
	c.path = append(c.path, p)
	c.value(f, v)
	c.path = c.path[:len(c.path)-1]
}

// escapeToken writes a name as a token of a JSON Pointer (RFC 6901, 3).
func escapeToken(name string) string {
	if !strings.ContainsAny(name, "~/") {
		return name
	}
	return strings.ReplaceAll(strings.ReplaceAll(name, "~", "~0"), "/", "~1")
}

func (t *Type) collect(data []byte, v reflect.Value) []Fault {
	c := collector{skimmer: skimmer{data: data}}
	c.value(&field{typ: t, required: true}, v)
	return c.found
}

func (c *collector) fault(rule string, want any, detail string, unreadable bool) {
	c.found = append(c.found, Fault{Pointer: c.pointer(), Rule: rule, Want: want, Detail: detail, Unreadable: unreadable})
}

// value collects what is wrong with one value, decoded into v, for which a field
// says type and rules.
func (c *collector) value(f *field, v reflect.Value) {
	c.space()
	if c.data[c.at] == 'n' {
		c.at += len("null")
		if !f.typ.null {
			c.fault("type", f.typ.name(), "must not be null", true)
		}
		return
	}
	v, _ = f.typ.reach(v)
	switch t := f.typ.base(); t.shape {
	case object:
		c.object(t, v, f.required)
	case list:
		c.list(t, v, f.items)
	case mapping:
		c.mapping(t, v)
	default:
		c.skip()
	}
	for _, r := range f.rules {
		if !r.holds(v) {
			c.fault(r.keyword, r.want, r.detail, false)
		}
	}
}

func (c *collector) object(t *Type, v reflect.Value, needed bool) {
	before := len(c.found)
	there := make([]bool, len(t.fields))
	next := 0
	for c.skimmer.at++; c.more('}'); {
		i := c.member(t, next)
		if next = i + 1; i < 0 {
			c.skip()
			continue
		}
		there[i] = true
		f := t.fields[i]
		fv, _ := f.of(v) // decoding has made every embedded struct that has a member
		c.below(spot{name: f.name}, f, fv)
	}
	for i, f := range t.fields {
		switch {
		case there[i]:
		case f.required:
			c.path = append(c.path, spot{name: f.name})
			c.fault("required", nil, "is missing", false)
			c.path = c.path[:len(c.path)-1]
		case f.fallback.IsValid():
			if fv, ok := f.of(v); ok {
				renew(fv, f.fallback)
			}
		}
	}
	if t.checks && len(c.found) == before && (needed || !v.IsZero()) {
		own := Report{}
		own.ask(v, c.pointer())
		c.found = append(c.found, own.faults...)
	}
}

func (c *collector) list(t *Type, v reflect.Value, items rules) {
	c.skimmer.at++
	item := field{typ: t.elem, rules: items, required: true}
	for i := 0; c.more(']'); i++ {
		c.below(spot{index: i, item: true}, &item, v.Index(i))
	}
}

func (c *collector) mapping(t *Type, v reflect.Value) {
	member := field{typ: t.elem, required: true}
	key := reflect.New(t.goType.Key())
	for c.skimmer.at++; c.more('}'); {
		start := c.skimmer.at
		name := string(c.name())
		held := reflect.New(t.elem.goType).Elem()
		if json.Unmarshal(c.data[start:c.skimmer.at], key.Interface(), json.StringifyNumbers(true)) == nil {
			if in := v.MapIndex(key.Elem()); in.IsValid() {
				held.Set(in) // what a map holds cannot be changed in place
			}
		}
		c.below(spot{name: name}, &member, held)
	}
}
