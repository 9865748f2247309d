package wicketway

import (
	"fmt"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
	"github.com/wicketway/wicketway/schema"
)

// Info names an API.
type Info struct {
	Title   string
	Version string // of the description, such as 2.4.0; not one of the versions served
}

// Build compiles a description. It returns an error that lists every mistake in
// it (see [Mistakes]), each with file and line; the API is nil then. It can be
// called again with the same parts, and concurrently.
func Build(info Info, parts ...Part) (*API, error) {
	at := here(0)
	b := builder{api: &API{info: info, named: map[string]*target{}}, at: at, codes: map[string]*problem.Kind{}, files: filesOf(at, parts)}
	for _, k := range append(problem.BuiltIn(), ErrScopeMissing, ErrPreconditionFailed) {
		b.codes[k.Code()] = k
	}
	if info.Title == "" {
		b.mistake(at, "Info: the API needs a Title")
	}
	if info.Version == "" {
		b.mistake(at, "Info: the API needs a Version, such as 1.0.0")
	}
	b.group(group{at: at, kind: "Build", parts: parts}, route.Template{}, b.initialTerms())
	if len(b.api.targets) == 0 && len(b.mistakes) == 0 {
		b.mistake(at, "the API has no routes")
	}
	for _, c := range b.conditions {
		if !c.used {
			b.mistake(c.at, "Conditional: no GET stands here, so there is nothing to compare with: leave it out, or declare the GET under it")
		}
	}
	if len(b.mistakes) > 0 {
		return nil, b.mistakes.sorted()
	}
	b.api.table, b.api.prefixes = b.table.Table(), b.prefixes.Table()
	b.api.codes, b.api.catalogue = b.codes, sync.OnceValue(b.api.makeCatalogue)
	return b.api, nil
}

// A builder turns parts into an API and collects what is wrong with them.
type builder struct {
	api      *API
	at       place // of the list that is being read
	table    route.Builder
	prefixes route.Builder // to find the deepest group for a path that no route takes
	schemas  schema.Set
	codes    map[string]*problem.Kind
	files    files
	mistakes Mistakes

	conditions []*declared
}

// A target is where a request can end: a route, or a group for what none of its
// routes takes. It is immutable.
type target struct {
	method   string        // route.AnyMethod for what is mounted
	function *runtime.Func // that serves it; nil for handlers
	reads    bool          // the input reads the body
	path     string        // the path template
	names    []string
	at       place
	end      endpoint
	fallback bool
	terms
}

// group compiles a group under the terms and the prefix of the one around it.
func (b *builder) group(g group, prefix route.Template, outer terms) {
	b.at = g.at
	t := b.list(g.at, g.parts, outer)
	if g.kind == "Version" {
		t.ownManner()
		t.version = b.versionName(g, outer)
	}
	if g.kind == "At" && g.prefix == "" {
		b.mistake(g.at, "At: the prefix is empty: write a path such as /locks, or use Group")
	}
	if g.prefix != "" {
		p, err := route.Parse(g.prefix)
		if err != nil {
			b.mistake(g.at, "%s: %v", g.kind, err)
			return
		}
		if prefix, err = prefix.Join(p); err != nil {
			b.mistake(g.at, "%s: %v", g.kind, err)
			return
		}
	}
	if g.kind != "Group" {
		b.fallback(g, prefix, t)
	}
	for _, p := range g.parts {
		switch p := p.(type) {
		case group:
			b.group(p, prefix, t)
		case routePart:
			b.route(p, prefix, t)
		}
	}
}

// list applies the settings of one list, those that replace before those that
// add, so that their order does not matter.
func (b *builder) list(at place, parts []Part, outer terms) terms {
	var settings []setting
	for _, p := range parts {
		switch p := p.(type) {
		case Setting:
			settings = append(settings, p.setting())
		case nil:
			b.mistake(at, "a part or a setting is nil: leave it out, or give it a value")
		}
	}
	t := outer.below(settings)
	for i, s := range settings {
		if !s.replaces {
			continue
		}
		for _, earlier := range settings[:i] {
			if earlier.name == s.name || earlier.name == "Guard" && s.name == "Public" || earlier.name == "Public" && s.name == "Guard" {
				b.mistake(s.place(at), "%s: cannot stand beside %s at %s in one list: keep one", s.name, earlier.name, earlier.place(at))
			}
		}
		s.apply(b, &t)
	}
	for _, s := range settings {
		if !s.replaces {
			s.apply(b, &t)
		}
	}
	if t.guardAt < 0 {
		t.guardAt = int32(len(t.links))
	}
	if !t.guarded && slices.ContainsFunc(settings, func(s setting) bool { return s.name == "Scopes" }) {
		b.mistake(at, "Scopes: no guard holds here, so there is no caller to have scopes: add Guard, or leave Scopes out")
	}
	if !validAnswer(t.answers) {
		b.mistake(at, "Answers: %d is no status of a success (200 to 299)", t.answers)
		t.answers = 0
	}
	return t
}

// place is where the setting was declared; a literal has no place but its list's.
func (s setting) place(list place) place {
	if s.at.pc == 0 {
		return list
	}
	return s.at
}

func (b *builder) versionName(g group, outer terms) string {
	if outer.version != "" {
		b.mistake(g.at, "Version %q: stands inside version %q; versions stand side by side", g.version, outer.version)
	}
	if g.version == "" || strings.ContainsAny(g.version, "/{}") {
		b.mistake(g.at, "Version %q: a name has neither slashes nor braces, and is not empty: v2", g.version)
	}
	return g.version
}

// fallback makes the target for requests that stay under g's prefix but find no
// route: they pass the group's chain, not its guard.
func (b *builder) fallback(g group, prefix route.Template, t terms) {
	t.guard = nil
	end := &nowhere{api: b.api, versions: versionsIn(g.parts), depth: strings.Count(prefix.String(), "/")}
	rest, err := route.Parse("/{+rest}")
	if err == nil {
		rest, err = prefix.Join(rest)
	}
	if err != nil {
		b.mistake(g.at, "%s: %v", g.kind, err)
		return
	}
	n, clashes := b.prefixes.Add(route.AnyMethod, rest)
	b.api.fallbacks = append(b.api.fallbacks, &target{path: prefix.String(), at: g.at, end: end, fallback: true, terms: t})
	if clashes != nil { // the same prefix twice: the first group speaks for both
		b.api.fallbacks[n] = b.api.fallbacks[clashes[0].Earlier]
		return
	}
	if prefix.String() != "" {
		b.prefixes.Add(route.AnyMethod, prefix)
		b.api.fallbacks = append(b.api.fallbacks, b.api.fallbacks[n])
	}
}

// versionsIn are the versions that stand among parts, or in groups without a prefix
// among them.
func versionsIn(parts []Part) (names []string) {
	for _, p := range parts {
		g, ok := p.(group)
		switch {
		case !ok:
		case g.kind == "Version" && !slices.Contains(names, g.version):
			names = append(names, g.version)
		case g.kind == "Group":
			names = append(names, versionsIn(g.parts)...)
		}
	}
	return names
}

// route compiles a route under the terms and the prefix of its group.
func (b *builder) route(p routePart, prefix route.Template, outer terms) {
	b.at = p.at
	t := b.list(p.at, settingsOf(p.settings), outer)
	method, path, ok := strings.Cut(p.line, " ")
	if !ok || method != route.AnyMethod && !isToken(method) || method == "" && !p.mounted {
		b.mistake(p.at, "%q: a route's line is a method, a space and a path template: GET /locks/{lock}", p.line)
		return
	}
	if method == "*" {
		method = route.AnyMethod
	}
	if upper := strings.ToUpper(method); upper != method && slices.Contains(methods, upper) {
		b.mistake(p.at, "%s: methods are case-sensitive (RFC 9110, 9.1), so no request reaches this: write %s", p.line, upper)
	}
	if method == http.MethodConnect {
		b.mistake(p.at, "%s: the target of CONNECT is no path (RFC 9110, 9.3.6), so no request reaches this", p.line)
	}
	template, err := route.Parse(path)
	if err == nil {
		template, err = prefix.Join(template)
	}
	if err != nil {
		b.mistake(p.at, "%s: %v", strings.TrimSpace(p.line), err)
		p.compile(&site{builder: b, target: &target{method: method, at: p.at, terms: t}, line: p.line, unparsed: true})
		return
	}
	to := &target{method: method, function: p.function, path: template.String(), names: template.Names(), at: p.at, terms: t}
	site := site{builder: b, target: to, line: strings.TrimSpace(method + " " + to.path)}
	if t.conditional && method == http.MethodGet {
		t.conditions.used = true
	}
	to.end = p.compile(&site)
	b.name(to, functionName(p.function))
	_, clashes := b.table.Add(method, template)
	b.api.targets = append(b.api.targets, to)
	for _, c := range clashes {
		other := b.api.targets[c.Earlier]
		b.mistake(p.at, "%s: matches the same paths as %s at %s", site.line, strings.TrimSpace(other.method+" "+other.path), other.at)
	}
}

var methods = []string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch,
	http.MethodDelete, http.MethodOptions, http.MethodTrace, http.MethodConnect}

// name enters a route under the name that it was given, or else its function's. Two
// routes of one function have no name, unless they are given one.
func (b *builder) name(to *target, function string) {
	given := to.name != ""
	if !given {
		to.name = function
	}
	if to.name == "" {
		return
	}
	key := to.version + "/" + to.name
	other, taken := b.api.named[key]
	if given && taken && other != nil {
		b.mistake(to.at, "Name: %q is the name of %s %s at %s already", to.name, other.method, other.path, other.at)
	}
	if taken && !(given && other == nil) {
		if !given {
			to.name = ""
		}
		if other != nil && other.name == function {
			other.name = ""
		}
		b.api.named[key] = nil
		return
	}
	b.api.named[key] = to
}

func settingsOf(settings []Setting) []Part {
	parts := make([]Part, len(settings))
	for i, s := range settings {
		parts[i] = s
	}
	return parts
}

// isToken reports whether s is a token (RFC 9110, 5.6.2), as methods are.
func isToken(s string) bool {
	for i := range len(s) {
		c := s[i]
		if !('a' <= c|0x20 && c|0x20 <= 'z' || '0' <= c && c <= '9' || strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0) {
			return false
		}
	}
	return s != ""
}

// A site is the route that is being compiled, for those who compile its pieces.
type site struct {
	*builder
	target   *target
	line     string // for messages: GET /api/v2/locks/{lock}
	unparsed bool   // the template is broken, so its parameters are not known
}

func (s *site) mistakef(format string, args ...any) {
	s.mistake(s.target.at, "%s: %s", s.line, fmt.Sprintf(format, args...))
}
