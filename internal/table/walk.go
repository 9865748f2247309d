package table

import (
	"slices"

	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/route"
)

// A walker goes over all templates that match a path, the most specific first: for each
// segment over the children that fit it, text before text mixed with parameters, before a
// parameter, before the rest. It visits a node once at most, so a walk takes no longer
// than the tree is large, or the path long.
type walker struct {
	*Table
	m       *Match
	method  string
	collect bool // all routes are wanted
	all     []ranked

	found, seen bool
	ranks       [route.MaxSegments]uint32 // of the segments above
	best        Match                     // where siblings of equal rank may lead to a better one
	bestRanks   []uint32
}

// A ranked route matches a path.
type ranked struct {
	route int
	ranks []uint32
}

func (w *walker) walk() Outcome {
	w.visit(w.start, len(w.common), 0, 0)
	switch {
	case w.found && w.ties:
		w.best.Group = w.m.Group
		*w.m = w.best
		return Found
	case w.found:
		return Found
	case w.seen:
		return OtherMethods
	}
	return NotFound
}

// visit goes on at a node that the path up to some place fits, with so many values and
// segments behind it. It reports whether the walk is over.
func (w *walker) visit(n uint32, at, values, depth int) bool {
	path := w.m.path
	if at == len(path) {
		return w.arrive(n, depth)
	}
	if path[at] != '/' {
		return false
	}
	at++
	node := &w.nodes[n]
	word, more, end := wordsAt(path, at)
	if c := w.text(node, word, more, path[at:end]); c != 0 && w.step(c, rankText, end, values, depth) {
		return true
	}
	if at < end && !segment.IsDots(path[at:end]) {
		for c := node.mixedChild(); node.child&hasMixed != 0; c++ {
			x := &w.mixed[w.nodes[c].mixedNumber()]
			if segment.Cut(path, w.m.escaped, x.texts, at, end, w.m.spans[values:]) &&
				w.step(c, x.rank, end, values+len(x.texts)-1, depth) {
				return true
			}
			if x.last {
				break
			}
		}
		if node.child&hasParam != 0 {
			w.m.spans[values] = segment.Span{Start: uint32(at), End: uint32(end)}
			if w.step(node.child&numbers, rankParam, end, values+1, depth) {
				return true
			}
		}
	}
	group := w.end(n).group
	if node.child&hasRest == 0 && (group == 0 || w.m.Group != 0) || !segment.IsClean(path[at:]) {
		return false
	}
	if node.child&hasRest != 0 {
		w.m.spans[values] = segment.Span{Start: uint32(at), End: uint32(len(path))}
		if w.step(node.restChild(), rankRest, len(path), values+1, depth) {
			return true
		}
	}
	w.note(group)
	return false
}

// note keeps the first group, which is the deepest.
func (w *walker) note(group int32) {
	if w.m.Group == 0 {
		w.m.Group = group
	}
}

func (w *walker) step(child, rank uint32, at, values, depth int) bool {
	w.ranks[depth] = rank
	return w.visit(child, at, values, depth+1)
}

// arrive takes what ends at a node.
func (w *walker) arrive(n uint32, depth int) bool {
	end := w.end(n)
	w.note(end.group)
	ranks := w.ranks[:depth]
	if w.collect {
		for _, e := range end.of {
			if w.takes(&e, w.m) {
				w.all = append(w.all, ranked{int(e.route), slices.Clone(ranks)})
			}
		}
		return false
	}
	r := w.pick(end, w.method, w.m)
	if r < 0 {
		w.seen = w.seen ||
			len(end.of) > 0 && (!end.some || slices.ContainsFunc(end.of, func(e entry) bool { return w.takes(&e, w.m) }))
		return false
	}
	if !w.ties {
		w.m.Route, w.found = int32(r), true
		return true
	}
	if !w.found || slices.Compare(ranks, w.bestRanks) < 0 {
		w.found, w.best, w.bestRanks = true, *w.m, slices.Clone(ranks)
		w.best.Route = int32(r)
	}
	return false
}

// takes reports whether a route takes the path of a match that its template fits.
func (t *Table) takes(e *entry, m *Match) bool {
	if e.files && m.noFiles {
		return false
	}
	if e.except {
		for _, prefix := range t.except[e.route] {
			if isBelow(m.path, m.escaped, prefix) {
				return false
			}
		}
	}
	return true
}

// pick chooses by method among the routes that end at a node; -1 where none has it.
func (t *Table) pick(e *end, method string, m *Match) int {
	if e.some {
		var room [4]entry // mostly there is one
		taking := end{of: room[:0]}
		for i := range e.of {
			if t.takes(&e.of[i], m) {
				taking.of = append(taking.of, e.of[i])
			}
		}
		e = &taking
	}
	return e.pick(method)
}

func (e *end) pick(method string) int {
	any, get := -1, -1
	for _, one := range e.of {
		switch one.method {
		case method:
			return int(one.route)
		case AnyMethod:
			any = int(one.route)
		case "GET":
			get = int(one.route)
		}
	}
	if method == "HEAD" && get >= 0 {
		return get
	}
	return any
}
