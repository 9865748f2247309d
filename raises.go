package wicketway

import (
	"net/http"
	"reflect"
	"slices"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/problem"
)

// A raisedKind is a kind of problem, and who raises it.
type raisedKind struct {
	kind *problem.Kind
	by   string
}

// raises are the kinds that a route can answer with, in addition to those that every request can
// meet, as callers see them.
func (r *resolved) raises() []raisedKind {
	all := r.kinds()
	for i := range all {
		all[i].kind = r.terms().asRaised(all[i].kind)
	}
	return all
}

// kinds are these as they are raised.
func (r *resolved) kinds() (all []raisedKind) {
	t := r.terms()
	add := func(by string, kinds ...*problem.Kind) {
		for _, k := range kinds {
			if k != nil { // which is said where it was named
				all = append(all, raisedKind{k, by})
			}
		}
	}
	add("route", t.fails...)
	if r.part.withdrawn {
		add("route", problem.Withdrawn)
	}
	if t.ending.Ends {
		add("route", problem.Retired)
	}
	for _, l := range t.active() {
		add(l.Name, l.Raises...)
	}
	if r.guarded() {
		add("guard", t.guard.Scheme().Raises...)
		if len(t.scopes) > 0 || len(t.anyScope) > 0 {
			add("guard", problem.ScopeMissing)
		}
		for _, rule := range t.rules {
			add("rule", rule.kind)
		}
	}
	if len(t.seats) > 0 {
		add("limits", problem.Overloaded)
	}
	if r.input != nil {
		add("input", r.input.Raises()...)
	}
	if r.output != nil {
		add("input", r.output.Raises()...)
	}
	if r.ties != nil && r.ties.conditional != nil {
		add("input", r.ties.conditional.raises()...)
	}
	if r.canLack() {
		add("output", problem.NotFound)
	}
	if r.hasRanges() {
		add("output", problem.OfStatus(http.StatusRequestedRangeNotSatisfiable))
	}
	if t.limits.Time > 0 {
		add("limits", problem.Timeout)
	}
	return all
}

// canLack reports whether the output of a route can be nil, which is 404 where its path names a value.
func (r *resolved) canLack() bool {
	if r.output == nil || len(r.names) == 0 || r.method != http.MethodGet {
		return false
	}
	of := r.part.out.value
	return r.part.out.pointer || of != nil && (of.Kind() == reflect.Pointer || of.Kind() == reflect.Interface)
}

// hasRanges reports whether parts of an answer can be asked for (RFC 9110, 14).
func (r *resolved) hasRanges() bool {
	if r.part.what == filesPart {
		return true
	}
	return r.part.out.info != nil &&
		slices.ContainsFunc(r.part.out.info(), func(a facts.Answer) bool { return a.Status == http.StatusPartialContent })
}

// declares reports whether a route, its chain or its guard names a kind, or a family of it. What Wicketway
// raises by itself needs no declaring.
func (r *resolved) declares(k *problem.Kind) bool {
	own := func(of *problem.Kind) bool { return of == k }
	named := func(of raisedKind) bool { return distance(k, of.kind) >= 0 }
	if slices.ContainsFunc(problem.BuiltIn(), own) {
		return true
	}
	if r.part != nil {
		return slices.ContainsFunc(r.kinds(), named)
	}
	for _, l := range r.terms().active() { // a group's, for what none of its routes takes
		if slices.ContainsFunc(l.Raises, func(of *problem.Kind) bool { return distance(k, of) >= 0 }) {
			return true
		}
	}
	return false
}

// kindSchema is the schema of a problem of a kind (RFC 9457, 3).
// A kind has several titles where problems are told in several languages.
func kindSchema(k *problem.Kind, base string, titles []string) jsontext.Value {
	text := map[string]any{"type": "string"}
	address := map[string]any{"type": "string", "format": "uri-reference"}
	properties := map[string]any{
		"type":     map[string]any{"const": base + k.Code()},
		"title":    oneTitle(titles),
		"status":   map[string]any{"const": k.Status()},
		"code":     map[string]any{"const": k.Code()},
		"detail":   text,
		"instance": address,
	}
	var set check.Set
	member := func(name string, of reflect.Type) {
		if t, err := set.Type(of); err == nil {
			properties[name] = t.Inline(check.Direction{Sent: true})
		}
	}
	for _, m := range k.Members() {
		member(m.Name, reflect.TypeOf(m.Example))
	}
	switch k {
	case problem.Unreadable, problem.Invalid:
		member("errors", reflect.TypeFor[[]problem.Item]())
	case problem.NotFound, problem.MethodNotAllowed:
		member("near", reflect.TypeFor[[]string]())
	}
	return schemaText(
		map[string]any{"type": "object", "properties": properties, "required": []string{"type", "title", "status", "code"}},
	)
}

// everywhere are the kinds that any request can meet.
var everywhere = []*problem.Kind{problem.BadRequest, problem.NotFound, problem.MethodNotAllowed,
	problem.NotImplemented, problem.Internal, problem.Timeout}

func oneTitle(titles []string) map[string]any {
	if len(titles) == 1 {
		return map[string]any{"const": titles[0]}
	}
	return map[string]any{"enum": titles}
}
