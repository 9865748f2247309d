package table

import (
	"slices"

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
	// Suffixes are the names of formats that may stand behind a dot at the end of its path.
	Suffixes []string
}

// kept is what a table keeps of a route for when a search has found nothing.
type kept struct {
	method   string
	template string
	slash    Slash
	textual  bool // its last segment has text of its own
	suffixes []string
}

// A Builder collects routes and groups for a [Table]. The zero Builder is empty and
// ready. It is not safe for concurrent use.
type Builder struct {
	routes   []added
	groups   []route.Template
	shapes   map[string][]int // the routes of each shape and method
	groupsOf map[string][]int // the groups of each shape
}

// Grow makes room for n more routes.
func (b *Builder) Grow(n int) {
	b.routes = slices.Grow(b.routes, n)
	if b.shapes == nil {
		b.shapes = make(map[string][]int, n)
	}
}

// textual reports whether the last segment of the template has text.
func (r *Route) textual() bool {
	segments := r.Template.Segments()
	return slices.ContainsFunc(segments[len(segments)-1].Texts, func(text string) bool { return text != "" })
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
	shape := shapeOf(prefix)
	for _, i := range b.groupsOf[shape] {
		if sameForm(b.groups[i], prefix) {
			return i + 1
		}
	}
	if b.groupsOf == nil {
		b.groupsOf = map[string][]int{}
	}
	b.groupsOf[shape] = append(b.groupsOf[shape], len(b.groups))
	b.groups = append(b.groups, prefix)
	return len(b.groups)
}

// A Table finds the route for a method and a path. It is immutable and safe for
// concurrent use. The zero Table is empty.
//
// The templates form a tree of segments, in one array. A search goes down to the most
// specific child that a segment of the path fits, as long as there is one; if it comes to a
// route that way, no other can be more specific. Only if it does not, a walker goes over all
// that fits, in order: that is what a search means, and the quick way is to say the same.
type Table struct {
	nodes  []node
	slots  []uint32          // of the nodes with many text children
	long   map[uint32]string // the texts of nodes that have more than fifteen bytes
	mixed  []mixed
	endOf  []uint32 // by node: the number of its end; 0, which has nothing, for most
	ends   []end
	routes []kept
	common string // the segments that every template starts with, as text
	// The same with a slash behind it, as a word, where that has up to eight bytes.
	commonWord, commonMask uint64
	start                  uint32 // the node that they lead to
	// percent says that some text holds a canonical escape, so that paths with % need
	// their canonical form.
	percent bool
	// slashed says that some template can end in a slash.
	slashed bool
	// suffixes are those of any route.
	suffixes map[string]bool
	// ties says that siblings of equal rank with text and parameters can fit one segment.
	ties bool
}
