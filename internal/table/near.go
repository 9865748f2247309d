package table

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"github.com/wicketway/wicketway/internal/near"
)

// Bounds of the search for near routes, so that a miss costs about what it would without.
const (
	mostNear     = 3   // routes that are named
	longestNear  = 256 // bytes of a path
	mostSegments = 12  // of a path
	mostAlike    = 16  // words that are compared with a segment
	mostPosted   = 40  // routes with a word
	mostTried    = 96  // routes that are compared with the path
	farthest     = 3   // cost of what is near still
)

func newNearness(routes []kept) *nearness {
	n := &nearness{}
	n.prepare = sync.OnceFunc(func() { n.index(routes) })
	return n
}

func (n *nearness) index(routes []kept) {
	n.most = min(mostPosted, len(routes)-2) // what all have, except the one that describes problems, says nothing
	if len(routes) < 4 {
		n.most = len(routes)
	}
	n.templates = make([][]string, len(routes))
	n.routes, n.heads, n.tails = map[string][]int32{}, map[[2]byte][]string{}, map[[2]byte][]string{}
	for i, r := range routes {
		if strings.HasPrefix(r.template, "/{+") {
			continue
		}
		for s := range strings.SplitSeq(strings.Trim(r.template, "/"), "/") {
			if strings.Contains(s, "{") {
				n.templates[i] = append(n.templates[i], "")
				continue
			}
			n.templates[i] = append(n.templates[i], s)
			if n.routes[s] == nil && len(s) >= 2 {
				head, tail := ends(s)
				n.heads[head], n.tails[tail] = append(n.heads[head], s), append(n.tails[tail], s)
			}
			n.routes[s] = append(n.routes[s], int32(i))
		}
	}
}

func ends(s string) (head, tail [2]byte) {
	return [2]byte{s[0], s[1]}, [2]byte{s[len(s)-2], s[len(s)-1]}
}

// nearest gives the routes whose templates are most like a path that none matches under a method: at most three
// of those that fit, the nearest first. A prefix or a level may be missing or too much, and words may be
// misspelt. It looks only at templates that have a word of the path, or one like it, behind the first known
// segments, and where anyMethod does not hold only at routes of that method.
func (t *Table) nearest(method, path string, known int, anyMethod bool, fits func(route int) bool) []int {
	if len(path) > longestNear || t.near == nil {
		return nil
	}
	t.near.prepare()
	var room [mostSegments]string
	segments := room[:0]
	for rest, more := strings.Trim(path, "/"), true; more; {
		if len(segments) == mostSegments {
			return nil
		}
		var s string
		s, rest, more = strings.Cut(rest, "/")
		segments = append(segments, s)
	}
	var tried [mostTried]int32
	candidates := tried[:0]
	for _, s := range segments[min(known, len(segments)):] {
		candidates = t.near.with(s, candidates)
	}
	if len(candidates) == 0 {
		return nil
	}
	slices.Sort(candidates)
	type one struct {
		route, cost int
	}
	var found []one
	for _, i := range slices.Compact(candidates) {
		r := &t.routes[i]
		if r.edition != 0 && r.edition != t.edition || !anyMethod && r.method != method || !fits(int(i)) {
			continue
		}
		cost := alignment(t.near.templates[i], segments)
		if cost == 0 && r.method != method { // the path is right, so Allow has it
			continue
		}
		if r.method != method && r.method != AnyMethod {
			cost++
		}
		if cost <= farthest {
			found = append(found, one{int(i), cost})
		}
	}
	slices.SortStableFunc(found, func(a, b one) int {
		return cmp.Or(
			cmp.Compare(a.cost, b.cost), cmp.Compare(len(t.routes[a.route].template), len(t.routes[b.route].template)),
		)
	})
	var near []int
	for _, f := range found[:min(mostNear, len(found))] {
		if f.cost <= found[0].cost+1 {
			near = append(near, f.route)
		}
	}
	return near
}

// with adds the routes that have a segment as a word, or one like it.
func (n *nearness) with(s string, to []int32) []int32 {
	if routes := n.routes[s]; routes != nil {
		return n.add(routes, to)
	}
	if len(s) < 2 {
		return to
	}
	head, tail := ends(s)
	for _, words := range [][]string{n.heads[head], n.tails[tail]} {
		for _, word := range words[:min(len(words), mostAlike)] {
			if misspelt(word, s) >= 0 {
				to = n.add(n.routes[word], to)
			}
		}
	}
	return to
}

func (n *nearness) add(routes, to []int32) []int32 {
	if len(routes) > n.most || len(to)+len(routes) > mostTried {
		return to
	}
	return append(to, routes...)
}

// misspelt is how many letters of a word must change to make it a segment; -1 where that is too many.
func misspelt(word, s string) int {
	if d := len(word) - len(s); d > 2 || d < -2 || len(s) == 0 || word[0] != s[0] && word[len(word)-1] != s[len(s)-1] {
		return -1
	}
	d := near.Distance(word, s)
	if d > 2 || d == 2 && len(word) < 5 || d > 0 && len(word) < 3 {
		return -1
	}
	return d
}

// alignment is what must change to make a path one that a template matches: each segment that is missing
// costs 1, each that is too much 3, and a misspelt one its letters. A parameter takes any segment behind one
// that fits.
func alignment(template, path []string) int {
	const never = farthest + 1
	var room [mostSegments + 1]int
	row := room[:len(path)+1]
	for j := range row {
		row[j] = 3 * j
	}
	for i, of := range template {
		diagonal := row[0]
		row[0]++
		for j, s := range path {
			same := diagonal
			switch {
			case of == "" && i > 0 && (j == 0 || template[i-1] != "" && misspelt(template[i-1], path[j-1]) < 0):
				same += never
			case of != "" && of != s:
				if d := misspelt(of, s); d >= 0 {
					same += d
				} else {
					same += never
				}
			}
			diagonal = row[j+1]
			row[j+1] = min(same, row[j+1]+1, row[j]+3)
		}
	}
	return row[len(path)]
}
