package wicketway

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
)

// A FormatSetting is what [Formats] returns.
type FormatSetting struct {
	at     here.Place
	offers []format.Format
	ways   []format.Way
	first  bool
}

// Formats says in which formats the values of a group can be sent. The first is what a caller
// gets who asks for none; JSON is always among them, and first unless it is named. Callers
// choose by Accept, unless ChosenBy says otherwise; what is not offered is refused with 406
// before the route is called. Problems come in the same format where it can write them.
//
//	wicketway.Formats(csv.Lists()).ChosenBy(format.BySuffix(), format.ByAccept())
func Formats(offers ...format.Format) FormatSetting {
	return FormatSetting{at: here.Here(0), offers: offers, ways: []format.Way{format.ByAccept()}}
}

// ChosenBy says how callers choose. A suffix counts before a query parameter, and that before
// Accept.
func (f FormatSetting) ChosenBy(ways ...format.Way) FormatSetting {
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
			t.formats = f.choice(func(text string, args ...any) { b.mistake(at, "Formats: "+text, args...) })
		},
		undone:  func(t *terms) { t.formats = nil },
		acts:    sendsJSON,
		lacks:   "no route here answers with a value",
		check:   f.check,
		formats: f.offers,
		suits: func(r *resolved) error {
			for _, w := range f.ways {
				if w.Name != "" && r.input != nil && r.input.Takes("query", w.Name) {
					return fmt.Errorf("the input reads the query parameter %s as well: name another one", w.Name)
				}
			}
			return nil
		},
	}
}

// choice is the setting as the request path needs it.
func (f FormatSetting) choice(mistake func(text string, args ...any)) *answer.Choice {
	c := answer.Choice{First: f.first}
	if len(f.offers) == 0 {
		mistake("no format is given: JSON is sent anyway, so leave it out")
	}
	offers := f.offers
	if !slices.Contains(offers, format.JSON()) {
		offers = append([]format.Format{format.JSON()}, offers...)
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
		switch w {
		case format.ByAccept():
			c.Accept = true
		case format.BySuffix():
			c.Suffix = true
		default:
			if c.Query = w.Name; w.Name == "" {
				mistake("ByQuery: the parameter has no name")
			}
		}
	}
	for i, w := range f.ways {
		if slices.ContainsFunc(f.ways[:i], func(other format.Way) bool { return other.By == w.By }) {
			mistake("ChosenBy: %s is named twice, or two parameters are: one counts", w)
		}
	}
	if len(f.ways) == 0 {
		mistake("ChosenBy: no way is given, so nobody can choose: leave it out for Accept")
	}
	return answer.NewChoice(c)
}

func offerOf(f format.Format) answer.Offer {
	o := answer.Offer{Name: f.Name(), Media: f.MediaType()}
	if f == format.JSON() {
		return o
	}
	o.Write = func(to io.Writer, s answer.Shown) error { return f.Write(to, format.Value(s)) }
	if v, ok := f.(interface{ Version() string }); ok {
		o.Version = v.Version()
	}
	if p, ok := f.(format.ProblemFormat); ok {
		o.Problem = func(to io.Writer, of *problem.Problem, how problem.Rendering) error {
			return p.WriteProblem(to, showProblem(of, how))
		}
	}
	return o
}

func showProblem(p *problem.Problem, how problem.Rendering) format.Problem {
	k := p.Kind()
	return format.Problem{
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
