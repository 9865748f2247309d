package wicketway

import (
	"cmp"
	"fmt"
	"io"
	"mime"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/problem"
)

// RaisedAs has problems of one kind, or of its family, answered as of another one, wherever in the
// group they come from: an older version had other kinds. Detail, members and header fields stay; of
// several that know a problem the nearest and most special counts. Fails names what the function
// raises.
func RaisedAs(now, old *problem.Kind) Setting {
	return setting{at: here.Here(0), name: "RaisedAs", slot: slotRaisedAs, mode: ofGroups, apply: func(b reporter, at here.Place, t *terms) {
		for _, k := range []*problem.Kind{now, old} {
			b.kind(at, "RaisedAs", k)
		}
		if now == old && now != nil {
			b.mistake(at, "RaisedAs: both kinds are %q: leave it out, or name what it was", now.Code())
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

type raisedAs struct{ now, old *problem.Kind }

// asRaised is the kind that problems of one are answered as.
func (t *groupTerms) asRaised(k *problem.Kind) *problem.Kind {
	found, depth := k, -1
	for _, r := range t.raisedAs {
		if d := distance(k, r.now); d >= 0 && (depth < 0 || d < depth) {
			found, depth = r.old, d
		}
	}
	return found
}

// told is a problem as callers see it.
func (t *groupTerms) told(p *problem.Problem) *problem.Problem {
	if of := t.asRaised(p.Kind()); of != p.Kind() {
		return p.Instead(of).WithItems(p.Items()...)
	}
	return p
}

// distance is how far a kind stands below another one of its family; -1: it does not.
func distance(k, above *problem.Kind) int {
	for d := 0; k != nil; k, d = k.Family(), d+1 {
		if k == above {
			return d
		}
	}
	return -1
}

// ProblemsAs sends the problems of a group in a shape of its own, as JSON of a media type
// (application/json where that is ""), whatever callers accept: an older version had one. The
// function gets what callers may see; status and header fields stay. Where it fails the problem goes
// out as RFC 9457 has it.
func ProblemsAs[T any](media string, as func(format.Problem) T) Setting {
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
		name: "ProblemsAs",
		slot: slotProblemsAs,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if as == nil {
				b.mistake(at, "ProblemsAs: the function is nil")
			}
			if of, _, err := mime.ParseMediaType(media); err != nil || !strings.Contains(of, "/") {
				b.mistake(at, "ProblemsAs: %q is not a media type, such as application/json", media)
			}
			t.problemsAs = &problemShape{offer: &offer.Offers[0], of: reflect.TypeFor[T](), at: at}
		},
		undone: func(t *terms) { t.problemsAs = nil },
	}
}

// A problemShape is how a group sends its problems.
type problemShape struct {
	offer *answer.Offer
	of    reflect.Type
	at    here.Place

	schema *check.Type // once it was checked
}

// checkProblemShapes finds what JSON cannot carry of them.
func (b *builder) checkProblemShapes() {
	seen := map[*problemShape]bool{}
	for _, l := range b.lists {
		s := l.terms.problemsAs
		if s == nil || seen[s] {
			continue
		}
		seen[s] = true
		var err error
		if s.schema, err = b.schemas.Type(s.of); err != nil {
			for _, e := range check.Unjoin(err) {
				b.mistake(s.at, "ProblemsAs: %v", e)
			}
		}
	}
}

func (s *problemShape) info(docs *check.Documents) *facts.ProblemShape {
	if s == nil {
		return nil
	}
	if docs != nil {
		return &facts.ProblemShape{Media: s.offer.Media, Type: shape.TypeName(s.of),
			Schema: docs.Schema(s.schema, check.Direction{Sent: true})}
	}
	return &facts.ProblemShape{Media: s.offer.Media, Type: shape.TypeName(s.of)}
}
