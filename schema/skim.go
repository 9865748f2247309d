package schema

import (
	stdbytes "bytes"
	"reflect"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A skimmer goes once over a text that was decoded already, so it is known to
// be valid JSON of the right shape. It finds out what the Go value does not
// tell: which members were there, and where null stood. It sets defaults.
type skimmer struct {
	data []byte
	at   int
}

// value skims one JSON value that was decoded into v; false where a required
// member is absent, a null has no place, or a zero that was sent breaks a rule.
func (s *skimmer) value(t *Type, v reflect.Value) bool {
	s.space()
	if s.data[s.at] == 'n' {
		s.at += len("null")
		return t.null
	}
	for t.shape == pointer {
		t, v = t.elem, v.Elem()
	}
	switch {
	case !t.deep:
		s.skip()
		return true
	case t.shape == object:
		return s.object(t, v)
	case t.shape == list:
		return s.list(t, v)
	case t.shape == mapping:
		return s.mapping(t, v)
	}
	s.skip()
	return true
}

func (s *skimmer) object(t *Type, v reflect.Value) bool {
	var few [64]bool
	seen := few[:]
	if len(t.fields) > len(few) {
		seen = make([]bool, len(t.fields))
	}
	next := 0
	for s.at++; s.more('}'); {
		i := t.fieldIndex(s.name(), next)
		if i < 0 {
			s.skip()
			continue
		}
		next = i + 1
		seen[i] = true
		f := t.fields[i]
		fv, there := f.of(v)
		if !there {
			s.skip()
			continue
		}
		if !s.value(f.typ, fv) || f.fallback.IsValid() && !f.rules.hold(fv) {
			return false
		}
	}
	for i, f := range t.fields {
		if seen[i] {
			continue
		}
		if f.required {
			return false
		}
		if f.fallback.IsValid() {
			if fv, there := f.of(v); there {
				fv.Set(f.fallback)
			}
		}
	}
	return true
}

// fieldIndex finds a member by name, trying first the one that would come next
// if the text had the order of the type.
func (t *Type) fieldIndex(name []byte, next int) int {
	if next < len(t.fields) && t.fields[next].name == string(name) {
		return next
	}
	f := t.byName[string(name)]
	if f == nil {
		return -1
	}
	return f.number
}

func (s *skimmer) list(t *Type, v reflect.Value) bool {
	s.at++
	for i := 0; s.more(']'); i++ {
		if !s.value(t.elem, v.Index(i)) {
			return false
		}
	}
	return true
}

func (s *skimmer) mapping(t *Type, v reflect.Value) bool {
	key := reflect.New(t.goType.Key())
	for s.at++; s.more('}'); {
		start := s.at
		s.text()
		if err := json.Unmarshal(s.data[start:s.at], key.Interface(), json.StringifyNumbers(true)); err != nil {
			return false
		}
		held := reflect.New(t.elem.goType).Elem()
		if in := v.MapIndex(key.Elem()); in.IsValid() {
			held.Set(in) // what a map holds cannot be changed in place
		}
		if !s.value(t.elem, held) {
			return false
		}
		v.SetMapIndex(key.Elem(), held)
	}
	return true
}

func (s *skimmer) space() {
	for {
		switch s.data[s.at] {
		case ' ', '\t', '\n', '\r', ',', ':':
			s.at++
		default:
			return
		}
	}
}

// more goes to the next piece of an object or a list; false, and past the end,
// where there is none.
func (s *skimmer) more(end byte) bool {
	s.space()
	if s.data[s.at] == end {
		s.at++
		return false
	}
	return true
}

func (s *skimmer) name() []byte {
	start := s.at
	s.text()
	name := s.data[start+1 : s.at-1]
	if stdbytes.IndexByte(name, '\\') >= 0 {
		name, _ = jsontext.AppendUnquote(nil, s.data[start:s.at]) // valid: it was decoded before
	}
	return name
}

// text steps over a string.
func (s *skimmer) text() {
	for s.at++; ; s.at++ {
		switch s.data[s.at] {
		case '\\':
			s.at++
		case '"':
			s.at++
			return
		}
	}
}

// skip steps over any value.
func (s *skimmer) skip() {
	s.space()
	for depth := 0; s.at < len(s.data); {
		switch s.data[s.at] {
		case '"':
			s.text()
		case '{', '[':
			depth++
			s.at++
			continue
		case '}', ']':
			if depth == 0 {
				return
			}
			depth--
			s.at++
		case ' ', '\t', '\n', '\r', ':', ',':
			if depth == 0 {
				return
			}
			s.at++
			continue
		default:
			for s.at++; s.at < len(s.data) && !stops[s.data[s.at]]; s.at++ {
			}
		}
		if depth == 0 {
			return
		}
	}
}

// stops are the bytes that end a number or a literal.
var stops = [256]bool{' ': true, '\t': true, '\n': true, '\r': true, ',': true, ':': true, '}': true, ']': true}
