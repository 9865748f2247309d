package sets

import (
	"math/big"
	"slices"
)

// A flat is a conjunction of sets whose values are all of one kind, and for which every choice (anyOf, oneOf, a
// reference) has been made. It has at least the values of what it was made of: what it does not understand is left
// out, except as a text in opaque.
type flat struct {
	kind   kinds // number for numbers, whether whole or not
	whole  bool
	rules  conj // sets whose own keywords count
	finite bool
	values []Value // all of them, where finite
	opaque []string
}

// mostFlats bounds the alternatives that a set is taken apart into.
const mostFlats = 64

// flats takes a conjunction apart. It reports false where there are too many alternatives.
func (q *question) flats(c conj) ([]flat, bool) {
	key := c.key()
	if known, has := q.apart[key]; has {
		return known, known != nil
	}
	q.apart[key] = nil // while it is made: a reference that leads to itself
	all := make([]flat, 0, 6)
	for _, k := range []kinds{text, number, boolean, array, object, null} { // in the order in which samples are made
		all = append(all, flat{kind: k})
	}
	for _, s := range c {
		if all = q.meet(all, s); all == nil {
			return nil, false
		}
	}
	known := make([]flat, 0, len(all))
	for _, f := range all {
		if q.settle(&f); !f.finite || f.values != nil {
			known = append(known, f)
		}
	}
	q.apart[key] = known
	return known, true
}

// meet gives the alternatives that are in a set as well; nil where there are too many.
func (q *question) meet(all []flat, s *Set) []flat {
	if q.steps++; q.steps > mostSteps {
		return nil
	}
	if s.none {
		return []flat{}
	}
	if !slices.ContainsFunc(all, func(f flat) bool { return !f.rules.contains(s) }) {
		return all // they have been in it already
	}
	if len(all) > 0 {
		q.steps += len(all[0].rules) / 16 // which are copied
	}
	of := make([]flat, 0, len(all))
	for _, f := range all {
		if f.kind&s.kinds == 0 {
			continue
		}
		f.whole = f.whole || f.kind == number && s.kinds&fraction == 0
		f.rules, f.opaque = f.rules.and(s), union(f.opaque, s.opaque)
		if s.one != nil {
			f.opaque = union(f.opaque, []string{s.oneKey})
		}
		of = append(of, f)
	}
	if s.ref != "" {
		if to := s.of.follow(s.ref); to != nil {
			if q.inRefs[to] > 0 {
				return nil
			}
			q.inRefs[to]++
			of = q.meet(of, to)
			q.inRefs[to]--
		}
	}
	for _, one := range s.all {
		if of != nil {
			of = q.meet(of, one)
		}
	}
	for _, choice := range [][]*Set{s.any, s.one} {
		if choice == nil || of == nil {
			continue
		}
		var chosen = []flat{}
		for _, one := range choice {
			more := q.meet(of, one)
			if more == nil || len(chosen)+len(more) > mostFlats {
				return nil
			}
			chosen = append(chosen, more...)
		}
		of = chosen
	}
	if s.when != nil && of != nil {
		of = q.meetBranches(of, s)
	}
	return of
}

// meetBranches follows then or else where it is certain which of them counts.
func (q *question) meetBranches(all []flat, s *Set) (of []flat) {
	of = []flat{}
	for _, f := range all {
		branch := s.when[2]
		if q.inside(&f, s.when[0], 0) == Yes {
			branch = s.when[1]
		} else if !q.disjoint(&f, s.when[0]) {
			branch = nil
		}
		if branch == nil {
			of = append(of, f)
			continue
		}
		more := q.meet([]flat{f}, branch)
		if more == nil || len(of)+len(more) > mostFlats {
			return nil
		}
		of = append(of, more...)
	}
	return of
}

func union(a, b []string) []string {
	if len(b) == 0 {
		return a
	}
	all := append(slices.Clone(a), b...)
	slices.Sort(all)
	return slices.Compact(all)
}

// settle lists the values of what has only a few.
func (q *question) settle(f *flat) {
	switch {
	case f.kind == null:
		f.finite, f.values = true, []Value{nil}
	case f.kind == boolean:
		f.finite, f.values = true, []Value{false, true}
	}
	for _, s := range f.rules {
		if s.hasEnum {
			f.finite, f.values = true, s.enum
			break
		}
	}
	if !f.finite && f.kind == number && f.whole {
		f.values = f.wholeNumbers()
		f.finite = f.values != nil
	}
	if f.finite {
		var left []Value
		for _, v := range f.values {
			if kindOf(v)&f.kind != 0 && f.has(v) != No {
				left = append(left, v)
			}
		}
		f.values = left
	}
}

// has reports whether a value breaks none of the rules that are the flat's own.
func (f *flat) has(v Value) Verdict {
	known := Yes
	for _, s := range f.rules {
		known = min(known, s.has(v, 0))
	}
	return known
}

// fewNumbers is up to how many whole numbers are tried each.
const fewNumbers = 64

// wholeNumbers are those between narrow bounds; nil where they are wide.
func (f *flat) wholeNumbers() (all []Value) {
	low, high := f.bound(true), f.bound(false)
	if low == nil || high == nil {
		return nil
	}
	from, to := ceil(low.at.rat, low.exclusive), floor(high.at.rat, high.exclusive)
	if span := new(big.Int).Sub(to, from); !span.IsInt64() || span.Int64() > fewNumbers {
		return nil
	}
	all = []Value{}
	for n := from; n.Cmp(to) <= 0; n = new(big.Int).Add(n, big.NewInt(1)) {
		all = append(all, numberFrom(new(big.Rat).SetInt(n)))
	}
	return all
}

func floor(r *big.Rat, exclusive bool) *big.Int {
	n := new(big.Int).Div(r.Num(), r.Denom())
	if exclusive && r.IsInt() {
		n.Sub(n, big.NewInt(1))
	}
	return n
}

func ceil(r *big.Rat, exclusive bool) *big.Int {
	n := floor(new(big.Rat).Neg(r), exclusive)
	return n.Neg(n)
}

// bound is the nearest lower or upper bound; nil where there is none.
func (f *flat) bound(lower bool) (nearest *bound) {
	side := 1
	for _, s := range f.rules {
		of := s.low
		if !lower {
			of, side = s.high, -1
		}
		for _, b := range of {
			if b.at.rat == nil {
				continue
			}
			if nearest == nil {
				nearest = &b
				continue
			}
			if c := b.at.rat.Cmp(nearest.at.rat) * side; c > 0 || c == 0 && b.exclusive {
				nearest = &b
			}
		}
	}
	return nearest
}

func (f *flat) lengths() span {
	all := anySpan
	for _, s := range f.rules {
		all = all.and(s.lengths)
	}
	return all
}

func (f *flat) count() span {
	all := anySpan
	for _, s := range f.rules {
		all = all.and(s.count)
	}
	return all
}

// size is how many members there can be.
func (q *question) size(f *flat) span {
	all := anySpan
	for _, s := range f.rules {
		all = all.and(s.size)
	}
	all.least = max(all.least, len(f.required()))
	if names, closed := f.names(); closed {
		can := 0
		for _, name := range names {
			if side, _ := f.side(name); !q.isEmpty(side) {
				can++
			}
		}
		all = all.and(span{0, can})
	}
	return all
}

func (f *flat) required() (names []string) {
	for _, s := range f.rules {
		names = union(names, s.required)
	}
	return names
}

// names are those that the rules know, and whether there can be no others.
func (f *flat) names() (names []string, closed bool) {
	for _, s := range f.rules {
		names = union(names, s.order)
		if s.additional != nil && s.additional.none && len(s.matching) == 0 {
			closed = true
		}
	}
	return names, closed
}

// side are the sets that a member is in. They are not all of them where a pattern cannot be read.
func (f *flat) side(name string) (all conj, sure bool) {
	sure = true
	for _, s := range f.rules {
		own, known := s.side(name)
		all, sure = all.and(own...), sure && known
	}
	return all, sure
}

// others are the sets of members that no rule names, and that match no pattern.
func (f *flat) others() (all conj) {
	for _, s := range f.rules {
		if s.additional != nil {
			all = all.and(s.additional)
		}
	}
	return all
}

// item are the sets that an item is in.
func (f *flat) item(i int) (all conj) {
	for _, s := range f.rules {
		if i < len(s.prefix) {
			all = all.and(s.prefix[i])
		} else {
			all = all.and(s.items)
		}
	}
	return all
}

// prefixes is from which index on all items are alike.
func (f *flat) prefixes() (n int) {
	for _, s := range f.rules {
		n = max(n, len(s.prefix))
	}
	return n
}

func (f *flat) unique() bool {
	return slices.ContainsFunc(f.rules, func(s *Set) bool { return s.unique })
}

// isEmpty reports whether no value is in a conjunction, for certain.
func (q *question) isEmpty(c conj) bool {
	if len(c) == 0 {
		return false
	}
	if len(c) == 1 && c[0].none {
		return true
	}
	key := c.key()
	if q.emptying[key] {
		return true // a value that contains itself has no end
	}
	if is, known := q.empty[key]; known {
		return is
	}
	all, few := q.flats(c)
	if !few {
		return false
	}
	q.emptying[key] = true
	is := !slices.ContainsFunc(all, func(f flat) bool { return !q.isEmptyFlat(&f) })
	delete(q.emptying, key)
	if !is || len(q.emptying) == 0 { // else it rests on what is not known yet
		q.empty[key] = is
	}
	return is
}

func (q *question) isEmptyFlat(f *flat) bool {
	if q.steps++; q.steps > mostSteps {
		return false
	}
	if f.finite {
		return len(f.values) == 0
	}
	switch f.kind {
	case number:
		low, high := f.bound(true), f.bound(false)
		if low == nil || high == nil {
			return false
		}
		c := low.at.rat.Cmp(high.at.rat)
		return c > 0 || c == 0 && (low.exclusive || high.exclusive)
	case text:
		return f.lengths().isEmpty()
	case array:
		least := f.count()
		if least.isEmpty() {
			return true
		}
		for i := range min(least.least, f.prefixes()+1) {
			if q.isEmpty(f.item(i)) {
				return true
			}
		}
	case object:
		for _, name := range f.required() {
			if side, _ := f.side(name); q.isEmpty(side) || !f.canHave(name) {
				return true
			}
		}
		return q.size(f).isEmpty()
	}
	return false
}

// canHave reports whether a name may be one of a member, as far as that is known.
func (f *flat) canHave(name string) bool {
	return !slices.ContainsFunc(f.rules, func(s *Set) bool { return s.names != nil && s.names.has(name, 0) == No })
}

// disjoint reports whether no value is in both, for certain.
func (q *question) disjoint(f *flat, s *Set) bool {
	return q.isEmpty(f.rules.and(s))
}
