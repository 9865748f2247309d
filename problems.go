package wicketway

import (
	"cmp"
	"fmt"
	"io"
	"mime"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/problem"
)

// Fails names the kinds of problem that a route can raise itself.
func Fails(kinds ...*problem.Kind) Setting { return failsKind.say(kinds) }

var failsKind = &kindOf[[]*problem.Kind]{
	name: "Fails",
	apply: func(in *reading, kinds []*problem.Kind) {
		if len(kinds) == 0 {
			in.wrong("none is given: leave it out, or name some")
		}
		for i, k := range kinds {
			if k != nil && slices.Contains(kinds[:i], k) {
				in.wrong("the kind %q is named twice: once is enough", k.Code())
			}
			in.kindOfProblem(k)
		}
		in.fails = append(in.fails, kinds...)
	},
}

// Translate turns foreign errors into problems: a missing row into a 404, a
// conflict of the storage into a 409. Each function is asked about an error that
// is no problem yet, those of the nearest group first and within one list in the
// order written; nil means that it does not know the error. Its result keeps
// the foreign error as its cause, unless it has one.
func Translate(known ...func(error) error) Setting { return translateKind.say(known) }

var translateKind = &kindOf[[]func(error) error]{
	name: "Translate",
	mode: ofGroups,
	apply: func(in *reading, known []func(error) error) {
		if len(known) == 0 {
			in.wrong("none is given: leave it out, or name some")
		}
		for i, f := range known {
			if f == nil {
				in.wrong("function %d is nil", i+1)
			}
		}
		in.translate = append(append(in.translate[:in.nearest:in.nearest], known...), in.translate[in.nearest:]...)
		in.nearest += len(known)
	},
}

// KindAs has problems of one kind, or of its family, answered as of another one, wherever in the
// group they come from: an older version had other kinds. Detail, members and header fields stay; of
// several that know a problem the nearest and most special counts. Fails names what the function
// raises.
func KindAs(now, old *problem.Kind) Setting { return kindAsKind.say(raisedAs{now, old}) }

var kindAsKind = &kindOf[raisedAs]{
	name: "KindAs",
	mode: ofGroups,
	apply: func(in *reading, said raisedAs) {
		in.kindOfProblem(said.now)
		in.kindOfProblem(said.old)
		if said.now == said.old && said.now != nil {
			in.wrong("both kinds are %q: leave it out, or name what it was", said.now.Code())
		}
		if said.now != nil && said.old != nil {
			in.raisedAs = append([]raisedAs{said}, in.raisedAs...)
		}
	},
	picks: func(r *resolved, said raisedAs) bool {
		if slices.Contains(problem.BuiltIn(), said.now) {
			return true // whatever the route names
		}
		return slices.ContainsFunc(r.kinds(), func(one raisedKind) bool {
			return distance(one.kind, said.now) >= 0 || distance(said.now, one.kind) >= 0
		})
	},
	none: "no route here says that it raises the first kind: name it in Fails",
}

// ProblemShape sends the problems of a group in a shape of its own, as JSON of a media type
// (application/json where that is ""), without regard to Accept: an older version had one. The
// function gets what callers may see; status and header fields stay. Where it fails the problem goes
// out as RFC 9457 describes.
func ProblemShape[T any](media string, as func(format.Problem) T) Setting {
	media = cmp.Or(media, "application/json")
	offer := answer.NewChoice(answer.Choice{Offers: []answer.Offer{{
		Name:  shape.TypeName(reflect.TypeFor[T]()),
		Media: media,
		Problem: func(to io.Writer, shown format.Problem) (err error) {
			defer func() {
				if v := recover(); v != nil {
					err = fmt.Errorf("panic: %v", v)
				}
			}()
			return json.MarshalWrite(to, as(shown))
		},
	}}})
	return shapeKind.say(&problemShape{offer: &offer.Offers[0], of: reflect.TypeFor[T](), at: here.Here(0), missing: as == nil})
}

var shapeKind = &kindOf[*problemShape]{
	name:  "ProblemShape",
	mode:  replaces | ofGroups,
	field: func(t *terms) **problemShape { return &t.problemsAs },
	apply: func(in *reading, _ *problemShape) { in.problemsAs = ownCopy(in.problemsAs) },
	wrong: func(in *reading, said *problemShape) {
		if said.missing {
			in.wrong("the function is nil")
		}
		if of, _, err := mime.ParseMediaType(said.offer.Media); err != nil || !strings.Contains(of, "/") {
			in.wrong("%q is not a media type, such as application/json", said.offer.Media)
		}
	},
}

// ProblemBase is the start of the type of problems, before the code of their kind
// (RFC 9457, 3.1.1): the URI of a page about them, with its last slash. Without
// it that is /problems/, which the API serves itself; an API that another handler
// puts under a prefix needs to say so.
func ProblemBase(uri string) Setting { return baseKind.say(uri) }

var baseKind = &kindOf[string]{
	name:  "ProblemBase",
	mode:  replaces | ofGroups,
	field: func(t *terms) *string { return &t.base },
	unset: ownBase,
	wrong: func(in *reading, uri string) {
		if !strings.HasSuffix(uri, "/") && !strings.HasSuffix(uri, "#") {
			in.wrong("%q ends neither in a slash nor in #, so no code can follow", uri)
		}
	},
}

// ErrorsAsProblems turns the plain error answers (400 to 599) of the handlers in a group
// into problems. Their header fields are kept; what is JSON already is left
// alone. The handler's text goes to the log.
func ErrorsAsProblems() Setting { return uniformKind.say(true) }

var uniformKind = &kindOf[bool]{
	name:  "ErrorsAsProblems",
	mode:  replaces | ofGroups,
	field: func(t *terms) *bool { return &t.uniform },
	where: isHandler,
	none:  "this list has no plain or mounted handler; answers of functions and Files are uniform anyway",
}

func (c ShowCauses) part() here.Place { return here.Place{} }

func (c ShowCauses) setting() setting { return causesKind.sayAt(here.Place{}, &c) }

// ProblemPages has problems shown as pages to callers that prefer HTML, whatever the formats of values: the 404, 401 and
// 500 of an API that answers JSON alone. All others get them as before.
//
//	wicketway.ProblemPages(html.Pages(templates))
//
// With [format.JSON] there are no pages: problems are JSON, without regard to Accept or another choice of the caller.
func ProblemPages(by format.Format) Setting { return pagesKind.say([]format.Format{by}) }

var pagesKind = &kindOf[[]format.Format]{
	name:     "ProblemPages",
	mode:     replaces | ofGroups,
	undoable: true,
	field:    func(t *terms) *[]format.Format { return &t.pagesBy },
	wrong: func(in *reading, said []format.Format) {
		checkFormats(in, said)
		if _, writes := said[0].(format.ProblemFormat); !writes && said[0] != format.JSON() {
			in.wrong("it takes a format.ProblemFormat, such as html.Pages, or format.JSON()")
		}
	},
	apply: func(in *reading, _ []format.Format) {
		in.pages, in.jsonOnly = nil, false
		switch {
		case in.pagesBy == nil:
		case in.pagesBy[0] == format.JSON():
			in.jsonOnly = true
		default:
			in.pages = answer.NewChoice(answer.Choice{Offers: []answer.Offer{offerOf(format.JSON()), offerOf(in.pagesBy[0])},
				Accept: true, First: true})
		}
	},
}

// Languages has the problems of a group told in the language that the caller asks for in Accept-Language (RFC 9110,
// 12.5.4), by lookup (RFC 4647, 3.4). Original is the language tag of the texts that kinds and rules have by
// themselves, which everyone else gets. Answers with problems have Content-Language, of two languages where a text is
// missing, and Vary. The log keeps the original; a problem in an output is told in it as well.
func Languages(original string, others ...problem.Texts) Setting {
	return languagesKind.say(newLanguages(original, others))
}

var languagesKind = &kindOf[*languages]{
	name:     "Languages",
	mode:     replaces | ofGroups,
	undoable: true,
	field:    func(t *terms) **languages { return &t.languages },
	wrong: func(in *reading, said *languages) {
		for i, tag := range said.tags {
			if !isLanguageTag(tag) {
				in.wrong("%q is not a language tag, such as de or pt-BR (RFC 5646, 2.1)", tag)
			}
			if slices.ContainsFunc(said.tags[:i], func(other string) bool { return strings.EqualFold(tag, other) }) {
				in.wrong("%s is named twice", tag)
			}
		}
		if len(said.tags) == 1 {
			in.wrong("there are no other texts, so there is nothing to choose")
		}
	},
}

var causesKind = &kindOf[*ShowCauses]{
	name:  "ShowCauses",
	mode:  replaces | ofGroups,
	field: func(t *terms) **ShowCauses { return &t.causes },
	wrong: func(in *reading, said *ShowCauses) {
		if said.Field == "" && said.Query == "" {
			in.wrong("neither Field nor Query is set, so nobody can ask")
		}
		if said.Field != "" && !bind.IsToken(said.Field) {
			in.wrong("Field: %q is not a field name (RFC 9110, 5.1), such as Canal-Debug", said.Field)
		}
		if hasMeaning(http.CanonicalHeaderKey(said.Field)) {
			in.wrong("Field: %s has a meaning of its own: choose one such as Canal-Debug", said.Field)
		}
		if said.To == nil {
			in.wrong("To is nil, so nobody may see them")
		}
	},
}
