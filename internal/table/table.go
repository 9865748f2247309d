package table

import (
	"slices"

	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/route"
)

// AnyMethod, as the method of a route, stands for every method that has no route of its
// own under the same template.
const AnyMethod = ""

// A Slash says what becomes of a request whose path fits a route except for a slash at its
// end.
type Slash uint8

// What a slash at the end of a path can mean.
const (
	SlashRedirect Slash = iota
	SlashStrict
	SlashSame
)

// String gives the policy's name: redirect, strict or same.
func (p Slash) String() string { return [...]string{"redirect", "strict", "same"}[p] }

// An Except is a prefix, for those who choose an edition or, where that is 0, for all.
type Except struct {
	Prefix  route.Template
	Edition int32
}

// A Route is what the table needs to know of one.
type Route struct {
	Method   string
	Template route.Template
	Slash    Slash
	Files    bool // it serves files, so whether a path leads to one is seen later
	// Suffixes are the names of formats that may be behind a dot at the end of its path.
	Suffixes []string
	// Edition is one that AddVersion has given, if the route is for those who choose it alone; else 0.
	Edition int32
	// Except are prefixes below which it takes no path, whatever its template says.
	Except []Except
}

// A Clash is two routes of equal rank that one request could match.
type Clash struct {
	Earlier, Later int // the numbers that Add gave
}

// A Builder collects routes and groups for a [Table]. The zero Builder is empty and
// ready. It is not safe for concurrent use.
type Builder struct {
	routes   []kept
	forms    []form
	groups   []grouped
	shapes   map[uint64]int32 // the last form of those whose shapes have a hash
	groupsOf map[uint64][]int // the groups whose shapes have one
	versions []*Versions      // that share their paths
	editions int32
	except   map[int][]Except // by route
}

// Versions are those side by side below a prefix, as the table knows them: each that shares its paths with others is
// an edition. Two of them whose prefixes [Meet] must not both share their paths.
type Versions struct {
	Under route.Template
	// Field is the canonical name of the header field that names a version; "": the path does. In Accept the parameter
	// version of the media types names it, or else that of Content-Type.
	Field string
	Names []string
	// Default is the version of requests that name none; "": they must name one.
	Default string

	editions []int32
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

// textual reports whether the last segment of a template has text.
func textual(t route.Template) bool {
	segments := t.Segments()
	return slices.ContainsFunc(segments[len(segments)-1].Texts, func(text string) bool { return text != "" })
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

// An end has the routes of a node, in addition to that for GET.
type end struct {
	of    []entry // all routes, that for GET as well
	group int32   // that has this prefix; 0: none
	some  bool    // some of the routes do not take every path that leads here
}

// A mixed segment has text around and between its parameters.
type mixed struct {
	texts []string
	rank  uint32
	last  bool // of its siblings
}

// A node is a segment of one or more templates that begin alike. It has 32 bytes, so two of them fill a cache line:
// that is why its fields mean one thing for one kind of segment and another for another. Only the methods in node.go
// know what.
//
//	         word                   more
//	text     its words, see wordsOf
//	mixed    a byte that it must    its number in Table.mixed, and onlyByte
//	         have, eight times, or
//	         0 where it has
//	         siblings
//	others   0                      0
//
// The children of a node are side by side in Table.nodes, from the number in child on: that for a whole-segment
// parameter, the one for the rest of the path, those with text and parameters (more text first), then the texts. The
// upper bits of child say which there are:
//
//	bit    31     30    29     28     27     26 … 0
//	child  param  rest  mixed  texts  slots  number of the first
//
//	       index                         mul
//	texts  four bits for each of eight   makes the hash of a text: three bits
//	       hashes: the child, from the
//	       first
//	slots  where its part of Table.slots the mask of its places
//	       begins
//
// A slot holds the number of a child and, in the bits that numbers have not, those of its hash.
type node struct {
	word  uint64
	more  uint64
	get   int32 // the route for GET that ends here; -1: none
	child uint32
	index uint32
	mul   uint32
}

type entry struct {
	method string
	route  int32
	files  bool
	except bool // it takes no path below some prefixes
}

// A nearness finds templates by their words. It is made when first asked for.
type nearness struct {
	prepare      func()
	templates    [][]string         // by route: the segments; "" for one that takes any text
	routes       map[string][]int32 // by word
	most         int                // routes with a word; one that more have says little
	heads, tails map[[2]byte][]string
}

// A Match is what [Table.Find] found. It can be used again for another Find.
type Match struct {
	Route int32 // the number that Builder.Add gave
	// Group is the deepest group whose prefix the path has, by the number that
	// Builder.AddGroup gave; set only where nothing was found.
	Group int32
	// Choice is the number of the choice between editions that the path is under, from 1; 0: none.
	Choice int32
	// Edition is the number of the one that the request means, from 1; 0 where there is no choice, and where it
	// means none that is there.
	Edition int32
	// Suffix is the name of a format that Resolve took from the end of the path.
	Suffix string
	path   string
	spans  [route.MaxParameters]segment.Span
	// escaped: path is in canonical form, so values must be decoded.
	escaped bool
	noFiles bool // routes to files are passed over
}

// Value gives the decoded value of the template's parameter i, from the left,
// from 0. It is right only after Find returned Found, and for an i that the
// template has.
func (m *Match) Value(i int) string {
	v := m.path[m.spans[i].Start:m.spans[i].End]
	if m.escaped {
		return segment.Decode(v)
	}
	return v
}
