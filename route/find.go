package route

import (
	"math/bits"
	"strings"
)

// A Match is what [Tree.Find] found. It can be used again for another Find.
type Match struct {
	Route int // the number that Builder.Add gave
	path  string
	spans [MaxParameters]span
	// escaped: path is in canonical form, so values must be decoded.
	escaped bool
	// seen: a template matched the path, whatever the method.
	seen bool
}

type span struct{ start, end uint32 }

// Value gives the decoded value of the template's parameter i, from the left,
// from 0. It is right only after Find returned Found, and for an i that the
// template has.
func (m *Match) Value(i int) string {
	v := m.path[m.spans[i].start:m.spans[i].end]
	if m.escaped {
		return decodeCanonical(v)
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
)

// Find looks for the most specific route for a method and a path, given as
// url.URL holds it: path decoded, and rawPath, where set, as it was received.
// A HEAD that no route declares finds the route for GET (RFC 9110, 9.3.2).
// Find does not allocate as long as rawPath is empty. Each node of the tree is
// visited once at the most, whatever the path.
func (t *Tree) Find(method, path, rawPath string, m *Match) Outcome {
	m.escaped, m.seen = false, false
	if rawPath != "" || t.percent {
		var ok bool
		if path, m.escaped, ok = t.form(path, rawPath); !ok {
			return Malformed
		}
	}
	m.path = path
	if len(t.nodes) == 0 || path == "" || path[0] != '/' {
		return NotFound
	}
	if t.find(m, method, &t.nodes[0], 0, 0) {
		return Found
	}
	if m.seen {
		return OtherMethods
	}
	return NotFound
}

// form chooses the form of the path that the tree is searched with.
func (t *Tree) form(path, rawPath string) (form string, escaped, ok bool) {
	if rawPath != "" {
		form, ok = canonical(rawPath)
		return form, true, ok
	}
	if strings.IndexByte(path, '%') < 0 {
		return path, false, true
	}
	return strings.ReplaceAll(path, "%", "%25"), true, true
}

// find searches below n. The path is consumed up to e, where a slash or the
// end is; k parameters have been bound.
func (t *Tree) find(m *Match, method string, n *node, e, k int) bool {
	path := m.path
	for {
		if n.tail != "" {
			if !strings.HasPrefix(path[e:], n.tail) {
				return false
			}
			if e += len(n.tail); e < len(path) && path[e] != '/' {
				return false
			}
		}
		if e == len(path) {
			return t.pick(m, method, t.entries[n.leaf:n.leaf+uint32(n.leaves)])
		}
		s := e + 1
		end, hash := scan(path, s)
		if next := t.text(n, path[s:end], hash); next != nil {
			if n.param == 0 && n.another == 0 {
				n, e = next, end
				continue
			}
			if t.find(m, method, next, end, k) {
				return true
			}
		}
		if n.another != 0 {
			o := &t.others[n.another-1]
			for i := range o.mixed {
				if m.cut(o.mixed[i].texts, s, end, k) &&
					t.find(m, method, &t.nodes[o.mixed[i].next], end, k+len(o.mixed[i].texts)-1) {
					return true
				}
			}
			if o.rest != nil {
				if n.param != 0 && end > s {
					m.spans[k] = span{uint32(s), uint32(end)}
					if t.find(m, method, &t.nodes[n.param], end, k+1) {
						return true
					}
				}
				m.spans[k] = span{uint32(s), uint32(len(path))}
				return t.pick(m, method, o.rest)
			}
		}
		if n.param == 0 || end == s {
			return false
		}
		m.spans[k] = span{uint32(s), uint32(end)}
		n, e, k = &t.nodes[n.param], end, k+1
	}
}

// text looks up the text child for a segment.
func (t *Tree) text(n *node, segment string, hash uint64) *node {
	if n.shift == 64 {
		return nil
	}
	at, mask := hash>>n.shift, uint64(1)<<(64-n.shift)-1
	for {
		s := &t.slots[uint64(n.slots)+at]
		if s.next == 0 {
			return nil
		}
		if s.hash == hash && s.text == segment {
			return &t.nodes[s.next]
		}
		at = (at + 1) & mask
	}
}

// pick chooses among the routes of one template by method.
func (t *Tree) pick(m *Match, method string, of []entry) bool {
	get, any := int32(-1), int32(-1)
	for i := range of {
		switch of[i].method {
		case method:
			m.Route = int(of[i].route)
			return true
		case "GET":
			get = of[i].route
		case AnyMethod:
			any = of[i].route
		}
	}
	m.seen = m.seen || len(of) > 0
	if method == "HEAD" && get >= 0 {
		any = get
	}
	m.Route = int(any)
	return any >= 0
}

// cut divides the segment path[s:end] among the parameters between the texts,
// each as short as possible from the left. That finds a division wherever
// there is one: a shorter piece never leaves less to what follows.
func (m *Match) cut(texts []string, s, end, k int) bool {
	seg := m.path[s:end]
	last := texts[len(texts)-1]
	if !strings.HasPrefix(seg, texts[0]) || len(seg) < len(texts[0])+len(last) || !strings.HasSuffix(seg, last) {
		return false
	}
	at, stop := len(texts[0]), len(seg)-len(last)
	for i, text := range texts[1 : len(texts)-1] {
		if at >= stop {
			return false
		}
		n := strings.Index(seg[at+1:stop], text)
		if n < 0 {
			return false
		}
		m.spans[k+i] = span{uint32(s + at), uint32(s + at + 1 + n)}
		at += 1 + n + len(text)
	}
	m.spans[k+len(texts)-2] = span{uint32(s + at), uint32(s + stop)}
	return at < stop
}

// All gives every route whose template matches the path, whatever its method,
// the most specific first.
func (t *Tree) All(path, rawPath string) []int {
	var found []int
	m := Match{path: path}
	if rawPath != "" || t.percent {
		var ok bool
		if m.path, m.escaped, ok = t.form(path, rawPath); !ok {
			return nil
		}
	}
	if len(t.nodes) > 0 && m.path != "" && m.path[0] == '/' {
		t.all(&m, &t.nodes[0], 0, &found)
	}
	return found
}

func (t *Tree) all(m *Match, n *node, e int, found *[]int) {
	take := func(of []entry) {
		for _, e := range of {
			*found = append(*found, int(e.route))
		}
	}
	path := m.path
	if !strings.HasPrefix(path[e:], n.tail) {
		return
	}
	if e += len(n.tail); e == len(path) {
		take(t.entries[n.leaf : n.leaf+uint32(n.leaves)])
		return
	} else if path[e] != '/' {
		return
	}
	s := e + 1
	end, hash := scan(path, s)
	if next := t.text(n, path[s:end], hash); next != nil {
		t.all(m, next, end, found)
	}
	var o others
	if n.another != 0 {
		o = t.others[n.another-1]
	}
	for _, x := range o.mixed {
		if m.cut(x.texts, s, end, 0) {
			t.all(m, &t.nodes[x.next], end, found)
		}
	}
	if n.param != 0 && end > s {
		t.all(m, &t.nodes[n.param], end, found)
	}
	take(o.rest)
}

// The scan below reads eight bytes at a time.
const (
	slashes = 0x2f2f2f2f2f2f2f2f
	lows    = 0x0101010101010101
	highs   = 0x8080808080808080
	mix     = 0x9e3779b97f4a7c15 // 2^64 over the golden ratio: odd, and its bits look random
)

// scan finds the end of the segment that starts at s (the next slash, or the
// path's end) and hashes the segment on the way.
func scan(path string, s int) (end int, hash uint64) {
	for ; s+8 <= len(path); s += 8 {
		word := load(path[s : s+8])
		if z := slashIn(word); z != 0 {
			n := bits.TrailingZeros64(z) &^ 7
			return s + n>>3, fold(hash, word&(1<<n-1))
		}
		hash = fold(hash, word)
	}
	var word uint64
	left := len(path) - s
	if len(path) >= 8 {
		word = load(path[len(path)-8:]) >> (8 * (8 - left))
	} else {
		for i := range left {
			word |= uint64(path[s+i]) << (8 * i)
		}
	}
	if z := slashIn(word); z != 0 {
		left = bits.TrailingZeros64(z) >> 3
		word &= 1<<(8*left) - 1
	}
	return s + left, fold(hash, word)
}

func fold(hash, word uint64) uint64 {
	hash = (bits.RotateLeft64(hash, 29) ^ word) * mix
	return hash ^ hash>>32
}

// slashIn has the high bit set of the first byte that is a slash; 0 where none is.
func slashIn(word uint64) uint64 {
	x := word ^ slashes
	return (x - lows) &^ x & highs
}

func load(s string) uint64 {
	_ = s[7]
	return uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 |
		uint64(s[4])<<32 | uint64(s[5])<<40 | uint64(s[6])<<48 | uint64(s[7])<<56
}
