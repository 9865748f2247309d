package wicketway

import (
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/places"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
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
	at := here.Here(0)
	b := newBuilder(at, parts)
	if info.Title == "" {
		b.mistake(at, "Info: the API needs a Title")
	}
	if info.Version == "" {
		b.mistake(at, "Info: the API needs a Version, such as 1.0.0")
	}
	n := routesIn(parts)
	b.routes, b.templates = make([]*resolved, 0, n+1), make([]route.Template, 0, n+1) // one is ours
	b.read(group{at: at, parts: parts}, route.Template{}, nil)
	b.inherit()
	if len(b.routes) == 0 && len(b.mistakes) == 0 {
		b.mistake(at, "the API has no routes")
	}
	a := &API{info: info, codes: b.codes}
	b.describeProblems(a)
	for _, r := range b.routes {
		b.plan(r, false)
	}
	b.checkProblemShapes()
	b.checkShapes()
	b.enter()
	b.tie()
	b.name()
	b.checkSettings()
	b.checkFacts()
	b.checkFormats()
	b.compile(a)
	if len(b.mistakes) > 0 {
		return nil, b.mistakes.sorted()
	}
	if slices.ContainsFunc(b.lists, func(l *list) bool { return l.terms.development }) {
		places.Keep()
	}
	noteBuilt()
	return a, nil
}

// routesIn is how many routes are declared.
func routesIn(parts []Part) (n int) {
	for _, p := range parts {
		switch p := p.(type) {
		case group:
			n += routesIn(p.parts)
		case *routePart:
			n++
		}
	}
	return n
}

// describeProblems adds the route that describes kinds of problem, unless their types lead
// elsewhere.
func (b *builder) describeProblems(a *API) {
	root := b.lists[0]
	if root.terms.base != ownBase {
		return
	}
	l := &list{outer: root, at: root.at, terms: root.terms}
	l.terms.guard, l.terms.public, l.terms.scopes = nil, true, nil
	l.terms.anyScope, l.terms.rules = nil, nil
	l.terms.summary = "A kind of problem"
	b.route(&routePart{
		at:    root.at,
		what:  handlerPart,
		line:  "GET " + ownBase + "{code}",
		own:   true,
		serve: func(*target) endpoint { return problemPages{a} },
	}, route.Template{}, l)
}

// enter puts the routes into the table, which finds those that clash.
func (b *builder) enter() {
	b.table.Grow(len(b.routes))
	for i, r := range b.routes {
		if r.part.what == mountPart || r.part.what == filesPart {
			if prefix, ok := aboveRest(b.templates[i]); ok {
				b.guard(prefix, r.list)
			}
		}
	}
	for i, r := range b.routes {
		_, clashes := b.table.Add(table.Route{
			Method:   r.method,
			Template: b.templates[i],
			Slash:    table.Slash(r.terms().slashes),
			Files:    r.part.what == filesPart,
			Suffixes: r.suffixes(),
			Edition:  r.terms().edition,
			Except:   b.except(r, b.templates[i]),
		})
		b.clash(r, clashes)
	}
	b.enterVersions()
	for i, r := range b.routes {
		b.enterDefault(i, r)
	}
}

// A guardedPrefix is one of a group, a mount or files under a guard. Below it no request is served by what
// has a shorter prefix without that guard: what its own routes do not take is not open by that.
type guardedPrefix struct {
	prefix route.Template
	list   *list
}

// guard notes the prefix of a list, if it is under a guard.
func (b *builder) guard(prefix route.Template, l *list) {
	if l.terms.guard == nil || len(prefix.Segments()) == 0 {
		return
	}
	b.guarded = append(b.guarded, guardedPrefix{prefix, l})
	if v := l.terms.versions; v.defaultsTo(l.terms.version) { // it is served without the version, too
		rest, err := route.Parse(strings.TrimPrefix(prefix.String(), v.under.String()+"/"+l.terms.version))
		if err == nil {
			rest, err = v.under.Join(rest)
		}
		if err == nil {
			b.guarded = append(b.guarded, guardedPrefix{rest, l})
		}
	}
}

// aboveRest is what a template has before the rest of the path; false where it has none.
func aboveRest(t route.Template) (route.Template, bool) {
	text, _, ok := strings.Cut(t.String(), "/{+")
	if !ok || text == "" {
		return route.Template{}, ok
	}
	prefix, err := route.Parse(text)
	return prefix, err == nil
}

// except are the guarded prefixes below which a route takes nothing: those that are longer than its own,
// if it does not ask for all that they do.
func (b *builder) except(r *resolved, t route.Template) (all []table.Except) {
	prefix, ok := aboveRest(t)
	if !ok {
		return nil
	}
	for _, g := range b.guarded {
		if len(g.prefix.Segments()) > len(prefix.Segments()) && table.Meet(prefix, g.prefix) && !r.terms().asksFor(&g.list.terms) {
			all = append(all, table.Except{Prefix: g.prefix, Edition: g.list.terms.edition})
		}
	}
	return all
}

// asksFor reports whether all is asked of callers that other terms ask of them.
func (t *terms) asksFor(other *terms) bool {
	in := func(list []string) func(string) bool {
		return func(s string) bool { return !slices.Contains(list, s) }
	}
	return isSame(t.guard, other.guard) &&
		!slices.ContainsFunc(t.open, in(other.open)) && !slices.ContainsFunc(other.scopes, in(t.scopes)) &&
		!slices.ContainsFunc(other.anyScope, func(oneOf []string) bool {
			return !slices.ContainsFunc(t.anyScope, func(own []string) bool { return slices.Equal(own, oneOf) })
		})
}

// isSame reports whether two guards are one. Where that cannot be seen they are not.
func isSame(a, b exchange.Authenticator) bool {
	return a != nil && reflect.TypeOf(a) == reflect.TypeOf(b) && reflect.ValueOf(a).Comparable() && a == b
}

// clash reports the routes that match the same paths as one.
func (b *builder) clash(r *resolved, clashes []table.Clash) {
	for _, c := range clashes {
		other := b.routes[c.Earlier]
		if r.part.own {
			r, other = other, r
		}
		b.mistake(r.at, "%s: matches the same paths as %s at %s%s", r.line(), other.line(), other.at,
			other.purpose())
	}
}

// purpose says what a route of our own is for.
func (r *resolved) purpose() string {
	if r.part.own {
		return ", which describes the kinds of problem; ProblemBase takes it away"
	}
	return ""
}

// compile makes what serves: it is the only part of Build that calls what users gave.
func (b *builder) compile(a *API) {
	if len(b.mistakes) > 0 {
		return
	}
	for _, l := range b.chained() {
		if l.handler = l.Wrap(next(l.depth + 1)); isNil(l.handler) {
			b.mistake(l.at, "Chain: the middleware %s gave no handler: return one that calls next", l.Name)
		}
	}
	if len(b.mistakes) > 0 {
		return
	}
	made := map[*list][2]*steps{} // with the guard, and without it
	stepsOf := func(l *list, guarded bool) *steps {
		both := made[l]
		at := 0
		if guarded {
			at = 1
		}
		if both[at] == nil {
			both[at] = l.terms.makeSteps(guarded)
			made[l] = both
		}
		return both[at]
	}
	a.targets, a.named = make([]target, len(b.routes)), map[string]*target{}
	parsed := make([]atomic.Pointer[route.Template], len(b.routes))
	for i, r := range b.routes {
		t := &a.targets[i]
		*t = target{resolved: *r, steps: stepsOf(r.list, r.guarded()), parsed: &parsed[i]}
		r.list.open = stepsOf(r.list, false)
		t.end = r.part.serve(t)
		if t.name != "" {
			a.named[t.key()] = t
		}
	}
	for _, f := range b.fallbacks {
		a.fallbacks = append(a.fallbacks, target{
			resolved: f,
			end:      &nowhere{b.versionsBelow(f), strings.Count(f.path, "/")},
			steps:    stepsOf(f.list, false),
		})
	}
	a.table, a.varies = b.table.Tables(), b.varies()
	a.facts = sync.OnceValue(a.makeFacts)
	a.catalogue = sync.OnceValue(a.makeCatalogue)
}

// name gives the routes their names: those that were declared, or else their functions'.
// Two routes of one function have none, unless they are given one.
func (b *builder) name() {
	given := map[string]*resolved{}
	functions := map[string][]*resolved{}
	for _, r := range b.routes {
		t := r.terms()
		if t.name == "" {
			if f := functionName(r.part.function); f != "" {
				functions[t.version+"/"+f] = append(functions[t.version+"/"+f], r)
			}
			continue
		}
		r.name = t.name
		if other := given[r.key()]; other != nil {
			b.mistake(r.at, "Name: %q is the name of %s at %s already", r.name, other.line(), other.at)
		}
		given[r.key()] = r
	}
	for key, of := range functions {
		if len(of) == 1 && given[key] == nil {
			of[0].name = functionName(of[0].part.function)
		}
	}
}

// chained is all middleware, each in its place once.
func (b *builder) chained() (all []*chained) {
	for _, l := range b.lists {
		inherited := 0
		if l.outer != nil {
			inherited = len(l.outer.terms.chain)
		}
		all = append(all, l.terms.chain[inherited:]...)
	}
	return all
}
