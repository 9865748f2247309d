package table

import (
	"cmp"
	"slices"
	"strings"
)

// mostNear is how many routes are named as near ones, and longestNear how long the path
// may be for which they are looked for, in bytes.
const (
	mostNear    = 3
	longestNear = 256
)

// Near gives the routes whose templates are most like a path that none matches: at most
// three, the nearest first, and only those that are close. It is for development and for
// the command-line tool: it compares the path with every template.
func (t *Table) Near(method, path string) []int {
	if len(path) > longestNear {
		return nil
	}
	type candidate struct{ route, distance int }
	var found []candidate
	for i, r := range t.routes {
		if r.edition != 0 && r.edition != t.edition {
			continue
		}
		d := templateDistance(r.template, path)
		if r.method != method && r.method != AnyMethod {
			d++
		}
		if d <= 2+len(path)/5 && !strings.HasPrefix(r.template, "/{+") {
			found = append(found, candidate{i, d})
		}
	}
	slices.SortStableFunc(found, func(a, b candidate) int { return cmp.Compare(a.distance, b.distance) })
	var near []int
	for _, c := range found[:min(mostNear, len(found))] {
		near = append(near, c.route)
	}
	return near
}

// templateDistance is how many characters must change to make the path match: a
// parameter takes any segment.
func templateDistance(template, path string) int {
	a, b := strings.Split(template, "/"), strings.Split(path, "/")
	sum := 0
	for i := range max(len(a), len(b)) {
		switch {
		case i >= len(a):
			sum += 1 + len(b[i])
		case strings.HasPrefix(a[i], "{+"):
			return sum
		case i >= len(b):
			sum += 1 + len(a[i])
		case !strings.Contains(a[i], "{"):
			sum += distance(a[i], b[i])
		}
	}
	return sum
}

// distance is the edit distance of two texts (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		previous := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := previous
			if a[i] != b[j] {
				change++
			}
			previous = row[j+1]
			row[j+1] = min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
