package wicketway

import (
	"context"
	"fmt"
	"mime"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/members"
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
	where: func(r *resolved) bool {
		out := r.part.out
		return isTyped(r) && out.at == nil && (out.kind != ownOutput || out.leavesStatus())
	},
	none: "no route here has a function whose output leaves the status open; a plain handler writes its own",
}

// Envelope puts every success of a group under one member of an object: it is the [ValueShape] with that member alone.
// Problems stay as they are.
func Envelope(member string) Setting {
	return envelopeKind.say(&house{member: member, pointer: *pointerTo([]string{member})})
}

var envelopeKind = &kindOf[*house]{
	name:  "Envelope",
	about: valueShapeKind,
	mode:  replaces | ofGroups,
	field: func(t *terms) **house { return &t.house },
	wrong: func(in *reading, said *house) {
		if said.member == "" || !utf8.ValidString(said.member) {
			in.wrong("%q is not a member name; Undo takes one off", said.member)
		}
	},
	where: sendsText,
	none:  "no route here sends a value as JSON",
}

// ValueShape sends the values of a group, as JSON, in a shape of its own: T is an object with one member of type
// [format.Payload], for the value, at whatever depth. The function makes one for each answer, and must be safe for
// concurrent use. Problems, streams, [Content], redirects, [None] and other formats stay as they are. The nearest
// ValueShape or [Envelope] counts; Undo takes it off.
//
//	type house struct {
//		Data    format.Payload `json:"data"`
//		Message string         `json:"message,omitzero"`
//	}
//
//	wicketway.ValueShape(func(s format.Success) house { return house{s.Value, s.Message} })
func ValueShape[T any](shape func(format.Success) T) Setting {
	said := &house{of: reflect.TypeFor[T](), at: here.Here(0), missing: shape == nil}
	said.make = func(s format.Success) any { return shape(s) }
	if said.places = payloadsIn(said.of, nil); len(said.places) == 1 {
		said.pointer = *pointerTo(said.places[0])
	}
	return valueShapeKind.say(said)
}

var valueShapeKind = &kindOf[*house]{
	name:  "ValueShape",
	mode:  replaces | ofGroups,
	field: func(t *terms) **house { return &t.house },
	wrong: func(in *reading, said *house) {
		if said.missing {
			in.wrong("the function is nil")
		}
		if len(said.places) != 1 {
			in.wrong("%s has %d members of type format.Payload, for the value: it needs one, at any depth, and not in a list",
				said.of, len(said.places))
		}
	},
	apply: func(in *reading, _ *house) { in.house = ownCopy(in.house) },
	where: sendsText,
	none:  "no route here sends a value as JSON",
}

// payloadsIn are the paths to the places for a value in a type.
func payloadsIn(t reflect.Type, above []reflect.Type) (paths [][]string) {
	if t == payloadType {
		return [][]string{nil}
	}
	if t.Kind() != reflect.Struct || slices.Contains(above, t) {
		return nil
	}
	all, _ := members.Of(t)
	for _, m := range all {
		for _, path := range payloadsIn(m.Of.Type, append(above, t)) {
			paths = append(paths, append([]string{m.Name}, path...))
		}
	}
	return paths
}

// Conditional answers conditional requests (RFC 9110, 13) for the routes of a group. A GET gets
// an ETag, made of the text that the output's method ETag() string returns or else of its bytes, and a
// Last-Modified where the output has a method LastModified() time.Time. The tag covers the
// format and the envelope too. The conditions of a GET are answered with 304 and 412.
//
// A route that changes something takes them as a field of its input of type [Conditions], and
// holds them against the present state; without such a field Conditional on it is a mistake.
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

// OmitNull leaves null members out of the JSON of a group. Items of lists stay.
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
	return locatedKind.say(location{functionOf(function), closureOf(function), reflect.TypeFor[In]()})
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

// Describes documents the input and the output of a plain handler, by types as [Route] takes them, for listings and
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

// Gives declares an answer of a route that its output type does not show: the status, and the type of the value, that a
// [Reply], an output of an interface type or a plain handler can give. T is an output as [Route] takes it. It is for
// listings and contracts; in development an answer that is not declared is logged.
//
//	wicketway.Route("GET /locks/{lock}", d.find, wicketway.Gives[Closed](http.StatusAccepted))
func Gives[T any](status int) Setting {
	return givesKind.say(gift{status: status, of: reflect.TypeFor[T](), out: outputOf(reflect.TypeFor[T]())})
}

var givesKind = &kindOf[gift]{
	name: "Gives",
	mode: onlyRoute,
	apply: func(in *reading, said gift) {
		content := said.out.kind == ownOutput
		switch {
		case said.out.reply || said.out.at != nil && !content:
			in.wrong("%s has a status of its own: name the type of the value", said.of)
		case said.status < 200 || said.status > 599 || !content && said.status > 299 && said.status != http.StatusNotModified:
			in.wrong("%d is not the status of a success (200 to 299): Fails declares problems", said.status)
		case answer.HasNoContent(said.status) && said.out.kind != noOutput:
			in.wrong("%d has no content (RFC 9110, 15.3), but the output is %s: write Gives[wicketway.None](%d)", said.status,
				said.of, said.status)
		case slices.ContainsFunc(in.gives, func(g gift) bool { return g.of == said.of && g.status == said.status }):
			in.wrong("%s with the status %d is declared twice", said.of, said.status)
		}
		if said.at = in.of.at; !in.of.failed {
			in.gives = append(in.gives[:len(in.gives):len(in.gives)], said)
		}
	},
	where: func(r *resolved) bool {
		out := r.part.out
		return isHandler(r) || isTyped(r) && (out.reply && out.at == nil || out.open || out.kind == ownOutput)
	},
	none: "the output type says all: only a Reply, an interface or a plain handler can answer with a %v besides",
}

// Formats lists the formats in which the values of a group can be sent. The first is sent to callers
// that ask for none; JSON is always among them, and first unless it is named. Callers
// choose by Accept, unless a [FormatChoice] says otherwise; formats that are not offered are refused with 406
// before the route is called. Problems come in the same format where it can write them.
func Formats(offers ...format.Format) Setting { return formatsKind.say(offers) }

var formatsKind = &kindOf[[]format.Format]{
	name:  "Formats",
	mode:  replaces | ofGroups,
	field: func(t *terms) *[]format.Format { return &t.offered },
	wrong: checkFormats,
	apply: func(in *reading, _ []format.Format) { in.choose() },
	where: sendsJSON,
	none:  "no route here answers with a value",
	check: func(offers []format.Format, of facts.Route) error {
		for _, o := range offers {
			if err := o.CheckRoute(of); err != nil {
				return fmt.Errorf("%s: %w", o.Name(), err)
			}
		}
		return nil
	},
}

func checkFormats(in *reading, offers []format.Format) {
	if len(offers) == 0 {
		in.wrong("no format is given: JSON is sent anyway, so leave it out")
	}
	for i, o := range offers {
		if isNil(o) {
			in.wrong("a format is nil")
			continue
		}
		for _, err := range wrongWith(o) {
			in.wrong("%s: %v", o.Name(), err)
		}
		name, media := o.Name(), o.MediaType()
		if name == "" || strings.ContainsFunc(name, func(c rune) bool {
			return (c < 'a' || c > 'z') && (c < '0' || c > '9')
		}) {
			in.wrong("the name %q has other than lower-case letters and digits", name)
		}
		if slices.ContainsFunc(offers[:i], func(other format.Format) bool {
			return !isNil(other) && (other.Name() == name || other.MediaType() == media)
		}) {
			in.wrong("%s (%s) is there twice", name, media)
		}
	}
}

func (c FormatChoice) part() here.Place { return here.Place{} }

func (c FormatChoice) setting() setting { return choiceKind.sayAt(here.Place{}, c) }

var choiceKind = &kindOf[FormatChoice]{
	name:  "FormatChoice",
	mode:  replaces | byField | ofGroups,
	field: func(t *terms) *FormatChoice { return &t.chosenBy },
	wrong: func(in *reading, said FormatChoice) {
		if said.By != nil && len(said.By) == 0 {
			in.wrong("By: no way is given, so nobody can choose: leave it out for Accept")
		}
		for i, w := range said.By {
			if slices.ContainsFunc(said.By[:i], func(other format.Way) bool { return other.By == w.By }) {
				in.wrong("By: %s is named twice, or two parameters are: one counts", w)
			}
			switch {
			case w.By == format.ByQuery("").By && w.Name == "":
				in.wrong("ByQuery: the parameter has no name")
			case w.By != format.ByField("").By:
			case !bind.IsToken(w.Name):
				in.wrong("ByField(%q) is not a field name (RFC 9110, 5.1), such as Canal-Format", w.Name)
			case hasMeaning(w.Name):
				in.wrong("ByField: %s has a meaning of its own: choose one such as Canal-Format", w.Name)
			}
		}
	},
	apply: func(in *reading, _ FormatChoice) { in.choose() },
	where: func(r *resolved) bool { return sendsJSON(r) && r.terms().formats != nil },
	none:  "no route here answers with a value in several Formats",
	fits: func(r *resolved, said FormatChoice) error {
		for _, w := range said.By {
			for by, source := range map[string]string{"query": "query", "field": "header"} {
				if w.By == by && r.input != nil && r.input.Takes(source, w.Name) {
					return fmt.Errorf("the input reads the %s as well: name another one", w)
				}
			}
		}
		return nil
	},
}

// choose makes the choice between formats of what the terms say, as the request path needs it.
func (t *terms) choose() {
	t.formats = nil
	if len(t.offered) == 0 {
		return
	}
	c := answer.Choice{First: t.chosenBy.OrFirst, Accept: t.chosenBy.By == nil}
	if !slices.Contains(t.offered, format.JSON()) {
		c.Offers = append(c.Offers, offerOf(format.JSON()))
	}
	for _, o := range t.offered {
		c.Offers = append(c.Offers, offerOf(o))
	}
	for _, w := range t.chosenBy.By {
		switch w {
		case format.ByAccept():
			c.Accept = true
		case format.BySuffix():
			c.Suffix = true
		default:
			if w.By == format.ByField("").By {
				c.Field = w.Name
			} else {
				c.Query = w.Name
			}
		}
	}
	t.formats = answer.NewChoice(c)
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
		o.Problem = p.WriteProblem
	}
	return o
}

// Example shows a request for a route, and its answer: values of the route's own types, or nil for one that says nothing
// more. Instead of an output it can be a problem of a kind that the route raises. They have names, which readers of
// contracts see. Build holds them against the rules of the types.
//
//	wicketway.Example("at noon", bookPassage{Lock: "bell", Body: NewPassage{...}}, Passage{...})
//	wicketway.Example("while it is closed", bookPassage{...}, ErrLockClosed.New("It reopens on 4 May."))
func Example(name string, in, out any) Setting {
	return exampleKind.say(example{name: name, in: in, out: out})
}

var exampleKind = &kindOf[example]{
	name: "Example",
	mode: onlyRoute,
	apply: func(in *reading, said example) {
		switch {
		case strings.TrimSpace(said.name) == "" || strings.ContainsAny(said.name, "\r\n"):
			in.wrong("%q is no name: say in a few words what it shows", said.name)
		case said.in == nil && said.out == nil:
			in.wrong("%q shows neither an input nor an output", said.name)
		}
	},
	where: isTyped,
	none:  "the route is served by a plain handler, whose types are not known",
	fits:  func(r *resolved, said example) error { return said.fits(r) },
}
