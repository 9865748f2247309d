package table

import (
	"math/bits"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/segment"
)

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
	// NoEdition: the request means none that is there, as Tables say.
	NoEdition
	// OtherContent: its content is of an edition that is not there, or not the one that is asked for.
	OtherContent
)

// Find looks for the most specific route for a method and a path, given as
// url.URL holds it: path decoded, and rawPath, where set, as it was received.
// A HEAD that no route declares finds the route for GET (RFC 9110, 9.3.2).
// A path with an empty segment inside, or with a dot segment, matches nothing.
// Find does not allocate as long as rawPath is empty.
func (t *Table) Find(method, path, rawPath string, m *Match) Outcome {
	m.escaped, m.Suffix = false, ""
	if rawPath != "" || t.percent {
		var ok bool
		if path, m.escaped, ok = t.form(path, rawPath); !ok {
			return Malformed
		}
	}
	m.path, m.Group = path, 0
	if !t.begins(path) {
		return NotFound
	}
	c, tail := cursor{t.start, len(t.common), 0}, tailOf(path)
	for {
		c = t.slide(path, tail, m, c)
		if c.at == len(path) {
			break
		}
		if c = t.turn(m, c); c.node == 0 {
			break
		}
	}
	if get := t.nodes[c.node].get; get >= 0 && method == "GET" && c.node != 0 && !m.noFiles {
		m.Route = get
		return Found
	}
	return t.decide(method, m, c.node)
}

// decide chooses among the routes at the node that was found, and where none has the method
// walks.
func (t *Table) decide(method string, m *Match, n uint32) Outcome {
	if r := t.pick(t.end(n), method, m); r >= 0 && n != 0 {
		m.Route = int32(r)
		return Found
	}
	w := walker{Table: t, m: m, method: method}
	return w.walk()
}

// begins reports whether a path begins as all templates do: at a glance where they have no
// more than seven bytes in common.
func (t *Table) begins(path string) bool {
	if t.commonMask != 0 && len(path) >= 8 {
		return load(path)&t.commonMask == t.commonWord
	}
	return t.beginsExactly(path)
}

func (t *Table) beginsExactly(path string) bool {
	rest, ok := strings.CutPrefix(path, t.common)
	return ok && len(t.nodes) > 0 && (rest == "" || rest[0] == '/')
}

// A cursor is a node, the place in the path up to which it fits, and how many values that
// has.
type cursor struct {
	node   uint32
	at     int
	values int
}

// slide goes down to the most specific child at each segment, as far as that is quick: texts
// of up to fifteen bytes, parameters, and two of them with a byte between. It stops at a
// segment for which something else is to be asked. It calls nothing, so that all it needs
// stays in registers.
//
// A segment is read as one or two words at a time, of eight bytes from its start:
//
//	path   /locks/bell/state          word  / b e l l / s  ->  the first slash is found, and what is behind it
//	              ^start                    b e l l / s t a     cleared, and the length put there: see wordsOf
//
// Less than eight bytes before the end of the path nothing can be read that far: then the bytes come from tail, the
// last seven with a slash behind them, and those before start are shifted out.
func (t *Table) slide(path string, tail uint64, m *Match, c cursor) cursor {
	nodes, slots := t.nodes, t.slots
	for c.at < len(path) {
		start := c.at + 1
		word := tail >> (uint(start+7-len(path)) * 8 & 63)
		if start+8 <= len(path) {
			word = load(path[start : start+8])
		}
		more, end := uint64(0), start
		if slash := slashIn(word); slash != 0 {
			word &= (slash ^ (slash - 1)) >> 8
			end += bits.TrailingZeros64(slash) >> 3
			word |= uint64(end-start) << 56
		} else {
			more = tail >> (uint(start+15-len(path)) * 8 & 63)
			if start+16 <= len(path) {
				more = load(path[start+8 : start+16])
			}
			if slash = slashIn(more); slash == 0 {
				return c
			}
			more &= (slash ^ (slash - 1)) >> 8
			end += 8 + bits.TrailingZeros64(slash)>>3
			more |= uint64(end-start-7) << 56
		}
		n := &nodes[c.node]
		if n.child&hasTexts != 0 {
			i := n.textChild(word, more)
			if x := &nodes[i]; x.word == word && x.more == more {
				c.node, c.at = i, end
				continue
			}
		} else if n.child&hasSlots != 0 {
			h := hashOf(word, more)
			at := n.slot(h)
			for slots[at] != 0 && !isOfHash(slots[at], h) {
				at = n.nextSlot(at)
			}
			if i := slots[at] & numbers; i != 0 {
				if x := &nodes[i]; x.word != word || x.more != more {
					return c
				}
				c.node, c.at = i, end
				continue
			}
		}
		if n.child&hasMixed != 0 {
			i := n.mixedChild()
			x := &nodes[i]
			between := zerosIn(word&(1<<56-1) ^ x.word)
			if more != 0 || !x.isOnlyByte() && (between != 0 || x.word == 0) {
				return c
			}
			between &^= 0xff // a value has a byte at least
			if cut := start + bits.TrailingZeros64(between)>>3; between != 0 && cut+1 < end {
				m.spans[c.values&15] = segment.Span{Start: uint32(start), End: uint32(cut)}
				m.spans[(c.values+1)&15] = segment.Span{Start: uint32(cut + 1), End: uint32(end)}
				c = cursor{i, end, c.values + 2}
				continue
			}
		}
		if n.child&(hasParam|hasRest) != hasParam || start == end || byte(word) == '.' {
			return c
		}
		m.spans[c.values&15] = segment.Span{Start: uint32(start), End: uint32(end)}
		c = cursor{n.paramChild(), end, c.values + 1}
	}
	return c
}

// turn goes down by one segment where slide does not know how; to node 0 where there is no
// way, or more than one.
func (t *Table) turn(m *Match, c cursor) cursor {
	n, start := &t.nodes[c.node], c.at+1
	word, more, end := wordsAt(m.path, start)
	if child := t.text(n, word, more, m.path[start:end]); child != 0 {
		return cursor{child, end, c.values}
	}
	if n.child&hasMixed != 0 {
		if t.ties {
			return cursor{}
		}
		if must := t.nodes[n.mixedChild()].word; more != 0 || must == 0 || has(word&(1<<56-1), must) {
			if child, values := t.cut(n, start, end, m.spans[c.values:], m); child != 0 {
				return cursor{child, end, c.values + values}
			}
		}
	}
	switch {
	case n.child&hasParam != 0 && start < end && !segment.IsDots(m.path[start:end]):
		m.spans[c.values] = segment.Span{Start: uint32(start), End: uint32(end)}
		return cursor{n.paramChild(), end, c.values + 1}
	case n.child&hasRest != 0 && segment.IsClean(m.path[start:]):
		m.spans[c.values] = segment.Span{Start: uint32(start), End: uint32(len(m.path))}
		return cursor{n.restChild(), len(m.path), c.values + 1}
	}
	return cursor{}
}

// text finds the child that is a segment; 0 where there is none.
func (t *Table) text(n *node, word, more uint64, whole string) uint32 {
	if n.child&hasTexts != 0 {
		c := n.textChild(word, more)
		if x := &t.nodes[c]; x.word == word && x.more == more && (more < longMore || t.long[c] == whole) {
			return c
		}
		return 0
	}
	if n.child&hasSlots == 0 {
		return 0
	}
	h := hashOf(word, more)
	for at := n.slot(h); ; at = n.nextSlot(at) {
		s := t.slots[at]
		if s == 0 {
			return 0
		}
		if !isOfHash(s, h) {
			continue
		}
		c := s & numbers
		if x := &t.nodes[c]; x.word == word && x.more == more && (more < longMore || t.long[c] == whole) {
			return c
		}
	}
}

// cut finds the first mixed child that fits a segment, with its values, and how many.
func (t *Table) cut(n *node, start, end int, into []segment.Span, m *Match) (child uint32, values int) {
	for c := n.mixedChild(); ; c++ {
		x := &t.mixed[t.nodes[c].mixedNumber()]
		if segment.Cut(m.path, m.escaped, x.texts, start, end, into) && !segment.IsDots(m.path[start:end]) {
			return c, len(x.texts) - 1
		}
		if x.last {
			return 0, 0
		}
	}
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
func (t *Table) All(path, rawPath string) []int {
	m := Match{path: path}
	if rawPath != "" || t.percent {
		var ok bool
		if m.path, m.escaped, ok = t.form(path, rawPath); !ok {
			return nil
		}
	}
	if !t.begins(m.path) {
		return nil
	}
	w := walker{Table: t, m: &m, collect: true}
	w.walk()
	slices.SortStableFunc(w.all, func(a, b ranked) int { return slices.Compare(a.ranks, b.ranks) })
	var routes []int
	for _, r := range w.all {
		routes = append(routes, r.route)
	}
	return routes
}
