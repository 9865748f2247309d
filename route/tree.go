package route

import (
	"cmp"
	"maps"
	"slices"
	"strings"
)

// AnyMethod, given to [Builder.Add], stands for every method that has no route
// of its own under the same template.
const AnyMethod = ""

// A Builder collects routes for a [Tree]. The zero Builder is empty and ready.
// It is not safe for concurrent use.
type Builder struct {
	root   branch
	routes []added
	shapes map[string][]int
}

type added struct {
	template Template
	method   string
}

// A branch is a node of the tree while it grows.
type branch struct {
	texts  map[string]*branch
	mixed  []*mixedBranch
	param  *branch
	rest   []entry
	leaves []entry
}

type mixedBranch struct {
	texts []string
	next  *branch
}

// A Clash is two routes of equal rank that one request could match.
type Clash struct {
	Earlier, Later int // the numbers that Add gave
}

// Add puts a route into the tree and returns its number: 0 for the first, then
// 1, and so on. A route that clashes with earlier ones is not added; the
// clashes say with which.
func (b *Builder) Add(method string, t Template) (int, []Clash) {
	n := len(b.routes)
	b.routes = append(b.routes, added{t, method})
	if clashes := b.clashes(n); clashes != nil {
		return n, clashes
	}
	at := &b.root
	for _, s := range t.segments {
		if s.rest {
			at.rest = append(at.rest, entry{method, int32(n)})
			return n, nil
		}
		at = at.child(s)
	}
	at.leaves = append(at.leaves, entry{method, int32(n)})
	return n, nil
}

func (b *branch) child(s segment) *branch {
	switch {
	case s.isText():
		if b.texts == nil {
			b.texts = map[string]*branch{}
		}
		next := b.texts[s.texts[0]]
		if next == nil {
			next = &branch{}
			b.texts[s.texts[0]] = next
		}
		return next
	case s.isWhole():
		if b.param == nil {
			b.param = &branch{}
		}
		return b.param
	}
	for _, m := range b.mixed {
		if slices.Equal(m.texts, s.texts) {
			return m.next
		}
	}
	m := &mixedBranch{texts: s.texts, next: &branch{}}
	b.mixed = append(b.mixed, m)
	return m.next
}

// A Tree finds the route for a method and a path. It is immutable and safe for
// concurrent use. The zero Tree is empty.
//
// It is laid out for the memory's sake: nodes, tables and entries are flat
// slices that refer to each other by number; text that leaves no choice is
// compared in one piece; a node's text children stand in one open hash table,
// probed with a hash made while the end of the segment is sought.
type Tree struct {
	nodes   []node
	slots   []slot
	entries []entry
	others  []others
	percent bool // some text holds a canonical escape, so paths with % need their canonical form
}

// A node is reached with a whole number of segments consumed.
type node struct {
	tail    string // text that must come first: "" or "/a/b", whole segments
	slots   uint32 // where the table of text children starts
	shift   uint8  // what brings a hash down to the table; 64: no table
	leaves  uint16 // how many methods end here
	leaf    uint32 // where they start in entries
	param   uint32 // the child for a whole-segment parameter; 0: none
	another uint32 // what else can follow: others[another-1]; 0: nothing
}

// others is what few nodes have: mixed segments, most text first, and {+rest}.
type others struct {
	mixed []mixed
	rest  []entry
}

type mixed struct {
	texts []string
	next  uint32
}

type slot struct {
	hash uint64
	text string
	next uint32 // 0: the slot is empty
}

type entry struct {
	method string
	route  int32
}

// Tree makes the tree. The Builder can go on to grow; trees made before do not
// change.
func (b *Builder) Tree() *Tree {
	t := &Tree{nodes: make([]node, 1)}
	t.freeze(0, &b.root)
	return t
}

// freeze lays out one branch as node number n, and what is below it.
func (t *Tree) freeze(n uint32, b *branch) {
	var tail strings.Builder
	for {
		text, only := b.onlyText()
		if only == nil {
			break
		}
		t.percent = t.percent || strings.Contains(text, "%")
		tail.WriteString("/" + text)
		b = only
	}
	at := node{tail: tail.String(), shift: 64, leaf: uint32(len(t.entries)), leaves: uint16(len(b.leaves))}
	t.entries = append(t.entries, b.leaves...)
	below := map[*branch]uint32{}
	number := func(c *branch) uint32 {
		t.nodes = append(t.nodes, node{})
		below[c] = uint32(len(t.nodes) - 1)
		return below[c]
	}
	if len(b.texts) > 0 {
		at.slots, at.shift = t.table(b.texts, number)
	}
	if b.param != nil {
		at.param = number(b.param)
	}
	if len(b.mixed) > 0 || len(b.rest) > 0 {
		o := others{rest: slices.Clip(b.rest)}
		ordered := slices.SortedFunc(slices.Values(b.mixed), func(x, y *mixedBranch) int {
			return cmp.Or(
				cmp.Compare(segment{texts: y.texts}.weight(), segment{texts: x.texts}.weight()),
				slices.Compare(x.texts, y.texts),
			)
		})
		for _, m := range ordered {
			t.percent = t.percent || slices.ContainsFunc(m.texts, func(s string) bool { return strings.Contains(s, "%") })
			o.mixed = append(o.mixed, mixed{m.texts, number(m.next)})
		}
		t.others = append(t.others, o)
		at.another = uint32(len(t.others))
	}
	t.nodes[n] = at
	for c, i := range below {
		t.freeze(i, c)
	}
}

// onlyText gives the one text child of a branch that offers no choice.
func (b *branch) onlyText() (string, *branch) {
	if len(b.texts) != 1 || len(b.mixed) > 0 || b.param != nil || len(b.rest) > 0 || len(b.leaves) > 0 {
		return "", nil
	}
	for text, only := range b.texts {
		return text, only
	}
	return "", nil
}

// table lays out the text children: at most half full, so that a probe rarely
// goes further than its first slot.
func (t *Tree) table(texts map[string]*branch, number func(*branch) uint32) (start uint32, shift uint8) {
	shift = 63
	for 1<<(64-shift) < 2*len(texts) {
		shift--
	}
	size := uint64(1) << (64 - shift)
	start = uint32(len(t.slots))
	t.slots = append(t.slots, make([]slot, size)...)
	table := t.slots[start:]
	for _, text := range slices.Sorted(maps.Keys(texts)) {
		t.percent = t.percent || strings.Contains(text, "%")
		_, hash := scan(text, 0)
		at := hash >> shift
		for table[at].next != 0 {
			at = (at + 1) & (size - 1)
		}
		table[at] = slot{hash, text, number(texts[text])}
	}
	return start, shift
}
