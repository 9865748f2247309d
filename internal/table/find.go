package table

import (
	"math/bits"
	"strings"

	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/route"
)

// A Match is what [Table.Find] found. It can be used again for another Find.
type Match struct {
	Route int // the number that Builder.Add gave
	// Group is the deepest group whose prefix the path has, by the number that
	// Builder.AddGroup gave; set only where nothing was found.
	Group int
	path  string
	spans [route.MaxParameters]segment.Span
	// escaped: path is in canonical form, so values must be decoded.
	escaped bool
	noFiles bool // routes to files are passed over
}

// Value gives the decoded value of the template's parameter i, from the left,
// from 0. It is right only after Find returned Found, and for an i that the
// template has.
func (m *Match) Value(i int) string {
	v := m.path[m.spans[i].Start:m.spans[i].End]
	if m.escaped {
		return segment.Decode(v)
	}
	return v
}

// An Outcome is how a search ended.
type Outcome uint8

const (
	// NotFound: no template matches the path.
	NotFound Outcome = iota
	// Found: the match is filled.
	Found
	// OtherMethods: templates match the path, but none for the method.
	OtherMethods
	// Malformed: the percent-encoding of the path is broken.
	Malformed
	// Redirected: another path has a route. Find never says so, Resolve does.
	Redirected
)

// Find looks for the most specific route for a method and a path, given as
// url.URL holds it: path decoded, and rawPath, where set, as it was received.
// A HEAD that no route declares finds the route for GET (RFC 9110, 9.3.2).
// A path with an empty segment inside, or with a dot segment, matches nothing.
// Find does not allocate as long as rawPath is empty.
func (t *Table) Find(method, path, rawPath string, m *Match) Outcome {
	m.escaped = false
	if rawPath != "" || t.percent {
		var ok bool
		if path, m.escaped, ok = t.form(path, rawPath); !ok {
			return Malformed
		}
	}
	m.path, m.Group = path, 0
	seen := false
	if len(t.forms) == 0 || !strings.HasPrefix(path, t.common) {
		return NotFound
	}
	for i := t.texts.start(hashWhole(path, len(t.common))); ; {
		f := t.texts.next(t, &i)
		if f == nil {
			break
		}
		if path[len(t.common):] == f.first.text {
			if f.pick(m, method) {
				return Found
			}
			seen = f.missed(m) || seen
		}
	}
	var p pieces
	n := t.split(path, &p)
	shapes := t.lengths[min(n, len(t.lengths)-1)]
	for i := range shapes {
		s := &shapes[i]
		for j := s.start(s.sum(&p)); ; {
			f := s.next(t, &j)
			if f == nil {
				break
			}
			if !f.fits(path, &p) || !m.bind(s, f, &p) {
				continue
			}
			if f.pick(m, method) {
				return Found
			}
			seen = f.missed(m) || seen
		}
	}
	return outcome(seen)
}

// split splits what follows the common text; 0 where no shape can match.
func (t *Table) split(path string, p *pieces) int {
	if s := len(t.common); len(t.lengths) > 2 && s < len(path) && path[s] == '/' {
		return p.split(path, s, len(t.lengths)-1)
	}
	return 0
}

// outcome is how a search ends that found no route, though perhaps a template.
func outcome(seen bool) Outcome {
	if seen {
		return OtherMethods
	}
	return NotFound
}

// A cursor goes through the slots of one hash.
type cursor struct {
	at  uint64
	tag uint32
}

func (s *slots) start(hash uint64) cursor { return cursor{(hash * mix) >> s.shift, uint32(hash)} }

// next gives the next form that has the cursor's hash; nil after the last.
func (s *slots) next(t *Table, c *cursor) *form {
	mask := uint64(len(s.table) - 1)
	for {
		at := &s.table[c.at&mask]
		if at.form == 0 {
			return nil
		}
		c.at++
		if at.tag == c.tag {
			return &t.forms[at.form-1]
		}
	}
}

// pieces are the segments of a path: segment i starts at at[i] and ends before
// at[i+1]-1; sums[i] is the sum of the hashes of the first i.
type pieces struct {
	at   [route.MaxSegments + 2]uint32
	sums [route.MaxSegments + 2]uint64
}

// split finds the segments of a path whose first slash is at s. There are n; of
// more than most, the rest is left out.
func (p *pieces) split(path string, s, most int) (n int) {
	s++
	p.at[0] = uint32(s)
	sum, hash := uint64(0), uint64(0)
	for {
		var word, z uint64
		left := len(path) - s
		switch {
		case left >= 8:
			word, left = load(path[s:s+8]), 8
		case len(path) >= 8:
			word = load(path[len(path)-8:]) >> (8 * uint(8-left))
		default:
			word = short(path, s)
		}
		if z = slashIn(word); z != 0 {
			left = bits.TrailingZeros64(z) >> 3
			word &= 1<<(8*uint(left)) - 1
		}
		hash = fold(hash, word)
		if s += left; z == 0 && left == 8 {
			continue
		}
		n++
		sum += hash * (mix * uint64(2*n-1)) // so that it counts where a segment stands
		hash = 0
		p.at[n], p.sums[n] = uint32(s+1), sum
		if s++; s > len(path) || n == most {
			return n
		}
	}
}

// sum is the hash of the segments that are text in a shape.
func (s *shape) sum(p *pieces) uint64 {
	sum := p.sums[s.segments]
	for _, v := range s.values {
		sum -= p.sums[v+1] - p.sums[v]
	}
	return sum
}

// fits compares the text of a form, whole segments at a time: a hash can be met by
// chance, or on purpose.
func (f *form) fits(path string, p *pieces) bool {
	if !f.first.stands(path, p) || !f.second.stands(path, p) {
		return false
	}
	if f.simple {
		return true
	}
	for _, r := range f.rest.runs {
		if !r.stands(path, p) {
			return false
		}
	}
	return true
}

func (r run) stands(path string, p *pieces) bool {
	return r.text == "" || path[p.at[r.start]-1:p.at[r.end]-1] == r.text
}

// bind finds the values of the parameters; false where one cannot be a value.
func (m *Match) bind(s *shape, f *form, p *pieces) bool {
	k := 0
	var parts []mixed
	if !f.simple {
		parts = f.rest.mixed
	}
	for _, v := range s.values {
		start, end := int(p.at[v]), int(p.at[v+1])-1
		if start == end || segment.IsDots(m.path[start:end]) {
			return false
		}
		if len(parts) > 0 && parts[0].segment == v {
			if !segment.Cut(m.path, m.escaped, parts[0].texts, start, end, m.spans[k:]) {
				return false
			}
			k += len(parts[0].texts) - 1
			parts = parts[1:]
			continue
		}
		m.spans[k] = segment.Span{Start: uint32(start), End: uint32(end)}
		k++
	}
	if s.rest {
		start := int(p.at[s.segments])
		if !segment.IsClean(m.path[start:]) {
			return false
		}
		m.spans[k] = segment.Span{Start: uint32(start), End: uint32(len(m.path))}
	}
	return true
}

// pick chooses by method among the routes of a form.
func (f *form) pick(m *Match, method string) bool {
	if f.get >= 0 && method == "GET" && !m.noFiles {
		m.Route = int(f.get)
		return true
	}
	any := int32(-1)
	for _, e := range f.rest.of {
		if m.noFiles && e.files {
			continue
		}
		switch e.method {
		case method:
			m.Route = int(e.route)
			return true
		case AnyMethod:
			any = e.route
		}
	}
	if method == "HEAD" && f.get >= 0 && !m.noFiles {
		any = f.get
	}
	m.Route = int(any)
	return any >= 0
}

// missed notes the group of a form that matches the path without a route for the method,
// and reports whether it has routes for others.
func (f *form) missed(m *Match) bool {
	if m.Group == 0 {
		m.Group = int(f.rest.group)
	}
	for _, e := range f.rest.of {
		if !m.noFiles || !e.files {
			return true
		}
	}
	return false
}

// form chooses the form of the path that the table is searched with.
func (t *Table) form(path, rawPath string) (form string, escaped, ok bool) {
	if rawPath != "" {
		form, ok = segment.Canonical(rawPath)
		return form, true, ok
	}
	if strings.IndexByte(path, '%') < 0 {
		return path, false, true
	}
	return strings.ReplaceAll(path, "%", "%25"), true, true
}

// All gives every route whose template matches the path, whatever its method,
// the most specific first.
func (t *Table) All(path, rawPath string) (found []int) {
	m := Match{path: path}
	if rawPath != "" || t.percent {
		var ok bool
		if m.path, m.escaped, ok = t.form(path, rawPath); !ok {
			return nil
		}
	}
	if len(t.forms) == 0 || !strings.HasPrefix(m.path, t.common) {
		return nil
	}
	take := func(f *form) {
		for _, e := range f.rest.of {
			found = append(found, int(e.route))
		}
	}
	for i := t.texts.start(hashWhole(m.path, len(t.common))); ; {
		f := t.texts.next(t, &i)
		if f == nil {
			break
		}
		if m.path[len(t.common):] == f.first.text {
			take(f)
		}
	}
	var p pieces
	n := t.split(m.path, &p)
	for _, s := range t.lengths[min(n, len(t.lengths)-1)] {
		for j := s.start(s.sum(&p)); ; {
			f := s.next(t, &j)
			if f == nil {
				break
			}
			if f.fits(m.path, &p) && m.bind(&s, f, &p) {
				take(f)
			}
		}
	}
	return found
}

// What follows reads eight bytes at a time.
const (
	slashes = 0x2f2f2f2f2f2f2f2f
	lows    = 0x0101010101010101
	highs   = 0x8080808080808080
	mix     = 0x9e3779b97f4a7c15 // 2^64 over the golden ratio: odd, and its bits look random
)

// hashWhole hashes a path from s on.
func hashWhole(path string, s int) (hash uint64) {
	for ; s+8 <= len(path); s += 8 {
		hash = fold(hash, load(path[s:s+8]))
	}
	if len(path) >= 8 {
		return fold(hash, load(path[len(path)-8:])>>(8*uint(8-len(path)+s)))
	}
	return fold(hash, short(path, s))
}

// short gives what a path of less than eight bytes has from s on, as a word.
func short(path string, s int) (word uint64) {
	for i := range len(path) - s {
		word |= uint64(path[s+i]) << (8 * i)
	}
	return word
}

// fold adds eight bytes to a hash.
func fold(hash, word uint64) uint64 {
	hash = (bits.RotateLeft64(hash, 29) ^ word) * mix
	return hash ^ hash>>32
}

// slashIn has the high bit set of the first byte that is a slash; 0 where none is.
func slashIn(word uint64) uint64 {
	x := word ^ slashes
	return (x - lows) &^ x & highs
}

// load gives the eight bytes of s as a word.
func load(s string) uint64 {
	_ = s[7]
	return uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 |
		uint64(s[4])<<32 | uint64(s[5])<<40 | uint64(s[6])<<48 | uint64(s[7])<<56
}
