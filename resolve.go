package wicketway

import (
	"fmt"
	"net/http"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// A builder reads parts into routes that are plain data, checks them as a whole, and then
// compiles them. It collects what is wrong with them on the way.
type builder struct {
	at        here.Place
	routes    []*resolved
	room      []resolved       // for more of them
	templates []route.Template // of the routes
	lists     []*list
	fallbacks []resolved // the groups that have a prefix, for what finds no route in them
	guarded   []guardedPrefix
	guards    []namedGuard
	table     table.Builder
	schemas   check.Set
	encoders  answer.Encoders
	secrets   secret.Types
	inputs    map[inputKey]*bind.Plan
	outputs   map[outputKey]*answer.Plan
	codes     map[string]*problem.Kind
	gets      map[string]int // the routes for GET, by version and template
	parts     []Part
	versions  []*versionRead
	sets      []*versionSet
	under     map[string]*versionSet // the sets by their prefixes
	files     files                  // of the parts, named for mistakes
	mistakes  Mistakes
	wrong     map[here.Place]bool // where there is one
	broken    map[*resolved]bool  // the routes whose inputs or outputs have some
	unread    bool                // there are routes that could not be read, so that a route may be there after all
}

func newBuilder(at here.Place, parts []Part) *builder {
	b := &builder{
		at:      at,
		codes:   map[string]*problem.Kind{},
		inputs:  map[inputKey]*bind.Plan{},
		outputs: map[outputKey]*answer.Plan{},
		wrong:   map[here.Place]bool{},
		broken:  map[*resolved]bool{},
		secrets: secret.Types{},
		under:   map[string]*versionSet{},
	}
	b.schemas.Refuse = noJSON
	for _, k := range problem.BuiltIn() {
		b.codes[k.Code()] = k
	}
	return b
}

// noJSON says which types of this package mean nothing as JSON: callers could make up a File, or an
// Identity.
func noJSON(t reflect.Type, whole bool) string {
	if t == reflect.TypeFor[Identity]() {
		return meansNothing
	}
	if t.PkgPath() != noneType.PkgPath() {
		return ""
	}
	name, _, _ := strings.Cut(t.Name(), "[")
	switch name {
	case "File", "Content", "Redirect", "RedirectBy", "Reply", "Created", "Stream", "Conditions", "API", "Info":
		return meansNothing
	case "Page":
		if !whole {
			return "is an output by itself: make it the output, or a list of the items a member"
		}
	}
	return ""
}

const meansNothing = "has no meaning as JSON: use a type of your own"

// modeVariable is the environment variable that puts an API into development: 1.
const modeVariable = "WICKETWAY_DEVELOPMENT"

// initialTerms are what holds before any setting.
func (b *builder) initialTerms() terms {
	t := terms{groupTerms: &groupTerms{limits: defaultLimits, base: ownBase, retirement: noRetirement}}
	if text := os.Getenv(modeVariable); text != "" {
		var err error
		if t.development, err = strconv.ParseBool(text); err != nil {
			b.mistake(b.at, "%s is %q: write 1 for development, or leave it out", modeVariable, text)
		}
	}
	return t
}

// read resolves a group under the list and the prefix of the one around it.
func (b *builder) read(g group, prefix route.Template, outer *list) {
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
	for i, s := range l.settings {
		if s.is(besideVersions) && (l.kind == versionGroup || l.terms.version != "" || l.ofRoute) {
			b.mistake(s.at, "%s: concerns all versions of a group: put it into the list that holds them", s.name)
		}
		if s.is(onlyRoute) && !l.ofRoute {
			b.mistake(s.at, "%s: speaks of one route: put it into that route's list", s.name)
		}
		if s.is(early) {
			s.apply(b, s.at, &l.terms)
		}
		if !s.is(replaces) {
			continue
		}
		for _, earlier := range l.settings[:i] {
			if earlier.slot == s.slot {
				b.mistake(s.at, "%s: cannot be used together with %s at %s in one list: keep one", s.name, earlier.name,
					earlier.at)
			}
		}
		s.apply(b, s.at, &l.terms)
	}
	for _, s := range l.settings {
		if !s.is(replaces) && !s.is(early) {
			s.apply(b, s.at, &l.terms)
		}
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

// A namedGuard is a guard with its name in an API: bearer, and bearer-2 for another one of that name, so that
// callers of two issuers are told apart.
type namedGuard struct {
	guard exchange.Authenticator
	at    here.Place
	name  string
}

func (b *builder) guardName(t *terms) string {
	base, n := t.guard.Scheme().Name, 1
	for _, g := range b.guards {
		if isSame(g.guard, t.guard) || g.at == t.guardAt {
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
	b.guards = append(b.guards, namedGuard{t.guard, t.guardAt, name})
	return name
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
		b.mistake(p.at, "%s: no request has the method %s: write * for every method that no other route of the path has", p.line, method)
	}
	if method == "*" {
		method = anyMethod
	}
	if upper := strings.ToUpper(method); upper != method && slices.Contains(methods, upper) {
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

var methods = []string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch,
	http.MethodDelete, http.MethodOptions, http.MethodTrace, http.MethodConnect}

func settingsOf(settings []Setting) []Part {
	parts := make([]Part, len(settings))
	for i, s := range settings {
		parts[i] = s
	}
	return parts
}

// checkSettings reports the settings that have no effect where they stand: one mistake for
// each, however many routes it stands around.
func (b *builder) checkSettings() {
	used := map[*setting][]bool{} // the pieces
	for _, r := range b.routes {
		if r.part.own {
			continue
		}
		for l := r.list; l != nil; l = l.outer {
			for i := range l.settings {
				s := &l.settings[i]
				if s.suits != nil && !b.broken[r] && !overruled(s, l, r) && (s.acts == nil || s.acts(r)) {
					if err := s.suits(r); err != nil {
						b.mistake(s.at, "%s: %s: %v", s.name, r.line(), err)
					}
				}
				if !l.used[i] && (s.acts == nil || s.acts(r)) && !overruled(s, l, r) {
					l.used[i] = true
				}
				for k, p := range s.pieces {
					if used[s] == nil {
						used[s] = make([]bool, len(s.pieces))
					}
					used[s][k] = used[s][k] || p.acts(l, r)
				}
			}
		}
	}
	for _, l := range b.lists {
		switch {
		case l.inherited: // it says so where it stands itself
			continue
		case l.broken: // once that is mended more may have an effect
			continue
		case l.routes == 0 && l.outer != nil:
			b.mistake(l.at, "%s: no route is in it: leave it out, or declare one", l.kind)
			continue
		}
		for i := range l.settings {
			s := &l.settings[i]
			for k, p := range s.pieces {
				if used[s] != nil && !used[s][k] && !b.wrong[s.at] {
					b.mistake(s.at, "%s: %s has no effect: %s", s.name, p.name, p.lacks)
				}
			}
			switch {
			case l.used[i], b.wrong[s.at]:
			case s.lacks == "", b.overruled(l, s):
				b.mistake(s.at, "%s: has no effect: inner settings overrule it for every route", s.name)
			default:
				b.mistake(s.at, "%s: has no effect: %s", s.name, s.lacks)
			}
		}
	}
}

// overruled reports whether a setting that replaces does not hold for a route, since a list
// nearer to it has another one of its slot.
func overruled(s *setting, at *list, r *resolved) bool {
	if !s.is(replaces) || s.slot == slotLimits { // of limits each field is a setting of its own
		return false
	}
	for l := r.list; l != at; l = l.outer {
		for i := range l.settings {
			if l.settings[i].slot == s.slot {
				return true
			}
		}
	}
	return false
}

// overruled reports whether a setting would have an effect on a route, if no inner one
// took its place.
func (b *builder) overruled(at *list, s *setting) bool {
	for _, r := range b.routes {
		for l := r.list; l != nil; l = l.outer {
			if !r.part.own && l == at && overruled(s, at, r) && (s.value != nil || s.acts(r)) {
				return true
			}
		}
	}
	return false
}

// checkFormats asks formats about all the routes together that offer them. It is the last question: what is
// wrong with a route would make it untrue.
func (b *builder) checkFormats() {
	if len(b.mistakes) > 0 {
		return
	}
	type checker interface{ CheckRoutes([]facts.Route) error }
	offering := map[checker][]facts.Route{}
	at := map[checker]here.Place{}
	var order []checker
	for _, r := range b.routes {
		var known []facts.Route
		for l := r.list; l != nil; l = l.outer {
			for i := range l.settings {
				s := &l.settings[i]
				for _, f := range s.formats {
					c, ok := f.(checker)
					if !ok || !reflect.TypeOf(f).Comparable() || r.part.own || overruled(s, l, r) {
						continue
					}
					if known == nil {
						known = []facts.Route{r.makeFacts(nil)}
					}
					if _, seen := at[c]; !seen {
						at[c], order = s.at, append(order, c)
					}
					if s.acts(r) {
						offering[c] = append(offering[c], known...)
						continue
					}
					offering[c] = append(offering[c], facts.Route{Raises: known[0].Raises}) // its problems have pages all the same
				}
			}
		}
	}
	for _, c := range order {
		for _, err := range check.Unjoin(c.CheckRoutes(offering[c])) {
			b.mistake(at[c], "Formats: %s: %v", c.(format.Format).Name(), err)
		}
	}
}

// checkFacts asks middleware and attached values about the routes that they are for.
func (b *builder) checkFacts() {
	for _, r := range b.routes {
		if r.part.own || b.broken[r] { // of a route with mistakes not all is known
			continue
		}
		var known *facts.Route
		ask := func(at here.Place, name string, check func(facts.Route) error) {
			if known == nil {
				f := r.makeFacts(nil)
				known = &f
			}
			if err := check(*known); err != nil {
				b.mistake(at, "%s: %s: %v", name, r.line(), err)
			}
		}
		for _, l := range r.terms().active() {
			if l.CheckRoute != nil {
				ask(l.at, l.Name, l.CheckRoute)
			}
		}
		for l := r.list; l != nil; l = l.outer {
			for i := range l.settings {
				s := &l.settings[i]
				if s.check != nil && !overruled(s, l, r) && (s.value != nil || s.acts(r)) {
					ask(s.at, s.name, s.check)
				}
			}
		}
	}
}
