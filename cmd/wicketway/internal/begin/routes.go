package begin

import (
	"fmt"
	"mime"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/internal/golang"
	"github.com/wicketway/wicketway/problem"
)

// routes writes every operation.
func (g *generator) routes() {
	for _, item := range g.Document.Paths.All() {
		for _, o := range item.Operations() {
			g.guarded = g.guarded || !isOpen(g.Document, o)
		}
	}
	for path, item := range g.Document.Paths.All() {
		item = contract.Referred(g.Document, item)
		path = item.Template(path)
		for method, o := range item.Operations() {
			if method == "*" || method == "OPTIONS" || method == "HEAD" {
				g.Note(
					pointerTo("paths", path, strings.ToLower(method)),
					"%s is not begun: Wicketway answers it by itself",
					method,
				)
				continue
			}
			g.route(method, path, item, o)
		}
	}
}

func pointerTo(names ...string) (pointer string) {
	for _, name := range names {
		pointer += "/" + golang.Escape(name)
	}
	return pointer
}

// isOpen reports whether everyone may call an operation.
func isOpen(d *contract.Document, o *contract.Operation) bool {
	all := d.Security
	if o.Security != nil {
		all = *o.Security
	}
	return len(all) == 0 || slices.ContainsFunc(all, func(r contract.Requirement) bool { return r.Len() == 0 })
}

// A route that is written.
type writing struct {
	*generator
	method, path, at string
	name             string // in Go
	settings         []string
	unknown          bool // the body is open
}

func (g *generator) route(method, path string, item *contract.PathItem, o *contract.Operation) {
	id := o.ID
	if id == "" {
		id = strings.ToLower(method) + " " + path
	}
	w := &writing{
		generator: g,
		method:    method,
		path:      path,
		at:        pointerTo("paths", strings.ReplaceAll(path, "{+", "{"), strings.ToLower(method)),
		name:      g.Unique(golang.Lower(golang.Camel(id))),
	}
	if o.ID != "" && !strings.ContainsAny(o.ID, " /") {
		w.set("Name(%q)", o.ID)
	} else if o.ID != "" {
		g.Note(w.at+"/operationId", "%q cannot be the name of a route, which has neither spaces nor slashes", o.ID)
	}
	if text := golang.OneLine(o.Summary); text != "" {
		w.set("Summary(%q)", text)
	}
	if text := strings.TrimSpace(o.Description); text != "" {
		w.set("Description(%q)", text)
	}
	if len(o.Tags) > 0 {
		w.set("Tags(%s)", quotedList(slices.Compact(slices.Sorted(slices.Values(o.Tags)))))
	}
	w.access(o)
	in := w.input(item, o)
	out := w.output(o)
	w.problems(o)
	if w.unknown {
		w.set("AllowUnknown()")
	}
	if o.Deprecated {
		g.Note(w.at, "it is deprecated: add a wicketway.Retirement that says since when")
	}
	g.parts = append(
		g.parts,
		fmt.Sprintf(
			"wicketway.Route(%q, %s,\n%s)",
			method+" "+path,
			w.name,
			strings.Join(append(w.settings, ""), ",\n"),
		),
	)
	doc := golang.NonEmpty(golang.OneLine(o.Summary), method+" "+path)
	g.functions = append(
		g.functions,
		fmt.Sprintf(
			"// %s: %s.\nfunc %s(ctx context.Context, in %s) (out %s, err error) {\n\treturn out, problem.NotImplemented.New(\"\")\n}\n",
			w.name,
			strings.TrimSuffix(doc, "."),
			w.name,
			in,
			out,
		),
	)
}

func (w *writing) set(format string, args ...any) {
	w.settings = append(w.settings, "wicketway."+fmt.Sprintf(format, args...))
}

func quotedList(all []string) string {
	var texts []string
	for _, one := range all {
		texts = append(texts, strconv.Quote(one))
	}
	return strings.Join(texts, ", ")
}

// access writes who may call.
func (w *writing) access(o *contract.Operation) {
	if !w.guarded {
		return
	}
	if isOpen(w.Document, o) {
		w.set("Public()")
		return
	}
	all := w.Document.Security
	if o.Security != nil {
		all = *o.Security
	}
	var scopes []string
	for _, one := range all[0].All() {
		scopes = append(scopes, one...)
	}
	if len(all) > 1 || all[0].Len() > 1 {
		w.Note(
			w.at+"/security",
			"there are several ways to be known; the guard that is given has to take them all (auth.Any)",
		)
	}
	if len(scopes) > 0 {
		w.set("Scopes(%s)", quotedList(scopes))
	}
}

// input writes what the route reads, and gives its type.
func (w *writing) input(item *contract.PathItem, o *contract.Operation) string {
	var fields strings.Builder
	known := map[string]bool{}
	for i, p := range slices.Concat(item.Parameters, o.Parameters) {
		at := fmt.Sprint(w.at, "/parameters/", i)
		if p.Ref != "" {
			to, err := contract.Resolve[contract.Parameter](w.Document, p.Ref)
			if err != nil {
				w.Note(at, "%v", err)
				continue
			}
			p = to
		}
		fields.WriteString(w.parameter(at, p, known))
	}
	fields.WriteString(w.body(o))
	if fields.Len() == 0 {
		return "wicketway.None"
	}
	name := w.Unique(w.name + "In")
	w.functions = append(w.functions, fmt.Sprintf("type %s struct {\n%s}\n", name, fields.String()))
	return name
}

// parameter writes one as a field.
func (w *writing) parameter(at string, p *contract.Parameter, known map[string]bool) string {
	s := p.Schema
	switch {
	case p.In == "header" && slices.Contains([]string{"accept", "content-type", "authorization"}, strings.ToLower(p.Name)):
		return ""
	case p.Content.Len() > 0 || strings.ContainsAny(p.Name, " \"`,"):
		w.Note(at, "the parameter %s is not read: no rule of a field says how it is written", p.Name)
		return ""
	}
	t := w.TypeOf(at+"/schema", s, golang.Camel(w.name+" "+p.Name), 0)
	simple := t.Scalar ||
		t.IsList && p.In != "path" && p.In != "cookie" && (p.Explode == nil || *p.Explode) &&
			(p.Style == "" || p.Style == "form")
	if !simple {
		w.Note(at, "the parameter %s is read as a text: its values are composed", p.Name)
		t = golang.Type{Expr: "string", Scalar: true}
	}
	rules := t.Rules
	if p.Required && p.In != "path" {
		rules = append(rules, "required")
	}
	if t.Scalar && !p.Required {
		if text, ok := w.Fallback(at, s); ok {
			rules = append(rules, "default="+golang.Quoted(text))
		}
	}
	if p.Deprecated {
		rules = append(rules, "deprecated")
	}
	return golang.Line(w.fieldName(p.Name, p.In, known), t.Expr, "from:"+strconv.Quote(p.In+" "+p.Name), rules, p.Description)
}

func (w *writing) fieldName(name, in string, known map[string]bool) string {
	field := golang.Camel(name)
	if known[field] || field == "Body" {
		field = golang.Camel(in + " " + name)
	}
	for n := 2; known[field]; n++ {
		field = fmt.Sprint(golang.Camel(name), n)
	}
	known[field] = true
	return field
}

// body writes the body as a field.
func (w *writing) body(o *contract.Operation) string {
	b := o.RequestBody
	if b == nil {
		return ""
	}
	if b.Ref != "" {
		to, err := contract.Resolve[contract.RequestBody](w.Document, b.Ref)
		if err != nil {
			w.Note(w.at+"/requestBody", "%v", err)
			return ""
		}
		b = to
	}
	if item, at, is := w.items(w.at+"/requestBody/content", b.Content, golang.Camel(w.name+" item")); is {
		var rules []string
		if array, has := b.Content.Get("application/json"); has {
			rules = golang.RulesOf(array.Schema, "minItems", "maxItems")
		}
		if b.Required &&
			!slices.ContainsFunc(rules, func(rule string) bool { return strings.HasPrefix(rule, "minItems") }) {
			rules = append(rules, "minItems=1")
		}
		w.streams(at, b.Content)
		return golang.Line("Items", "wicketway.Stream["+item+"]", "from:\"body\"", rules, "")
	}
	for media, m := range b.Content.All() {
		at := w.at + pointerTo("requestBody", "content", media)
		if media, _, _ := mime.ParseMediaType(media); media != "application/json" {
			continue
		}
		t := w.TypeOf(at+"/schema", m.Schema, golang.Camel(w.name+" body"), 0)
		expr := t.Expr
		if t.Null && expr != "jsontext.Value" || !b.Required {
			expr = "*" + expr
		}
		w.unknown = w.isOpenObject(m.Schema, map[string]bool{}, 0)
		if b.Content.Len() > 1 {
			w.Note(w.at+"/requestBody/content", "of several media types JSON alone is read")
		}
		if len(t.Rules) > 0 {
			w.Note(at, "the rules of the body as a whole are not held: %s", strings.Join(t.Rules, " "))
		}
		return "Body " + expr + " `from:\"body\"`\n"
	}
	w.Note(w.at+"/requestBody", "the body is not read: it is no JSON")
	return ""
}

// items is the type of the items of a stream, where a body is one, and where that is.
func (w *writing) items(
	pointer string,
	content contract.Map[contract.MediaType],
	hint string,
) (expr, at string, is bool) {
	for media, m := range content.All() {
		s := m.Item
		if own, has := m.More.Get(contract.ItemKey); has && s.IsZero() {
			s = contract.SchemaOf(own)
		}
		if s.IsZero() {
			continue
		}
		at = pointer + pointerTo(media)
		t := w.TypeOf(at+"/itemSchema", s, hint, 0)
		if len(t.Rules) > 0 {
			w.Note(at, "the rules of items that are single values are not held: %s", strings.Join(t.Rules, " "))
		}
		return t.Expr, at, true
	}
	return "", "", false
}

// ofStreams are the media types that a Stream is read and sent as.
var ofStreams = []string{"application/json", "application/x-ndjson", "text/event-stream"}

// streams notes media types that a Stream does not have.
func (w *writing) streams(at string, content contract.Map[contract.MediaType]) {
	for media := range content.All() {
		if base, _, _ := mime.ParseMediaType(media); !slices.Contains(ofStreams, base) {
			w.Note(at, "a stream is not sent as %s", media)
		}
	}
}

// isOpenObject reports whether a schema, or one in it, accepts members that it does not name.
func (w *writing) isOpenObject(s contract.Schema, seen map[string]bool, depth int) bool {
	if inner, is := golang.OrNull(s); is {
		return w.isOpenObject(inner, seen, depth+1)
	}
	for name := range s.Members() {
		if slices.Contains(golang.Beyond, name) {
			return false // it is kept as JSON, whatever is in it
		}
	}
	if ref := s.Reference(); ref != "" && !seen[ref] {
		seen[ref] = true
		if to, err := contract.Resolve[contract.Schema](w.Document, ref); err == nil && w.isOpenObject(*to, seen, depth+1) {
			return true
		}
	}
	if _, named := s.Get("properties"); named || slices.Contains(s.Types(), "object") {
		more, has := s.Get("additionalProperties")
		_, isMap := golang.MapOf(s)
		if !isMap && (!has || more.Kind() != 'f' && string(more) != `{"not":{}}`) {
			return true
		}
	}
	for _, one := range s.Below() {
		if depth < golang.Deepest && w.isOpenObject(one, seen, depth+1) {
			return true
		}
	}
	return false
}

// response is an answer, or the one that it refers to.
func (w *writing) response(r *contract.Response) *contract.Response {
	if to, err := contract.Resolve[contract.Response](w.Document, r.Ref); r.Ref != "" && err == nil {
		return to
	}
	return r
}

// output writes the success, and gives its type.
func (w *writing) output(o *contract.Operation) string {
	redirects := false
	for key, r := range o.Responses.All() {
		if !strings.HasPrefix(key, "2") {
			redirects = redirects || strings.HasPrefix(key, "3") && key != "304"
			continue
		}
		r = w.response(r)
		status, err := strconv.Atoi(key)
		if err != nil {
			status = http.StatusOK
		}
		if item, at, is := w.items(w.at+pointerTo("responses", key, "content"), r.Content, golang.Camel(w.name+" item")); is {
			if status != http.StatusOK {
				w.set("Answers(%d)", status)
			}
			w.streams(at, r.Content)
			return "wicketway.Stream[" + item + "]"
		}
		for media, m := range r.Content.All() {
			base, _, _ := mime.ParseMediaType(media)
			if base != "application/json" && !strings.HasSuffix(base, "+json") {
				continue
			}
			at := w.at + pointerTo("responses", key, "content", media)
			t := w.TypeOf(at+"/schema", m.Schema, golang.Camel(w.name+" out"), 0)
			if status != http.StatusOK {
				w.set("Answers(%d)", status)
			}
			if base != "application/json" {
				w.set("Media(%q)", media)
			}
			if r.Content.Len() > 1 {
				w.Note(
					w.at+pointerTo("responses", key, "content"),
					"of several media types JSON alone is sent (wicketway.Formats adds others)",
				)
			}
			if t.Null && t.Expr != "jsontext.Value" {
				t.Expr = "*" + t.Expr
			}
			return t.Expr
		}
		for media := range r.Content.All() {
			w.set("Media(%q)", media)
			if r.Content.Len() > 1 {
				w.Note(w.at+pointerTo("responses", key, "content"), "of several media types %s alone is sent", media)
			}
			return "wicketway.Content"
		}
		if status != http.StatusNoContent {
			w.set("Answers(%d)", status)
		}
		return "wicketway.None"
	}
	if redirects {
		w.Note(w.at+"/responses", "the status of a redirect is chosen by the function: 303, 307 or 308")
		return "wicketway.Redirect"
	}
	w.Note(w.at+"/responses", "no success is listed: it is begun with one without content")
	return "wicketway.None"
}

// problems writes the kinds that the route names.
func (w *writing) problems(o *contract.Operation) {
	var names []string
	for key, r := range o.Responses.All() {
		status, err := strconv.Atoi(key)
		if err != nil || status < 400 {
			continue
		}
		r = w.response(r)
		m, has := r.Content.Get(problem.MediaType)
		if !has {
			if r.Content.Len() > 0 {
				w.Note(
					w.at+pointerTo("responses", key),
					"its problems have a shape of their own (wicketway.ProblemShape)",
				)
			}
			continue
		}
		for code, title := range w.KindsIn(m.Schema, 0) {
			if ownCodes[code] { // Wicketway raises it by itself where it applies
				continue
			}
			if !codeOfKind.MatchString(code) {
				w.Note(w.at+pointerTo("responses", key), "%q cannot be the code of a kind of problem: lower-case letters, digits and hyphens", code)
				continue
			}
			name := known[code]
			if name == "" {
				name = w.Kind(code, status, golang.NonEmpty(title, golang.NonEmpty(golang.OneLine(r.Description), code)))
			}
			names = append(names, name)
		}
	}
	if names != nil {
		slices.Sort(names)
		w.set("Fails(%s)", strings.Join(slices.Compact(names), ", "))
	}
}

// codeOfKind is what codes of problems consist of.
var codeOfKind = regexp.MustCompile(`^[a-z0-9]+(?:-[a-z0-9]+)*$`)

// ownCodes are those of the kinds that Wicketway and its guards raise by themselves.
var ownCodes = map[string]bool{
	"input-unreadable":       true,
	"input-invalid":          true,
	"bad-request":            true,
	"not-found":              true,
	"not-acceptable":         true,
	"method-not-allowed":     true,
	"body-timeout":           true,
	"body-too-large":         true,
	"unsupported-media-type": true,
	"internal":               true,
	"timeout":                true,
	"overloaded":             true,
	"version-unknown":        true,
	"token-missing":          true,
	"token-malformed":        true,
	"token-expired":          true,
	"token-rejected":         true,
	"keys-unavailable":       true,
	"scope-missing":          true,
	"account-unavailable":    true,
	"not-implemented":        true,
}

// known are variables of package problem, by their codes, that a route may want to raise.
var known = map[string]string{
	problem.Unauthorized.Code():         "problem.Unauthorized",
	problem.Forbidden.Code():            "problem.Forbidden",
	problem.PreconditionFailed.Code():   "problem.PreconditionFailed",
	problem.PreconditionRequired.Code(): "problem.PreconditionRequired",
	problem.Withdrawn.Code():            "problem.Withdrawn",
	problem.Retired.Code():              "problem.Retired",
}
