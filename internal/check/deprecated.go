package check

import (
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/peek"
)

// A Deprecation is a member that is deprecated.
type Deprecation struct {
	Pointer string // with * for the items of lists and the members of maps
	Since   string // a date; "" where none is given
}

// Deprecated lists the deprecated members at and below the type.
func (t *Type) Deprecated() (all []Deprecation) {
	t.listDeprecated("", map[*Type]bool{}, &all)
	return all
}

func (t *Type) listDeprecated(pointer string, seen map[*Type]bool, all *[]Deprecation) {
	if t = t.base(); !t.outdated || seen[t] {
		return
	}
	seen[t] = true
	defer delete(seen, t)
	if t.elem != nil {
		t.elem.listDeprecated(pointer+"/*", seen, all)
	}
	for text := range t.eachText() {
		for _, f := range text.fields {
			f.listDeprecated(pointer, seen, all)
		}
	}
	for _, f := range t.fields {
		f.listDeprecated(pointer, seen, all)
	}
}

func (f *field) listDeprecated(pointer string, seen map[*Type]bool, all *[]Deprecation) {
	pointer += "/" + escapeToken(f.name)
	d := Deprecation{pointer, f.since}
	if f.deprecated() && !slices.Contains(*all, d) { // several types of a closed set can have it
		*all = append(*all, d)
	}
	f.typ.listDeprecated(pointer, seen, all)
}

// mostDeprecated is how many different deprecated members of one text are told.
const mostDeprecated = 32

// DeprecatedIn lists the deprecated members that a text has, which was decoded without a fault: as [Deprecation] names
// them, each once, 32 at most.
func (t *Type) DeprecatedIn(data []byte) []string {
	if !t.outdated {
		return nil
	}
	s := outdatedIn{skimmer: skimmer{data: data}}
	s.value(t)
	return s.found
}

type outdatedIn struct {
	skimmer
	path  []string
	found []string
}

func (s *outdatedIn) value(t *Type) {
	s.space()
	if t = t.base(); !t.outdated || s.data[s.at] == 'n' {
		s.skip()
		return
	}
	switch t.shape {
	case oneOf:
		name, _ := peek.Member(s.data[s.at:], t.cases.set.Member)
		s.object(t.cases.texts[string(name)])
	case object:
		s.object(t)
	case mapping:
		for s.at++; s.more('}'); {
			s.name()
			s.below("*", t.elem)
		}
	case list:
		for s.at++; s.more(']'); {
			s.below("*", t.elem)
		}
	default:
		s.skip()
	}
}

func (s *outdatedIn) object(t *Type) {
	for s.at++; s.more('}'); {
		i := s.member(t, 0)
		if i < 0 {
			s.skip()
			continue
		}
		f := t.fields[i]
		if f.deprecated() {
			at := "/" + strings.Join(append(s.path, escapeToken(f.name)), "/")
			if len(s.found) < mostDeprecated && !slices.Contains(s.found, at) {
				s.found = append(s.found, at)
			}
		}
		s.below(escapeToken(f.name), f.typ)
	}
}

func (s *outdatedIn) below(name string, t *Type) {
	s.path = append(s.path, name)
	s.value(t)
	s.path = s.path[:len(s.path)-1]
}
