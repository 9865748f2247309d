// Package sets reads JSON Schemas (draft 2020-12) as sets of values: whether a value is in a set, values of it, and
// whether one set is within another.
//
// All answers are a [Verdict]. Yes and No are certain; Maybe is everything that this package does not decide: it takes
// no guesses. What it decides are types, enumerations, bounds, lengths, items, members and their names, combinations
// and recursive references. Patterns, formats and whatever else it cannot compute with are the same only where they are
// equal; a value is held against them where Go can read them.
package sets

import (
	"cmp"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/check"
)

// A Verdict is what is known of a question.
type Verdict uint8

// Verdicts, so that the smaller one is that of two of which both must hold.
const (
	No Verdict = iota
	Maybe
	Yes
)

// A Direction says which of the members that are readOnly or writeOnly can be missing (OpenAPI 3.1.1, 4.8.24.1: a
// required member that is readOnly is required of answers alone).
type Direction uint8

// Directions.
const (
	Either Direction = iota
	Sent             // by clients
	Read             // by them
)

// Schemas are those of one document, in one direction. They are not safe for concurrent use.
type Schemas struct {
	lookup    func(ref string) (jsontext.Value, bool)
	direction Direction
	refs      map[string]*Set
	texts     map[string]*Set
	made      *int // numbers of sets, of all that are compared
	left      *int // steps of a question, of all that are compared
	keys      map[string]string
	spent     int // steps of the questions IsEmpty
}

// New makes the schemas of a document, whose references a function follows. Of is another document that these are
// compared with; it may be nil.
func New(lookup func(ref string) (jsontext.Value, bool), of *Schemas, direction Direction) *Schemas {
	d := &Schemas{
		lookup:    lookup,
		direction: direction,
		refs:      map[string]*Set{},
		texts:     map[string]*Set{},
		made:      new(int),
		left:      new(int),
		keys:      map[string]string{},
	}
	if of != nil {
		d.made, d.left = of.made, of.left
	}
	return d
}

// A Set is what a schema accepts.
type Set struct {
	of       *Schemas
	id       int
	text     jsontext.Value
	none     bool        // the schema false
	open     bool        // the schema true, or {}
	memberAt [][2]string // members of a set that was put together, and where they are
	whole    *Set        // the same with its reference among all; made when it is asked for

	kinds    kinds
	hasEnum  bool
	enum     []Value
	listed   *index // of it, where it is long
	low      []bound
	high     []bound
	steps    []*Number
	lengths  span
	patterns []pattern
	formats  []string

	prefix []*Set
	items  *Set // nil: anything
	count  span
	unique bool

	members    map[string]*Set
	order      []string
	matching   []matching
	additional *Set
	names      *Set
	required   []string
	size       span
	needs      map[string][]string // dependentRequired

	ref    string
	all    []*Set
	any    []*Set
	one    []*Set
	not    *Set
	when   []*Set // if, then, else; nil where one is missing
	holds  *Set   // contains
	holdsN span
	odd    []string // keywords that are not understood, and have a meaning

	oneKey   string   // the canonical text of oneOf
	opaque   []string // canonical texts of constraints that are the same only where they are equal
	examples []Value
	fallback Value
	hasDef   bool
}

// matching is one of patternProperties.
type matching struct {
	pattern
	set *Set
}

// A pattern of texts; re is nil where Go cannot read it.
type pattern struct {
	text string
	re   *regexp.Regexp
}

func patternOf(text string) pattern {
	re, err := check.CompilePattern(text)
	if err != nil {
		return pattern{text: text}
	}
	return pattern{text, re}
}

func (p pattern) matches(text string) Verdict {
	if p.re == nil {
		return Maybe
	}
	return verdict(p.re.MatchString(text))
}

// A span is a number of characters, items or members; most is -1 where there is no bound.
type span struct{ least, most int }

var anySpan = span{0, -1}

func (s span) has(n int) bool { return n >= s.least && (s.most < 0 || n <= s.most) }

func (s span) and(o span) span {
	s.least = max(s.least, o.least)
	if s.most < 0 || o.most >= 0 && o.most < s.most {
		s.most = o.most
	}
	return s
}

func (s span) isEmpty() bool { return s.most >= 0 && s.most < s.least }

// within reports whether every number of s is one of o.
func (s span) within(o span) bool {
	return s.least >= o.least && (o.most < 0 || s.most >= 0 && s.most <= o.most)
}

// A bound of numbers.
type bound struct {
	at        *Number
	exclusive bool
}

type kinds uint8

const (
	null kinds = 1 << iota
	boolean
	integer
	fraction
	text
	array
	object

	number   = integer | fraction
	anything = null | boolean | number | text | array | object
)

var kindNames = map[string]kinds{"null": null, "boolean": boolean, "integer": integer, "number": number, "string": text,
	"array": array, "object": object}

// Of reads a schema.
func (d *Schemas) Of(schema jsontext.Value) *Set {
	key := string(schema)
	if s := d.texts[key]; s != nil {
		return s
	}
	s := d.empty(schema)
	d.texts[key] = s
	s.read()
	return s
}

func (d *Schemas) empty(schema jsontext.Value) *Set {
	*d.made++
	return &Set{
		of:      d,
		id:      *d.made,
		text:    schema,
		kinds:   anything,
		lengths: anySpan,
		count:   anySpan,
		size:    anySpan,
		holdsN:  anySpan,
	}
}

// follow is the set of a reference; nil where it leads to nothing.
func (d *Schemas) follow(ref string) *Set {
	if s, has := d.refs[ref]; has {
		return s
	}
	var s *Set
	if schema, has := d.lookup(ref); has {
		s = d.Of(schema)
	}
	d.refs[ref] = s
	return s
}

// read fills a set from its text.
func (s *Set) read() {
	switch s.text.Kind() {
	case jsontext.KindFalse:
		s.none = true
		return
	case jsontext.KindBeginObject:
	default:
		s.open = true
		return
	}
	var has map[string]jsontext.Value
	if json.Unmarshal(s.text, &has) != nil {
		s.odd = append(s.odd, "an object that is none")
		return
	}
	s.open = len(has) == 0
	for name, value := range has {
		s.keyword(name, value, has)
	}
	slices.Sort(s.odd)
	if has["unevaluatedProperties"] != nil || has["unevaluatedItems"] != nil || has["$dynamicRef"] != nil {
		s.opaque = append(s.opaque, s.of.key(s.text))
	}
	s.dropRequired()
	slices.Sort(s.opaque)
}

// dropRequired takes the members away that are required in the other direction alone.
func (s *Set) dropRequired() {
	word := map[Direction]string{Sent: "readOnly", Read: "writeOnly"}[s.of.direction]
	if word == "" {
		return
	}
	s.required = slices.DeleteFunc(s.required, func(name string) bool {
		m := s.members[name]
		for range 8 {
			if m == nil {
				return false
			}
			var says map[string]jsontext.Value
			if m.text.Kind() == jsontext.KindBeginObject && json.Unmarshal(m.text, &says) == nil &&
				string(says[word]) == "true" {
				return true
			}
			if m.ref == "" {
				return false
			}
			m = s.of.follow(m.ref)
		}
		return false
	})
}

// annotations are keywords that accept every value.
var annotations = []string{
	"title",
	"description",
	"examples",
	"example",
	"deprecated",
	"readOnly",
	"writeOnly",
	"$comment",
	"$defs",
	"definitions",
	"$schema",
	"$anchor",
	"$dynamicAnchor",
	"discriminator",
	"xml",
	"externalDocs",
	"$id",
	"$vocabulary",
}

func (s *Set) keyword(name string, value jsontext.Value, all map[string]jsontext.Value) {
	switch name {
	case "type":
		s.kinds = kindsOf(value)
	case "enum", "const":
		s.enumerate(name, value)
	case "minimum", "exclusiveMinimum":
		s.low = append(s.low, bound{numberOf(value), name != "minimum"})
	case "maximum", "exclusiveMaximum":
		s.high = append(s.high, bound{numberOf(value), name != "maximum"})
	case "multipleOf":
		s.steps = append(s.steps, numberOf(value))
	case "minLength":
		s.lengths.least = count(value)
	case "maxLength":
		s.lengths.most = count(value)
	case "minItems":
		s.count.least = count(value)
	case "maxItems":
		s.count.most = count(value)
	case "minProperties":
		s.size.least = count(value)
	case "maxProperties":
		s.size.most = count(value)
	case "pattern":
		s.patterns = append(s.patterns, patternOf(textOf(value)))
	case "format":
		s.formats = append(s.formats, textOf(value))
	case "formatMinimum",
		"formatMaximum",
		"formatExclusiveMinimum",
		"formatExclusiveMaximum",
		"contentEncoding",
		"contentMediaType",
		"contentSchema":
		s.opaque = append(s.opaque, name+s.of.key(value))
	case "uniqueItems":
		s.unique = value.Kind() == jsontext.KindTrue
	case "prefixItems":
		s.prefix = s.list(value)
	case "items":
		s.items = s.of.Of(value)
	case "contains", "minContains", "maxContains":
		s.contains(name, value, all)
	case "required":
		json.Unmarshal(value, &s.required)
		slices.Sort(s.required)
		s.required = slices.Compact(s.required)
	case "dependentRequired":
		json.Unmarshal(value, &s.needs)
	case "additionalProperties":
		s.additional = s.of.Of(value)
	case "propertyNames":
		s.names = s.of.Of(value)
	case "$ref":
		s.ref = textOf(value)
	case "allOf":
		s.all = s.list(value)
	case "anyOf":
		s.any = s.list(value)
	case "oneOf":
		s.one, s.oneKey = s.list(value), "oneOf"+s.of.key(value)
	case "not":
		if s.not = s.of.Of(value); s.not.open {
			s.none, s.not = true, nil
			return
		}
		s.opaque = append(s.opaque, "not"+s.of.key(value))
	case "if":
		s.conditional(all)
	case "then", "else":
	case "default":
		s.fallback, s.hasDef = ValueOf(value)
	case "examples":
		var texts []jsontext.Value
		json.Unmarshal(value, &texts)
		for _, one := range texts {
			if v, ok := ValueOf(one); ok {
				s.examples = append(s.examples, v)
			}
		}
	default:
		s.keywordOfObject(name, value)
	}
}

// keywordOfObject reads a keyword about members, or one that is not understood. Others are annotations (draft 2020-12,
// 6.5).
func (s *Set) keywordOfObject(name string, value jsontext.Value) {
	switch name {
	case "properties":
		for member, text := range membersOf(value) {
			if s.members == nil {
				s.members = map[string]*Set{}
			}
			s.members[member], s.order = s.of.Of(text), append(s.order, member)
		}
	case "patternProperties":
		for member, text := range membersOf(value) {
			s.matching = append(s.matching, matching{patternOf(member), s.of.Of(text)})
		}
	case "unevaluatedProperties",
		"unevaluatedItems",
		"$dynamicRef",
		"dependentSchemas",
		"$recursiveRef",
		"dependencies":
		s.odd = append(s.odd, name)
		if name == "dependentSchemas" || name == "dependencies" {
			s.opaque = append(s.opaque, name+s.of.key(value))
		}
	}
}

func (s *Set) list(value jsontext.Value) (all []*Set) {
	var texts []jsontext.Value
	json.Unmarshal(value, &texts)
	for _, one := range texts {
		all = append(all, s.of.Of(one))
	}
	return all
}

func (s *Set) enumerate(name string, value jsontext.Value) {
	texts := []jsontext.Value{value}
	if name == "enum" {
		texts = nil
		json.Unmarshal(value, &texts)
	}
	var values []Value
	known := map[string]bool{}
	for _, one := range texts {
		if v, ok := ValueOf(one); ok && !known[keyOf(v)] {
			values, known[keyOf(v)] = append(values, v), true
		}
	}
	if s.hasEnum { // both const and enum
		has := among(s.enum)
		values = slices.DeleteFunc(values, func(v Value) bool { return !has(v) })
	}
	s.hasEnum, s.enum = true, values
}

func (s *Set) contains(name string, value jsontext.Value, all map[string]jsontext.Value) {
	if all["contains"] == nil {
		return
	}
	switch name {
	case "contains":
		s.holds = s.of.Of(value)
		if all["minContains"] == nil {
			s.holdsN.least = 1
		}
		s.opaque = append(
			s.opaque,
			"contains"+s.of.key(value)+string(all["minContains"])+","+string(all["maxContains"]),
		)
	case "minContains":
		s.holdsN.least = count(value)
	case "maxContains":
		s.holdsN.most = count(value)
	}
}

func (s *Set) conditional(all map[string]jsontext.Value) {
	s.when = make([]*Set, 3)
	whole := "if"
	for i, name := range []string{"if", "then", "else"} {
		if all[name] != nil {
			s.when[i] = s.of.Of(all[name])
			whole += s.of.key(all[name])
		}
		whole += ","
	}
	s.opaque = append(s.opaque, whole)
}

func kindsOf(value jsontext.Value) (k kinds) {
	var names []string
	if value.Kind() == jsontext.KindString {
		names = []string{textOf(value)}
	} else {
		json.Unmarshal(value, &names)
	}
	for _, name := range names {
		k |= kindNames[name]
	}
	return k
}

func textOf(value jsontext.Value) (s string) {
	json.Unmarshal(value, &s)
	return s
}

// count reads a number of characters, items or members; 1.0 is one.
func count(value jsontext.Value) int {
	n := numberOf(value)
	if n.rat == nil || !n.rat.IsInt() || !n.rat.Num().IsInt64() {
		return math.MaxInt32
	}
	return int(min(n.rat.Num().Int64(), math.MaxInt32))
}

// conj is a conjunction of sets, each once, by number. It is not changed.
type conj []*Set

func (c conj) and(others ...*Set) conj {
	all := c
	for _, o := range others {
		if o == nil {
			continue
		}
		if i, has := all.find(o); !has {
			all = slices.Insert(slices.Clip(all), i, o)
		}
	}
	return all
}

func (c conj) find(s *Set) (int, bool) {
	return slices.BinarySearchFunc(c, s, func(a, b *Set) int { return cmp.Compare(a.id, b.id) })
}

func (c conj) contains(s *Set) bool {
	_, has := c.find(s)
	return has
}

func (c conj) key() string {
	var b strings.Builder
	for _, s := range c {
		b.WriteString(strconv.Itoa(s.id))
		b.WriteByte(' ')
	}
	return b.String()
}
