package sets

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// A Difference is one between two schemas, at its place.
type Difference struct {
	Pointer string // to it in the new document; in the old one where it is gone
	Text    string // a sentence without its full stop
	// Safe is Yes where it is proved that nothing breaks, and No where Witness shows a break: a value at the place that
	// may come from one side and that the other does not expect.
	Safe    Verdict
	Witness jsontext.Value
}

// A Comparison compares schemas of two documents that were made for each other ([New]). It is not safe for concurrent use.
type Comparison struct {
	q    *question
	read bool // what the new schema allows must be in the old one; else the other way round
}

// Compare prepares the comparison of schemas with those of another document, for their direction: what clients send, or
// read.
func Compare(of *Schemas) *Comparison {
	return &Comparison{newQuestion(of), of.direction == Read}
}

// Differences are those between two schemas that accept different values, with their places below two pointers. The
// same values by other words are no difference, except a default or readOnly.
func (c *Comparison) Differences(before, after *Set, from, to string) []Difference {
	d := differing{Comparison: c, seen: map[[2]*Set]bool{}}
	d.meanings(before, after, to, 0)
	hints := d.all
	d.all, d.seen = nil, map[[2]*Set]bool{}
	safe, witness := c.isSafe(before, after)
	if safe == Yes && c.isProved(after, before) {
		return hints
	}
	d.differ(before, after, from, to)
	if d.all == nil {
		d.add(to, "other values are possible", safe, witness)
	}
	return append(d.settled(to, safe, witness), hints...)
}

// isSafe reports whether a change from one schema to another breaks nobody.
func (c *Comparison) isSafe(before, after *Set) (Verdict, Value) {
	x, y := before, after
	if c.read {
		x, y = after, before
	}
	c.again()
	if c.q.within(conj{x}, y) == Yes {
		return Yes, nil
	}
	c.again()
	v, found := c.q.counter(conj{x}, conj{y}, 0)
	if found {
		return No, v
	}
	return Maybe, nil
}

// again gives the next question all its steps.
func (c *Comparison) again() { c.q.steps, *c.q.left = 0, mostSteps }

// isProved reports whether a change is safe, without looking for a value that shows that it is not.
func (c *Comparison) isProved(before, after *Set) bool {
	x, y := before, after
	if c.read {
		x, y = after, before
	}
	c.again()
	return c.q.within(conj{x}, y) == Yes
}

type differing struct {
	*Comparison
	all  []Difference
	seen map[[2]*Set]bool
}

func (d *differing) add(at, text string, safe Verdict, witness Value) {
	one := Difference{Pointer: at, Text: text, Safe: safe}
	if safe == No {
		one.Witness = Text(witness)
	}
	d.all = append(d.all, one)
}

// settled holds what was found place by place against what is known of the whole.
func (d *differing) settled(at string, safe Verdict, witness Value) []Difference {
	breaks := slices.ContainsFunc(d.all, func(one Difference) bool { return one.Safe == No })
	switch {
	case safe == Yes:
		for i := range d.all {
			d.all[i].Safe, d.all[i].Witness = Yes, nil
		}
	case safe == Maybe:
		for i := range d.all {
			d.all[i].Safe, d.all[i].Witness = min(max(d.all[i].Safe, Maybe), Maybe), nil
		}
	case !breaks && len(d.all) == 1:
		d.all[0].Safe, d.all[0].Witness = No, Text(witness)
	case !breaks:
		d.add(at, "together the changes make other values possible", No, witness)
	}
	return d.all
}

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

// differ finds the differences of two sets, place by place.
func (d *differing) differ(before, after *Set, from, to string) {
	types := to // where null is accepted, which may be around what else is
	if other, _ := after.orNull(); other == nil {
		_, types = plain(after, to)
	}
	before, from = plain(before, from)
	after, to = plain(after, to)
	if pair := [2]*Set{before, after}; d.seen[pair] || len(d.all) > mostDifferences {
		return
	} else {
		d.seen[pair] = true
	}
	if d.isProved(before, after) && d.isProved(after, before) {
		return
	}
	if before.none || after.none {
		d.patch(before, after,
			to,
			map[bool]string{true: "no value is possible any more", false: "values are possible at all"}[after.none],
			func(s *Set) { *s = *after },
		)
		return
	}
	if d.values(before, after, to, types); before.kinds&after.kinds == 0 {
		return // all else is about other values
	}
	d.sizes(before, after, to)
	d.objects(before, after, from, to)
	d.arrays(before, after, from, to)
	d.choices(before, after, from, to)
}

// mostDifferences bounds those of one schema.
const mostDifferences = 100

// patch judges one change by itself: before with that of after alone.
func (d *differing) patch(before, after *Set, at, text string, change func(*Set)) {
	changed := before.copy()
	id := changed.id
	change(changed)
	changed.id = id
	safe, witness := d.isSafe(before, changed)
	if safe == Yes && d.isProved(changed, before) {
		return // by itself it changes nothing
	}
	if safe == No && !d.shows(witness, before, after) { // other changes of the same schema have their say
		safe, witness = d.isSafe(before, after)
	}
	d.add(at, text, safe, witness)
}

// shows reports whether a value shows that a change breaks somebody.
func (d *differing) shows(v Value, before, after *Set) bool {
	if d.read {
		before, after = after, before
	}
	return before.Has(v) == Yes && after.Has(v) == No
}

// values are the keywords about types, enumerations and single values.
func (d *differing) values(before, after *Set, at, types string) {
	if before.kinds != after.kinds {
		gone, more := before.kinds&^after.kinds, after.kinds&^before.kinds
		text := "the type is " + after.kinds.String() + ", and was " + before.kinds.String()
		switch {
		case before.kinds == anything:
			text = "the type is " + after.kinds.String() + ", where every type was possible"
		case after.kinds == anything:
			text = "every type is possible, and it was " + before.kinds.String()
		case more == 0:
			text = "the type " + gone.String() + " is gone"
		case gone == 0:
			text = "the type " + more.String() + " is possible as well"
		}
		d.patch(before, after, types+"/type", text, func(s *Set) {
			s.kinds = after.kinds
			if before.kinds&after.kinds == 0 { // the other keywords are about other values
				s.hasEnum, s.enum, s.low, s.high, s.steps = after.hasEnum, after.enum, after.low, after.high, after.steps
				s.lengths, s.patterns, s.formats = after.lengths, after.patterns, after.formats
			}
		})
	}
	if before.hasEnum != after.hasEnum || !sameValues(before.enum, after.enum) {
		d.enumerations(before, after, at)
	}
	for _, k := range []struct {
		keyword       string
		before, after []bound
		set           func(*Set)
	}{
		{"minimum", before.low, after.low, func(s *Set) { s.low = after.low }},
		{"maximum", before.high, after.high, func(s *Set) { s.high = after.high }},
	} {
		if !slices.EqualFunc(
			k.before,
			k.after,
			func(a, b bound) bool { return a.exclusive == b.exclusive && equal(a.at, b.at) },
		) {
			d.patch(before, after, at+"/"+k.keyword, turned(k.keyword, boundText(k.before), boundText(k.after)), k.set)
		}
	}
	if !slices.EqualFunc(before.steps, after.steps, func(a, b *Number) bool { return equal(a, b) }) {
		d.patch(before, after,
			at+"/multipleOf",
			turned("multipleOf", numbersText(before.steps), numbersText(after.steps)),
			func(s *Set) { s.steps = after.steps },
		)
	}
	if !slices.EqualFunc(before.patterns, after.patterns, func(a, b pattern) bool { return a.text == b.text }) {
		d.patch(before, after,
			at+"/pattern",
			turned("pattern", patternsText(before.patterns), patternsText(after.patterns)),
			func(s *Set) { s.patterns = after.patterns },
		)
	}
	if !slices.Equal(before.formats, after.formats) {
		d.patch(before, after,
			at+"/format",
			turned("format", strings.Join(before.formats, ", "), strings.Join(after.formats, ", ")),
			func(s *Set) { s.formats = after.formats },
		)
	}
	if !slices.Equal(before.opaque, after.opaque) || !slices.Equal(before.odd, after.odd) {
		d.patch(before, after,
			at,
			"rules changed that can only be compared as they are written ("+oddNames(before, after)+")",
			func(s *Set) {
				s.opaque, s.odd, s.not, s.when, s.holds, s.holdsN = after.opaque, after.odd, after.not, after.when, after.holds, after.holdsN
			},
		)
	}
}

// oddNames are the keywords of rules that are not computed with, and differ.
func oddNames(before, after *Set) string {
	var names []string
	for name := range membersOf(after.text) {
		names = append(names, name)
	}
	for name := range membersOf(before.text) {
		names = append(names, name)
	}
	slices.Sort(names)
	names = slices.DeleteFunc(slices.Compact(names), func(name string) bool {
		return !slices.Contains(
			[]string{
				"not",
				"if",
				"contains",
				"dependentSchemas",
				"unevaluatedProperties",
				"unevaluatedItems",
				"$dynamicRef",
				"contentEncoding",
				"contentMediaType",
				"contentSchema",
				"formatMinimum",
				"formatMaximum",
			},
			name,
		)
	})
	return strings.Join(names, ", ")
}

// turned says that a keyword has another value; "" is none.
func turned(keyword, before, after string) string {
	switch {
	case before == "":
		return keyword + " is " + after + ", where there was none"
	case after == "":
		return keyword + " is gone (it was " + before + ")"
	}
	return keyword + " went from " + before + " to " + after
}

func (d *differing) enumerations(before, after *Set, at string) {
	set := func(s *Set) { s.hasEnum, s.enum = after.hasEnum, after.enum }
	at += "/enum"
	if !before.hasEnum || !after.hasEnum {
		text := "only some values are possible: " + valuesText(after.enum)
		if before.hasEnum {
			text = "values are possible in addition to " + valuesText(before.enum)
		}
		d.patch(before, after, at, text, set)
		return
	}
	without := func(a, b []Value) (left []Value) {
		for _, v := range a {
			if !hasValue(b, v) {
				left = append(left, v)
			}
		}
		return left
	}
	if gone := without(before.enum, after.enum); gone != nil {
		d.patch(before, after,
			at,
			valuesText(gone)+" is gone from the enum",
			func(s *Set) { s.enum = without(before.enum, gone) },
		)
	}
	if more := without(after.enum, before.enum); more != nil {
		d.patch(before, after,
			at,
			valuesText(more)+" is new in the enum",
			func(s *Set) { s.enum = append(slices.Clone(before.enum), more...) },
		)
	}
}

// sizes are the keywords about numbers of characters, items and members.
func (d *differing) sizes(before, after *Set, at string) {
	for _, k := range []struct {
		least, most   string
		before, after span
		of            func(*Set) *span
	}{
		{"minLength", "maxLength", before.lengths, after.lengths, func(s *Set) *span { return &s.lengths }},
		{"minItems", "maxItems", before.count, after.count, func(s *Set) *span { return &s.count }},
		{"minProperties", "maxProperties", before.size, after.size, func(s *Set) *span { return &s.size }},
	} {
		if k.before.least != k.after.least {
			d.patch(before, after,
				at+"/"+k.least,
				turned(k.least, spanText(k.before.least, 0), spanText(k.after.least, 0)),
				func(s *Set) { k.of(s).least = k.after.least },
			)
		}
		if k.before.most != k.after.most {
			d.patch(before, after,
				at+"/"+k.most,
				turned(k.most, spanText(k.before.most, -1), spanText(k.after.most, -1)),
				func(s *Set) { k.of(s).most = k.after.most },
			)
		}
	}
	if before.unique != after.unique {
		text := "items can be the same"
		if after.unique {
			text = "items must differ (uniqueItems)"
		}
		d.patch(before, after, at+"/uniqueItems", text, func(s *Set) { s.unique = after.unique })
	}
}

// objects are the keywords about members.
func (d *differing) objects(before, after *Set, from, to string) {
	for _, name := range union(before.order, after.order) {
		b, a := before.members[name], after.members[name]
		switch {
		case b != nil && a != nil:
			d.differ(b, a, before.place(from, name), after.place(to, name))
		case b != nil:
			d.patch(before, after, before.place(from, name), "the member "+name+" is gone", func(s *Set) {
				s.members = withMember(s.members, name, nil)
				s.order = slices.DeleteFunc(slices.Clone(s.order), func(other string) bool { return other == name })
				s.additional, s.matching = after.additional, after.matching
				if !slices.Contains(after.required, name) {
					s.required = slices.DeleteFunc(
						slices.Clone(s.required),
						func(other string) bool { return other == name },
					)
				}
			})
		default:
			text := "the member " + name + " is new"
			if slices.Contains(after.required, name) {
				text += ", and required"
			}
			d.patch(before, after, after.place(to, name), text, func(s *Set) {
				s.members, s.order = withMember(s.members, name, a), append(slices.Clone(s.order), name)
				if slices.Contains(after.required, name) {
					s.required = union(s.required, []string{name})
				}
			})
		}
	}
	for _, name := range union(before.required, after.required) {
		was, is := slices.Contains(before.required, name), slices.Contains(after.required, name)
		switch {
		case was == is || before.members[name] == nil != (after.members[name] == nil): // said with the member
		case is:
			d.patch(before, after,
				to+"/required",
				"the member "+name+" is required",
				func(s *Set) { s.required = union(s.required, []string{name}) },
			)
		default:
			d.patch(before, after, to+"/required", "the member "+name+" is no longer required", func(s *Set) {
				s.required = slices.DeleteFunc(
					slices.Clone(s.required),
					func(other string) bool { return other == name },
				)
			})
		}
	}
	if !d.alike(before.additional, after.additional) {
		text := "further members have another schema"
		switch {
		case after.additional != nil && after.additional.none:
			text = "no further members are possible"
		case before.additional != nil && before.additional.none:
			text = "further members are possible"
		}
		d.patch(before, after, to+"/additionalProperties", text, func(s *Set) { s.additional = after.additional })
	}
	if !slices.EqualFunc(
		before.matching,
		after.matching,
		func(a, b matching) bool { return a.text == b.text && d.alike(a.set, b.set) },
	) {
		d.patch(before, after,
			to+"/patternProperties",
			"members whose names match a pattern have another schema",
			func(s *Set) { s.matching = after.matching },
		)
	}
	if !d.alike(before.names, after.names) {
		d.patch(before, after,
			to+"/propertyNames",
			"other names of members are possible",
			func(s *Set) { s.names = after.names },
		)
	}
	if !slices.Equal(needsText(before.needs), needsText(after.needs)) {
		d.patch(before, after,
			to+"/dependentRequired",
			"members need others in another way (dependentRequired)",
			func(s *Set) { s.needs = after.needs },
		)
	}
}

func withMember(all map[string]*Set, name string, set *Set) map[string]*Set {
	copied := make(map[string]*Set, len(all)+1)
	for other, one := range all {
		copied[other] = one
	}
	if delete(copied, name); set != nil {
		copied[name] = set
	}
	return copied
}

// alike reports whether two sets are the same; nil is everything.
func (d *differing) alike(a, b *Set) bool {
	switch {
	case a == nil && b == nil:
		return true
	case a == nil:
		a = b.of.Of(jsontext.Value("true"))
	case b == nil:
		b = a.of.Of(jsontext.Value("true"))
	}
	return d.isProved(a, b) && d.isProved(b, a)
}

// arrays are the keywords about items.
func (d *differing) arrays(before, after *Set, from, to string) {
	switch {
	case before.items != nil && after.items != nil:
		d.differ(before.items, after.items, from+"/items", to+"/items")
	case !d.alike(before.items, after.items):
		text := "items have a schema, where there was none"
		if after.items == nil {
			text = "items can be anything"
		}
		d.patch(before, after, to+"/items", text, func(s *Set) { s.items = after.items })
	}
	if len(before.prefix) == len(after.prefix) {
		for i := range before.prefix {
			place := "/prefixItems/" + strconv.Itoa(i)
			d.differ(before.prefix[i], after.prefix[i], from+place, to+place)
		}
	} else {
		d.patch(before, after, to+"/prefixItems", "the first items have other schemas", func(s *Set) { s.prefix, s.items = after.prefix, after.items })
	}
}

// choices are the keywords that combine schemas.
func (d *differing) choices(before, after *Set, from, to string) {
	if len(before.all) == len(after.all) {
		for i := range before.all {
			place := "/allOf/" + strconv.Itoa(i)
			d.differ(before.all[i], after.all[i], from+place, to+place)
		}
	} else {
		d.patch(before, after, to+"/allOf", "other schemas must hold as well", func(s *Set) { s.all = after.all })
	}
	d.alternatives(before, after, from, to, "anyOf", before.any, after.any, func(s *Set, all []*Set) { s.any = all })
	d.alternatives(before, after, from, to, "oneOf", before.one, after.one, func(s *Set, all []*Set) {
		s.one, s.oneKey = all, "changed "+strconv.Itoa(s.id)
	})
}

func (d *differing) alternatives(before, after *Set, from, to, keyword string, was, is []*Set, set func(*Set, []*Set)) {
	if was == nil || is == nil {
		if was != nil || is != nil {
			d.patch(before, after, to+"/"+keyword, "there are other alternatives ("+keyword+")", func(s *Set) { set(s, is) })
		}
		return
	}
	left := slices.Clone(is)
	var pairs [][2]int
	for i, one := range was {
		j := slices.IndexFunc(left, func(other *Set) bool { return other != nil && d.alike(one, other) })
		if j >= 0 {
			left[j] = nil
		}
		pairs = append(pairs, [2]int{i, j})
	}
	for k, p := range pairs {
		if p[1] >= 0 {
			continue
		}
		one := was[p[0]]
		j := slices.IndexFunc(left, func(other *Set) bool { return other != nil && d.areMeant(one, other) })
		if j < 0 {
			d.patch(before, after,
				from+"/"+keyword+"/"+strconv.Itoa(p[0]),
				"the alternative "+nameOf(one)+" is gone",
				func(s *Set) {
					set(s, slices.DeleteFunc(slices.Clone(was), func(other *Set) bool { return other == one }))
				},
			)
			continue
		}
		pairs[k][1], left[j] = j, nil
		place := "/" + keyword + "/"
		d.differ(one, is[j], from+place+strconv.Itoa(p[0]), to+place+strconv.Itoa(j))
	}
	for j, one := range left {
		if one != nil {
			d.patch(before, after, to+"/"+keyword+"/"+strconv.Itoa(j), "the alternative "+nameOf(one)+" is new", func(s *Set) {
				set(s, append(slices.Clone(was), one))
			})
		}
	}
}

// areMeant reports whether two alternatives that differ are one that has changed: of one name, or of one kind only they
// have.
func (d *differing) areMeant(a, b *Set) bool {
	return a.ref != "" && a.ref == b.ref || a.ref == "" && b.ref == "" && a.kinds == b.kinds && a.kinds != anything
}

// nameOf is what an alternative is called.
func nameOf(s *Set) string {
	if s.ref != "" {
		return s.ref[strings.LastIndexByte(s.ref, '/')+1:]
	}
	if s.kinds != anything {
		return s.kinds.String()
	}
	return "without a name"
}

// meanings finds other defaults, and members that only one side sets or sees from now on: they change what a request
// means, though the same ones are accepted.
func (d *differing) meanings(before, after *Set, at string, depth int) {
	before, _ = plain(before, at)
	after, at = plain(after, at)
	if pair := [2]*Set{before, after}; d.seen[pair] || depth > deepest {
		return
	} else {
		d.seen[pair] = true
	}
	if !d.read && (before.hasDef != after.hasDef || before.hasDef && !equal(before.fallback, after.fallback)) {
		var was, is string
		if before.hasDef {
			was = string(Text(before.fallback))
		}
		if after.hasDef {
			is = string(Text(after.fallback))
		}
		d.add(at+"/default", turned("the default", was, is), Maybe, nil)
	}
	for _, word := range []string{"readOnly", "writeOnly"} {
		if was, is := says(before, word), says(after, word); was != is {
			text := "it is no longer " + word
			if is {
				text = "it is " + word
			}
			d.add(at+"/"+word, text, Maybe, nil)
		}
	}
	for name, m := range before.members {
		if other := after.members[name]; other != nil {
			d.meanings(m, other, after.place(at, name), depth+1)
		}
	}
	if before.items != nil && after.items != nil {
		d.meanings(before.items, after.items, at+"/items", depth+1)
	}
	for i := range min(len(before.all), len(after.all)) {
		d.meanings(before.all[i], after.all[i], at+"/allOf/"+strconv.Itoa(i), depth+1)
	}
}

func says(s *Set, word string) bool {
	for name, value := range membersOf(s.text) {
		if name == word {
			return value.Kind() == jsontext.KindTrue
		}
	}
	return false
}

func escape(name string) string { return strings.NewReplacer("~", "~0", "/", "~1").Replace(name) }

// String names kinds as JSON Schema does.
func (k kinds) String() string {
	var names []string
	for _, name := range []string{"null", "boolean", "number", "integer", "string", "array", "object"} {
		if of := kindNames[name]; k&of == of {
			names = append(names, name)
			k &^= of
		}
	}
	if k&fraction != 0 {
		names = append(names, "number")
	}
	return strings.Join(names, ", ")
}

func sameValues(a, b []Value) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(v Value) bool { return !hasValue(b, v) })
}

func valuesText(all []Value) string {
	var texts []string
	for _, v := range all {
		texts = append(texts, string(Text(v)))
	}
	if len(texts) > 8 {
		texts = append(texts[:8], fmt.Sprintf("and %d more", len(texts)-8))
	}
	return strings.Join(texts, ", ")
}

func boundText(all []bound) string {
	var texts []string
	for _, b := range all {
		text := b.at.text
		if b.exclusive {
			text += " (exclusive)"
		}
		texts = append(texts, text)
	}
	return strings.Join(texts, " and ")
}

func numbersText(all []*Number) string {
	var texts []string
	for _, n := range all {
		texts = append(texts, n.text)
	}
	return strings.Join(texts, " and ")
}

func patternsText(all []pattern) string {
	var texts []string
	for _, p := range all {
		texts = append(texts, p.text)
	}
	return strings.Join(texts, " and ")
}

func spanText(n, none int) string {
	if n == none {
		return ""
	}
	return strconv.Itoa(n)
}

func needsText(needs map[string][]string) (all []string) {
	for _, name := range sortedNames(needs) {
		others := slices.Clone(needs[name])
		slices.Sort(others)
		all = append(all, name+" "+strings.Join(others, " "))
	}
	return all
}
