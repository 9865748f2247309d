package check

import (
	stdbytes "bytes"
	"math/bits"
	"reflect"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A skimmer goes once over a text that was decoded already, so it is known to
// be valid JSON of the right shape. It finds out what the Go value does not
// tell: which members were there, and where null stood. It sets defaults.
type skimmer struct {
	data   []byte
	at     int
	doubts doubtSet // about the outermost value, where that is an object
}

// settles reports whether a text has all members that there are doubts about, and none as null, as far as that can be
// seen by their names before colons. In a text they would have backslashes.
func (t *Type) settles(doubts doubtSet, data []byte) bool {
	for at := 0; doubts != 0; at++ {
		next := stdbytes.IndexByte(data[at:], ':')
		if next < 0 {
			return false
		}
		at += next
		for open := doubts; open != 0; open &= open - 1 {
			i := bits.TrailingZeros64(uint64(open))
			if i == lastDoubt || i >= len(t.fields) || t.fields[i].marker == "" {
				return false
			}
			marker := t.fields[i].marker
			if start := at - len(marker); start < 0 || data[start] != '"' || string(data[start:at]) != marker {
				continue
			}
			switch data[at+1] {
			case 'n', ' ', '\t', '\r', '\n':
				return false
			}
			doubts &^= 1 << i
			break
		}
	}
	return true
}

// value skims one JSON value that was decoded into v; false where a required
// member is absent, a null has no place, or a zero that was sent breaks a rule.
func (s *skimmer) value(t *Type, null bool, v reflect.Value) bool {
	s.space()
	if s.data[s.at] == 'n' {
		s.at += len("null")
		return null
	}
	v, _ = t.reach(v)
	t = t.base()
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
	case t.shape == oneOf:
		return t.cases.change(v, s.object)
	}
	s.skip()
	return true
}

func (s *skimmer) object(t *Type, v reflect.Value) bool {
	var few [64]doubt
	doubts := few[:]
	if len(t.fields) > len(few) {
		doubts = make([]doubt, len(t.fields))
	}
	outermost := s.at == 0
	open := 0
	for i, f := range t.fields {
		if outermost && s.doubts != 0 && i < lastDoubt {
			if s.doubts>>i&1 == 0 {
				continue
			}
		} else if fv, there := f.of(v); !there || !f.doubtful(fv) {
			continue
		}
		doubts[i] = unseen
		open++
	}
	next := 0
	for s.at++; s.more('}'); {
		i := s.member(t, next)
		if next = i + 1; i < 0 || doubts[i] != unseen {
			s.skip()
			continue
		}
		doubts[i] = seen
		open--
		f := t.fields[i]
		fv, _ := f.of(v)
		unasked := !f.required && fv.IsZero() // so it may have been absent: no rule was asked
		if !s.value(f.typ, f.null, fv) || unasked && !f.keeps(fv) {
			return false
		}
		if open == 0 && outermost {
			return true // nothing that is still to come matters
		}
	}
	for i, f := range t.fields {
		if doubts[i] != unseen {
			continue
		}
		if f.required {
			return false
		}
		if f.fallback.IsValid() {
			if fv, there := f.of(v); there {
				renew(fv, f.fallback)
			}
		}
	}
	return true
}

// A doubt is whether a member was there, where the Go value does not tell.
type doubt uint8

const (
	none doubt = iota
	unseen
	seen
)

// member reads a name and finds its member: at once where it is the one that would
// come next.
func (s *skimmer) member(t *Type, next int) int {
	if next < len(t.fields) && t.fields[next].plain {
		name := t.fields[next].name
		end := s.at + 1 + len(name)
		if end < len(s.data) && s.data[end] == '"' && string(s.data[s.at+1:end]) == name {
			s.at = end + 1
			return next
		}
	}
	return t.fieldIndex(s.name(), next)
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
		if !s.value(t.elem, t.elem.null, v.Index(i)) {
			return false
		}
	}
	return true
}

func (s *skimmer) mapping(t *Type, v reflect.Value) bool {
	e := newEntries(t)
	for s.at++; s.more('}'); {
		if _, ok := e.read(s, v); !ok || !s.value(t.elem, t.elem.null, e.held) {
			return false
		}
		v.SetMapIndex(e.key, e.held)
	}
	return true
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
	return entries{isPlainText(k), reflect.New(k).Elem(), reflect.New(t.elem.goType).Elem()}
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

func (s *skimmer) space() {
	for s.at < len(s.data) {
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
	if s.at < len(s.data) && s.data[s.at] == end {
		s.at++
		return false
	}
	return s.at < len(s.data)
}

func (s *skimmer) name() []byte {
	start := s.at
	s.text()
	return nameIn(s.data[start:s.at])
}

// nameIn gives the name that a string holds.
func nameIn(quoted []byte) []byte {
	name := quoted[1 : len(quoted)-1]
	if stdbytes.IndexByte(name, '\\') >= 0 {
		name, _ = jsontext.AppendUnquote(nil, quoted) // valid: it was read before
	}
	return name
}

// text steps over a string.
func (s *skimmer) text() {
	for s.at++; ; s.at++ {
		s.at += stdbytes.IndexByte(s.data[s.at:], '"')
		escapes := 0
		for s.data[s.at-1-escapes] == '\\' {
			escapes++
		}
		if escapes%2 == 0 {
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
