package wicketway

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
)

// A Format writes the values that routes return, such as format/html and format/csv. It must be
// safe for concurrent use. Where it has a method Version() string, that counts for entity tags
// of values that name their own state: of what else its output depends, such as templates. Where it has a
// method Check() error, Build asks it what is wrong with it by itself, and where it has a method
// CheckRoutes([]facts.Route) error about all the routes together that offer it.
type Format interface {
	// Name stands in suffixes and query parameters: csv. It has letters and digits alone.
	Name() string
	// MediaType is the Content-Type that is sent: text/csv; charset=utf-8.
	MediaType() string
	// Write writes a value. What it has written counts only where it returns no error.
	Write(to io.Writer, s Shown) error
	// CheckRoute says what is wrong about a route that offers the format; nil where it can
	// write what the route returns. Build asks it, and reports the error.
	CheckRoute(facts.Route) error
}

// A ProblemFormat is a Format that writes problems as well, where callers have chosen it. Others
// leave that to JSON.
type ProblemFormat interface {
	Format
	WriteProblem(to io.Writer, p ShownProblem) error
}

// Shown is a value that a format writes, and the name of the route that returned it.
type Shown struct {
	Route string
	Value any
}

// A ShownProblem is a problem that a format writes, with what callers may see of it (RFC 9457,
// 3).
type ShownProblem struct {
	Type, Title, Detail, Instance, Code string
	Status                              int
	Errors                              []problem.Item
	Members                             map[string]any // that were added by With
	Debug                               string         // JSON, in development
	// Problem is the whole of it, with its cause, which callers must not see.
	Problem *problem.Problem
}

// JSON is the format of all values, unless [Formats] says otherwise. In Formats it says at which
// place JSON stands among others.
var JSON Format = jsonFormat{}

type jsonFormat struct{}

func (jsonFormat) Name() string                 { return "json" }
func (jsonFormat) MediaType() string            { return "application/json" }
func (jsonFormat) Write(io.Writer, Shown) error { return nil } // a plan does, with its envelope
func (jsonFormat) CheckRoute(facts.Route) error { return nil }

// A Way is one in which callers choose a format.
type Way struct {
	kind  wayKind
	query string
}

type wayKind uint8

const (
	byAccept wayKind = iota
	bySuffix
	byQuery
)

// ByAccept lets the field Accept choose (RFC 9110, 12.5.1); answers vary by it.
func ByAccept() Way { return Way{kind: byAccept} }

// BySuffix lets what stands behind the last dot of the path choose, where it is the name of a
// format that the route offers: /passages.csv is /passages as CSV. A template that has such a
// path as its own text comes first.
func BySuffix() Way { return Way{kind: bySuffix} }

// ByQuery lets a query parameter choose: /passages?format=csv.
func ByQuery(name string) Way { return Way{kind: byQuery, query: name} }

// String says it in words.
func (w Way) String() string {
	return [...]string{"accept", "suffix", "query " + w.query}[w.kind]
}

// A FormatSetting is what [Formats] returns.
type FormatSetting struct {
	at     here.Place
	offers []Format
	ways   []Way
	first  bool
}

// Formats says in which formats the values of a group can be sent. The first is what a caller
// gets who asks for none; JSON is always among them, and first unless it is named. Callers
// choose by Accept, unless ChosenBy says otherwise; what is not offered is refused with 406
// before the route is called. Problems come in the same format where it can write them.
//
//	wicketway.Formats(csv.Lists()).ChosenBy(wicketway.BySuffix(), wicketway.ByAccept())
func Formats(offers ...Format) FormatSetting {
	return FormatSetting{at: here.Here(0), offers: offers, ways: []Way{ByAccept()}}
}

// ChosenBy says how callers choose. A suffix counts before a query parameter, and that before
// Accept.
func (f FormatSetting) ChosenBy(ways ...Way) FormatSetting {
	f.ways = ways
	return f
}

// OrFirst gives callers who choose what is not offered the first format, rather than 406.
func (f FormatSetting) OrFirst() FormatSetting {
	f.first = true
	return f
}

func (f FormatSetting) part() here.Place { return f.at }

func (f FormatSetting) setting() setting {
	return setting{
		at:   f.at,
		name: "Formats",
		slot: slotFormats,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			t.formats = f.choice(func(format string, args ...any) { b.mistake(at, "Formats: "+format, args...) })
		},
		undone:  func(t *terms) { t.formats = nil },
		acts:    sendsJSON,
		lacks:   "no route here answers with a value",
		check:   f.check,
		formats: f.offers,
		suits: func(r *resolved) error {
			for _, w := range f.ways {
				if w.kind == byQuery && r.input != nil && r.input.Takes("query", w.query) {
					return fmt.Errorf("the input reads the query parameter %s as well: name another one", w.query)
				}
			}
			return nil
		},
	}
}

// choice is the setting as the request path needs it.
func (f FormatSetting) choice(mistake func(format string, args ...any)) *answer.Choice {
	c := answer.Choice{First: f.first}
	if len(f.offers) == 0 {
		mistake("no format is given: JSON is sent anyway, so leave it out")
	}
	offers := f.offers
	if !slices.Contains(offers, JSON) {
		offers = append([]Format{JSON}, offers...)
	}
	for _, o := range offers {
		if isNil(o) {
			mistake("a format is nil")
			continue
		}
		for _, err := range wrongWith(o) {
			mistake("%s: %v", o.Name(), err)
		}
		if name := o.Name(); name == "" || strings.ContainsFunc(name, func(c rune) bool {
			return (c < 'a' || c > 'z') && (c < '0' || c > '9')
		}) {
			mistake("the name %q has other than lower-case letters and digits", name)
		}
		c.Offers = append(c.Offers, offerOf(o))
	}
	for i, o := range c.Offers {
		if slices.ContainsFunc(c.Offers[:i], func(p answer.Offer) bool { return p.Name == o.Name || p.Media == o.Media }) {
			mistake("%s (%s) is there twice", o.Name, o.Media)
		}
	}
	for _, w := range f.ways {
		switch w.kind {
		case byAccept:
			c.Accept = true
		case bySuffix:
			c.Suffix = true
		case byQuery:
			if c.Query = w.query; w.query == "" {
				mistake("ByQuery: the parameter has no name")
			}
		}
	}
	for i, w := range f.ways {
		if slices.ContainsFunc(f.ways[:i], func(other Way) bool { return other.kind == w.kind }) {
			mistake("ChosenBy: %s is named twice, or two parameters are: one counts", w)
		}
	}
	if len(f.ways) == 0 {
		mistake("ChosenBy: no way is given, so nobody can choose: leave it out for Accept")
	}
	return answer.NewChoice(c)
}

func offerOf(f Format) answer.Offer {
	o := answer.Offer{Name: f.Name(), Media: f.MediaType()}
	if f == JSON {
		return o
	}
	o.Write = func(to io.Writer, s answer.Shown) error { return f.Write(to, Shown(s)) }
	if v, ok := f.(interface{ Version() string }); ok {
		o.Version = v.Version()
	}
	if p, ok := f.(ProblemFormat); ok {
		o.Problem = func(to io.Writer, of *problem.Problem, how problem.Rendering) error {
			return p.WriteProblem(to, showProblem(of, how))
		}
	}
	return o
}

func showProblem(p *problem.Problem, how problem.Rendering) ShownProblem {
	k := p.Kind()
	return ShownProblem{
		Type:     how.Base + k.Code(),
		Title:    k.Title(),
		Detail:   p.Detail(),
		Instance: how.Instance,
		Code:     k.Code(),
		Status:   k.Status(),
		Errors:   p.Items(),
		Members:  p.Members(),
		Debug:    string(how.Debug),
		Problem:  p,
	}
}

func (f FormatSetting) check(of facts.Route) error {
	for _, o := range f.offers {
		if isNil(o) {
			continue
		}
		if err := o.CheckRoute(of); err != nil {
			return fmt.Errorf("%s: %w", o.Name(), err)
		}
	}
	return nil
}

// choose finds the format for the answer, as the request stands now.
func (s *state) choose(r *http.Request) (offer int, varies bool, err error) {
	if c := s.target.output.Choice; c != nil {
		return c.Choose(r, s.match.Suffix)
	}
	return 0, false, nil
}
