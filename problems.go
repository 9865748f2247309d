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
func Fails(kinds ...*problem.Kind) Setting {
	return setting{at: here.Here(0), name: "Fails", slot: slotFails, apply: func(b reporter, at here.Place, t *terms) {
		if len(kinds) == 0 {
			b.mistake(at, "Fails: none is given: leave it out, or name some")
		}
		for i, k := range kinds {
			if k != nil && slices.Contains(kinds[:i], k) {
				b.mistake(at, "Fails: the kind %q is named twice: once is enough", k.Code())
			}
		}
		for _, k := range kinds {
			b.kind(at, "Fails", k)
		}
		t.fails = append(t.fails, kinds...)
	}}
}

// Translate turns foreign errors into problems: a missing row into a 404, a
// conflict of the storage into a 409. Each function is asked about an error that
// is no problem yet, those of the nearest group first and within one list in the
// order written; nil means that it does not know the error. What it returns keeps
// the foreign error as its cause, unless it has one.
func Translate(known ...func(error) error) Setting {
	return setting{
		at:   here.Here(0),
		name: "Translate",
		slot: slotTranslate,
		mode: ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if len(known) == 0 {
				b.mistake(at, "Translate: none is given: leave it out, or name some")
			}
			for i, f := range known {
				if f == nil {
					b.mistake(at, "Translate: function %d is nil", i+1)
				}
			}
			t.translate = append(append(t.translate[:t.nearest:t.nearest], known...), t.translate[t.nearest:]...)
			t.nearest += len(known)
		},
	}
}

// KindAs has problems of one kind, or of its family, answered as of another one, wherever in the
// group they come from: an older version had other kinds. Detail, members and header fields stay; of
// several that know a problem the nearest and most special counts. Fails names what the function
// raises.
func KindAs(now, old *problem.Kind) Setting {
	return setting{
		at:   here.Here(0),
		name: "KindAs",
		slot: slotRaisedAs,
		mode: ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			for _, k := range []*problem.Kind{now, old} {
				b.kind(at, "KindAs", k)
			}
			if now == old && now != nil {
				b.mistake(at, "KindAs: both kinds are %q: leave it out, or name what it was", now.Code())
			}
			if now != nil && old != nil {
				t.raisedAs = append([]raisedAs{{now, old}}, t.raisedAs...)
			}
		},
		acts: func(r *resolved) bool {
			if slices.Contains(problem.BuiltIn(), now) {
				return true // whatever the route names
			}
			return slices.ContainsFunc(r.kinds(), func(one raisedKind) bool {
				return distance(one.kind, now) >= 0 || distance(now, one.kind) >= 0
			})
		},
		lacks: "no route here says that it raises the first kind: name it in Fails",
	}
}

// ProblemShape sends the problems of a group in a shape of its own, as JSON of a media type
// (application/json where that is ""), whatever callers accept: an older version had one. The
// function gets what callers may see; status and header fields stay. Where it fails the problem goes
// out as RFC 9457 describes.
func ProblemShape[T any](media string, as func(format.Problem) T) Setting {
	media = cmp.Or(media, "application/json")
	offer := answer.NewChoice(answer.Choice{Offers: []answer.Offer{{
		Name:  shape.TypeName(reflect.TypeFor[T]()),
		Media: media,
		Problem: func(to io.Writer, of *problem.Problem, how problem.Rendering) (err error) {
			defer func() {
				if v := recover(); v != nil {
					err = fmt.Errorf("panic: %v", v)
				}
			}()
			shown := showProblem(of, how)
			shown.Problem = nil // its cause is not for callers
			return json.MarshalWrite(to, as(shown))
		},
	}}})
	return setting{
		at:   here.Here(0),
		name: "ProblemShape",
		slot: slotProblemsAs,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if as == nil {
				b.mistake(at, "ProblemShape: the function is nil")
			}
			if of, _, err := mime.ParseMediaType(media); err != nil || !strings.Contains(of, "/") {
				b.mistake(at, "ProblemShape: %q is not a media type, such as application/json", media)
			}
			t.problemsAs = &problemShape{offer: &offer.Offers[0], of: reflect.TypeFor[T](), at: at}
		},
		undone: func(t *terms) { t.problemsAs = nil },
	}
}

// JSONProblems sends the problems of a group as JSON, whatever callers accept or choose.
func JSONProblems() Setting {
	return flag(here.Here(0), "JSONProblems", slotPlainProblems, func(t *terms, on bool) { t.jsonOnly = on })
}

// ProblemBase says what comes before a kind's code in the type of its problems
// (RFC 9457, 3.1.1): the URI of a page about them, with its last slash. Without
// it that is /problems/, which the API serves itself; an API that another handler
// puts under a prefix needs to say so.
func ProblemBase(uri string) Setting {
	return setting{
		at:   here.Here(0),
		name: "ProblemBase",
		slot: slotProblemBase,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if !strings.HasSuffix(uri, "/") && !strings.HasSuffix(uri, "#") {
				b.mistake(at, "ProblemBase: %q ends neither in a slash nor in #, so no code can follow", uri)
			}
			t.base = uri
		},
		undone: func(t *terms) { t.base = ownBase },
	}
}

// ErrorsAsProblems turns the plain error answers (400 to 599) of the handlers in a group
// into problems. Their header fields are kept; what is JSON already is left
// alone. What the handler wrote goes to the log.
func ErrorsAsProblems() Setting {
	return flag(here.Here(0), "ErrorsAsProblems", slotUniform, func(t *terms, on bool) { t.uniform = on }).
		where(isHandler,
			"this list has no plain or mounted handler; answers of functions and Files are uniform anyway")
}

func (c ShowCauses) part() here.Place { return here.Place{} }

func (c ShowCauses) setting() setting {
	return setting{
		name: "ShowCauses",
		slot: slotCauses,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			t.causes = &c
			if c.Field == "" && c.Query == "" {
				b.mistake(at, "ShowCauses: neither Field nor Query is set, so nobody can ask")
			}
			if c.Field != "" && !bind.IsToken(c.Field) {
				b.mistake(at, "ShowCauses: Field: %q is not a field name (RFC 9110, 5.1), such as Canal-Debug", c.Field)
			}
			if hasMeaning(http.CanonicalHeaderKey(c.Field)) {
				b.mistake(at, "ShowCauses: Field: %s has a meaning of its own: choose one such as Canal-Debug", c.Field)
			}
			if c.To == nil {
				b.mistake(at, "ShowCauses: To is nil, so nobody may see them")
			}
		},
		undone: func(t *terms) { t.causes = nil },
	}
}
