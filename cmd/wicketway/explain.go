package main

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/route"
)

func explainCommand() *cobra.Command {
	return aboutAPI("explain METHOD PATH PACKAGE", "Tell what would happen to a request: route, values, chain, access, inputs",
		func(d wicketway.Description, args []string) (answering, error) {
			target, err := url.ParseRequestURI(args[1])
			if err != nil || !strings.HasPrefix(args[1], "/") {
				return answering{}, fmt.Errorf("%q is no path: it starts with a slash and is percent-encoded", args[1])
			}
			t, err := newTable(d)
			if err != nil {
				return answering{}, checked(err)
			}
			e := t.explain(strings.ToUpper(args[0]), target)
			return answering{e, e.print}, nil
		})
}

// A table finds routes as the API itself does, from its description.
type table struct {
	wicketway.Description
	routes, groups *route.Table
	groupOf        []int // by number in groups
}

func newTable(d wicketway.Description) (table, error) {
	t := table{Description: d}
	var routes, groups route.Builder
	var errs []error
	parse := func(text string) route.Template {
		template, err := route.Parse(text)
		errs = append(errs, err)
		return template
	}
	for _, r := range d.Routes {
		routes.Add(r.Method, parse(r.Path))
	}
	for i, g := range d.Groups {
		for _, text := range []string{g.Path, strings.TrimSuffix(g.Path, "/") + "/{+rest}"} {
			groups.Add(route.AnyMethod, parse(text))
			t.groupOf = append(t.groupOf, i)
		}
	}
	t.routes, t.groups = routes.Table(), groups.Table()
	return t, errors.Join(errs...)
}

// An explanation is what would happen to a request.
type explanation struct {
	Method string `json:"method"`
	Path   string `json:"path"`
	Status int    `json:"status,omitzero"` // of the answer, where no route takes the request
	// Allow are the methods that the path has, where it lacks the one asked for.
	Allow []string             `json:"allow,omitempty"`
	Route *wicketway.RouteInfo `json:"route,omitzero"`
	// Values are those of the template's parameters.
	Values []value `json:"values,omitempty"`
	// Beaten are the other routes that match, and why they come later.
	Beaten []beaten `json:"beaten,omitempty"`
	// Chain is passed in any case.
	Chain    []wicketway.LinkInfo `json:"chain,omitempty"`
	Group    string               `json:"group,omitzero"`
	Location string               `json:"location,omitzero"` // where the caller is sent instead
	Near     []string             `json:"near,omitempty"`    // what was meant perhaps
}

type value struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

type beaten struct {
	Route string          `json:"route"`
	Why   string          `json:"why"`
	At    wicketway.Place `json:"at"`
}

func (t table) explain(method string, target *url.URL) explanation {
	e := explanation{Method: method, Path: target.EscapedPath()}
	var m route.Match
	all := t.routes.All(target.Path, target.RawPath)
	outcome := t.routes.Find(method, target.Path, target.RawPath, &m)
	if outcome != route.Found && outcome != route.Malformed {
		outcome = t.nearby(method, target, outcome, &m, &e)
	}
	if outcome == route.Found {
		r := t.Routes[m.Route]
		e.Route, e.Chain = &r, r.Chain
		template, _ := route.Parse(r.Path) // newTable has parsed it before
		for i, name := range template.Names() {
			e.Values = append(e.Values, value{name, m.Value(i)})
		}
		for _, i := range all {
			if other := t.Routes[i]; i != m.Route {
				e.Beaten = append(e.Beaten, beaten{methodName(other.Method) + " " + other.Path, why(r, other, method), other.At})
			}
		}
		return e
	}
	if t.groups.Find(method, target.Path, target.RawPath, &m) == route.Found {
		g := t.Groups[t.groupOf[m.Route]]
		e.Group, e.Chain = g.Path, g.Chain
	}
	if e.Location != "" {
		e.Status = http.StatusPermanentRedirect
		return e
	}
	e.Status = http.StatusNotFound
	if outcome == route.OtherMethods {
		e.Status = http.StatusMethodNotAllowed
		for _, i := range all {
			e.Allow = append(e.Allow, t.Routes[i].Method)
		}
		if method == http.MethodOptions {
			e.Status = http.StatusNoContent
		}
		return e
	}
	e.Near = t.near(method, target.Path)
	return e
}

// nearby does as an API does for a path that no route takes as it is: it tries
// the clean path, and the one with or without a slash at its end.
func (t table) nearby(method string, target *url.URL, outcome route.Outcome, m *route.Match, e *explanation) route.Outcome {
	clean := route.Clean(e.Path)
	for _, path := range []string{clean, route.OtherSlash(clean)} {
		u, err := url.ParseRequestURI(path)
		if path == e.Path || err != nil || t.routes.Find(method, u.Path, u.RawPath, m) != route.Found {
			continue
		}
		policy := t.Routes[m.Route].Slashes
		switch {
		case path == clean || policy == "redirect":
			e.Location = path
		case policy == "same" && clean == e.Path:
			return route.Found
		case policy == "same":
			e.Location = clean
		}
		return outcome
	}
	return outcome
}

// why says why one matching route comes before another.
func why(first, other wicketway.RouteInfo, method string) string {
	if other.Method != method && other.Method != "" {
		return "it is for another method"
	}
	a, b := strings.Split(first.Path, "/"), strings.Split(other.Path, "/")
	for i := 1; i < len(a) && i < len(b); i++ {
		x, y := kind(a[i]), kind(b[i])
		if x != y || x == "text mixed with parameters" && a[i] != b[i] {
			return fmt.Sprintf("segment %d: %s %s comes before %s %s", i, x, a[i], y, b[i])
		}
	}
	if other.Method == "" {
		return "a method of its own comes before all methods"
	}
	return "it has fewer segments"
}

func kind(segment string) string {
	switch {
	case strings.HasPrefix(segment, "{+"):
		return "the rest"
	case !strings.Contains(segment, "{"):
		return "text"
	case strings.HasPrefix(segment, "{") && strings.IndexByte(segment, '}') == len(segment)-1:
		return "a parameter"
	}
	return "text mixed with parameters"
}

// near are the routes whose templates are most like a path: at most three, and
// only those that are close.
func (t table) near(method, path string) []string {
	type candidate struct {
		text     string
		distance int
	}
	var found []candidate
	for _, r := range t.Routes {
		d := templateDistance(r.Path, path)
		if r.Method != method && r.Method != "" {
			d++
		}
		if d <= 2+len(path)/5 {
			found = append(found, candidate{methodName(r.Method) + " " + r.Path, d})
		}
	}
	slices.SortStableFunc(found, func(a, b candidate) int { return cmp.Compare(a.distance, b.distance) })
	var near []string
	for _, c := range found[:min(3, len(found))] {
		near = append(near, c.text)
	}
	return near
}

// templateDistance is how many characters must change to make the path match: a
// parameter takes any segment.
func templateDistance(template, path string) int {
	a, b := strings.Split(template, "/"), strings.Split(path, "/")
	sum := 0
	for i := range max(len(a), len(b)) {
		switch {
		case i >= len(a):
			sum += 1 + len(b[i])
		case strings.HasPrefix(a[i], "{+"):
			return sum
		case i >= len(b):
			sum += 1 + len(a[i])
		case !strings.Contains(a[i], "{"):
			sum += distance(a[i], b[i])
		}
	}
	return sum
}

// distance is the edit distance of two texts (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		previous := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := previous
			if a[i] != b[j] {
				change++
			}
			previous = row[j+1]
			row[j+1] = min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

func (e explanation) print(out io.Writer) {
	t := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	defer t.Flush()
	line := func(label, format string, args ...any) {
		fmt.Fprintf(t, "%s\t%s\n", label, fmt.Sprintf(format, args...))
	}
	line("request", "%s %s", e.Method, e.Path)
	if e.Route == nil {
		line("answer", "%d %s", e.Status, http.StatusText(e.Status))
		if e.Location != "" {
			line("location", "%s", e.Location)
		}
		if e.Allow != nil {
			line("allowed", "%s", strings.Join(e.Allow, ", "))
		}
		for i, text := range e.Near {
			line(first(i, "did you mean"), "%s", text)
		}
		line("in the group", "%s", e.Group)
		e.printChain(line, -1)
		return
	}
	r := e.Route
	line("route", "%s %s\t%s", methodName(r.Method), r.Path, where(r.At))
	if r.Name != "" {
		line("name", "%s", r.Name)
	}
	if r.Summary != "" {
		line("summary", "%s", r.Summary)
	}
	if r.Version != "" {
		line("version", "%s", r.Version)
	}
	if len(e.Beaten) == 0 {
		line("chosen", "no other route matches")
	}
	for i, b := range e.Beaten {
		line(first(i, "before"), "%s\t%s: %s", b.Route, where(b.At), b.Why)
	}
	for i, v := range e.Values {
		line(first(i, "values"), "%s = %q", v.Name, v.Value)
	}
	asked := -1
	if r.Guard != "" {
		asked = r.Asked
	}
	e.printChain(line, asked)
	line("who may call", "%s", access(*r))
	for i, in := range r.Reads {
		rules := strings.TrimSpace(in.Rule)
		if in.Required && !strings.Contains(rules, "required") {
			rules = strings.TrimSpace("required " + rules)
		}
		line(first(i, "reads"), "%s %s\t%s  %s", in.In, in.Name, in.Type, rules)
	}
	if r.Answers.Status != 0 {
		line("answers", "%d %s\t%s", r.Answers.Status, http.StatusText(r.Answers.Status), r.Answers.Type)
	}
	for i, f := range r.Fails {
		line(first(i, "fails"), "%d %s\t%s", f.Status, f.Code, f.Title)
	}
}

// printChain lists the links, with the guard before the link that it comes before.
func (e explanation) printChain(line func(label, format string, args ...any), asked int) {
	for i := range len(e.Chain) + 1 {
		if i == asked {
			line(first(i, "chain"), "(guard %s)\t%s", e.Route.Guard, where(*e.Route.GuardAt))
		}
		if i < len(e.Chain) {
			line(first(i, "chain"), "%s\t%s", e.Chain[i].Name, where(e.Chain[i].At))
		}
	}
}

// first is the label of a list's first line; the others have none.
func first(i int, label string) string {
	if i > 0 {
		return ""
	}
	return label
}
