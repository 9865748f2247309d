package sets

import (
	"slices"
	"strconv"

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
