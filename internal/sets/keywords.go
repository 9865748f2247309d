package sets

import (
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

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
		has := among(b)
		for _, v := range a {
			if !has(v) {
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
