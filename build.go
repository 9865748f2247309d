package wicketway

import (
	"cmp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/handover"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/places"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

// Build compiles a description. It returns an error that lists every mistake in
// it (see [Mistakes]), each with file and line; the API is nil then. It can be
// called again with the same parts, and concurrently.
func Build(info Info, parts ...Part) (*API, error) {
	at := here.Here(0)
	b := newBuilder(at, parts)
	b.checkInfo(at, info)
	n := routesIn(parts)
	b.routes, b.templates = make([]*resolved, 0, n+1), make([]route.Template, 0, n+1) // one is ours
	b.read(group{at: at, parts: parts}, route.Template{}, nil)
	b.inherit()
	if len(b.routes) == 0 && len(b.mistakes) == 0 {
		b.mistake(at, "the API has no routes")
	}
	a := &API{info: info, codes: b.codes}
	b.describeProblems(a)
	b.describeCatalog(a)
	for _, r := range b.routes {
		b.plan(r, false)
	}
	b.checkProblemShapes()
	b.checkHouses()
	b.checkShapes()
	b.enter()
	b.tie()
	b.name()
	b.checkSettings()
	b.checkFacts()
	b.checkFormats()
	b.checkInfoOfRoutes(at, info)
	b.compile(a)
	if len(b.mistakes) > 0 {
		b.mistakes.sorted().report(handover.Inherited())
		return nil, b.mistakes
	}
	if slices.ContainsFunc(b.lists, func(l *list) bool { return l.terms.development }) {
		places.Keep()
	}
	noteBuilt()
	return a, nil
}

// describeProblems adds the route that describes kinds of problem, unless their types lead
// elsewhere.
func (b *builder) describeProblems(a *API) {
	root := b.lists[0]
	if root.terms.base != ownBase {
		return
	}
	l := &list{outer: root, at: root.at, terms: root.terms}
	l.terms.openToAll()
	l.terms.summary = "A kind of problem"
	b.route(&routePart{
		at:    root.at,
		what:  handlerPart,
		line:  "GET " + ownBase + "{code}",
		own:   true,
		serve: func(*target) endpoint { return problemPages{a} },
	}, route.Template{}, l)
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
			end:      b.nowhere(f),
			steps:    stepsOf(f.list, false),
		})
	}
	a.table, a.there = b.table.Tables(), a.isThere
	a.facts = sync.OnceValue(a.makeFacts)
	a.catalogue = sync.OnceValue(a.makeCatalogue)
	a.publish()
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
	b.checkVersions()
	for i, r := range b.routes {
		b.enterDefault(i, r)
	}
}

// except are the guarded prefixes below which a route takes nothing: those that are longer than its own,
// if it does not ask for all that they do.
func (b *builder) except(r *resolved, t route.Template) (all []table.Except) {
	prefix, ok := aboveRest(t)
	if !ok {
		return nil
	}
	for _, g := range b.guarded {
		if len(g.prefix.Segments()) > len(prefix.Segments()) && table.Meet(prefix, g.prefix) &&
			!r.terms().asksFor(&g.list.terms) {
			terms := &g.list.terms
			all = append(all, table.Except{Prefix: g.prefix, Edition: terms.edition})
			one := facts.Prefix{Path: g.prefix.String()}
			if terms.edition > 0 {
				one.Version, one.Chosen = terms.version, terms.versions.info()
			}
			r.tie().except = append(r.tie().except, one)
		}
	}
	return all
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
	if r.part.own && r.path == catalogPath {
		return ", which lists the contracts; leave Contracts out"
	}
	if r.part.own {
		return ", which describes the kinds of problem; ProblemBase takes it away"
	}
	return ""
}

// checkVersions reports mistakes in the choices between versions.
func (b *builder) checkVersions() {
	for i, s := range b.sets {
		if s.by.byDefault != "" && !slices.Contains(s.Names, s.by.byDefault) {
			b.mistake(s.by.at, "VersionBy: version %s does not exist under %s; available: %s", s.by.byDefault,
				cmp.Or(s.Under.String(), "/"), strings.Join(s.Names, ", "))
		}
		for _, name := range s.withdrawn {
			if slices.Contains(s.Names, name) {
				b.mistake(
					s.withdrawnAt, "WithdrawnVersions: version %s is served under %s: leave one of the two out", name,
					cmp.Or(s.Under.String(), "/"),
				)
			}
		}
		if !s.sharesPaths() {
			continue
		}
		for _, other := range b.sets[:i] {
			if other.sharesPaths() && table.Meet(other.Under, s.Under) {
				b.mistake(
					s.at, "Version %q: a path under %s can be under %s as well, where versions are chosen at %s: keep them apart",
					s.Names[0], cmp.Or(s.Under.String(), "/"), cmp.Or(other.Under.String(), "/"), b.where(other.by.at),
				)
			}
		}
	}
}

// enterDefault lets a route of the default version be found without the version in its path.
func (b *builder) enterDefault(i int, r *resolved) {
	t := r.terms()
	v := t.versions.inTable()
	if !v.DefaultsTo(t.version) {
		return
	}
	within, err := v.Within(t.version, b.templates[i])
	if err != nil {
		return // it was part of a longer one before
	}
	if first := within.Segments()[0]; !first.IsText() {
		b.mistake(
			r.at,
			"%s: begins with a parameter, so that without a version in the path, as VersionBy at %s allows, every unknown version would lead here: begin it with a text",
			r.line(),
			b.where(t.versions.by.at),
		)
		return
	}
	b.clash(r, b.table.AddDefault(i, v, within))
}

// nowhere is where what no route of a group takes ends. Versions are right below it, unless it is inside of one.
func (b *builder) nowhere(group resolved) *nowhere {
	var below *versionSet
	if group.terms().version == "" {
		below = b.under[group.path]
	}
	return &nowhere{table.Group{Depth: strings.Count(group.path, "/"), Versions: below.info()}, below}
}

// describeCatalog adds the route that lists the contracts, where some are served, or where trails are kept.
func (b *builder) describeCatalog(a *API) {
	for _, r := range b.routes {
		if _, trails := exchange.AttachedIn[facts.Trails](r.terms().attached); !trails && !r.publishes() {
			continue
		}
		root := b.lists[0]
		l := &list{outer: root, at: root.at, terms: root.terms}
		l.terms.openToAll()
		l.terms.summary = "The contracts of this host"
		l.terms.attached = append(slices.Clone(l.terms.attached), exchange.AsAttached(facts.About{}))
		b.route(&routePart{
			at:    root.at,
			what:  handlerPart,
			line:  "GET " + catalogPath,
			own:   true,
			serve: func(*target) endpoint { return catalog{a} },
		}, route.Template{}, l)
		return
	}
}
