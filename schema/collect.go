package schema

import (
	"reflect"

	"github.com/go-json-experiment/json"
)

// A collector lists the faults of a text that could be decoded: what is absent,
// what is null, what is not to be sent, and which rules the Go value breaks. It goes
// over the text only for their order and for what the value does not tell.
type collector struct {
	skimmer
	faults
	path    path
	lenient Leniency
}

func (t *Type) collect(data []byte, v reflect.Value, how Reading) faults {
	c := collector{skimmer: skimmer{data: data}, faults: bounded(how.Most), lenient: how.Lenient}
	c.value(&field{typ: t, null: t.null, required: true}, v)
	return c.faults
}

func (c *collector) fault(rule string, want any, detail string, unreadable bool) {
	c.add(Fault{Pointer: c.path.pointer(), Rule: rule, Want: want, Detail: detail, Unreadable: unreadable})
}

// below looks at a value one step further down.
func (c *collector) below(s spot, f *field, v reflect.Value) {
	c.path.push(s)
	c.value(f, v)
	c.path.pop()
}

// value collects what is wrong with one value, decoded into v, for which a field
// says type and rules. Where the bound is reached it stops in the middle.
func (c *collector) value(f *field, v reflect.Value) {
	c.space()
	if c.data[c.at] == 'n' {
		c.at += len("null")
		if !f.null {
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
		before := c.at
		c.skip()
		if t.checks && c.at > before {
			c.ask(t, v)
		}
	}
	for i := range f.rules {
		if r := &f.rules[i]; !c.faults.more && !r.holds(v) {
			c.fault(r.keyword, r.want, r.detail, false)
		}
	}
}

// ask asks a type's own Check.
func (c *collector) ask(t *Type, v reflect.Value) {
	if c.faults.more {
		return
	}
	own := Report{path: c.path, faults: c.faults}
	own.ask(v)
	c.faults = own.faults
}

func (c *collector) object(t *Type, v reflect.Value, needed bool) {
	before := len(c.found)
	there := make([]bool, len(t.fields))
	next := 0
	for c.skimmer.at++; c.skimmer.more('}'); {
		i := c.member(t, next)
		if next = i + 1; i < 0 {
			c.skip()
			continue
		}
		there[i] = true
		f := t.fields[i]
		fv, _ := f.of(v) // decoding has made every embedded struct that has a member
		switch {
		case !f.readOnly || c.lenient&outbound != 0:
			c.below(spot{name: f.name}, f, fv)
		case c.lenient&ReadOnlyMembers != 0:
			c.skip()
			fv.SetZero()
		default:
			c.skip()
			c.path.push(spot{name: f.name})
			c.fault("readOnly", nil, sentReadOnly, false)
			c.path.pop()
		}
		if c.faults.more {
			return
		}
	}
	for i, f := range t.fields {
		switch {
		case there[i]:
		case f.required:
			c.path.push(spot{name: f.name})
			c.fault("required", nil, "is missing", false)
			c.path.pop()
		case f.fallback.IsValid():
			if fv, ok := f.of(v); ok {
				renew(fv, f.fallback)
			}
		}
	}
	if t.checks && len(c.found) == before && (needed || !v.IsZero()) {
		c.ask(t, v)
	}
}

const sentReadOnly = "is read-only: the server sets it, so it cannot be sent"

func (c *collector) list(t *Type, v reflect.Value, items rules) {
	before := len(c.found)
	c.skimmer.at++
	item := field{typ: t.elem, null: t.elem.null, rules: items, required: true}
	for i := 0; c.skimmer.more(']'); i++ {
		if c.below(spot{index: i, item: true}, &item, v.Index(i)); c.faults.more {
			return
		}
	}
	if t.checks && len(c.found) == before {
		c.ask(t, v)
	}
}

func (c *collector) mapping(t *Type, v reflect.Value) {
	before := len(c.found)
	member := field{typ: t.elem, null: t.elem.null, required: true}
	e := newEntries(t)
	for c.skimmer.at++; c.skimmer.more('}'); {
		name, ok := e.read(&c.skimmer, v)
		if !ok {
			c.skip()
			continue
		}
		if c.below(spot{name: name}, &member, e.held); c.faults.more {
			return
		}
		v.SetMapIndex(e.key, e.held) // defaults may have been set in it
	}
	if t.checks && len(c.found) == before {
		c.ask(t, v)
	}
}

// Entries read what a map holds, one after the other: what is in a map cannot be
// changed in place.
type entries struct {
	text bool // the keys are text without methods of its own
	key  reflect.Value
	held reflect.Value
}

func newEntries(t *Type) entries {
	k := t.goType.Key()
	return entries{k.Kind() == reflect.String && !implements(k, textInterfaces), reflect.New(k).Elem(), reflect.New(t.elem.goType).Elem()}
}

// read takes the next name, and the value that was decoded for it.
func (e *entries) read(s *skimmer, v reflect.Value) (name string, ok bool) {
	start := s.at
	name = string(s.name())
	if e.text {
		e.key.SetString(name)
	} else if json.Unmarshal(s.data[start:s.at], e.key.Addr().Interface(), json.StringifyNumbers(true)) != nil {
		return name, false
	}
	e.held.SetZero()
	if in := v.MapIndex(e.key); in.IsValid() {
		e.held.Set(in)
	}
	return name, true
}
