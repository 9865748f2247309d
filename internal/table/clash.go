package table

import (
	"slices"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/route"
)

// clashes compares form n with the earlier ones of its shape. Two templates
// can be of equal rank only where their shapes are equal, so that only few
// need a closer look. The same template may stand under several methods; two that
// merely overlap may not where one request could be for both.
func (b *Builder) clashes(n int) []Clash {
	if b.shapes == nil {
		b.shapes = map[string][]int{}
	}
	of, template := b.forms[n].route, b.forms[n].template
	later := &b.routes[of]
	shape := shapeOf(template)
	var found []Clash
	for _, i := range b.shapes[shape] {
		earlier, other := &b.routes[b.forms[i].route], b.forms[i].template
		if earlier.Edition != later.Edition && earlier.Edition != 0 && later.Edition != 0 {
			continue
		}
		same := earlier.Method == later.Method
		if !same && (!methodsMeet(earlier.Method, later.Method) || sameForm(other, template)) {
			continue
		}
		if overlap(other, template) {
			found = append(found, Clash{Earlier: b.forms[i].route, Later: of})
		}
	}
	b.shapes[shape] = append(b.shapes[shape], n)
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

// shapeOf writes the template with all that does not count for its rank left out.
func shapeOf(t route.Template) string {
	var b strings.Builder
	b.Grow(len(t.String()) + 2)
	for _, s := range t.Segments() {
		b.WriteByte('/')
		switch {
		case s.Rest:
			b.WriteByte('+')
		case s.IsText():
			b.WriteByte('=')
			b.WriteString(s.Texts[0])
		case s.IsWhole():
			b.WriteByte('*')
		default:
			b.WriteByte('~')
			b.WriteString(strconv.Itoa(s.Weight()))
		}
	}
	return b.String()
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
