package sets

import (
	"math/big"
	"slices"
	"strings"
)

// mostSteps bounds what one question costs.
const mostSteps = 200_000

// A question is one that is being answered.
type question struct {
	steps    int
	left     *int // steps of values that are held against sets
	apart    map[string][]flat
	inRefs   map[*Set]int
	empty    map[string]bool
	emptying map[string]bool
	assumed  map[string]int // pairs that are being proved, with their depth
	proved   map[string]Verdict
	lowest   int // the outermost assumption that was used
	samples  map[string][]Value
	sampling map[string]bool
	// countered are values that are in one conjunction and not in another; nil where none is known.
	countered map[string]Value
}

func newQuestion(of *Schemas) *question {
	*of.left = mostSteps
	return &question{
		left:      of.left,
		apart:     map[string][]flat{},
		inRefs:    map[*Set]int{},
		empty:     map[string]bool{},
		emptying:  map[string]bool{},
		assumed:   map[string]int{},
		proved:    map[string]Verdict{},
		samples:   map[string][]Value{},
		sampling:  map[string]bool{},
		countered: map[string]Value{},
		lowest:    noAssumption,
	}
}

const noAssumption = 1 << 30

// Within reports whether every value of a set is in another one. No comes with a value that is in the first alone.
func (s *Set) Within(of *Set) (Verdict, Value) {
	q := newQuestion(s.of)
	if q.within(conj{s}, of) == Yes {
		return Yes, nil
	}
	for v := range q.counters(conj{s}, conj{of}, 0) {
		if s.Has(v) == Yes && of.Has(v) == No {
			return No, v
		}
	}
	return Maybe, nil
}

// mostSpent bounds the steps that the questions IsEmpty cost for one document.
const mostSpent = 10 * mostSteps

// IsEmpty reports whether no value is in the set: Yes and No are certain. Asked of a document's sets again and again it
// gives up in the end.
func (s *Set) IsEmpty() Verdict {
	if s.of.spent > mostSpent {
		return Maybe
	}
	q := newQuestion(s.of)
	defer func() { s.of.spent += q.steps + mostSteps - *q.left }()
	if q.isEmpty(conj{s}) {
		return Yes
	}
	if _, has := q.sample(conj{s}, 0); has {
		return No
	}
	return Maybe
}

// within proves that c is in b, or does not: it never returns No.
func (q *question) within(c conj, b *Set) Verdict {
	if b.open || c.contains(b) {
		return Yes
	}
	key := c.key() + "in " + conj{b}.key()
	if depth, is := q.assumed[key]; is { // what is proved of smaller values holds for larger ones
		q.lowest = min(q.lowest, depth)
		return Yes
	}
	if known, has := q.proved[key]; has {
		return known
	}
	if q.steps++; q.steps > mostSteps {
		return Maybe
	}
	all, few := q.flats(c)
	if !few {
		return Maybe
	}
	before := q.lowest
	q.lowest = noAssumption
	q.assumed[key] = len(q.assumed)
	known := Yes
	for i := range all {
		if q.isEmptyFlat(&all[i]) {
			continue
		}
		if known = q.inside(&all[i], b, 0); known != Yes {
			known = Maybe
			break
		}
	}
	delete(q.assumed, key)
	if q.lowest >= len(q.assumed) { // it rests on nothing further out
		q.proved[key] = known
		q.lowest = noAssumption
	}
	q.lowest = min(q.lowest, before)
	return known
}

// inside proves that a flat is in b.
func (q *question) inside(f *flat, b *Set, depth int) Verdict {
	if q.steps++; q.steps > mostSteps || depth > deepest {
		return Maybe
	}
	if f.rules.contains(b) {
		return Yes
	}
	if f.finite {
		known := Yes
		for _, v := range f.values {
			known = min(known, b.has(v, 0))
		}
		if known != Maybe { // else what is asked may be what f says as well
			return max(known, Maybe)
		}
	}
	if b.none || f.kind&b.kinds == 0 || b.hasEnum && !f.isAmong(b.enum) || len(b.odd) > 0 && !q.share(f, b.opaque) {
		return Maybe
	}
	if f.kind == number && b.kinds&number != number && !(b.kinds&integer != 0 && f.whole) {
		return Maybe
	}
	if !q.share(f, b.opaque) && !q.canBreakNothing(f, b) {
		return Maybe
	}
	known := Yes
	switch f.kind {
	case number:
		known = f.numbersIn(b)
	case text:
		known = f.textsIn(b)
	case array:
		known = q.itemsIn(f, b)
	case object:
		known = q.membersIn(f, b)
	}
	if known != Yes {
		return Maybe
	}
	return q.insideChoices(f, b, depth)
}

// isAmong reports whether all values are known, and are some of others.
func (f *flat) isAmong(all []Value) bool {
	if !f.finite {
		return false
	}
	has := among(all)
	return !slices.ContainsFunc(f.values, func(v Value) bool { return !has(v) })
}

// share reports whether the constraints of b that are only compared are also those of f.
func (q *question) share(f *flat, opaque []string) bool {
	for _, one := range opaque {
		if _, has := slices.BinarySearch(f.opaque, one); !has {
			return false
		}
	}
	return true
}

// canBreakNothing reports whether the constraints of b that are only compared are about other kinds of value, or are
// known to hold.
func (q *question) canBreakNothing(f *flat, b *Set) bool {
	if len(b.odd) > 0 {
		return false
	}
	for _, one := range b.opaque {
		if _, has := slices.BinarySearch(f.opaque, one); has {
			continue
		}
		switch about := aboutKind(one); {
		case about != 0 && about&f.kind == 0:
		case strings.HasPrefix(one, "not") && b.not != nil && q.disjoint(f, b.not):
		case strings.HasPrefix(one, "if") && b.when != nil && q.insideBranches(f, b):
		default:
			return false
		}
	}
	return true
}

// aboutKind is the kind of value that a constraint is about; 0 for all.
func aboutKind(opaque string) kinds {
	for _, of := range []struct {
		prefix string
		kind   kinds
	}{{"contains", array}, {"content", text}, {"format", text}, {"dependentSchemas", object}} {
		if strings.HasPrefix(opaque, of.prefix) {
			return of.kind
		}
	}
	return 0
}

// insideBranches is about if, then and else.
func (q *question) insideBranches(f *flat, b *Set) bool {
	in := func(i int) bool { return b.when[i] == nil || q.inside(f, b.when[i], 1) == Yes }
	switch {
	case q.inside(f, b.when[0], 1) == Yes:
		return in(1)
	case q.disjoint(f, b.when[0]):
		return in(2)
	}
	return in(1) && in(2)
}

func (q *question) insideChoices(f *flat, b *Set, depth int) Verdict {
	if b.ref != "" {
		to := b.of.follow(b.ref)
		if to == nil || q.inside(f, to, depth+1) != Yes {
			return Maybe
		}
	}
	for _, one := range b.all {
		if q.inside(f, one, depth+1) != Yes {
			return Maybe
		}
	}
	if b.any != nil && !slices.ContainsFunc(b.any, func(one *Set) bool { return q.inside(f, one, depth+1) == Yes }) {
		return Maybe
	}
	if b.one == nil || q.share(f, []string{b.oneKey}) {
		return Yes
	}
	i := slices.IndexFunc(b.one, func(one *Set) bool { return q.inside(f, one, depth+1) == Yes })
	if i < 0 {
		return Maybe
	}
	for j, other := range b.one {
		if j != i && !q.disjoint(f, other) {
			return Maybe
		}
	}
	return Yes
}

func (f *flat) numbersIn(b *Set) Verdict {
	for _, lower := range []bool{true, false} {
		of, side := b.low, 1
		if !lower {
			of, side = b.high, -1
		}
		own := f.bound(lower)
		for _, want := range of {
			if own == nil || want.at.rat == nil {
				return Maybe
			}
			at := own.at.rat
			exclusive := own.exclusive
			if f.whole {
				n := ceil(at, exclusive)
				if !lower {
					n = floor(at, exclusive)
				}
				at, exclusive = new(big.Rat).SetInt(n), false
			}
			if c := at.Cmp(want.at.rat) * side; c < 0 || c == 0 && want.exclusive && !exclusive {
				return Maybe
			}
		}
	}
	for _, step := range b.steps {
		if !f.isStepping(step) {
			return Maybe
		}
	}
	for _, name := range b.formats {
		if !f.hasFormat(name) && !f.isOfSize(name) {
			return Maybe
		}
	}
	return Yes
}

// isOfSize reports whether the bounds are those of a format for numbers, or narrower (OpenAPI's registry of formats).
func (f *flat) isOfSize(format string) bool {
	bits := map[string]uint{"int8": 8, "int16": 16, "int32": 32, "int64": 64, "uint8": 8, "uint16": 16, "uint32": 32, "uint64": 64}[format]
	if bits == 0 {
		return format != "float" && format != "double" // others are about texts
	}
	low, high := f.bound(true), f.bound(false)
	if low == nil || high == nil || !f.whole {
		return false
	}
	most := new(big.Int).Lsh(big.NewInt(1), bits)
	least := new(big.Int)
	if format[0] == 'i' {
		most.Rsh(most, 1)
		least.Neg(most)
	}
	return new(big.Rat).SetInt(least).Cmp(low.at.rat) <= 0 && high.at.rat.Cmp(new(big.Rat).SetInt(most)) < 0
}

func (f *flat) hasFormat(name string) bool {
	return slices.ContainsFunc(f.rules, func(s *Set) bool { return slices.Contains(s.formats, name) })
}

func (f *flat) isStepping(step *Number) bool {
	if step.rat == nil {
		return false
	}
	one := &Number{"1", big.NewRat(1, 1)}
	if f.whole && isMultiple(one, step) == Yes {
		return true
	}
	return slices.ContainsFunc(f.rules, func(s *Set) bool {
		return slices.ContainsFunc(s.steps, func(own *Number) bool { return isMultiple(own, step) == Yes })
	})
}

func (f *flat) textsIn(b *Set) Verdict {
	if !f.lengths().within(b.lengths) {
		return Maybe
	}
	for _, p := range b.patterns {
		if !slices.ContainsFunc(f.rules, func(s *Set) bool {
			return slices.ContainsFunc(s.patterns, func(own pattern) bool { return own.text == p.text })
		}) {
			return Maybe
		}
	}
	for _, name := range b.formats {
		if !f.hasFormat(name) && !isOfNumbers(name) {
			return Maybe
		}
	}
	return Yes
}

func isOfNumbers(format string) bool {
	return unheld[format] && format != "password" && format != "binary" && format != "byte"
}

func (q *question) itemsIn(f *flat, b *Set) Verdict {
	count := f.count()
	if !count.within(b.count) || b.unique && !f.unique() && (count.most < 0 || count.most > 1) {
		return Maybe
	}
	n := max(f.prefixes(), len(b.prefix))
	for i := 0; i <= n && (count.most < 0 || i < count.most); i++ {
		to := b.items
		if i < len(b.prefix) {
			to = b.prefix[i]
		}
		item := f.item(i)
		if q.isEmpty(item) {
			break // there is none here, and none after it
		}
		if to != nil && q.within(item, to) != Yes {
			return Maybe
		}
	}
	return Yes
}

func (q *question) membersIn(f *flat, b *Set) Verdict {
	if !q.size(f).within(b.size) {
		return Maybe
	}
	required := f.required()
	for _, name := range b.required {
		if !slices.Contains(required, name) {
			return Maybe
		}
	}
	for name, others := range b.needs {
		if !q.needs(f, required, name, others) {
			return Maybe
		}
	}
	names, closed := f.names()
	if most := q.size(f).most; most >= 0 && most == len(required) {
		names, closed = required, true // there is room for no others
	} else {
		names = union(names, b.order)
	}
	for _, name := range names {
		if q.memberIn(f, b, name) != Yes {
			return Maybe
		}
	}
	if closed {
		return Yes
	}
	return q.othersIn(f, b)
}

func (q *question) needs(f *flat, required []string, name string, others []string) bool {
	if side, sure := f.side(name); sure && q.isEmpty(side) {
		return true
	}
	for _, other := range others {
		if !slices.Contains(required, other) &&
			!slices.ContainsFunc(f.rules, func(s *Set) bool { return slices.Contains(s.needs[name], other) }) {
			return false
		}
	}
	return true
}

func (q *question) memberIn(f *flat, b *Set, name string) Verdict {
	own, sure := f.side(name)
	if sure && q.isEmpty(own) || !f.canHave(name) {
		return Yes // it is never there
	}
	to, sure := b.side(name)
	if !sure || b.names != nil && b.names.has(name, 0) != Yes {
		return Maybe
	}
	for _, one := range to {
		if q.within(own, one) != Yes {
			return Maybe
		}
	}
	return Yes
}

// othersIn is about the members that neither side names.
func (q *question) othersIn(f *flat, b *Set) Verdict {
	others := f.others()
	none := q.isEmpty(others)
	if b.names != nil {
		var own conj
		for _, s := range f.rules {
			own = own.and(s.names)
		}
		texts := b.of.Of([]byte(`{"type":"string"}`))
		if q.within(own.and(texts), b.names) != Yes {
			return Maybe
		}
	}
	for _, m := range b.matching { // whatever f says of names that match, it says of those that match the same pattern
		own := others
		same := false
		for _, s := range f.rules {
			for _, mine := range s.matching {
				if mine.text == m.text {
					own, same = conj{}.and(mine.set), true
				}
			}
		}
		if !same && none && !q.hasMatching(f) {
			continue
		}
		if !same {
			own = nil // some pattern of f may apply, and not what is said of others
			if !q.hasMatching(f) {
				own = others
			}
		}
		if q.within(own, m.set) != Yes {
			return Maybe
		}
	}
	if b.additional == nil || b.additional.open {
		return Yes
	}
	for _, s := range f.rules {
		for _, mine := range s.matching {
			if !slices.ContainsFunc(b.matching, func(m matching) bool { return m.text == mine.text }) &&
				q.within(conj{}.and(mine.set), b.additional) != Yes {
				return Maybe
			}
		}
	}
	if none {
		return Yes
	}
	return q.within(others, b.additional)
}

func (q *question) hasMatching(f *flat) bool {
	return slices.ContainsFunc(f.rules, func(s *Set) bool { return len(s.matching) > 0 })
}
