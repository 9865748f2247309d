package sets

import (
	"iter"
	"maps"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// Sample gives a value of the set: an example or the default where the schema has one, and else one that is made by its
// rules, always the same. It reports false where it finds none.
func (s *Set) Sample() (Value, bool) {
	q := newQuestion(s.of)
	return q.sample(conj{s}, 0)
}

// deepestSample bounds how deep values are made.
const deepestSample = 12

// mostCandidates bounds the values that are tried for one question.
const mostCandidates = 3000

// sample is the first candidate that is in all of c.
func (q *question) sample(c conj, depth int) (Value, bool) {
	all := q.sampled(c, depth)
	if len(all) == 0 {
		return nil, false
	}
	return all[0], true
}

// sampled are up to two values of a conjunction that differ.
func (q *question) sampled(c conj, depth int) (found []Value) {
	key := c.key()
	if known, has := q.samples[key]; has {
		return known
	}
	if q.sampling[key] {
		return nil // a value in itself: it must come to an end
	}
	q.sampling[key] = true
	tried := 0
	for v := range q.candidates(c, nil, depth) {
		if tried++; tried > mostCandidates || len(found) > 1 {
			break
		}
		if c.has(v) == Yes && !hasValue(found, v) {
			found = append(found, v)
		}
	}
	if delete(q.sampling, key); found != nil || len(q.sampling) == 0 { // else it rests on what is being made
		q.samples[key] = found
	}
	return found
}

func (c conj) has(v Value) Verdict {
	known := Yes
	for _, s := range c {
		known = min(known, s.has(v, 0))
	}
	return known
}

// counters are values of c that may not be in b.
func (q *question) counters(c, b conj, depth int) iter.Seq[Value] {
	return func(yield func(Value) bool) {
		tried := 0
		for v := range q.candidates(c, b, depth) {
			if tried++; tried > mostCandidates || !yield(v) {
				return
			}
		}
	}
}

// counter is a value that is in c, and not in b.
func (q *question) counter(c, b conj, depth int) (Value, bool) {
	key := c.key() + "not in " + b.key()
	if known, has := q.countered[key]; has {
		return known, known != nil
	}
	q.countered[key] = nil
	if !slices.ContainsFunc(b, func(one *Set) bool { return q.within(c, one) != Yes }) {
		return nil, false
	}
	for v := range q.counters(c, b, depth) {
		if c.has(v) == Yes && b.has(v) == No {
			q.countered[key] = v
			return v, true
		}
	}
	return nil, false
}

// candidates are values that are likely to be in c, and those at its borders and at those of b, which is nil where a
// sample is wanted.
func (q *question) candidates(c, b conj, depth int) iter.Seq[Value] {
	return func(yield func(Value) bool) {
		if depth > deepestSample {
			return
		}
		for _, s := range c {
			for _, v := range s.said(0) {
				if !yield(v) {
					return
				}
			}
		}
		flats, few := q.flats(c)
		if !few {
			return
		}
		var hints []flat
		if b != nil {
			hints, _ = q.flats(b)
			hints = q.withConditions(hints)
		}
		for pass := range 2 { // null last
			for i := range flats {
				if f := &flats[i]; (f.kind == null) == (pass == 1) && !q.ofFlat(f, hints, depth, yield) {
					return
				}
			}
		}
	}
}

// withConditions adds what the conditions in alternatives speak of: values at their borders are of interest too.
func (q *question) withConditions(hints []flat) []flat {
	all := slices.Clip(hints)
	for _, f := range hints {
		for _, s := range f.rules {
			for _, condition := range append([]*Set{s.not}, s.when...) {
				if condition != nil {
					more, _ := q.flats(conj{condition})
					all = append(all, more...)
				}
			}
		}
	}
	return all
}

// said are the examples and the default of a set, and of what it refers to.
func (s *Set) said(depth int) (all []Value) {
	all = append(all, s.examples...)
	if s.hasDef {
		all = append(all, s.fallback)
	}
	if s.ref != "" && depth < 8 {
		if to := s.of.follow(s.ref); to != nil {
			all = append(all, to.said(depth+1)...)
		}
	}
	return all
}

func (q *question) ofFlat(f *flat, hints []flat, depth int, yield func(Value) bool) bool {
	if f.finite {
		return each(f.values, yield)
	}
	like := []*flat{}
	for i := range hints {
		if hints[i].kind == f.kind {
			like = append(like, &hints[i])
		}
	}
	switch f.kind {
	case number:
		return each(f.someNumbers(like), yield)
	case text:
		return f.someTexts(like, yield)
	case array:
		return q.someItems(f, like, depth, yield)
	case object:
		return q.someMembers(f, like, depth, yield)
	}
	return true
}

func each(values []Value, yield func(Value) bool) bool {
	for _, v := range values {
		if !yield(v) {
			return false
		}
	}
	return true
}

// someNumbers are those at the bounds, and around them.
func (f *flat) someNumbers(like []*flat) (all []Value) {
	var near []*big.Rat
	for _, of := range append([]*flat{f}, like...) {
		for _, s := range of.rules {
			for _, b := range slices.Concat(s.low, s.high) {
				if b.at.rat != nil {
					near = append(near, b.at.rat)
				}
			}
			for _, step := range s.steps {
				near = append(near, f.steppedTo(step)...)
			}
			for _, v := range s.enum {
				if n, is := v.(*Number); is && n.rat != nil {
					near = append(near, n.rat)
				}
			}
		}
	}
	near = append(near, new(big.Rat))
	steps := []*big.Rat{big.NewRat(0, 1), big.NewRat(1, 1), big.NewRat(-1, 1)}
	if !f.whole {
		steps = append(steps, big.NewRat(1, 2), big.NewRat(-1, 2), big.NewRat(1, 1000), big.NewRat(-1, 1000))
	}
	all = append(all, &Number{"1", big.NewRat(1, 1)}) // the plainest first
	for _, n := range near {
		for _, step := range steps {
			to := new(big.Rat).Add(n, step)
			if f.whole && !to.IsInt() {
				to = new(big.Rat).SetInt(ceil(to, false))
			}
			all = append(all, numberFrom(to))
		}
	}
	return all
}

// steppedTo are the multiples of a step that are nearest to the bounds.
func (f *flat) steppedTo(step *Number) (all []*big.Rat) {
	if step.rat == nil || step.rat.Sign() == 0 {
		return nil
	}
	for _, low := range []bool{true, false} {
		b := f.bound(low)
		if b == nil {
			continue
		}
		times := ceil(new(big.Rat).Quo(b.at.rat, step.rat), b.exclusive && low)
		if !low {
			times = floor(new(big.Rat).Quo(b.at.rat, step.rat), b.exclusive)
		}
		all = append(all, new(big.Rat).Mul(new(big.Rat).SetInt(times), step.rat))
	}
	return append(all, step.rat)
}

// longestItems bounds the arrays that are made.
const longestItems = 200

func (q *question) someItems(f *flat, like []*flat, depth int, yield func(Value) bool) bool {
	own := f.count()
	lengths := []int{max(1, own.least), own.least, 0, 1, 2, own.least + 1}
	if own.most == 0 {
		lengths[0] = 0
	}
	for _, of := range append([]*flat{f}, like...) {
		l := of.count()
		lengths = append(lengths, l.least-1, l.most, l.most+1)
	}
	for _, n := range lengths {
		if n < 0 || n > longestItems || !own.has(n) {
			continue
		}
		if v, ok := q.items(f, n, depth, false); ok && !yield(v) {
			return false
		}
		if v, ok := q.items(f, n, depth, true); ok && !yield(v) {
			return false
		}
	}
	for _, of := range like {
		last := max(f.prefixes(), of.prefixes())
		for i := range last + 1 {
			one, found := q.counter(f.item(i), of.item(i), depth+1)
			v, ok := q.items(f, max(own.least, i+1), depth, f.unique())
			if found && ok && len(v) > i {
				if v[i] = one; !yield(v) {
					return false
				}
			}
		}
	}
	return true
}

// held puts what the array has to contain at its end.
func (q *question) held(f *flat, all []Value, depth int) []Value {
	for _, s := range f.rules {
		if s.holds == nil {
			continue
		}
		for n := range min(s.holdsN.least, len(all)) {
			at := len(all) - 1 - n
			one, found := q.sample(f.item(at).and(s.holds), depth+1)
			if !found {
				return all
			}
			if all[at] = one; n > 0 && f.unique() && hasValue(all[at+1:], one) {
				all[at] = q.another(f.item(at).and(s.holds), all[at+1:], depth+1)
			}
		}
	}
	return all
}

// items makes an array of samples: all alike, or each another one where there are two.
func (q *question) items(f *flat, n, depth int, differ bool) ([]Value, bool) {
	all := make([]Value, 0, n)
	for i := range n {
		found := q.sampled(f.item(i), depth+1)
		if len(found) == 0 {
			return nil, false
		}
		one := found[0]
		if differ && i > 0 {
			one = found[len(found)-1]
			if i > 1 && hasValue(all, one) {
				if one = q.another(f.item(i), all, depth+1); one == nil {
					return nil, false
				}
			}
		}
		all = append(all, one)
	}
	return q.held(f, all, depth), true
}

// another is a value that is not among others; nil where none is found.
func (q *question) another(c conj, others []Value, depth int) Value {
	for v := range q.counters(c, nil, depth) {
		if v != nil && !hasValue(others, v) && c.has(v) == Yes {
			return v
		}
	}
	return nil
}

// completed is an object with what its members, and the number of them, need besides.
func (q *question) completed(f *flat, v map[string]Value, depth int) map[string]Value {
	names, _ := f.names()
	add := func(name string) {
		if _, has := v[name]; !has {
			side, _ := f.side(name)
			if one, found := q.sample(side, depth+1); found {
				v[name] = one
			}
		}
	}
	for range 4 {
		for _, s := range f.rules {
			for name, others := range s.needs {
				for _, other := range others {
					if _, has := v[name]; has {
						add(other)
					}
				}
			}
		}
	}
	size := q.size(f)
	for i := 0; i < len(names) && len(v) < size.least; i++ {
		add(names[i])
	}
	for i := 0; i < longestItems && len(v) < size.least; i++ {
		add("other" + strconv.Itoa(i))
	}
	return v
}

// someMembers are objects with the members that they need, with all, and with more or less.
func (q *question) someMembers(f *flat, like []*flat, depth int, give func(Value) bool) bool {
	yield := func(v map[string]Value) bool { return give(q.completed(f, v, depth)) }
	names, closed := f.names()
	least, ok := q.members(f, f.required(), depth)
	if !ok {
		return true
	}
	most := maps.Clone(least)
	for _, name := range names {
		if _, has := most[name]; has || depth > 6 {
			continue
		}
		if side, _ := f.side(name); !q.isEmpty(side) {
			if v, found := q.sample(side, depth+1); found {
				most[name] = v
			}
		}
	}
	if !yield(maps.Clone(most)) || !yield(maps.Clone(least)) {
		return false
	}
	for _, name := range names {
		if _, has := most[name]; has {
			v := maps.Clone(most)
			if delete(v, name); !yield(v) {
				return false
			}
			v = maps.Clone(least)
			if v[name] = most[name]; !yield(v) {
				return false
			}
		}
	}
	for _, of := range like {
		theirs, _ := of.names()
		all := union(names, theirs)
		for _, s := range of.rules {
			all = union(union(all, s.required), sortedNames(s.needs))
			if s.names != nil {
				for v := range q.counters(conj{}.and(s.of.Of(jsontext.Value(`{"type":"string"}`))), conj{s.names}, depth+1) {
					if name, is := v.(string); is && s.names.has(name, 0) == No && f.canHave(name) && len(name) < 100 {
						all = append(all, name)
						break
					}
				}
			}
		}
		if !closed {
			all = append(all, "other")
			for _, s := range f.rules {
				for _, m := range s.matching {
					all = append(all, textsLike(m.text, nil)...)
				}
			}
		}
		for _, name := range all {
			own, _ := f.side(name)
			to, _ := of.side(name)
			for _, base := range []map[string]Value{most, least} {
				one, found := q.counter(own, to, depth+1)
				if !found { // that it is there may be enough
					one, found = q.sample(own, depth+1)
				}
				if found {
					v := maps.Clone(base)
					if v[name] = one; !yield(v) {
						return false
					}
				}
			}
		}
	}
	return q.byNumber(f, like, least, depth, yield)
}

// byNumber are objects with as many members as the bounds say.
func (q *question) byNumber(
	f *flat,
	like []*flat,
	least map[string]Value,
	depth int,
	yield func(map[string]Value) bool,
) bool {
	for _, of := range append([]*flat{f}, like...) {
		for _, s := range of.rules {
			for _, n := range []int{s.size.least, s.size.most, s.size.most + 1} {
				v := maps.Clone(least)
				for i := 0; len(v) < n && n <= longestItems && i < n; i++ {
					name := "other" + strconv.Itoa(i)
					side, _ := f.side(name)
					one, found := q.sample(side, depth+1)
					if !found {
						break
					}
					v[name] = one
				}
				if len(v) == n && !yield(v) {
					return false
				}
			}
		}
	}
	return true
}

// members makes an object with some members.
func (q *question) members(f *flat, names []string, depth int) (map[string]Value, bool) {
	all := map[string]Value{}
	for _, name := range names {
		side, _ := f.side(name)
		v, found := q.sample(side, depth+1)
		if !found {
			return nil, false
		}
		all[name] = v
	}
	return all, true
}

// Kinds are the names of the types that values of the set can have; all of them where that is not known.
func (s *Set) Kinds() (names []string) {
	all, few := newQuestion(s.of).flats(conj{s})
	if !few {
		return strings.Split(anything.String(), ", ")
	}
	for _, f := range all {
		if name := f.kind.String(); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// Constant is the one text that a member has in every value of the set; "" where there are several, or none.
func (s *Set) Constant(member string) (text string) {
	q := newQuestion(s.of)
	all, few := q.flats(conj{s})
	if !few {
		return ""
	}
	for i := range all {
		side, _ := all[i].side(member)
		values, few := q.flats(side)
		if !few || len(values) != 1 || len(values[0].values) != 1 {
			return ""
		}
		v, is := values[0].values[0].(string)
		if !is || text != "" && text != v {
			return ""
		}
		text = v
	}
	return text
}
