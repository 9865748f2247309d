package wicketway

import (
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
)

// Answers is the status of a success, 200 to 299.
func Answers(status int) Setting {
	return setting{
		at:   here.Here(0),
		name: "Answers",
		slot: slotAnswers,
		mode: replaces,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.answers = status; status < http.StatusOK || status > 299 {
				b.mistake(at, "Answers: %d is not the status of a success (200 to 299)", status)
				t.answers = 0
			}
		},
		undone: func(t *terms) { t.answers = 0 },
		acts:   func(r *resolved) bool { return isTyped(r) && r.part.out.kind != ownOutput && r.part.out.at == nil },
		lacks:  "no route here has a function whose output leaves the status open; a plain handler writes its own",
	}
}

// Envelope puts every success of a group under one member of an object. Problems
// stay as they are.
func Envelope(member string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Envelope",
		slot: slotEnvelope,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.envelope = member; member == "" || !utf8.ValidString(member) {
				b.mistake(at, "Envelope: %q is not a member name; Undo takes one off", member)
			}
		},
		undone: func(t *terms) { t.envelope = "" },
		acts:   sendsText,
		lacks:  "no route here sends a value as JSON",
	}
}

// Conditional answers conditional requests (RFC 9110, 13) for the routes of a group. A GET gets
// an ETag, made of what the output's method ETag() string returns or else of its bytes, and a
// Last-Modified where the output has a method LastModified() time.Time. The tag covers the
// format and the envelope too. The conditions of a GET are answered with 304 and 412.
//
// A route that changes something takes them as a field of its input of type [Conditions], and
// holds them against what is there; without such a field Conditional on it is a mistake.
func Conditional() Setting {
	return flag(here.Here(0), "Conditional", slotConditional, func(t *terms, on bool) { t.conditional = on }).
		where(func(r *resolved) bool {
			kind := r.part.out.kind
			return isTyped(r) && (kind == valueOutput || kind == ownOutput || !r.isReading())
		}, "no route here answers with a value, or takes conditions")
}

// OmitNull leaves out of the JSON of a group what is null in its objects. Items of lists stay.
func OmitNull() Setting {
	return flag(here.Here(0), "OmitNull", slotOmitNull, func(t *terms, on bool) { t.omitNull = on }).
		where(sendsText, "no route here sends a value as JSON")
}

// Media is the media type that the JSON of a group is sent as, such as
// application/vnd.canal.lock+json; of a [Content] it is the type for listings.
func Media(mediaType string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Media",
		slot: slotMedia,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			t.media = mediaType
			if media, _, err := mime.ParseMediaType(mediaType); err != nil || !strings.Contains(media, "/") {
				b.mistake(at, "Media: %q is not a media type, such as application/vnd.canal.lock+json", mediaType)
			}
		},
		undone: func(t *terms) { t.media = "" },
		acts: func(r *resolved) bool {
			return r.output != nil && (r.part.out.kind == valueOutput || r.part.out.info != nil)
		},
		lacks: "no route here sends a value as JSON, or content",
	}
}

// LocatedBy names the route, by its function, whose path the answers of this one lead to: the
// output is a [Created] or a [RedirectBy] with the input of that function. Of several versions
// the route in the same one is meant.
func LocatedBy[In, Out any](function func(context.Context, In) (Out, error)) Setting {
	in := reflect.TypeFor[In]()
	return setting{
		at:   here.Here(0),
		name: "LocatedBy",
		slot: slotLocated,
		mode: replaces | onlyRoute,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.located = functionOf(function); t.located == nil {
				b.mistake(at, "LocatedBy: the function is nil")
			}
		},
		acts:  func(r *resolved) bool { return r.part.out.at == in },
		lacks: "the output is not a Created or RedirectBy with the input " + in.String(),
	}
}

// Describes says what a plain handler reads and answers, by types as [Route] takes them, for listings and
// contracts: the handler reads, checks and answers by itself, and nothing is held against the types.
//
//	wicketway.Handle("PUT /plans/{plan}", plans, wicketway.Describes[storePlan, wicketway.None]())
func Describes[In, Out any]() Setting {
	of := &described{in: reflect.TypeFor[In](), out: outputOf(reflect.TypeFor[Out]())}
	return setting{
		at:    here.Here(0),
		name:  "Describes",
		slot:  slotDescribes,
		mode:  replaces | onlyRoute,
		apply: func(_ reporter, _ here.Place, t *terms) { t.describes = of },
		acts:  isHandler,
		lacks: "no plain or mounted handler is here; the types of a function say what it reads and answers",
	}
}

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
	o.Write = f.Write
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
