package main

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

func explainCommand() *cobra.Command {
	var fields []string
	var address string
	var wrong bool
	c := aboutAPI("explain METHOD PATH PACKAGE",
		"Say what would happen to a request: route, values, chain, access, inputs",
		func(d facts.API, args []string) (answering, error) {
			target, err := url.ParseRequestURI(args[1])
			if err != nil {
				return answering{}, err
			}
			t, err := newDescribed(d)
			if err != nil {
				return answering{}, checked(err)
			}
			header := http.Header{}
			for _, f := range fields {
				name, value, ok := strings.Cut(f, ":")
				if !ok {
					return answering{}, fmt.Errorf("%q is not a header field: write NAME: VALUE", f)
				}
				header.Add(strings.TrimSpace(name), strings.TrimSpace(value))
			}
			e := t.explain(args[0], target, header)
			if err := e.addRequests(d, address, wrong); err != nil {
				return answering{}, checked(err)
			}
			return answering{data: e, print: e.print}, nil
		})
	c.Args = func(c *cobra.Command, args []string) error {
		return cmp.Or(orderly(args), takes(c, args))
	}
	c.Flags().StringVar(&address, "address", defaultAddress, "the `ADDRESS` of the API, for the line to try")
	c.Flags().BoolVar(&wrong, "wrong", false, "list requests with one fault each, and what they must get")
	c.Flags().
		StringArrayVarP(&fields, "header", "H", nil, "a header field of the request, `'NAME: VALUE'`; can be given again")
	return c
}

// orderly finds words of the request that are missing or in the wrong order.
func orderly(args []string) error {
	const usage = "wicketway explain METHOD PATH PACKAGE"
	if len(args) == 0 {
		return nil
	}
	if strings.HasPrefix(args[0], "/") {
		return fmt.Errorf("missing METHOD before %s: %s", args[0], usage)
	}
	if !bind.IsToken(args[0]) {
		return fmt.Errorf("%q is not a method (RFC 9110, 9.1): %s", args[0], usage)
	}
	if len(args) == 1 {
		return nil
	}
	target, err := url.ParseRequestURI(args[1])
	switch {
	case err == nil && target.Host != "":
		return fmt.Errorf("%s is an address; write its path alone: %s", args[1], target.RequestURI())
	case !strings.HasPrefix(args[1], "/"):
		return fmt.Errorf("missing PATH, which begins with a slash, before %s: %s", args[1], usage)
	case err != nil:
		return fmt.Errorf("%s is not a valid path: its percent-encoding is wrong (RFC 3986, 2.1)", args[1])
	}
	return nil
}

// An explanation is what would happen to a request.
type explanation struct {
	Method string `json:"method"`
	Path   string `json:"path"`
	// Status is that of the answer, where no route takes the request, or where the route has ended.
	Status int `json:"status,omitzero"`
	// Allow are the methods that the path has, where it lacks the one asked for.
	Allow []string     `json:"allow,omitempty"`
	Route *facts.Route `json:"route,omitzero"`
	// Values are those of the template's parameters.
	Values []value `json:"values,omitempty"`
	// Refused is set where the parameters break rules of the route.
	Refused *refusal `json:"refused,omitzero"`
	// Beaten are the other routes that match, and why they come later.
	Beaten []beaten `json:"beaten,omitempty"`
	// Format is the one that the path's suffix chooses.
	Format string `json:"format,omitzero"`
	// Chain is passed in any case.
	Chain    []facts.Middleware `json:"chain,omitempty"`
	Group    string             `json:"group,omitzero"`
	Location string             `json:"location,omitzero"` // where the caller is sent instead
	Near     []string           `json:"near,omitempty"`    // what was meant perhaps
	// Try is a request for the route that must succeed, as a line for a shell, and Wrong are those with one fault each.
	Try   string         `json:"try,omitzero"`
	Wrong []wrongRequest `json:"wrong,omitempty"`
	// Chosen says between which versions there is a choice, where the request names none that is
	// there.
	Chosen *facts.Versions `json:"chosen,omitzero"`
}

// A wrongRequest has one fault.
type wrongRequest struct {
	Wrong  string `json:"wrong"`
	Status int    `json:"status"`
	Or     int    `json:"or,omitzero"` // another status that may come back instead
	Code   string `json:"code,omitzero"`
	Line   string `json:"line"`
}

// addRequests makes requests for the route from its contract, if it is in one.
func (e *explanation) addRequests(d facts.API, address string, wrong bool) error {
	if e.Route == nil || e.Route.Method == "" || e.Route.Own || e.Route.Unlisted || e.Route.Withdrawn {
		return nil
	}
	document, err := contract.Of(d, e.Route.Version)
	if err != nil {
		return err
	}
	made := requests.Of(document)
	good, err := made.Good(e.Route.Method, e.Route.Path)
	if err != nil {
		return nil // no values can be made by the rules
	}
	if e.Try = good.Line(address); !wrong {
		return nil
	}
	all, err := made.Wrong(e.Route.Method, e.Route.Path)
	for _, r := range all {
		e.Wrong = append(e.Wrong, wrongRequest{r.Wrong, r.Status, r.Or, r.Code, r.Line(address)})
	}
	return err
}

type value struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

type beaten struct {
	Route string      `json:"route"`
	Why   string      `json:"why"`
	At    facts.Place `json:"at"`
}

func (t described) explain(method string, target *url.URL, header http.Header) explanation {
	e := explanation{Method: method, Path: target.EscapedPath()}
	var m table.Match
	to := t.table.Resolve(method, target, header, &m)
	if to.Outcome == table.Found {
		t.found(&e, &m, target, header)
		return e
	}
	miss, g := t.table.Missed(method, target, to, &m)
	e.Group, e.Chain = g.Path, g.Chain
	if to.Preflight > 0 {
		e.Chain = t.Routes[to.Preflight-1].Chain
	}
	e.Status, e.Location, e.Allow = miss.Status, miss.Location, miss.Allowed
	if miss.Version {
		e.Chosen = g.Chosen
	}
	if upper := strings.ToUpper(method); upper != method && slices.Contains(e.Allow, upper) {
		e.Near = []string{upper + " " + e.Path} // methods are case-sensitive (RFC 9110, 9.1)
		return e
	}
	for _, i := range t.table.Near(method, target, &m, miss, func(i int) bool {
		return !t.Routes[i].Own && !t.Routes[i].Withdrawn
	}) {
		e.Near = append(e.Near, methodName(t.Routes[i].Method)+" "+t.Routes[i].Path)
	}
	return e
}

// found explains a request that a route takes.
func (t described) found(e *explanation, m *table.Match, target *url.URL, header http.Header) {
	r := t.Routes[m.Route]
	e.Route, e.Chain, e.Format = &r, r.Chain, m.Suffix
	template, _ := route.Parse(r.Path) // newDescribed has parsed it before
	for i, name := range template.Names() {
		e.Values = append(e.Values, value{name, m.Value(i)})
	}
	if ended, _ := r.Retirement.HasEnded(time.Now()); ended || r.Withdrawn {
		e.Status = http.StatusGone
	}
	e.Refused = refuse(r, template.Names(), m, target, header)
	for _, i := range t.table.Edition(m).All(target.Path, target.RawPath) {
		if other := t.Routes[i]; i != int(m.Route) {
			e.Beaten = append(e.Beaten, beaten{methodName(other.Method) + " " + other.Path, why(r, other, e.Method),
				other.At})
		}
	}
}

// labelWidth is that of the longest label, and what is between it and its text.
const labelWidth = len("did you mean") + between

func (e explanation) print(out io.Writer) {
	e.printRoute(out)
	// Lines for a shell are not folded: they are pasted.
	line := func(label, text string) { fmt.Fprintf(out, "%-*s%s\n", labelWidth, label, text) }
	if e.Try != "" {
		line("to try", e.Try)
	}
	for i, w := range e.Wrong {
		want := strings.TrimSpace(fmt.Sprintf("%d %s", w.Status, w.Code))
		if w.Or != 0 {
			want = fmt.Sprintf("%d or %d", w.Status, w.Or)
		}
		line(first(i, "wrong"), want+": "+w.Wrong)
		line("", w.Line)
	}
}

func (e explanation) printRoute(out io.Writer) {
	t := newSheet(out)
	defer t.flush(labelWidth)
	line := func(label, format string, args ...any) {
		fmt.Fprintf(t, "%-*s%s\n", labelWidth, label, fmt.Sprintf(format, args...))
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
		if c := e.Chosen; c != nil {
			line("version", "unknown; available by %s: %s", waysOf(c), strings.Join(c.Served, ", "))
		}
		line("in the group", "%s", e.Group)
		e.printChain(line, -1)
		return
	}
	r := e.Route
	if e.Status != 0 {
		line("answer", "%d %s", e.Status, http.StatusText(e.Status))
	}
	line("route", "%s %s\t%s", methodName(r.Method), r.Path, where(r.At))
	if r.Name != "" {
		line("name", "%s", r.Name)
	}
	if r.Summary != "" {
		line("summary", "%s", r.Summary)
	}
	if r.Version != "" {
		line("version", "%s", r.Version+chosenBy(r.Chosen, r.Version))
	}
	if e := r.Retirement; e != nil {
		var says []string
		if !e.Deprecated.IsZero() {
			says = append(says, "deprecated "+e.Deprecated.Format(time.DateOnly))
		}
		if !e.Sunset.IsZero() {
			says = append(says, "sunset "+e.Sunset.Format(time.DateOnly))
		}
		if e.Ends {
			says = append(says, "then 410")
		}
		for _, w := range e.Rehearsals {
			says = append(says, "and as a rehearsal from "+w.From.Format(time.RFC3339)+" until "+w.Until.Format(time.RFC3339))
		}
		for i, text := range append([]string{strings.Join(says, ", ")}, e.Links...) {
			if text != "" {
				line(first(i, "retirement"), "%s", text)
			}
		}
	}
	if r.Inherited != nil {
		line("inherited", "%s\t%s", fromEarlier(*r), where(r.Inherited.At))
	}
	if r.Adapted {
		line("adapted", "an older shape of the function's types")
	}
	if p := r.Problems; p != nil {
		line("problems", "as %s\t%s", p.Type, p.Media)
	}
	if len(e.Beaten) == 0 {
		line("chosen", "no other route matches")
	}
	for i, b := range e.Beaten {
		line(first(i, "not chosen"), "%s\t%s: %s", b.Route, where(b.At), b.Why)
	}
	for i, v := range e.Values {
		line(first(i, "values"), "%s = %q", v.Name, v.Value)
	}
	if e.Refused != nil {
		e.Refused.print(line)
	}
	asked := -1
	if r.Guard != nil {
		asked = r.Guard.After
	}
	e.printChain(line, asked)
	for i, a := range r.Attached {
		line(first(i, "attached"), "%s %s\t%s", a.Type, a.Value, where(a.At))
	}
	line("who may call", "%s", access(*r))
	for i, s := range r.Settings {
		from := "of the " + s.List
		if s.List != "route" {
			from = strings.TrimSpace("of "+s.List+" "+s.Under) + " at " + where(s.ListAt)
		}
		if s.Inherited {
			from += ", inherited"
		}
		line(first(i, "settings"), "%s\t%s  %s", s.Name, where(s.At), from)
	}
	for i, in := range r.Inputs {
		rules := strings.TrimSpace(in.Rule)
		if in.Required && !strings.Contains(rules, "required") {
			rules = strings.TrimSpace("required " + rules)
		}
		line(first(i, "reads"), "%s %s\t%s\t%s", in.In, in.Name, in.Type, rules)
	}
	if r.Files {
		line("", "404 where the file does not exist")
	}
	for i, b := range r.Bodies {
		line(first(i, "body"), "%s", b.Media)
	}
	if f := r.Formats; f != nil {
		var names []string
		for _, o := range f.Offers {
			names = append(names, o.Name)
		}
		var ways []string
		for _, w := range f.By {
			ways = append(ways, strings.TrimSpace(w.By+" "+w.Name))
		}
		line("formats", "%s\tby %s", strings.Join(names, ", "), strings.Join(ways, ", then "))
	}
	if e.Format != "" {
		line("", "the suffix chooses %s", e.Format)
	}
	if r.Languages != nil {
		line("languages", "%s\tof problems, by Accept-Language", strings.Join(r.Languages, ", "))
	}
	for i, a := range r.Answers {
		sets := ""
		if len(a.Fields) > 0 {
			sets = "\tsets " + strings.Join(a.Fields, ", ")
		}
		line(first(i, "answers"), "%d %s\t%s %s%s", a.Status, http.StatusText(a.Status), a.Media, a.Type, sets)
	}
	for i, f := range r.Raises {
		line(first(i, "fails"), "%d %s\t%s\t%s", f.Status, f.Code, f.Title, by(f.By))
	}
}

// chosenBy says how a version is chosen.
func chosenBy(c *facts.Versions, version string) string {
	text := ", chosen by " + waysOf(c)
	if c.Field == "Accept" {
		text += ": application/json;version=" + version
	}
	if c.Default == version {
		text += ", and by default"
	}
	return text
}

// printChain lists the links, with the guard before the link that it comes before.
func (e explanation) printChain(line func(label, format string, args ...any), asked int) {
	for i := range len(e.Chain) + 1 {
		if i == asked {
			line(first(i, "chain"), "(guard %s)\t%s", e.Route.Guard.Name, where(e.Route.Guard.At))
		}
		if i < len(e.Chain) {
			line(first(i, "chain"), "%s\t%s  %s", e.Chain[i].Name, where(e.Chain[i].At), e.Chain[i].Does)
		}
	}
}

// by says who raises a problem.
func by(who string) string {
	switch who {
	case "route", "guard", "input", "limits":
		return "by the " + who
	}
	return "by " + who
}
