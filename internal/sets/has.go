package sets

import (
	"math/big"
	"net/url"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/wicketway/wicketway/internal/check"
)

// Has reports whether a value is in a set.
func (s *Set) Has(v Value) Verdict {
	*s.of.left = mostSteps
	return s.has(v, 0)
}

// Costs is how many schemas are asked about a value and what is in it, up to a limit: schemas that refer to each other can
// make a small document expensive.
func (s *Set) Costs(v Value, limit int) int {
	n := 0
	s.costs(v, &n, limit)
	return n
}

func (s *Set) costs(v Value, n *int, limit int) {
	if *n++; *n > limit {
		return
	}
	ask := func(one *Set, v Value) {
		if one != nil && *n <= limit {
			one.costs(v, n, limit)
		}
	}
	if s.ref != "" {
		ask(s.of.follow(s.ref), v)
	}
	for _, all := range [][]*Set{s.all, s.any, s.one, s.when, {s.not}} {
		for _, one := range all {
			ask(one, v)
		}
	}
	switch v := v.(type) {
	case []Value:
		for i, one := range v {
			if i < len(s.prefix) {
				ask(s.prefix[i], one)
			} else {
				ask(s.items, one)
			}
			ask(s.holds, one)
		}
	case map[string]Value:
		for _, name := range sortedNames(v) {
			ask(s.names, name)
			sides, _ := s.side(name)
			for _, one := range sides {
				ask(one, v[name])
			}
		}
	}
}

// deepest bounds references that lead on without a step into the value.
const deepest = 200

func (s *Set) has(v Value, depth int) Verdict {
	if s.none {
		return No
	}
	if *s.of.left--; depth > deepest || *s.of.left < 0 {
		return Maybe
	}
	known := Yes
	for _, question := range []func(*Set, Value, int) Verdict{(*Set).fits, (*Set).combines} {
		if known = min(known, question(s, v, depth)); known == No {
			return No
		}
	}
	if len(s.odd) > 0 {
		known = min(known, Maybe)
	}
	return known
}

func verdict(is bool) Verdict {
	if is {
		return Yes
	}
	return No
}

// isListed reports whether a value is one of the enumeration. A list that is looked into again and again has an index, which is
// made anew for another list.
func (s *Set) isListed(v Value) bool {
	if len(s.enum) < manyValues {
		return hasValue(s.enum, v)
	}
	if x := s.listed; x == nil || x.first != &s.enum[0] || x.length != len(s.enum) {
		s.listed = &index{among(s.enum), &s.enum[0], len(s.enum)}
	}
	return s.listed.has(v)
}

// An index finds the values of a list.
type index struct {
	has    func(Value) bool
	first  *Value // of the list that it is of
	length int
}

// fits is about the keywords that say something of values of one kind.
func (s *Set) fits(v Value, depth int) Verdict {
	k := kindOf(v)
	if s.kinds&k == 0 || s.hasEnum && !s.isListed(v) {
		return No
	}
	if k == number && s.kinds&number != number {
		return Maybe // too large to see whether it is whole
	}
	switch v := v.(type) {
	case *Number:
		return s.hasNumber(v)
	case string:
		return s.hasText(v)
	case []Value:
		return s.hasItems(v, depth+1)
	case map[string]Value:
		return s.hasMembers(v, depth+1)
	}
	return Yes
}

func (s *Set) hasNumber(n *Number) Verdict {
	known := Yes
	for _, b := range s.low {
		known = min(known, b.holds(n, 1))
	}
	for _, b := range s.high {
		known = min(known, b.holds(n, -1))
	}
	for _, step := range s.steps {
		known = min(known, isMultiple(n, step))
	}
	return known
}

// holds reports whether a number is on the right side of a bound: above it where side is 1.
func (b bound) holds(n *Number, side int) Verdict {
	if n.rat == nil || b.at.rat == nil {
		return Maybe
	}
	c := n.rat.Cmp(b.at.rat) * side
	return verdict(c > 0 || c == 0 && !b.exclusive)
}

func isMultiple(n, step *Number) Verdict {
	if n.rat == nil || step.rat == nil || step.rat.Sign() == 0 {
		return Maybe
	}
	return verdict(new(big.Rat).Quo(n.rat, step.rat).IsInt())
}

func (s *Set) hasText(v string) Verdict {
	if !s.lengths.has(utf8.RuneCountInString(v)) {
		return No
	}
	known := Yes
	for _, pattern := range s.patterns {
		known = min(known, pattern.matches(v))
	}
	for _, name := range s.formats {
		known = min(known, isOfFormat(name, v))
	}
	return known
}

// unheld are formats that no text breaks.
var unheld = map[string]bool{
	"int8":     true,
	"int16":    true,
	"int32":    true,
	"int64":    true,
	"uint8":    true,
	"uint16":   true,
	"uint32":   true,
	"uint64":   true,
	"float":    true,
	"double":   true,
	"password": true,
	"binary":   true,
	"byte":     true,
}

func isOfFormat(name, v string) Verdict {
	if unheld[name] {
		return Yes
	}
	if holds, known := check.Format(name); known {
		return verdict(holds(v))
	}
	if name == "uri-reference" {
		_, err := url.Parse(v)
		switch {
		case strings.ContainsAny(v, " \\\"<>^`{|}"):
			return No
		case err == nil && plainReference.MatchString(v):
			return Yes
		}
	}
	return Maybe
}

// plainReference is a path, and nothing that readers of URIs may see in different ways.
var plainReference = regexp.MustCompile(`^[A-Za-z0-9/._~-]*$`)

func (s *Set) hasItems(v []Value, depth int) Verdict {
	known := verdict(s.count.has(len(v)))
	for i, one := range v {
		if known == No {
			return No
		}
		switch {
		case i < len(s.prefix):
			known = min(known, s.prefix[i].has(one, depth))
		case s.items != nil:
			known = min(known, s.items.has(one, depth))
		}
	}
	if s.unique {
		for i := range v {
			if hasValue(v[:i], v[i]) {
				return No
			}
		}
	}
	if s.holds != nil {
		sure, can := tally(v, func(one Value) Verdict { return s.holds.has(one, depth) })
		switch {
		case can < s.holdsN.least || s.holdsN.most >= 0 && sure > s.holdsN.most:
			return No
		case sure != can:
			known = min(known, Maybe)
		}
	}
	return known
}

func (s *Set) hasMembers(v map[string]Value, depth int) Verdict {
	known := verdict(s.size.has(len(v)))
	for _, name := range s.required {
		if _, has := v[name]; !has {
			return No
		}
	}
	for _, name := range sortedNames(v) {
		if known == No {
			return No
		}
		if s.names != nil {
			known = min(known, s.names.has(name, depth))
		}
		sides, sure := s.side(name)
		if !sure {
			known = min(known, Maybe)
		}
		for _, side := range sides {
			known = min(known, side.has(v[name], depth))
		}
		for _, other := range s.needs[name] {
			if _, has := v[other]; !has {
				return No
			}
		}
	}
	return known
}

// side are the sets that the value of a member has to be in, as far as the set's own members say. They are not all of
// them where a pattern cannot be read.
func (s *Set) side(name string) (all []*Set, sure bool) {
	known, sure := false, true
	if m := s.members[name]; m != nil {
		all, known = append(all, m), true
	}
	for _, m := range s.matching {
		if m.re == nil {
			sure = false
		} else if m.re.MatchString(name) {
			all, known = append(all, m.set), true
		}
	}
	if !known && sure && s.additional != nil {
		all = append(all, s.additional)
	}
	return all, sure
}

// combines is about the keywords that combine schemas.
func (s *Set) combines(v Value, depth int) Verdict {
	known := Yes
	if s.ref != "" {
		to := s.of.follow(s.ref)
		if to == nil {
			return Maybe
		}
		known = to.has(v, depth+1)
	}
	for _, one := range s.all {
		known = min(known, one.has(v, depth+1))
	}
	if s.any != nil {
		best := No
		for _, one := range s.any {
			best = max(best, one.has(v, depth+1))
		}
		known = min(known, best)
	}
	if s.one != nil {
		known = min(known, s.hasOne(v, depth+1))
	}
	if s.not != nil {
		known = min(known, Yes-s.not.has(v, depth+1))
	}
	if s.when != nil {
		known = min(known, s.depends(v, depth+1))
	}
	return known
}

// tally counts of how many a question is certain, and of how many it may be so.
func tally[T any](all []T, ask func(T) Verdict) (sure, can int) {
	for _, one := range all {
		switch ask(one) {
		case Yes:
			sure++
			can++
		case Maybe:
			can++
		}
	}
	return sure, can
}

func (s *Set) hasOne(v Value, depth int) Verdict {
	sure, can := tally(s.one, func(one *Set) Verdict { return one.has(v, depth) })
	switch {
	case can == 0 || sure > 1:
		return No
	case sure == 1 && can == 1:
		return Yes
	}
	return Maybe
}

// depends is about if, then and else.
func (s *Set) depends(v Value, depth int) Verdict {
	branch := func(i int) Verdict {
		if s.when[i] == nil {
			return Yes
		}
		return s.when[i].has(v, depth)
	}
	switch s.when[0].has(v, depth) {
	case Yes:
		return branch(1)
	case No:
		return branch(2)
	}
	if then, other := branch(1), branch(2); then == other {
		return then
	}
	return Maybe
}
