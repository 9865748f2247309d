package sets

import (
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// plain is a set as its own keywords and a list of what else holds, with every reference followed; and where it is.
func plain(s *Set, at string) (*Set, string) {
	for range 16 {
		to := s.of.followed(s)
		if to == nil || !s.isReference() {
			break
		}
		s, at = to, strings.TrimPrefix(s.ref, "#")
	}
	for range 16 { // allOf of one says what that says
		if len(s.all) != 1 || s.ref != "" || !s.only("allOf") {
			break
		}
		s, at = s.all[0], at+"/allOf/0"
	}
	if other, i := s.orNull(); other != nil {
		keyword := "/anyOf/"
		if s.one != nil {
			keyword = "/oneOf/"
		}
		of, place := plain(other, at+keyword+strconv.Itoa(i))
		if s.whole == nil {
			s.whole = of.copy()
			if s.whole.kinds |= null; of.hasEnum && !hasValue(of.enum, nil) {
				s.whole.enum = append(slices.Clone(of.enum), nil)
			}
		}
		return s.whole, place
	}
	if s.whole == nil && s.ref == "" && s.all == nil {
		return s, at
	}
	if s.whole == nil {
		s.whole = s.merged(at)
	}
	return s.whole, at
}

// orNull is the other one of two alternatives of which one is null alone; nil where a set is not so.
func (s *Set) orNull() (other *Set, i int) {
	of := s.any
	if of == nil {
		of = s.one
	}
	if len(of) != 2 || !s.only("anyOf") && !s.only("oneOf") {
		return nil, 0
	}
	for i, one := range of {
		if one.kinds == null && one.only("type") && (s.one == nil || of[1-i].has(nil, 0) == No) {
			return of[1-i], 1 - i
		}
	}
	return nil, 0
}

// merged is a set that says by itself what its reference and allOf say, where that is one thing; else with the reference
// among allOf.
func (s *Set) merged(at string) *Set {
	all, few := newQuestion(s.of).flats(conj{s})
	if few && len(all) == 1 && !all[0].finite {
		if m := s.fromFlat(&all[0], at); m != nil {
			return m
		}
	}
	m := s.copy()
	if to := s.of.follow(s.ref); to != nil {
		m.ref, m.all = "", append(slices.Clone(s.all), to)
	}
	return m
}

// fromFlat makes a set of an alternative; nil where it has keywords that cannot be put together.
func (s *Set) fromFlat(f *flat, at string) *Set {
	m := s.of.empty(s.text)
	m.kinds = f.kind
	if f.whole {
		m.kinds = integer
	}
	m.lengths, m.count, m.required = f.lengths(), f.count(), f.required()
	for _, lower := range []bool{true, false} {
		if b := f.bound(lower); b != nil && lower {
			m.low = []bound{*b}
		} else if b != nil {
			m.high = []bound{*b}
		}
	}
	places := s.places(at, map[*Set]string{}, 0)
	for _, rule := range f.rules {
		if len(rule.opaque)+len(rule.odd)+len(rule.matching)+len(rule.needs)+len(rule.prefix) > 0 ||
			rule.names != nil ||
			rule.one != nil ||
			rule.any != nil {
			return nil
		}
		m.size, m.unique = m.size.and(rule.size), m.unique || rule.unique
		m.steps = append(m.steps, rule.steps...)
		m.patterns = append(m.patterns, rule.patterns...)
		m.formats = append(m.formats, rule.formats...)
		if rule.hasDef {
			m.hasDef, m.fallback = true, rule.fallback
		}
	}
	names, _ := f.names()
	for _, name := range names {
		side, _ := f.side(name)
		m.members, m.order = withMember(m.members, name, s.of.together(side)), append(m.order, name)
		for _, rule := range f.rules {
			if rule.members[name] != nil {
				m.memberAt = append(m.memberAt, [2]string{name, places[rule] + "/properties/" + escape(name)})
				break
			}
		}
	}
	m.additional, m.items = s.of.together(f.others()), s.of.together(f.item(0))
	return m
}

// together is the set of what is in all of several; nil for none.
func (d *Schemas) together(all conj) *Set {
	switch len(all) {
	case 0:
		return nil
	case 1:
		return all[0]
	}
	s := d.empty(jsontext.Value("{}"))
	s.all = all
	return s
}

// places finds where the sets are that a set is made of.
func (s *Set) places(at string, all map[*Set]string, depth int) map[*Set]string {
	if _, known := all[s]; known || depth > deepest {
		return all
	}
	all[s] = at
	if to := s.of.follow(s.ref); s.ref != "" && to != nil {
		to.places(strings.TrimPrefix(s.ref, "#"), all, depth+1)
	}
	for i, one := range s.all {
		one.places(at+"/allOf/"+strconv.Itoa(i), all, depth+1)
	}
	return all
}

// place is where a member is in a set that is at a pointer.
func (s *Set) place(at, name string) string {
	for _, one := range s.memberAt {
		if one[0] == name {
			return one[1]
		}
	}
	return at + "/properties/" + escape(name)
}

func (d *Schemas) followed(s *Set) *Set {
	if s.ref == "" {
		return nil
	}
	return d.follow(s.ref)
}

// isReference reports whether a set is a reference, and no more.
func (s *Set) isReference() bool { return s.ref != "" && s.only("$ref") }

// only reports whether one keyword of a set counts.
func (s *Set) only(keyword string) bool {
	for name := range membersOf(s.text) {
		if name != keyword && !slices.Contains(annotations, name) && name != "default" &&
			!strings.HasPrefix(name, "x-") {
			return false
		}
	}
	return true
}

// copy is a set of its own, to be changed.
func (s *Set) copy() *Set {
	c := *s
	*s.of.made++
	c.id, c.open = *s.of.made, false
	return &c
}
