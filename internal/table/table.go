package table

import (
	"slices"

	"github.com/wicketway/wicketway/internal/segment"
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
	// Edition is one that AddChoice has given, if the route is for those who choose it alone; else
	// 0.
	Edition int32
	// Except are prefixes below which it takes no path, whatever its template says.
	Except []Except
}

// An Except is a prefix, for those who choose an edition or, where that is 0, for all.
type Except struct {
	Prefix  route.Template
	Edition int32
}

// kept is what is kept of a route for when a search has found nothing. It is not changed.
type kept struct {
	method   string
	template string
	suffixes []string
	edition  int32
	slash    Slash
	textual  bool // its last segment has text of its own
	files    bool
}

// A Builder collects routes and groups for a [Table]. The zero Builder is empty and
// ready. It is not safe for concurrent use.
type Builder struct {
	routes   []kept
	forms    []form
	groups   []grouped
	shapes   map[uint64]int32 // the last form of those whose shapes have a hash
	groupsOf map[uint64][]int // the groups whose shapes have one
	choices  []Choice
	editions int32
	except   map[int][]Except // by route
}

// A form is a template of a route, which may have several.
type form struct {
	route    int
	template route.Template
	clashed  bool
	before   int32 // the form before it whose shape has the same hash; -1: none
}

// A grouped prefix is that of a group, for those who choose an edition or, where it is 0, for all.
type grouped struct {
	prefix  route.Template
	edition int32
}

// Grow makes room for n more routes.
func (b *Builder) Grow(n int) {
	b.routes, b.forms = slices.Grow(b.routes, n), slices.Grow(b.forms, n)
	if b.shapes == nil {
		b.shapes = make(map[uint64]int32, n)
	}
}

// textual reports whether the last segment of a template has text.
func textual(t route.Template) bool {
	segments := t.Segments()
	return slices.ContainsFunc(segments[len(segments)-1].Texts, func(text string) bool { return text != "" })
}

// A Clash is two routes of equal rank that one request could match.
type Clash struct {
	Earlier, Later int // the numbers that Add gave
}

// Add puts a route into the table and returns its number: 0 for the first, then
// 1, and so on. A route that clashes with earlier ones is left out; the clashes
// say with which.
func (b *Builder) Add(r Route) (int, []Clash) {
	b.routes = append(b.routes, kept{r.Method, r.Template.String(), r.Suffixes, r.Edition, r.Slash, textual(r.Template), r.Files})
	n := len(b.routes) - 1
	if r.Except != nil {
		if b.except == nil {
			b.except = map[int][]Except{}
		}
		b.except[n] = r.Except
	}
	return n, b.AddForm(n, r.Template)
}

// AddForm gives a route another template, with the same parameters.
func (b *Builder) AddForm(n int, template route.Template) []Clash {
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
	// except are the prefixes below which a route takes no path, by its number.
	except map[int32][][]segment.Segment
	// suffixes are those of any route.
	suffixes map[string]bool
	// ties says that siblings of equal rank with text and parameters can fit one segment.
	ties bool
	// near finds routes that are like a path that none matches.
	near *nearness
	// edition is the one that it is of; 0: the routes that are in all.
	edition int32
	// top is the group of the edition that is the whole API; 0: none.
	top int32
}
