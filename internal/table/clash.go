package table

import (
	"slices"

	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/route"
)

// clashes compares form n with the earlier ones of its shape. Two templates
// can be of equal rank only where their shapes are equal, so that only few
// need a closer look. The same template may be under several methods; two that
// merely overlap may not where one request could be for both.
func (b *Builder) clashes(n int) []Clash {
	if b.shapes == nil {
		b.shapes = map[uint64]int32{}
	}
	of, template := b.forms[n].route, b.forms[n].template
	later := &b.routes[of]
	hash := shapeHash(template)
	last, ok := b.shapes[hash]
	if !ok {
		last = -1
	}
	b.shapes[hash], b.forms[n].before = int32(n), last
	var found []Clash
	for i := last; i >= 0; i = b.forms[i].before {
		earlier, other := &b.routes[b.forms[i].route], b.forms[i].template
		if earlier.edition != later.edition && earlier.edition != 0 && later.edition != 0 || !sameShape(other, template) {
			continue
		}
		same := earlier.method == later.method
		if !same && (!methodsMeet(earlier.method, later.method) || sameForm(other, template)) {
			continue
		}
		if overlap(other, template) {
			found = append(found, Clash{Earlier: b.forms[i].route, Later: of})
		}
	}
	slices.Reverse(found)
	return found
}

// methodsMeet reports whether one request could be for both of two methods that are
// not the same: any method has those of others in it, and HEAD follows GET.
func methodsMeet(a, b string) bool {
	return a == AnyMethod || b == AnyMethod || a == "GET" && b == "HEAD" || a == "HEAD" && b == "GET"
}

// sameForm reports whether two templates differ in the names of their parameters at
// the most.
func sameForm(t, u route.Template) bool {
	return slices.EqualFunc(t.Segments(), u.Segments(), func(s, r segment.Segment) bool {
		return s.Rest == r.Rest && slices.Equal(s.Texts, r.Texts)
	})
}

// sameShape reports whether two templates differ at most in what does not count for their
// ranks: names, and the texts of segments that have parameters as well.
func sameShape(t, u route.Template) bool {
	return slices.EqualFunc(t.Segments(), u.Segments(), func(s, r segment.Segment) bool {
		return s.Rest == r.Rest && s.IsText() == r.IsText() && s.IsWhole() == r.IsWhole() && s.Weight() == r.Weight() &&
			(!s.IsText() || s.Texts[0] == r.Texts[0])
	})
}

// shapeHash is the same for templates of the same shape.
func shapeHash(t route.Template) uint64 {
	const odd = 0x9e3779b97f4a7c15
	h := uint64(1)
	for _, s := range t.Segments() {
		switch {
		case s.Rest:
			h = (h ^ 1) * odd
		case s.IsText():
			word, more := wordsOf(s.Texts[0])
			h = ((h^word)*odd ^ more) * odd
		case s.IsWhole():
			h = (h ^ 2) * odd
		default:
			h = (h ^ uint64(3+s.Weight())) * odd
		}
		h ^= h >> 29
	}
	return h
}

// overlap reports whether some path matches both of two templates of one shape.
func overlap(t, u route.Template) bool {
	for i, s := range t.Segments() {
		if s.Rest || s.IsText() || s.IsWhole() {
			continue
		}
		if !meet(pattern(s), pattern(u.Segments()[i])) {
			return false
		}
	}
	return true
}

// A pattern is a mixed segment as a sequence of bytes, with anything for "one
// or more bytes".
const anything = -1

func pattern(s segment.Segment) []int {
	var p []int
	for i, text := range s.Texts {
		for j := range len(text) {
			p = append(p, int(text[j]))
		}
		if i < len(s.Names) {
			p = append(p, anything)
		}
	}
	return p
}

// meet reports whether some text matches both patterns, by trying every pair of
// places in them once.
func meet(p, q []int) bool {
	type place struct{ i, j int }
	seen := map[place]bool{}
	todo := []place{{0, 0}}
	for len(todo) > 0 {
		at := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if seen[at] {
			continue
		}
		seen[at] = true
		if at.i == len(p) && at.j == len(q) {
			return true
		}
		if at.i == len(p) || at.j == len(q) {
			continue
		}
		a, b := p[at.i], q[at.j]
		if a != anything && b != anything && a != b {
			continue
		}
		// One byte is consumed on both sides; a side that takes anything may
		// stay for more of it.
		todo = append(todo, place{at.i + 1, at.j + 1})
		if a == anything {
			todo = append(todo, place{at.i, at.j + 1})
		}
		if b == anything {
			todo = append(todo, place{at.i + 1, at.j})
		}
	}
	return false
}
