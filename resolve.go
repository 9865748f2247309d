package wicketway

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/wicketway/wicketway/internal/bind"
	methods "github.com/wicketway/wicketway/internal/method"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

// read resolves a group under the list and the prefix of the one around it.
func (b *builder) read(g group, prefix route.Template, outer *list) {
	g.parts = b.inMode(g.parts, outer)
	l := b.list(&list{outer: outer, at: g.at, kind: g.kind, version: g.version}, g.parts)
	if g.kind == versionGroup {
		l.terms.ownGroupTerms()
		l.terms.version = b.versionName(g, outer)
		l.terms.versions, l.terms.edition = b.addVersion(g, prefix, &outer.terms)
		if !l.terms.versions.sharesPaths() {
			g.prefix = "/" + g.version
		}
	}
	if g.kind == atGroup && g.prefix == "" {
		b.mistake(g.at, "At: the prefix is empty: write a path such as /locks, or use Group")
	}
	outside := prefix.String()
	if g.prefix != "" {
		p, err := route.Parse(g.prefix)
		if err == nil {
			prefix, err = prefix.Join(p)
		}
		if err != nil {
			b.mistake(g.at, "%s: %v", g.kind, err)
			b.unread = true
			l.breaks()
			return
		}
	}
	if g.kind != plainGroup {
		l.prefix = prefix.String()
		b.fallback(g, prefix, l)
	}
	var version *versionRead
	if g.kind == versionGroup {
		version = &versionRead{name: g.version, under: outside, prefix: prefix, list: l}
		b.versions = append(b.versions, version)
	}
	first := len(b.routes)
	for _, p := range g.parts {
		switch p := p.(type) {
		case inheritPart:
			switch {
			case version == nil:
				b.mistake(p.at, "Inherit: is in the list of %s: it belongs in that of a Version", g.kind)
			case version.inherit != nil:
				b.mistake(p.at, "Inherit: the version inherits from %s already, at %s", version.inherit.from, version.inherit.at)
			default:
				version.inherit = &p
			}
		case group:
			b.read(p, prefix, l)
		case *routePart:
			b.route(p, prefix, l)
		}
	}
	if version != nil {
		version.routes = slices.Clone(b.routes[first:])
	}
}

// inMode gives the parts of a list with those of InDevelopment among them, where the list is in development, and without
// them elsewhere.
func (b *builder) inMode(parts []Part, outer *list) []Part {
	if !slices.ContainsFunc(parts, hasDevelopment) {
		return parts
	}
	around := b.initialTerms().development
	if outer != nil {
		around = outer.terms.development
	}
	return partsIn(parts, around)
}

// partsIn does so for a list in one that is in development, or not. Elsewhere groups of nothing else go as well.
func partsIn(parts []Part, development bool) (all []Part) {
	for _, p := range parts {
		if s, is := p.(Setting); is && s.setting().kind == developmentKind {
			development = !s.setting().undo
		}
	}
	for _, p := range parts {
		g, isGroup := p.(group)
		switch {
		case isGroup && g.kind == developmentGroup && development:
			all = append(all, partsIn(g.parts, true)...)
		case isGroup && g.kind == developmentGroup:
		case isGroup && hasDevelopment(g) && !slices.ContainsFunc(partsIn(g.parts, development), isNoSetting):
		default:
			all = append(all, p)
		}
	}
	return all
}

func isNoSetting(p Part) bool {
	_, is := p.(Setting)
	return !is
}

// hasDevelopment reports whether a part is InDevelopment, or has one in it.
func hasDevelopment(p Part) bool {
	g, is := p.(group)
	return is && (g.kind == developmentGroup || slices.ContainsFunc(g.parts, hasDevelopment))
}

// list reads the settings of one list, those that replace before those that add, so that
// their order does not matter.
func (b *builder) list(l *list, parts []Part) *list {
	for _, p := range parts {
		switch p := p.(type) {
		case Setting:
			s := p.setting()
			if s.at.IsZero() || s.at.IsForeign(l.at) { // a literal, or what another package has made
				s.at = l.at
			}
			l.settings = append(l.settings, s)
		case nil:
			b.mistake(l.at, "a part or a setting is nil: leave it out, or give it a value")
		}
	}
	b.settle(l)
	return l
}

// settle makes the terms of a list from its settings and the terms of the one around it.
func (b *builder) settle(l *list) {
	l.used = make([]bool, len(l.settings))
	if l.outer == nil {
		l.terms = b.initialTerms()
	} else {
		l.terms = l.outer.terms
	}
	l.terms = l.terms.below(l.settings)
	l.terms.inherited = l.inherited
	for i := range l.settings {
		s := &l.settings[i]
		b.checkList(l, s, l.settings[:i])
	}
	for _, s := range inOrder(l.settings) {
		s.kind.read(&reading{terms: &l.terms, of: s, to: b})
	}
	b.checkRetirement(l)
	if l.terms.guard != nil {
		l.terms.guardName = b.guardName(&l.terms)
	}
	if l.terms.after < 0 {
		l.terms.after = len(l.terms.chain)
	}
	b.lists = append(b.lists, l)
}

// checkList reports a setting that does not belong into a list, or not together with earlier ones.
func (b *builder) checkList(l *list, s *setting, earlier []setting) {
	if s.is(besideVersions) && (l.kind == versionGroup || l.terms.version != "" || l.ofRoute) {
		b.mistake(s.at, "%s: concerns all versions of a group: put it into the list that holds them", s.name)
	}
	if s.is(onlyRoute) && !l.ofRoute {
		b.mistake(s.at, "%s: speaks of one route: put it into that route's list", s.name)
	}
	for _, other := range earlier {
		if s.is(replaces) && other.slot == s.slot {
			b.mistake(s.at, "%s: cannot be used together with %s at %s in one list: keep one", s.name, other.name, other.at)
		}
	}
}

// inOrder are the settings of a list in the order in which they are read, so that it does not matter where in the
// list they are: first those of what outer lists say, then those that replace, then those that add.
func inOrder(settings []setting) []*setting {
	all := make([]*setting, len(settings))
	for i := range settings {
		all[i] = &settings[i]
	}
	slices.SortStableFunc(all, func(a, b *setting) int { return cmp.Compare(a.order(), b.order()) })
	return all
}

func (b *builder) guardName(t *terms) string {
	base, n := t.guard.Scheme().Name, 1
	for _, g := range b.guards {
		if isSame(g.guard, t.guard) || g.said == t.guardSaid {
			return g.name
		}
		if g.guard.Scheme().Name == base {
			n++
		}
	}
	name := base
	if n > 1 {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	b.guards = append(b.guards, namedGuard{t.guard, t.guardSaid, name})
	return name
}

// checkRetirement holds the times of a list against each other (RFC 9745, 4).
func (b *builder) checkRetirement(l *list) {
	r := l.terms.ending
	if r.Sunset.IsZero() || !r.Sunset.Before(r.Deprecated) {
		return
	}
	for _, s := range l.settings {
		if s.kind == retirementKind {
			b.mistake(s.at, "%s: the sunset, %s, is before the deprecation, %s: it must not be (RFC 9745, 4)", s.name,
				r.Sunset.UTC().Format(time.RFC3339), r.Deprecated.UTC().Format(time.RFC3339))
			return
		}
	}
}

func (b *builder) versionName(g group, outer *list) string {
	if outer != nil && outer.terms.version != "" {
		b.mistake(g.at, "Version %q: is inside version %q; versions cannot be nested", g.version,
			outer.terms.version)
	}
	if g.version == "" || strings.ContainsAny(g.version, "/{}") {
		b.mistake(g.at, "Version %q: a name has neither slashes nor braces, and is not empty: v2", g.version)
	}
	return g.version
}

// addVersion adds a version to those that are under its prefix, and gives the number of its
// edition.
func (b *builder) addVersion(g group, under route.Template, outer *terms) (*versionSet, int32) {
	if outer.versionBy.scheme.kind != byPath && !bind.IsToken(g.version) {
		b.mistake(
			g.at, "Version %q: requests name it by %s, so it must be a token (RFC 9110, 5.6.2), such as v2", g.version,
			outer.versionBy.scheme,
		)
	}
	s := b.under[under.String()]
	if s == nil {
		by := outer.versionBy
		s = &versionSet{by: by, at: g.at, Versions: table.Versions{Under: under, Field: by.scheme.chooses(), Default: by.byDefault}}
		b.sets, b.under[under.String()] = append(b.sets, s), s
	}
	if by := outer.versionBy; by.scheme != s.by.scheme || by.byDefault != s.by.byDefault {
		b.mistake(
			g.at,
			"Version %q: is chosen by %s, and the one at %s under the same prefix by %s: choose all in one way, with one default",
			g.version,
			by.scheme,
			b.where(s.at),
			s.by.scheme,
		)
	}
	for _, name := range outer.withdrawn.names {
		s.withdrawnAt = outer.withdrawn.at
		if !slices.Contains(s.withdrawn, name) {
			s.withdrawn = append(s.withdrawn, name)
		}
	}
	return s, b.table.AddVersion(&s.Versions, g.version)
}

// fallback notes the group as the target of requests that stay under its prefix but find
// no route: they pass its chain, not its guard.
func (b *builder) fallback(g group, prefix route.Template, l *list) {
	b.guard(prefix, l)
	n := 0
	if prefix.String() != "" || l.terms.edition > 0 {
		if n = b.table.AddGroup(prefix, l.terms.edition); n < len(b.fallbacks) {
			return // the same prefix twice: the first group speaks for both
		}
	}
	b.fallbacks = append(b.fallbacks, resolved{path: prefix.String(), at: g.at, list: l})
}

// guard notes the prefix of a list, if it is under a guard.
func (b *builder) guard(prefix route.Template, l *list) {
	if l.terms.guard == nil || len(prefix.Segments()) == 0 {
		return
	}
	b.guarded = append(b.guarded, guardedPrefix{prefix, l})
	v := l.terms.versions.inTable()
	if !v.DefaultsTo(l.terms.version) {
		return
	}
	within, err := v.Within(l.terms.version, prefix)
	if err != nil || within.String() == "/" {
		return
	}
	if short, err := v.Under.Join(within); err == nil {
		b.guarded = append(b.guarded, guardedPrefix{short, l})
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

// route resolves a route under the list and the prefix of its group.
func (b *builder) route(p *routePart, prefix route.Template, outer *list) {
	l := outer
	if len(p.settings) > 0 {
		l = b.list(&list{outer: outer, at: p.at, ofRoute: true}, settingsOf(p.settings))
	}
	method, path, ok := strings.Cut(p.line, " ")
	if !ok || method != anyMethod && !bind.IsToken(method) || method == anyMethod && p.what != mountPart {
		b.mistake(p.at, "%q: a route's line is a method, a space and a path template: GET /locks/{lock}", p.line)
		b.unread = true
		l.breaks()
		return
	}
	if strings.EqualFold(method, "any") {
		b.mistake(
			p.at, "%s: no request has the method %s: write * for every method that no other route of the path has", p.line,
			method,
		)
	}
	if method == "*" {
		method = anyMethod
	}
	if upper := strings.ToUpper(method); upper != method && slices.Contains(methods.Known, upper) {
		b.mistake(p.at, "%s: methods are case-sensitive (RFC 9110, 9.1), so no request reaches this: write %s", p.line,
			upper)
	}
	if method == http.MethodConnect {
		b.mistake(p.at, "%s: the target of CONNECT is not a path (RFC 9110, 9.3.6), so no request reaches this", p.line)
	}
	r := b.newResolved()
	*r = resolved{method: method, path: path, at: p.at, part: p, list: l}
	template, err := route.Parse(path)
	if err == nil {
		template, err = prefix.Join(template)
	}
	if err != nil {
		b.mistake(p.at, "%s: %v", strings.TrimSpace(p.line), err)
		b.unread = true
		l.breaks()
		b.plan(r, true) // what else is wrong with it
		return
	}
	r.path, r.names = template.String(), template.Names()
	b.routes = append(b.routes, r)
	b.templates = append(b.templates, template)
	if !p.own {
		for ; l != nil; l = l.outer {
			l.routes++
		}
	}
}

// newResolved makes many at a time: an API has many routes.
func (b *builder) newResolved() *resolved {
	if len(b.room) == 0 {
		b.room = make([]resolved, min(256, 4+len(b.routes)))
	}
	r := &b.room[0]
	b.room = b.room[1:]
	return r
}

func settingsOf(settings []Setting) []Part {
	parts := make([]Part, len(settings))
	for i, s := range settings {
		parts[i] = s
	}
	return parts
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
