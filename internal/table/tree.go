package table

import (
	"cmp"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/segment"
)

// A branch is a node that still grows.
type branch struct {
	texts       []*branch          // in the order in which they came
	byText      map[string]*branch // once there are many
	mixed       []*branch          // more text first
	param, rest *branch
	of          segment.Segment
	end         end
}

// A grove makes branches, many at a time.
type grove struct {
	root    branch
	entries []entry // for the ends
	free    []branch
	made    int
}

func (g *grove) branch(of segment.Segment) *branch {
	if len(g.free) == 0 {
		g.free = make([]branch, min(256, 8+g.made))
	}
	b := &g.free[0]
	g.free = g.free[1:]
	g.made++
	b.of = of
	return b
}

// grow gives the branch at which a template ends, made if it is not there.
func (g *grove) grow(segments []segment.Segment) *branch {
	b := &g.root
	for _, s := range segments {
		b = b.child(g, s)
	}
	return b
}

func (b *branch) child(g *grove, s segment.Segment) *branch {
	made := func(at **branch) *branch {
		if *at == nil {
			*at = g.branch(s)
		}
		return *at
	}
	switch {
	case s.Rest:
		return made(&b.rest)
	case s.IsWhole():
		return made(&b.param)
	case !s.IsText():
		for _, m := range b.mixed {
			if slices.Equal(m.of.Texts, s.Texts) {
				return m
			}
		}
		b.mixed = append(b.mixed, g.branch(s))
		return b.mixed[len(b.mixed)-1]
	}
	return b.text(g, s)
}

// fewTexts is up to how many texts are looked through one by one.
const fewTexts = 8

// text gives the child that is a text.
func (b *branch) text(g *grove, s segment.Segment) *branch {
	text := s.Texts[0]
	if b.byText != nil {
		if c := b.byText[text]; c != nil {
			return c
		}
	} else {
		for _, c := range b.texts {
			if c.of.Texts[0] == text {
				return c
			}
		}
	}
	c := g.branch(s)
	b.texts = append(b.texts, c)
	switch {
	case b.byText != nil:
		b.byText[text] = c
	case len(b.texts) > fewTexts:
		b.byText = map[string]*branch{}
		for _, c := range b.texts {
			b.byText[c.of.Texts[0]] = c
		}
	}
	return c
}

// Table makes the table of what is in no edition. The Builder can go on to grow; tables made before
// do not change.
func (b *Builder) Table() *Table { return b.table(0, nil) }

// table makes the table of one edition, below the prefix of its choice.
func (b *Builder) table(edition int32, below []segment.Segment) *Table {
	t := &Table{
		routes:  b.routes[:len(b.routes):len(b.routes)],
		long:    map[uint32]string{},
		ends:    make([]end, 1),
		edition: edition,
	}
	t.near = newNearness(t.routes)
	tree := grove{entries: make([]entry, len(b.forms))}
	for _, f := range b.forms {
		r := &b.routes[f.route]
		segments := f.template.Segments()
		if f.clashed || r.edition != 0 && r.edition != edition || !canBeBelow(below, segments) {
			continue
		}
		for _, name := range r.suffixes {
			if t.suffixes == nil {
				t.suffixes = map[string]bool{}
			}
			t.suffixes[name] = true
		}
		t.percent = t.percent || hasPercent(segments)
		last := segments[len(segments)-1]
		t.slashed = t.slashed || last.Rest || last.Texts[0] == "" && last.IsText()
		at := tree.grow(segments)
		if at.end.of == nil && len(tree.entries) > 0 { // mostly there is one
			at.end.of, tree.entries = tree.entries[:0:1], tree.entries[1:]
		}
		made := entry{r.method, int32(f.route), r.files, t.addExcept(f.route, b.except[f.route])}
		at.end.of, at.end.some = append(at.end.of, made), at.end.some || made.files || made.except
	}
	for _, of := range []int32{0, edition} { // the edition's own groups come instead of those of all
		for i, g := range b.groups {
			segments := g.prefix.Segments()
			switch {
			case g.edition != of:
			case len(segments) == 0:
				t.top = int32(i + 1)
			default:
				t.percent = t.percent || hasPercent(segments)
				tree.grow(segments).end.group = int32(i + 1)
			}
		}
	}
	t.nodes, t.endOf = make([]node, 0, tree.made+1), make([]uint32, 0, tree.made+1)
	t.add(node{get: -1})
	t.lay(0, &tree.root)
	t.shorten()
	return t
}

// addExcept notes the prefixes below which a route takes no path, and reports whether there are any.
func (t *Table) addExcept(route int, except []Except) bool {
	var below [][]segment.Segment
	for _, e := range except {
		if e.Edition == 0 || e.Edition == t.edition {
			below = append(below, e.Prefix.Segments())
		}
	}
	if below != nil {
		if t.except == nil {
			t.except = map[int32][][]segment.Segment{}
		}
		t.except[int32(route)] = below
	}
	return below != nil
}

func hasPercent(segments []segment.Segment) bool {
	for i := range segments {
		for _, text := range segments[i].Texts {
			if strings.IndexByte(text, '%') >= 0 {
				return true
			}
		}
	}
	return false
}

// lay makes node n of a branch, and all below it.
func (t *Table) lay(n uint32, b *branch) {
	for _, e := range b.end.of {
		if e.method == "GET" && !e.except {
			t.nodes[n].get = e.route
		}
	}
	if len(b.end.of) > 0 || b.end.group > 0 {
		t.endOf[n] = uint32(len(t.ends))
		t.ends = append(t.ends, b.end)
	}
	first, mixed1 := uint32(len(t.nodes)), len(t.mixed)
	var children []*branch
	have := uint32(0)
	if b.param != nil {
		have |= hasParam
		children = append(children, b.param)
	}
	if b.rest != nil {
		have |= hasRest
		children = append(children, b.rest)
	}
	if len(b.mixed) > 0 {
		have |= hasMixed
		slices.SortStableFunc(b.mixed, func(x, y *branch) int { return cmp.Compare(y.of.Weight(), x.of.Weight()) })
		for i, m := range b.mixed {
			t.mixed = append(t.mixed, mixed{m.of.Texts, rankOf(m.of), i == len(b.mixed)-1})
			t.ties = t.ties || i > 0 && b.mixed[i-1].of.Weight() == m.of.Weight()
			children = append(children, m)
		}
	}
	others := len(children)
	children = append(children, b.texts...)
	if len(children) == 0 {
		return
	}
	for i, c := range children {
		made := node{get: -1}
		switch text := c.of.Texts[0]; {
		case i >= others:
			made.word, made.more = wordsOf(text)
			if len(text) > 15 {
				t.long[first+uint32(i)] = text
			}
		case !c.of.Rest && !c.of.IsWhole():
			made.more = uint64(mixed1)
			if len(b.mixed) == 1 {
				made.word = lows * uint64(oneOf(c.of.Texts))
			}
			if len(b.mixed) == 1 && isOnlyByte(c.of.Texts) {
				made.more |= onlyByte
			}
			mixed1++
		}
		t.add(made)
	}
	t.nodes[n].child = first | have
	if others < len(children) {
		t.spread(&t.nodes[n], others, len(children))
	}
	for i, c := range children {
		t.lay(first+uint32(i), c)
	}
}

func isOnlyByte(texts []string) bool {
	return len(texts) == 3 && len(texts[0])+len(texts[2]) == 0 && len(texts[1]) == 1 &&
		!strings.Contains("%2F5", texts[1])
}

func (t *Table) add(n node) {
	t.nodes, t.endOf = append(t.nodes, n), append(t.endOf, 0)
}

// end has the routes of a node.
func (t *Table) end(n uint32) *end { return &t.ends[t.endOf[n]] }

// oneOf is a byte that a mixed segment must have.
func oneOf(texts []string) byte {
	for _, text := range texts[1:] { // one between parameters is rarer in values than one before them
		if text != "" {
			return text[0]
		}
	}
	return texts[0][0]
}

// spread makes it quick to find the text children of a node, which are those from some
// number on. Among few a multiplier makes three bits of the hash different for each.
func (t *Table) spread(n *node, from, to int) {
	first := n.child & numbers
	if to <= 16 && to-from <= 8 {
		for mul := uint32(0x9e3779b1); mul != 0x9e3779b1+2*20_000; mul += 2 {
			if index, ok := t.perfect(first, from, to, mul); ok {
				n.child, n.index, n.mul = n.child|hasTexts, index, mul
				return
			}
		}
	}
	size := 2
	for size < 2*(to-from) {
		size *= 2
	}
	n.child, n.index, n.mul = n.child|hasSlots, uint32(len(t.slots)), uint32(size-1)
	t.slots = append(t.slots, make([]uint32, size)...)
	for i := from; i < to; i++ {
		c := &t.nodes[first+uint32(i)]
		h := hashOf(c.word, c.more)
		at := n.slot(h)
		for t.slots[at] != 0 {
			at = n.nextSlot(at)
		}
		t.slots[at] = (first + uint32(i)) | h&^numbers
	}
}

// perfect reports whether a multiplier gives all children different hashes, and gives four bits for
// each hash: the child's number from the first. A hash that no child has leads to one that
// has another, so that comparing fails.
func (t *Table) perfect(first uint32, from, to int, mul uint32) (index uint32, ok bool) {
	index = uint32(from) * 0x11111111
	taken := uint32(0)
	for i := from; i < to; i++ {
		c := &t.nodes[first+uint32(i)]
		h := fold(c.word, c.more) * mul >> 29
		if taken>>h&1 == 1 {
			return 0, false
		}
		taken |= 1 << h
		index = index&^(15<<(4*h)) | uint32(i)<<(4*h)
	}
	return index, true
}

// shorten finds the text that all templates begin with, which is compared at once.
func (t *Table) shorten() {
	var text strings.Builder
	n := uint32(0)
	for {
		at := &t.nodes[n]
		if at.child&(hasParam|hasRest|hasMixed|hasSlots) != 0 || at.child&hasTexts == 0 || t.endOf[n] != 0 {
			break
		}
		first := at.child & numbers
		if at.index != 0 || t.long[first] != "" { // more than one child, or a text that is not in its words
			break
		}
		text.WriteString("/" + textOf(t.nodes[first]))
		n = first
	}
	t.common, t.start = text.String(), n
	if len(t.common) < 8 {
		slashed := (t.common + "/       ")[:8]
		t.commonMask = 1<<(8*len(t.common)+8) - 1 // all of it where that is eight bytes
		t.commonWord = load(slashed) & t.commonMask
	}
}

// textOf takes the words of a text of up to fifteen bytes back to it.
func textOf(n node) string {
	var b []byte
	for i := range 15 {
		w := n.word >> (8 * i)
		if i >= 8 {
			w = n.more >> (8 * (i - 8))
		}
		b = append(b, byte(w))
	}
	size := n.word >> 56
	if n.more != 0 {
		size = 7 + n.more>>56
	}
	return string(b[:size])
}

// The ranks of segments. A mixed segment has rankMixed less its weight.
const (
	rankText  = 0
	rankMixed = 1 << 20
	rankParam = rankMixed + 1
	rankRest  = rankMixed + 2
)

func rankOf(s segment.Segment) uint32 {
	switch {
	case s.Rest:
		return rankRest
	case s.IsText():
		return rankText
	case s.IsWhole():
		return rankParam
	}
	return rankMixed - uint32(s.Weight())
}
