package wicketway

import (
	"cmp"
	"maps"
	"net/http"
	"net/url"
	"reflect"
	"regexp"
	"runtime"
	"slices"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/here"
)

// tie finds the routes that others are bound to: by what they change, and by where they lead.
func (b *builder) tie() {
	var byFunction map[*runtime.Func][]int
	for _, r := range b.routes {
		if of := r.terms().retirement.successorOf; of != nil {
			b.succeed(r, of)
		}
		if r.output == nil {
			continue
		}
		b.resolveConditions(r)
		function := r.terms().located.by
		switch {
		case r.part.out.at == nil:
			continue
		case function == nil:
			b.mistake(
				r.at,
				"%s: its answers lead to another route, but no LocatedBy says to which: add LocatedBy with that route's function",
				r.line(),
			)
			continue
		}
		if byFunction == nil {
			byFunction = map[*runtime.Func][]int{}
			for i, other := range b.routes {
				if f := other.part.function; f != nil {
					byFunction[f] = append(byFunction[f], i)
				}
			}
		}
		b.locate(r, function, r.terms().located.value.exactly(byFunction[function], b.closure))
	}
}

func (b *builder) closure(route int) *closure { return b.routes[route].part.value }

// succeed binds a route that ends to the one that replaces it: that of another version which a function serves.
func (b *builder) succeed(r *resolved, function *runtime.Func) {
	var found []int
	for i, other := range b.routes {
		if other.part.function == function && other.terms().version != r.terms().version &&
			(other.lineage == nil || other.lineage.own) {
			found = append(found, i)
		}
	}
	found = closureOf(r.terms().retirement.Successor).exactly(found, b.closure)
	switch {
	case len(found) == 0 && !b.unread:
		b.mistake(r.at, "%s: Retirement: no route of another version is served by the successor %s", r.line(), function.Name())
	case len(found) > 1:
		b.mistake(r.at, "%s: Retirement: the successor %s serves several routes, %s and %s: give a path", r.line(),
			function.Name(), b.routes[found[0]].line(), b.routes[found[1]].line())
	case len(found) == 1:
		to := b.routes[found[0]]
		for _, name := range to.names {
			if !slices.Contains(r.names, name) {
				b.mistake(r.at, "%s: Retirement: the path of the successor, %s, has {%s}, which this one lacks: give a path",
					r.line(), to.path, name)
				return
			}
		}
		r.tie().successor = &b.templates[found[0]]
	}
}

// locate binds a route to the one of those a function serves that is in its version, or in none.
func (b *builder) locate(r *resolved, function *runtime.Func, among []int) {
	for _, version := range []string{r.terms().version, ""} {
		of := slices.DeleteFunc(slices.Clone(among), func(i int) bool { return b.routes[i].terms().version != version })
		switch len(of) {
		case 0:
			continue
		case 1:
			b.bind(r, of[0])
		default:
			b.mistake(r.at, "%s: LocatedBy: %s serves several routes, %s and %s: give one a function of its own", r.line(),
				function.Name(), b.routes[of[0]].line(), b.routes[of[1]].line())
		}
		return
	}
	if b.unread {
		return
	}
	b.mistake(r.at, "%s: LocatedBy: no route of this version is served by %s", r.line(), function.Name())
}

func (b *builder) bind(r *resolved, to int) {
	t := r.tie()
	t.locates = to
	other := b.routes[to]
	if t.reads < 0 && r.part.out.reply && other.terms().conditional && other.output != nil &&
		other.part.out.value == r.part.out.value {
		t.reads, t.tagged = to, true
	}
}

// resolveConditions finds the GET that the conditions of a route are about, and says what is
// wrong with them.
func (b *builder) resolveConditions(r *resolved) {
	index, of, required := conditionsOf(r.part.in)
	under := r.terms().conditional
	switch {
	case index == nil && under && !r.isReading() && r.output != nil:
		b.mistake(
			r.at,
			"%s: is under Conditional, but its input takes no conditions: add a field of type wicketway.Conditions, or Undo(Conditional()) here",
			r.line(),
		)
		return
	case index == nil:
		return
	case r.isReading():
		b.mistake(r.at, "%s: takes Conditions, but Conditional() holds those of a route that reads", r.line())
		return
	case !under:
		b.mistake(
			r.at, "%s: takes Conditions, but is not under Conditional(): add it here and to the GET of the path", r.line(),
		)
		return
	}
	number := b.get(r)
	if number < 0 {
		b.mistake(r.at, "%s: takes Conditions, but no GET has its path, so there is nothing to compare with", r.line())
		return
	}
	get := b.routes[number]
	switch {
	case get.output == nil || get.part.out.value != of:
		b.mistake(
			r.at, "%s: takes Conditions of %s, but %s at %s answers %s", r.line(), of, get.line(), get.at, get.answers(),
		)
	case !get.terms().conditional:
		b.mistake(
			r.at, "%s: takes Conditions, but %s at %s is not under Conditional(), so callers get no tag", r.line(),
			get.line(), get.at,
		)
	default:
		t := r.tie()
		t.conditional = &conditional{index, required}
		t.reads = number
		t.tagged = r.part.out.value == of && (r.method == http.MethodPatch || r.method == http.MethodPut)
	}
}

// get is the number of the GET with the template and the version of another route; -1 where
// there is none.
func (b *builder) get(like *resolved) int {
	if b.gets == nil {
		b.gets = map[string]int{}
		for i, r := range b.routes {
			if r.method == http.MethodGet {
				b.gets[r.terms().version+r.path] = i
			}
		}
	}
	if i, ok := b.gets[like.terms().version+like.path]; ok {
		return i
	}
	return -1
}

// conditionsOf finds the field of an input that takes conditions; nil where there is none.
func conditionsOf(in reflect.Type) (index []int, of reflect.Type, required bool) {
	if in == nil {
		return nil, nil, false
	}
	if in.Kind() == reflect.Pointer {
		in = in.Elem()
	}
	if in.Kind() != reflect.Struct {
		return nil, nil, false
	}
	for i := range in.NumField() {
		f := in.Field(i)
		if reflect.PointerTo(f.Type).Implements(conditionalFieldType) {
			of := reflect.New(f.Type).Interface().(conditionalField).of()
			return []int{i}, of, f.Tag.Get("rule") == "required"
		}
		if f.Anonymous {
			if inner, of, required := conditionsOf(f.Type); inner != nil {
				return append([]int{i}, inner...), of, required
			}
		}
	}
	return nil, nil, false
}

// name gives the routes their names: those that were declared, or else their functions'. Where several routes of a
// version share a function each has the name of its method and path, so that none changes its name because of another.
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
			continue
		}
		for _, r := range of {
			if r.name = r.pathName(); given[r.key()] != nil { // two paths can differ in braces alone
				r.name = ""
				continue
			}
			given[r.key()] = r
		}
	}
}

// checkSettings reports the settings that have no effect where they are: one mistake for
// each, however many routes it is around.
func (b *builder) checkSettings() {
	pieces := map[*setting][]piece{}
	used := map[*setting][]bool{} // the pieces
	for _, r := range b.routes {
		if r.part.own {
			continue
		}
		for l := r.list; l != nil; l = l.outer {
			for i := range l.settings {
				s := &l.settings[i]
				if s.acts(r) && !overruled(s, l, r) {
					l.used[i] = true
					if err := s.kind.suits(s, r); err != nil && !b.broken[r] {
						s.failed = true
						b.mistake(s.at, "%s: %s: %v", s.name, r.line(), err)
					}
				}
				if _, known := pieces[s]; !known {
					pieces[s] = s.kind.pieces(s)
					used[s] = make([]bool, len(pieces[s]))
				}
				for k, p := range pieces[s] {
					used[s][k] = used[s][k] || p.acts(l, r)
				}
			}
		}
	}
	for _, l := range b.lists {
		switch {
		case l.inherited: // the list that it was inherited from says so
			continue
		case l.broken: // once that is mended more may have an effect
			continue
		case l.routes == 0 && l.outer != nil:
			b.mistake(l.at, "%s: no route is in it: leave it out, or declare one", l.kind)
			continue
		}
		for i := range l.settings {
			s := &l.settings[i]
			for k, p := range pieces[s] {
				if !used[s][k] && !s.failed {
					b.mistake(s.at, "%s: %s has no effect: %s", s.name, p.name, p.lacks)
				}
			}
			switch {
			case l.used[i], s.failed:
			case s.lacks() == "", b.overruled(l, s):
				b.mistake(s.at, "%s: has no effect: inner settings overrule it for every route", s.name)
			default:
				b.mistake(s.at, "%s: has no effect: %s", s.name, s.lacks())
			}
		}
	}
}

// overruled reports whether a setting would have an effect on a route, if no inner one
// took its place.
func (b *builder) overruled(at *list, s *setting) bool {
	for _, r := range b.routes {
		for l := r.list; l != nil; l = l.outer {
			if !r.part.own && l == at && overruled(s, at, r) && (s.isAttached() || s.acts(r)) {
				return true
			}
		}
	}
	return false
}

// checkFacts asks middleware and attached values about the routes that they are for.
func (b *builder) checkFacts() {
	for _, r := range b.routes {
		if r.part.own || b.broken[r] { // of a route with mistakes not all is known
			continue
		}
		var known *facts.Route
		ask := func(at here.Place, name string, place int, check func(facts.Route) error) {
			if known == nil {
				f := r.makeFacts(nil)
				known = &f
			}
			known.Asked = place
			if err := check(*known); err != nil {
				b.mistake(at, "%s: %s: %v", name, r.line(), err)
			}
		}
		for i, l := range r.terms().active() {
			if l.CheckRoute != nil {
				ask(l.at, l.Name, i, l.CheckRoute)
			}
		}
		for l := r.list; l != nil; l = l.outer {
			for i := range l.settings {
				s := &l.settings[i]
				if check := s.kind.asks(s); check != nil && !s.failed && !overruled(s, l, r) && (s.isAttached() || s.acts(r)) {
					ask(s.at, s.name, -1, check)
				}
			}
		}
	}
}

// checkFormats asks formats about all the routes together that offer them. It is the last question: what is
// wrong with a route would make it untrue.
func (b *builder) checkFormats() {
	if len(b.mistakes) > 0 {
		return
	}
	type checker interface{ CheckRoutes([]facts.Route) error }
	offering := map[checker][]facts.Route{}
	at, named := map[checker]here.Place{}, map[checker]string{}
	var order []checker
	for _, r := range b.routes {
		var known []facts.Route
		for l := r.list; l != nil; l = l.outer {
			for i := range l.settings {
				s := &l.settings[i]
				offers, _ := s.said.([]format.Format)
				for _, f := range offers {
					c, ok := f.(checker)
					if !ok || !reflect.TypeOf(f).Comparable() || r.part.own || overruled(s, l, r) {
						continue
					}
					if known == nil {
						known = []facts.Route{r.makeFacts(nil)}
					}
					if _, seen := at[c]; !seen {
						at[c], named[c], order = s.at, s.name, append(order, c)
					}
					if s.acts(r) && s.kind != settingKind(pagesKind) {
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
			b.mistake(at[c], "%s: %s: %v", named[c], c.(format.Format).Name(), err)
		}
	}
}

// checkInfo reports what is wrong with an Info by itself.
func (b *builder) checkInfo(at here.Place, info Info) {
	if info.Title == "" {
		b.mistake(at, "Info: the API needs a Title")
	}
	if info.Version == "" {
		b.mistake(at, "Info: the API needs a Version, such as 1.0.0")
	}
	for _, server := range info.Servers {
		if u, err := url.Parse(server); err != nil || server == "" || u.Scheme != "" && u.Host == "" {
			b.mistake(at, "Info: %q is not the URL of a server, such as https://api.canal.example", server)
		}
	}
	taken := map[string]reflect.Type{}
	types := slices.SortedFunc(maps.Keys(info.Names), func(a, b reflect.Type) int { return compareTypes(a, b) })
	for _, t := range types {
		name := info.Names[t]
		switch other := taken[name]; {
		case t == nil:
			b.mistake(at, "Info: the type that is called %q is nil", name)
		case !componentName.MatchString(name):
			b.mistake(at, "Info: %q, for %v, is not a name for contracts: it has ASCII letters, digits, dots, hyphens and underscores", name, t)
		case other != nil:
			b.mistake(at, "Info: both %v and %v are called %s", other, t, name)
		default:
			taken[name] = t
		}
	}
}

// componentName is what names of components consist of (OpenAPI 3.1.1, 4.8.7.2).
var componentName = regexp.MustCompile(`^[a-zA-Z0-9._-]+$`)

func compareTypes(a, b reflect.Type) int {
	if a == nil || b == nil {
		return 0
	}
	return cmp.Or(cmp.Compare(a.PkgPath(), b.PkgPath()), cmp.Compare(a.String(), b.String()))
}

// checkInfoOfRoutes reports what of an Info no route has.
func (b *builder) checkInfoOfRoutes(at here.Place, info Info) {
	for _, scope := range slices.Sorted(maps.Keys(info.Scopes)) {
		if !slices.ContainsFunc(b.routes, func(r *resolved) bool { return r.asksFor(scope) }) {
			b.mistake(at, "Info: it has a text about the scope %q, which no route asks for", scope)
		}
	}
	if info.Status != "" && !slices.ContainsFunc(b.routes, func(r *resolved) bool {
		return r.method == http.MethodGet && r.path == info.Status
	}) {
		b.mistake(at, "Info: no GET route is at %q, the path of the status", info.Status)
	}
}

// asksFor reports whether callers can need a scope.
func (r *resolved) asksFor(scope string) bool {
	t := r.terms()
	return slices.Contains(t.scopes, scope) || slices.ContainsFunc(t.anyScope, func(any []string) bool { return slices.Contains(any, scope) })
}
