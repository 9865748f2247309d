package table

import (
	"net/url"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/negotiate"
	"github.com/wicketway/wicketway/route"
)

// Tables find the route for a request where there are choices between editions. The Table is that
// of the routes that are in all. Like it they are immutable and safe for concurrent use.
type Tables struct {
	*Table
	choices  []choice
	editions []*Table // by number, from 1
}

// A choice is between versions that share their paths.
type choice struct {
	*Versions
	number int32             // from 1
	group  int32             // that has their prefix, whose chain those pass who mean no version that is there
	usual  int               // the place of the default; -1: there is none
	below  []segment.Segment // the prefix
	text   string            // of the prefix, which has no parameters where it is plain
	plain  bool
	tables []*Table
	slots  [1 << slotBits]uint16 // the places of the names, from 1, by their hashes
	mul    uint64                // makes the hashes
}

const slotBits = 6

// spread finds hashes of the names that are all different; of very many some share one, and are found
// one by one.
func (c *choice) spread() {
	for c.mul = mix; c.mul < mix+2*1000; c.mul += 2 {
		clear(c.slots[:])
		shared := false
		for i, name := range c.Names {
			slot := &c.slots[c.hash(name)]
			shared = shared || *slot != 0
			*slot = uint16(i + 1)
		}
		if !shared {
			return
		}
	}
}

func (c *choice) hash(name string) uint64 {
	word, _ := wordsOf(name)
	return word * c.mul >> (64 - slotBits)
}

// Tables makes the tables of what was added.
func (b *Builder) Tables() *Tables {
	groups := make([]int32, len(b.versions))
	for i, v := range b.versions {
		if v.Under.String() != "" {
			groups[i] = int32(b.AddGroup(v.Under, 0))
		}
	}
	all := &Tables{Table: b.Table(), editions: make([]*Table, b.editions)}
	for i, v := range b.versions {
		of := choice{Versions: v, number: int32(i + 1), group: groups[i], usual: slices.Index(v.Names, v.Default),
			below: v.Under.Segments(), plain: len(v.Under.Names()) == 0}
		for _, s := range of.below {
			of.text += "/" + s.Texts[0]
		}
		of.spread()
		for _, edition := range v.editions {
			t := b.table(edition, of.below)
			of.tables = append(of.tables, t)
			all.editions[edition-1] = t
		}
		all.choices = append(all.choices, of)
	}
	return all
}

// Meet reports whether some path can be below both of two prefixes.
func Meet(p, q route.Template) bool {
	return canBeBelow(p.Segments(), q.Segments()) || canBeBelow(q.Segments(), p.Segments())
}

// Edition is the table in which a match was found, or not.
func (t *Tables) Edition(m *Match) *Table {
	if m.Edition == 0 {
		return t.Table
	}
	return t.editions[m.Edition-1]
}

// Of is the table of an edition, by its number.
func (t *Tables) Of(edition int32) *Table { return t.Edition(&Match{Edition: edition}) }

// VariesBy is the field of the request by which editions are chosen at the path of a match; "": none is.
func (t *Tables) VariesBy(m *Match) string {
	if m.Choice == 0 {
		return ""
	}
	return t.choices[m.Choice-1].Field
}

// Resolve is [Table.Resolve] in the edition that the request means, which is noted in the match.
// Where there is none such, and no route that is in all takes the request, the outcome says so.
func (t *Tables) Resolve(method string, u *url.URL, h map[string][]string, m *Match) Resolution {
	m.Choice, m.Edition = 0, 0
	if t.choices == nil {
		return t.Table.Resolve(method, u, h, m)
	}
	if c := t.choiceAt(u.Path, u.RawPath); c != nil {
		if c.finds(method, u, h, m) {
			return Resolution{Outcome: Found}
		}
		return t.among(c, method, u, h, m)
	}
	r := t.Table.Resolve(method, u, h, m)
	if asked := route.Escaped(u); r.Outcome == NotFound && len(asked) <= longestLocation && strings.HasPrefix(asked, "/") {
		if clean := route.Clean(asked); clean != asked {
			path, raw, _ := unescape(clean)
			if c := t.choiceAt(path, raw); c != nil {
				return t.among(c, method, u, h, m)
			}
		}
	}
	return r
}

// choiceAt finds the choice that a path is under.
func (t *Tables) choiceAt(path, raw string) *choice {
	escaped := false
	if raw != "" || t.percent {
		var ok bool
		if path, escaped, ok = t.form(path, raw); !ok {
			return nil
		}
	}
	for i := range t.choices {
		c := &t.choices[i]
		if c.plain && strings.HasPrefix(path, c.text) && (len(path) == len(c.text) || path[len(c.text)] == '/') ||
			!c.plain && isBelow(path, escaped, c.below) {
			return c
		}
	}
	return nil
}

// finds is the quick way for what most requests are, and says the same as among: a field names an
// edition, which has the route.
func (c *choice) finds(method string, u *url.URL, h map[string][]string, m *Match) bool {
	values := h[c.Field]
	if len(values) != 1 || c.Field == byMedia {
		return false
	}
	i := c.named(values[0])
	if i < 0 || c.tables[i].suffixes != nil || c.tables[i].Find(method, u.Path, u.RawPath, m) != Found {
		return false
	}
	m.Choice, m.Edition = c.number, c.editions[i]
	return true
}

// among resolves a request in one of the editions of a choice.
func (t *Tables) among(c *choice, method string, u *url.URL, h map[string][]string, m *Match) Resolution {
	i, named := c.pick(method, h)
	if !named && isPreflight(method, h) {
		return c.preflight(max(i, 0), method, u, h, m)
	}
	if i >= 0 {
		return c.in(i, method, u, h, m)
	}
	r := t.Table.Resolve(method, u, h, m)
	m.Choice, m.Edition = c.number, 0
	if r.Outcome == NotFound {
		m.Group = c.group
		return c.lacks(method, h)
	}
	return r
}

func (c *choice) in(i int, method string, u *url.URL, h map[string][]string, m *Match) Resolution {
	r := c.tables[i].Resolve(method, u, h, m)
	m.Choice, m.Edition = c.number, c.editions[i]
	if r.Outcome != Found && m.Group == 0 {
		m.Group = c.tables[i].top
	}
	return r
}

// preflight resolves one, which comes without the field that the request will have: in the first
// edition that has the route, one of them before the others.
func (c *choice) preflight(first int, method string, u *url.URL, h map[string][]string, m *Match) Resolution {
	r := c.in(first, method, u, h, m)
	for i := 0; i < len(c.tables) && r.Outcome != Found && r.Preflight == 0; i++ {
		other := Match{noFiles: m.noFiles}
		if found := c.in(i, method, u, h, &other); found.Outcome == Found || found.Preflight > 0 {
			*m, r = other, found
		}
	}
	return r
}

// byMedia is the field whose media types name an edition, by a parameter.
const (
	byMedia          = "Accept"
	versionParameter = "version"
)

// pick finds the edition that a request means: -1 where it is not there. It is named where the
// request itself says so.
func (c *choice) pick(method string, h map[string][]string) (i int, named bool) {
	if c.Field == byMedia {
		return c.pickByMedia(method, h)
	}
	switch values := h[c.Field]; len(values) {
	case 0:
		return c.usual, false
	case 1:
		return c.named(strings.Trim(values[0], " \t")), true
	}
	return -1, true
}

// pickByMedia reads Accept, and Content-Type where there is content to read: that must not be of
// another edition than the answer.
func (c *choice) pickByMedia(method string, h map[string][]string) (i int, named bool) {
	accepted, ok := c.parameter(h["Accept"])
	if !ok {
		return -1, true
	}
	sent, ok := c.parameter(contentType(method, h))
	switch {
	case !ok, sent != "" && accepted != "" && sent != accepted:
		return -1, true
	case accepted != "":
		return c.named(accepted), true
	case sent != "":
		return c.named(sent), true
	}
	return c.usual, false
}

func (c *choice) parameter(lines []string) (name string, ok bool) {
	return negotiate.Parameter(lines, versionParameter, c.Names...)
}

// contentType is that of a request that has content.
func contentType(method string, h map[string][]string) []string {
	if method == "GET" || method == "HEAD" {
		return nil
	}
	return h["Content-Type"]
}

// lacks says what a request means that is not there.
func (c *choice) lacks(method string, h map[string][]string) Resolution {
	if c.Field != byMedia {
		return Resolution{Outcome: NoEdition, Path: strings.Trim(strings.Join(h[c.Field], ", "), " \t")}
	}
	if accepted, ok := c.parameter(h["Accept"]); !ok {
		return Resolution{Outcome: NoEdition, Path: accepted}
	}
	sent, _ := c.parameter(contentType(method, h))
	if sent == "" {
		return Resolution{Outcome: NoEdition}
	}
	return Resolution{Outcome: OtherContent, Path: sent}
}

func (c *choice) named(name string) int {
	if i := int(c.slots[c.hash(name)]) - 1; i >= 0 && c.Names[i] == name {
		return i
	}
	return slices.Index(c.Names, name)
}

// AllAt gives all routes that match an escaped path, in the edition of a match or, where every one
// is meant, in any.
func (t *Tables) AllAt(escaped string, m *Match, every bool) []int {
	if !every {
		return t.Edition(m).AllEscaped(escaped)
	}
	all := t.AllEscaped(escaped)
	for _, edition := range t.editions {
		for _, r := range edition.AllEscaped(escaped) {
			if t.routes[r].edition == edition.edition {
				all = append(all, r)
			}
		}
	}
	return all
}
