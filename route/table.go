package route

import (
	"encoding/binary"
	"maps"
	"slices"
	"strings"
)

// AnyMethod, given to [Builder.Add], stands for every method that has no route
// of its own under the same template.
const AnyMethod = ""

// A Builder collects routes for a [Table]. The zero Builder is empty and ready.
// It is not safe for concurrent use.
type Builder struct {
	routes []added
	shapes map[string][]int // the routes of each shape and method
}

type added struct {
	template Template
	method   string
	clashed  bool
}

// A Clash is two routes of equal rank that one request could match.
type Clash struct {
	Earlier, Later int // the numbers that Add gave
}

// Add puts a route into the table and returns its number: 0 for the first, then
// 1, and so on. A route that clashes with earlier ones is left out; the clashes
// say with which.
func (b *Builder) Add(method string, t Template) (int, []Clash) {
	n := len(b.routes)
	b.routes = append(b.routes, added{t, method, false})
	clashes := b.clashes(n)
	b.routes[n].clashed = clashes != nil
	return n, clashes
}

// A Table finds the route for a method and a path. It is immutable and safe for
// concurrent use. The zero Table is empty.
//
// Templates of text alone, which nothing can be more specific than, are found by
// the hash of the whole path. The others form shapes: those of one shape rank
// alike at every segment (text here, a parameter there). For each number of
// segments the shapes are listed, the most specific first; within one, a hash of
// the segments that are text leads to the template. So a search splits and hashes
// the path once, then asks one flat hash table for each shape of that length, of
// which APIs have few, and never goes back. Its time is bounded by the path's
// length and the number of shapes.
type Table struct {
	common  string    // the segments that every template starts with, as text
	texts   slots     // by what follows common, whole
	lengths [][]shape // by number of segments after common; the last: and more
	forms   []form
	percent bool // some text holds a canonical escape, so paths with % need their canonical form
}

// A shape is what templates of equal rank have in common, without the segments
// in Table.common.
type shape struct {
	slots
	segments uint8 // how many there are, without {+rest}
	rest     bool
	values   []uint8  // the segments that are not text
	rank     []uint32 // of each segment; the smaller is the more specific
}

// Slots are an open hash table, half full at the most, so that a probe rarely
// goes further than its first slot.
type slots struct {
	table []slot
	shift uint8 // what brings a hash down to the table
}

// A slot leads from the hash of the text segments to a form. It is small, since
// searches in no order find little else of a table in the processor's caches.
type slot struct {
	tag  uint32 // the low half of the hash
	form uint32 // its number and one more; 0: the slot is empty
}

// A form is a template without the names of its parameters, and the routes that
// have it.
type form struct {
	first, second run
	simple        bool  // there is neither a third run nor a mixed segment
	get           int32 // the route for GET; -1: none
	rest          *rest
}

// A rest is what is not always asked of a form.
type rest struct {
	of    []entry
	runs  []run // after the second
	mixed []mixed
}

// A run is text that must stand from one segment up to another, with its slashes.
type run struct {
	text       string
	start, end uint8
}

// A mixed segment has text around and between its parameters.
type mixed struct {
	texts   []string
	segment uint8
}

type entry struct {
	method string
	route  int32
}

// The ranks of segments. A mixed segment has rankMixed less its weight.
const (
	rankText  = 0
	rankMixed = 1 << 20
	rankParam = rankMixed + 1
	rankRest  = rankMixed + 2
)

func (s segment) rank() uint32 {
	switch {
	case s.rest:
		return rankRest
	case s.isText():
		return rankText
	case s.isWhole():
		return rankParam
	}
	return rankMixed - uint32(s.weight())
}

// Table makes the table. The Builder can go on to grow; tables made before do
// not change.
func (b *Builder) Table() *Table {
	t := &Table{common: b.common()}
	skip := strings.Count(t.common, "/")
	longest := 0
	texts := newShape(nil)
	shapes := map[string]*growing{}
	for i, r := range b.routes {
		if r.clashed {
			continue
		}
		segments := r.template.segments[skip:]
		longest = max(longest, len(segments))
		key := shapeKey(segments)
		g := shapes[key]
		switch {
		case len(r.template.names) == 0:
			g = texts
		case g == nil:
			g = newShape(segments)
			shapes[key] = g
		}
		t.percent = t.percent || strings.Contains(t.common, "%") || hasPercent(segments)
		g.add(t, segments, entry{r.method, int32(i)})
	}
	t.texts = texts.lay()
	ordered := slices.SortedFunc(maps.Values(shapes), func(a, b *growing) int { return slices.Compare(a.rank, b.rank) })
	for _, g := range ordered {
		g.slots = g.lay()
	}
	t.lengths = make([][]shape, longest+2)
	for n := range t.lengths {
		for _, g := range ordered {
			if int(g.segments) == n && !g.rest || g.rest && int(g.segments) < n {
				t.lengths[n] = append(t.lengths[n], g.shape)
			}
		}
	}
	return t
}

// common is the text that all templates start with, in whole segments.
func (b *Builder) common() string {
	var shared []segment
	first := true
	for _, r := range b.routes {
		if r.clashed {
			continue
		}
		if first {
			shared, first = r.template.segments, false
		}
		n := 0
		for n < len(shared) && n < len(r.template.segments) && shared[n].isText() && r.template.segments[n].isText() &&
			shared[n].texts[0] == r.template.segments[n].texts[0] {
			n++
		}
		shared = shared[:n]
	}
	var text strings.Builder
	for _, s := range shared {
		text.WriteString("/" + s.texts[0])
	}
	return text.String()
}

func shapeKey(segments []segment) string {
	var key [4 * MaxSegments]byte
	for i, s := range segments {
		binary.LittleEndian.PutUint32(key[4*i:], s.rank())
	}
	return string(key[:4*len(segments)])
}

func hasPercent(segments []segment) bool {
	return slices.ContainsFunc(segments, func(s segment) bool {
		return slices.ContainsFunc(s.texts, func(text string) bool { return strings.Contains(text, "%") })
	})
}

// A growing shape knows its forms by what they are made of.
type growing struct {
	shape
	forms  map[string]uint32 // the forms' numbers
	hashes []uint64          // of the forms, by their order
	laid   []uint32          // the forms' numbers and one more
}

func newShape(segments []segment) *growing {
	g := &growing{forms: map[string]uint32{}}
	for i, s := range segments {
		g.rank = append(g.rank, s.rank())
		if s.rest {
			g.rest = true
			continue
		}
		g.segments++
		if !s.isText() {
			g.values = append(g.values, uint8(i))
		}
	}
	return g
}

func (g *growing) add(t *Table, segments []segment, e entry) {
	var key strings.Builder
	for _, s := range segments {
		key.WriteByte('/')
		for _, text := range s.texts {
			key.WriteString(text)
			key.WriteByte('{')
		}
	}
	n, known := g.forms[key.String()]
	if !known {
		n = uint32(len(t.forms))
		g.forms[key.String()] = n
		f, hash := newForm(segments)
		t.forms = append(t.forms, f)
		g.hashes, g.laid = append(g.hashes, hash), append(g.laid, n+1)
	}
	f := &t.forms[n]
	f.rest.of = append(f.rest.of, e)
	if e.method == "GET" {
		f.get = e.route
	}
}

// newForm makes the form of a template, and the hash that leads to it.
func newForm(segments []segment) (form, uint64) {
	f := form{get: -1, rest: &rest{}}
	var runs []run
	var sample strings.Builder // a path that has the text, to hash it as a search does
	sample.Grow(64)
	start := -1 // of the run that goes on
	for i, s := range segments {
		if s.isText() && start < 0 {
			start = sample.Len()
			runs = append(runs, run{start: uint8(i)})
		}
		sample.WriteByte('/')
		sample.WriteString(s.texts[0])
		if s.isText() {
			last := &runs[len(runs)-1]
			last.text, last.end = sample.String()[start:], uint8(i+1)
			continue
		}
		start = -1
		if !s.rest && !s.isWhole() {
			f.rest.mixed = append(f.rest.mixed, mixed{s.texts, uint8(i)})
		}
	}
	var p pieces
	p.split(sample.String(), 0, len(segments))
	sum := uint64(0)
	for i, s := range segments {
		if s.isText() {
			sum += p.sums[i+1] - p.sums[i]
		}
	}
	if len(runs) > 0 {
		f.first = runs[0]
	}
	if len(runs) > 1 {
		f.second = runs[1]
	}
	f.rest.runs = runs[min(2, len(runs)):]
	f.simple = len(f.rest.runs)+len(f.rest.mixed) == 0
	if !slices.ContainsFunc(segments, func(s segment) bool { return !s.isText() }) {
		sum = hashWhole(f.first.text, 0)
	}
	return f, sum
}

// lay lays out the hash table.
func (g *growing) lay() slots {
	shift := uint8(63)
	for 1<<(64-shift) < 2*len(g.hashes) {
		shift--
	}
	s := slots{make([]slot, 1<<(64-shift)), shift}
	for i, hash := range g.hashes {
		c := s.start(hash)
		for s.table[c.at].form != 0 {
			c.at = (c.at + 1) & uint64(len(s.table)-1)
		}
		s.table[c.at] = slot{c.tag, g.laid[i]}
	}
	return s
}
