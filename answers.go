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
func Answers(status int) Setting { return answersKind.say(status) }

var answersKind = &kindOf[int]{
	name:  "Answers",
	mode:  replaces,
	field: func(t *terms) *int { return &t.answers },
	wrong: func(in *reading, status int) {
		if status < http.StatusOK || status > 299 {
			in.wrong("%d is not the status of a success (200 to 299)", status)
		}
	},
	where: func(r *resolved) bool { return isTyped(r) && r.part.out.kind != ownOutput && r.part.out.at == nil },
	none:  "no route here has a function whose output leaves the status open; a plain handler writes its own",
}

// Envelope puts every success of a group under one member of an object. Problems
// stay as they are.
func Envelope(member string) Setting { return envelopeKind.say(member) }

var envelopeKind = &kindOf[string]{
	name:  "Envelope",
	mode:  replaces | ofGroups,
	field: func(t *terms) *string { return &t.envelope },
	wrong: func(in *reading, member string) {
		if member == "" || !utf8.ValidString(member) {
			in.wrong("%q is not a member name; Undo takes one off", member)
		}
	},
	where: sendsText,
	none:  "no route here sends a value as JSON",
}

// Conditional answers conditional requests (RFC 9110, 13) for the routes of a group. A GET gets
// an ETag, made of what the output's method ETag() string returns or else of its bytes, and a
// Last-Modified where the output has a method LastModified() time.Time. The tag covers the
// format and the envelope too. The conditions of a GET are answered with 304 and 412.
//
// A route that changes something takes them as a field of its input of type [Conditions], and
// holds them against what is there; without such a field Conditional on it is a mistake.
func Conditional() Setting { return conditionalKind.say(true) }

var conditionalKind = &kindOf[bool]{
	name:  "Conditional",
	mode:  replaces | ofGroups,
	field: func(t *terms) *bool { return &t.conditional },
	where: func(r *resolved) bool {
		kind := r.part.out.kind
		return isTyped(r) && (kind == valueOutput || kind == ownOutput || !r.isReading())
	},
	none: "no route here answers with a value, or takes conditions",
}

// OmitNull leaves out of the JSON of a group what is null in its objects. Items of lists stay.
func OmitNull() Setting { return omitNullKind.say(true) }

var omitNullKind = &kindOf[bool]{
	name:  "OmitNull",
	mode:  replaces | ofGroups,
	field: func(t *terms) *bool { return &t.omitNull },
	where: sendsText,
	none:  "no route here sends a value as JSON",
}

// Media is the media type that the JSON of a group is sent as, such as
// application/vnd.canal.lock+json; of a [Content] it is the type for listings.
func Media(mediaType string) Setting { return mediaKind.say(mediaType) }

var mediaKind = &kindOf[string]{
	name:  "Media",
	mode:  replaces | ofGroups,
	field: func(t *terms) *string { return &t.media },
	wrong: func(in *reading, mediaType string) {
		if media, _, err := mime.ParseMediaType(mediaType); err != nil || !strings.Contains(media, "/") {
			in.wrong("%q is not a media type, such as application/vnd.canal.lock+json", mediaType)
		}
	},
	where: func(r *resolved) bool {
		return r.output != nil && (r.part.out.kind == valueOutput || r.part.out.info != nil)
	},
	none: "no route here sends a value as JSON, or content",
}

// LocatedBy names the route, by its function, whose path the answers of this one lead to: the
// output is a [Created] or a [RedirectBy] with the input of that function. Of several versions
// the route in the same one is meant.
func LocatedBy[In, Out any](function func(context.Context, In) (Out, error)) Setting {
	return locatedKind.say(location{functionOf(function), reflect.TypeFor[In]()})
}

var locatedKind = &kindOf[location]{
	name:  "LocatedBy",
	mode:  replaces | onlyRoute,
	field: func(t *terms) *location { return &t.located },
	wrong: func(in *reading, to location) {
		if to.by == nil {
			in.wrong("the function is nil")
		}
	},
	where: func(r *resolved) bool { return r.part.out.at != nil },
	picks: func(r *resolved, to location) bool { return r.part.out.at == to.in },
	none:  "the output is not a Created or RedirectBy with the input %v",
}

// Describes says what a plain handler reads and answers, by types as [Route] takes them, for listings and
// contracts: the handler reads, checks and answers by itself, and nothing is held against the types.
//
//	wicketway.Handle("PUT /plans/{plan}", plans, wicketway.Describes[storePlan, wicketway.None]())
func Describes[In, Out any]() Setting {
	return describesKind.say(&described{in: reflect.TypeFor[In](), out: outputOf(reflect.TypeFor[Out]())})
}

var describesKind = &kindOf[*described]{
	name:  "Describes",
	mode:  replaces | onlyRoute,
	field: func(t *terms) **described { return &t.describes },
	where: isHandler,
	none:  "no plain or mounted handler is here; the types of a function say what it reads and answers",
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

func (f FormatSetting) setting() setting { return formatsKind.sayAt(f.at, f) }

var formatsKind = &kindOf[FormatSetting]{
	name: "Formats",
	mode: replaces | ofGroups,
	apply: func(in *reading, said FormatSetting) {
		if in.formats = nil; !in.of.undo {
			in.formats = said.choice(in.wrong)
		}
	},
	undoable: true,
	where:    sendsJSON,
	none:     "no route here answers with a value",
	check:    FormatSetting.check,
	fits: func(r *resolved, said FormatSetting) error {
		for _, w := range said.ways {
			if w.Name != "" && r.input != nil && r.input.Takes("query", w.Name) {
				return fmt.Errorf("the input reads the query parameter %s as well: name another one", w.Name)
			}
		}
		return nil
	},
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
