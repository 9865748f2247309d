package table

import (
	"slices"

	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/route"
)

// Add puts a route into the table and returns its number: 0 for the first, then
// 1, and so on. A route that clashes with earlier ones is left out; the clashes
// say with which.
func (b *Builder) Add(r Route) (int, []Clash) {
	b.routes = append(
		b.routes, kept{r.Method, r.Template.String(), r.Suffixes, r.Edition, r.Slash, textual(r.Template), r.Files},
	)
	n := len(b.routes) - 1
	if r.Except != nil {
		if b.except == nil {
			b.except = map[int][]Except{}
		}
		b.except[n] = r.Except
	}
	return n, b.addForm(n, r.Template)
}

// addForm gives a route a template, or another one with the same parameters.
func (b *Builder) addForm(n int, template route.Template) []Clash {
	b.forms = append(b.forms, form{route: n, template: template})
	clashes := b.clashes(len(b.forms) - 1)
	b.forms[len(b.forms)-1].clashed = clashes != nil
	return clashes
}

// AddGroup puts the prefix of a group into the table, in one edition or, where that is 0, in all,
// and returns the group's number: 1 for the first, since 0 is the whole API. A prefix that is there
// already keeps its number.
func (b *Builder) AddGroup(prefix route.Template, edition int32) int {
	hash := shapeHash(prefix)
	for _, i := range b.groupsOf[hash] {
		if b.groups[i].edition == edition && sameForm(b.groups[i].prefix, prefix) {
			return i + 1
		}
	}
	if b.groupsOf == nil {
		b.groupsOf = map[uint64][]int{}
	}
	b.groupsOf[hash] = append(b.groupsOf[hash], len(b.groups))
	b.groups = append(b.groups, grouped{prefix, edition})
	return len(b.groups)
}

// Grow makes room for n more routes.
func (b *Builder) Grow(n int) {
	b.routes, b.forms = slices.Grow(b.routes, n), slices.Grow(b.forms, n)
	if b.shapes == nil {
		b.shapes = make(map[uint64]int32, n)
	}
}

// canBeBelow reports whether a path that matches the segments can be below a prefix, or at it.
func canBeBelow(prefix, segments []segment.Segment) bool {
	for i, s := range prefix {
		switch {
		case i == len(segments):
			return false
		case segments[i].Rest:
			return true
		case s.IsText() && segments[i].IsText() && s.Texts[0] != segments[i].Texts[0]:
			return false
		}
	}
	return true
}

// isBelow reports whether a path is below a prefix, or at it.
func isBelow(path string, escaped bool, prefix []segment.Segment) bool {
	at := 0
	for _, s := range prefix {
		if at == len(path) || path[at] != '/' {
			return false
		}
		at++
		end := at
		for end < len(path) && path[end] != '/' {
			end++
		}
		var spans [route.MaxParameters]segment.Span
		if s.IsText() && path[at:end] != s.Texts[0] || !s.IsText() && (at == end || segment.IsDots(path[at:end]) ||
			!segment.Cut(path, escaped, s.Texts, at, end, spans[:])) {
			return false
		}
		at = end
	}
	return at == len(path) || path[at] == '/'
}
