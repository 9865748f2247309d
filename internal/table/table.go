package table

import (
	"encoding/binary"
	"maps"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/route"
)

// AnyMethod, as the method of a route, stands for every method that has no route of its
// own under the same template.
const AnyMethod = ""

// A Route is what the table needs to know of one.
type Route struct {
	Method   string
	Template route.Template
	Slash    Slash
	Files    bool // it serves files, so whether a path leads to one is seen later
}

// kept is what a table keeps of a route for when a search has found nothing.
type kept struct {
	method   string
	template string
	slash    Slash
}

// A Builder collects routes and groups for a [Table]. The zero Builder is empty and
// ready. It is not safe for concurrent use.
type Builder struct {
	routes []added
	groups []route.Template
	shapes map[string][]int // the routes of each shape and method
}

type added struct {
	Route
	clashed bool
}

// A Clash is two routes of equal rank that one request could match.
type Clash struct {
	Earlier, Later int // the numbers that Add gave
}

// Add puts a route into the table and returns its number: 0 for the first, then
// 1, and so on. A route that clashes with earlier ones is left out; the clashes
// say with which.
func (b *Builder) Add(r Route) (int, []Clash) {
	n := len(b.routes)
	b.routes = append(b.routes, added{r, false})
	clashes := b.clashes(n)
	b.routes[n].clashed = clashes != nil
	return n, clashes
}

// AddGroup puts the prefix of a group into the table and returns the group's number: 1 for
// the first, since 0 is the whole API. A prefix that is there already keeps its number.
func (b *Builder) AddGroup(prefix route.Template) int {
	for i, g := range b.groups {
		if sameForm(g, prefix) {
			return i + 1
		}
	}
	b.groups = append(b.groups, prefix)
	return len(b.groups)
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
	routes  []kept
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
	group int32 // that has this prefix; 0: none
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
	files  bool
}

// The ranks of segments. A mixed segment has rankMixed less its weight.
const (
	rankText  = 0
	rankMixed = 1 << 20
	rankParam = rankMixed + 1
	rankRest  = rankMixed + 2
)

func rank(s segment.Segment) uint32 {
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

// Table makes the table. The Builder can go on to grow; tables made before do
// not change.
func (b *Builder) Table() *Table {
	t := &Table{common: b.common(), routes: make([]kept, len(b.routes))}
	skip := strings.Count(t.common, "/")
	longest := 0
	texts := newShape(nil)
	shapes := map[string]*growing{}
	add := func(segments []segment.Segment) *form {
		segments = segments[skip:]
		longest = max(longest, len(segments))
		t.percent = t.percent || strings.Contains(t.common, "%") || hasPercent(segments)
		if !slices.ContainsFunc(segments, func(s segment.Segment) bool { return !s.IsText() }) {
			return texts.add(t, segments)
		}
		key := shapeKey(segments)
		if shapes[key] == nil {
			shapes[key] = newShape(segments)
		}
		return shapes[key].add(t, segments)
	}
	for i, r := range b.routes {
		t.routes[i] = kept{r.Method, r.Template.String(), r.Slash}
		if r.clashed {
			continue
		}
		f := add(r.Template.Segments())
		f.rest.of = append(f.rest.of, entry{r.Method, int32(i), r.Files})
		if r.Method == "GET" {
			f.get = int32(i)
		}
	}
	for i, prefix := range b.groups {
		for _, segments := range prefixed(prefix) {
			add(segments).rest.group = int32(i + 1)
		}
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

// prefixed is what all paths of a group match: the prefix itself, and all below it.
func prefixed(prefix route.Template) [2][]segment.Segment {
	segments := prefix.Segments()
	rest := segment.Segment{Texts: []string{"", ""}, Names: []string{"rest"}, Rest: true}
	return [2][]segment.Segment{segments, append(slices.Clip(segments), rest)}
}

// common is the text that all templates start with, in whole segments.
func (b *Builder) common() string {
	var shared []segment.Segment
	first := true
	narrow := func(segments []segment.Segment) {
		if first {
			shared, first = segments, false
		}
		n := 0
		for n < min(len(shared), len(segments)) && shared[n].IsText() && segments[n].IsText() && shared[n].Texts[0] == segments[n].Texts[0] {
			n++
		}
		shared = shared[:n]
	}
	for _, r := range b.routes {
		if !r.clashed {
			narrow(r.Template.Segments())
		}
	}
	for _, prefix := range b.groups {
		narrow(prefix.Segments())
	}
	var text strings.Builder
	for _, s := range shared {
		text.WriteString("/" + s.Texts[0])
	}
	return text.String()
}

func shapeKey(segments []segment.Segment) string {
	var key [4 * route.MaxSegments]byte
	for i, s := range segments {
		binary.LittleEndian.PutUint32(key[4*i:], rank(s))
	}
	return string(key[:4*len(segments)])
}

func hasPercent(segments []segment.Segment) bool {
	return slices.ContainsFunc(segments, func(s segment.Segment) bool {
		return slices.ContainsFunc(s.Texts, func(text string) bool { return strings.Contains(text, "%") })
	})
}

// A growing shape knows its forms by what they are made of.
type growing struct {
	shape
	forms  map[string]uint32 // the forms' numbers
	hashes []uint64          // of the forms, by their order
	laid   []uint32          // the forms' numbers and one more
}

func newShape(segments []segment.Segment) *growing {
	g := &growing{forms: map[string]uint32{}}
	for i, s := range segments {
		g.rank = append(g.rank, rank(s))
		if s.Rest {
			g.rest = true
			continue
		}
		g.segments++
		if !s.IsText() {
			g.values = append(g.values, uint8(i))
		}
	}
	return g
}

// add gives the form of a template, made if it is not there.
func (g *growing) add(t *Table, segments []segment.Segment) *form {
	var key strings.Builder
	for _, s := range segments {
		key.WriteByte('/')
		for _, text := range s.Texts {
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
	return &t.forms[n]
}

// newForm makes the form of a template, and the hash that leads to it.
func newForm(segments []segment.Segment) (form, uint64) {
	f := form{get: -1, rest: &rest{}}
	var runs []run
	var sample strings.Builder // a path that has the text, to hash it as a search does
	sample.Grow(64)
	start := -1 // of the run that goes on
	for i, s := range segments {
		if s.IsText() && start < 0 {
			start = sample.Len()
			runs = append(runs, run{start: uint8(i)})
		}
		sample.WriteByte('/')
		sample.WriteString(s.Texts[0])
		if s.IsText() {
			last := &runs[len(runs)-1]
			last.text, last.end = sample.String()[start:], uint8(i+1)
			continue
		}
		start = -1
		if !s.Rest && !s.IsWhole() {
			f.rest.mixed = append(f.rest.mixed, mixed{s.Texts, uint8(i)})
		}
	}
	var p pieces
	p.split(sample.String(), 0, len(segments))
	sum := uint64(0)
	for i, s := range segments {
		if s.IsText() {
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
	if !slices.ContainsFunc(segments, func(s segment.Segment) bool { return !s.IsText() }) {
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
