package wicketway

import (
	"errors"
	"log/slog"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/here"
)

// flag makes a setting that is on or off; off is what Undo makes of it.
func flag(at here.Place, name string, about slot, set func(t *terms, on bool)) setting {
	return setting{
		at:     at,
		name:   name,
		slot:   about,
		mode:   replaces | ofGroups,
		apply:  func(_ reporter, _ here.Place, t *terms) { set(t, true) },
		undone: func(t *terms) { set(t, false) },
	}
}

// some reports a list that is empty, or has something twice.
func some[T comparable](b reporter, at here.Place, setting string, list []T) {
	if len(list) == 0 {
		b.mistake(at, "%s: none is given: leave it out, or name some", setting)
	}
	twice(b, at, setting, list)
}

// askWrong reports what a value that was given says is wrong with it by itself.
func askWrong(b reporter, at here.Place, name string, value any) {
	for _, err := range wrongWith(value) {
		b.mistake(at, "%s: %v", name, err)
	}
}

// Undo takes a setting back that a group further out has: what holds is what would hold
// without any of its kind, so of Envelope("data") only that it is an Envelope counts. Of
// [Limits] each field that is not zero is lifted to its default. A [Guard] is undone by
// [Public], and what adds up (Chain, Scopes, Fails, Translate) cannot be undone.
func Undo(s Setting) Setting {
	at := here.Here(0)
	if isNil(s) {
		return setting{at: at, name: "Undo", slot: at, apply: func(b reporter, at here.Place, _ *terms) {
			b.mistake(at, "Undo: the setting is nil")
		}}
	}
	of := s.setting()
	u := setting{at: at, name: "Undo of " + of.name, slot: of.slot, mode: of.mode, limits: of.limits, retires: of.retires}
	if of.undone == nil {
		u.apply = func(b reporter, at here.Place, _ *terms) {
			b.mistake(at, "Undo: %s cannot be undone: use Public for a Guard; what adds up stays", of.name)
		}
		return u
	}
	u.apply = func(_ reporter, _ here.Place, t *terms) { of.undone(t) }
	u.acts = func(r *resolved) bool {
		for l := r.list; l != nil; l = l.outer {
			if slices.ContainsFunc(l.settings, func(o setting) bool { return o.slot == of.slot && o.name == of.name }) {
				return true
			}
		}
		return false
	}
	u.lacks = "no group around it has such a setting"
	return u
}

// Chain adds middleware, outermost first. Outer groups' chains come before inner
// ones. Each middleware is applied once where the setting is, not once a
// route, so that its state is shared by all below.
func Chain(middleware ...Middleware) Setting {
	return setting{at: here.Here(0), name: "Chain", slot: slotChain, apply: func(b reporter, at here.Place, t *terms) {
		if len(middleware) == 0 {
			b.mistake(at, "Chain: none is given: leave it out, or name some")
		}
		for i, m := range middleware {
			if m.Wrap == nil {
				b.mistake(at, "Chain: middleware %d has no function: use Wrap, or a package's own", i+1)
			}
			checkMiddleware(b, at, m)
			if i := slices.IndexFunc(t.active(), func(l *chained) bool { return l.Name == m.Name }); i >= 0 && !m.Repeats {
				if t.inherited { // the inheriting version has its own
					continue
				}
				b.mistake(at, "Chain: %s is in the chain already, at %s: requests would pass it twice", m.Name, t.active()[i].at)
			}
			t.chain = append(t.chain, &chained{Middleware: m, at: at, depth: len(t.chain)})
		}
	}}
}

func chainNames(of []*chained) string {
	var names []string
	for _, l := range of {
		names = append(names, l.Name)
	}
	if names == nil {
		return "none"
	}
	return strings.Join(names, ", ")
}

// checkMiddleware reports what is wrong with a middleware by itself.
func checkMiddleware(b reporter, at here.Place, m Middleware) {
	if m.Name == "" {
		b.mistake(at, "Chain: a middleware has no name: listings and Without need one")
	}
	for _, k := range m.Raises {
		b.kind(at, "Chain: "+m.Name, k)
	}
	for _, field := range m.Sets {
		if !bind.IsToken(field.Name) {
			b.mistake(at, "%s: it says that it sets %q, which is not a field name (RFC 9110, 5.1)", m.Name, field.Name)
		}
	}
	for _, t := range m.Reads {
		if t == nil {
			b.mistake(at, "%s: it says that it reads a nil type: use reflect.TypeFor", m.Name)
		}
	}
	if m.Check != nil {
		for _, err := range check.Unjoin(m.Check()) {
			b.mistake(at, "%s: %v", m.Name, err)
		}
	}
}

func twice[T comparable](b reporter, at here.Place, setting string, list []T) {
	for i, one := range list {
		if slices.Contains(list[:i], one) {
			b.mistake(at, "%s: %v is named twice: once is enough", setting, one)
		}
	}
}

// Without leaves middleware of outer chains out, by name.
func Without(names ...string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Without",
		slot: slotWithout,
		mode: early,
		apply: func(b reporter, at here.Place, t *terms) {
			if len(names) == 0 {
				b.mistake(at, "Without: none is given: leave it out, or name some")
			}
			for i, name := range names {
				if slices.Contains(names[:i], name) {
					b.mistake(at, "Without: %s is named twice: once is enough", name)
					continue
				}
				found := slices.IndexFunc(t.active(), func(l *chained) bool { return l.Name == name })
				if found < 0 {
					b.mistake(at, "Without: no %s is in the chain here; there are %s", name, chainNames(t.active()))
					continue
				}
				t.left = append(t.left[:len(t.left):len(t.left)], t.active()[found])
			}
		},
	}
}

// Attach puts a value at a route or a group, for middleware that reads it with [Attached]:
// that is how a middleware learns about one route. Of several values of a type the
// nearest holds. It is a mistake where no middleware in the chain, and no guard, says that
// it reads the type (see [Middleware.Reads]).
//
// Where the value has a method Check() error, Build asks it what is wrong with it by itself; where it has
// a method CheckRoute(facts.Route) error, Build asks it about each route
// for which it holds, and reports what it says. One with a method Methods() []string is about
// routes with these methods alone, and about what is mounted.
func Attach[T any](value T) Setting {
	t := reflect.TypeFor[T]()
	about, lacks := func(string) bool { return true }, ""
	if m, ok := any(value).(interface{ Methods() []string }); ok {
		methods := m.Methods()
		about = func(method string) bool { return method == anyMethod || slices.Contains(methods, method) }
		lacks = ", or no route here has a method that it is about (" + strings.Join(methods, ", ") + ")"
	}
	var asks func(facts.Route) error
	if c, ok := any(value).(interface{ CheckRoute(facts.Route) error }); ok {
		asks = func(f facts.Route) error {
			if !about(f.Method) {
				return nil
			}
			return c.CheckRoute(f)
		}
	}
	at, name := here.By()
	if name == "" {
		name = "Attach of " + t.String()
	}
	return setting{
		at:    at,
		name:  name,
		slot:  t,
		mode:  replaces,
		value: value,
		apply: func(b reporter, at here.Place, terms *terms) {
			for _, err := range check.Unjoin(wrongAttached(t)) {
				b.mistake(at, "%s: %v", name, err)
			}
			detach[T](terms)
			terms.attached = append(terms.attached, exchange.AsAttached(value))
			askWrong(b, at, name, value)
			if isNil(value) {
				b.mistake(at, "Attach: the %s is nil; Undo(Attach(...)) takes away what an outer group has", t)
			}
		},
		undone: detach[T],
		acts:   func(r *resolved) bool { return r.terms().reads(t) && about(r.method) },
		lacks:  "no middleware in the chain and no guard here reads a " + t.String() + ": add the one that does" + lacks,
		check:  asks,
	}
}

// wrongAttached says which methods of a value are never asked.
func wrongAttached(t reflect.Type) error {
	if t.Kind() == reflect.Interface {
		return nil
	}
	if t.Kind() != reflect.Pointer {
		t = reflect.PointerTo(t)
	}
	asks, has := t.MethodByName("CheckRoute")
	methods, about := t.MethodByName("Methods")
	return errors.Join(check.OtherSignature(asks, has, reflect.TypeFor[func(facts.Route) error]()),
		check.OtherSignature(methods, about, reflect.TypeFor[func() []string]()))
}

func detach[T any](t *terms) {
	t.attached = slices.DeleteFunc(slices.Clone(t.attached), exchange.IsAttached[T])
}

// Observe adds an observer of the requests of a group. Without one the steps cost nothing.
func Observe(by exchange.Observer) Setting {
	return setting{at: here.Here(0), name: "Observe", slot: slotObserve, mode: ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if isNil(by) {
				b.mistake(at, "Observe: the observer is nil")
				return
			}
			askWrong(b, at, "Observe", by)
			t.observers = append(t.observers[:len(t.observers):len(t.observers)], by)
		}}
}

func (l Limits) part() here.Place { return here.Place{} }

func (l Limits) setting() setting {
	return setting{
		name:   "Limits",
		slot:   slotLimits,
		mode:   replaces | ofGroups,
		limits: &l,
		apply: func(b reporter, at here.Place, t *terms) {
			if l == (Limits{}) {
				b.mistake(at, "Limits: no field is set: leave it out, or set one")
			}
			if l.Body < 0 || l.Rate < 0 || l.Time < 0 || l.AtOnce < 0 || l.Faults < 0 {
				b.mistake(at, "Limits: %+v: a limit must be positive; Undo(Limits{...}) lifts one", l)
				return
			}
			l.set(&t.limits, l)
			if l.AtOnce > 0 {
				t.seats = append(slices.Clip(t.seats), make(chan struct{}, l.AtOnce))
			}
		},
		undone: func(t *terms) {
			l.set(&t.limits, defaultLimits)
			if l.AtOnce != 0 {
				t.seats = nil
			}
		},
		pieces: l.pieces(),
	}
}

// pieces are the fields that are set, each a setting of its own.
func (l Limits) pieces() (all []piece) {
	add := func(name string, value func(Limits) bool, acts func(*resolved) bool, lacks string) {
		if value(l) {
			all = append(all, piece{name, func(at *list, r *resolved) bool {
				for nearer := r.list; nearer != at; nearer = nearer.outer {
					if slices.ContainsFunc(nearer.settings, func(s setting) bool { return s.limits != nil && value(*s.limits) }) &&
						name != "AtOnce" {
						return false
					}
				}
				return acts == nil || acts(r)
			}, lacks})
		}
	}
	const overruled = "inner settings overrule it for every route"
	add(
		"Body", func(l Limits) bool { return l.Body != 0 }, (*resolved).reads,
		"no route here reads a body, or inner settings overrule it; a plain handler sees to its own body",
	)
	add("Rate", func(l Limits) bool { return l.Rate != 0 }, nil, overruled)
	add("Time", func(l Limits) bool { return l.Time != 0 }, nil, overruled)
	add("AtOnce", func(l Limits) bool { return l.AtOnce != 0 }, nil, overruled)
	add(
		"Faults", func(l Limits) bool { return l.Faults != 0 },
		func(r *resolved) bool { return r.input != nil && r.input.Reads() },
		"no route here reads an input, or inner settings overrule it",
	)
	return all
}

// Slashes says what a slash at the end of a path means for the routes of a group.
func Slashes(policy Slash) Setting {
	return setting{
		at:   here.Here(0),
		name: "Slashes",
		slot: slotSlashes,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.slashes = policy; policy > SlashSame {
				b.mistake(at, "Slashes: %d is not a policy: write SlashRedirect, SlashStrict or SlashSame", uint8(policy))
				t.slashes = SlashRedirect
			}
		},
		undone: func(t *terms) { t.slashes = SlashRedirect },
	}
}

// Listing lets [Files] list the folders that have no index.html, as JSON. Names that
// are no UTF-8 are left out, as no path leads to them (see [io/fs.ValidPath]).
func Listing() Setting {
	return flag(here.Here(0), "Listing", slotListing, func(t *terms, on bool) { t.listing = on }).
		where(isFiles,
			"this list has no Files")
}

// Description says more of a route than its [Summary], in one paragraph or several, as CommonMark.
func Description(text string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Description",
		slot: slotDescription,
		mode: replaces | onlyRoute,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.description = text; strings.TrimSpace(text) == "" {
				b.mistake(at, "Description: the text is empty: say more of the route, or leave it out")
			}
		},
	}
}

// Tags put routes into groups for readers of listings and contracts, in addition to those of outer groups.
func Tags(names ...string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Tags",
		slot: slotTags,
		apply: func(b reporter, at here.Place, t *terms) {
			some(b, at, "Tags", names)
			for _, name := range names {
				if strings.TrimSpace(name) == "" || slices.Contains(t.tags, name) {
					b.mistake(at, "Tags: %q is empty or given twice", name)
				}
				t.tags = append(t.tags, name)
			}
		},
	}
}

// Name names a route, for links to it. Without it the name is that of the route's
// function with its package's: passages.find.
func Name(name string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Name",
		slot: slotName,
		mode: replaces | onlyRoute,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.name = name; name == "" ||
				strings.ContainsFunc(name, func(c rune) bool { return c <= ' ' || c == '/' || c == 0x7f }) {
				b.mistake(at, "Name: %q is not a name: names have neither spaces nor slashes, such as passages.find", name)
			}
		},
	}
}

// Summary says in a line what a route is for.
func Summary(text string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Summary",
		slot: slotSummary,
		mode: replaces | onlyRoute,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.summary = text; strings.TrimSpace(text) == "" || strings.ContainsAny(text, "\r\n") {
				b.mistake(at, "Summary: %q is not a line of text: say what the route is for, or leave it out", text)
			}
		},
	}
}

// IgnoreReadOnly passes over the members of a JSON body that only the server sets
// (rule:"readOnly"), so that callers can send back what they got; they are refused
// otherwise.
func IgnoreReadOnly() Setting {
	return flag(here.Here(0), "IgnoreReadOnly", slotReadOnly, func(t *terms, on bool) { t.readOnly = on }).
		where(readsJSON, noJSONBody)
}

// AllowUnknown ignores members of a JSON body that the input does not have; they
// are refused otherwise.
func AllowUnknown() Setting {
	return flag(here.Here(0), "AllowUnknown", slotUnknown, func(t *terms, on bool) { t.unknown = on }).
		where(readsJSON, noJSONBody)
}

const noJSONBody = "no route here reads a JSON body"

// Log is where the API writes what is its own: that it listens, and failures that
// nobody else logs (see [exchange.Failure.MarkLogged]). Without it that is where a middleware logs requests (see
// [Middleware.Log]), or else slog's default.
func Log(logger *slog.Logger) Setting {
	return setting{
		at:   here.Here(0),
		name: "Log",
		slot: slotLog,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.log = logger; logger == nil {
				b.mistake(at, "Log: the logger is nil: leave it out for slog's default")
			}
		},
		undone: func(t *terms) { t.log = nil },
	}
}

// Development is for the programmer's machine. What is answered stays the same; more is shown: JSON is
// indented, a problem has a member debug with its causes, or with the routes that are near where nothing was
// found, and the log says once what would be right in a route: which kind of problem it raises without
// declaring it, what in an output breaks the rules of its type, which conditions were not held, and which
// middleware neither answers nor goes on. Production is the default. WICKETWAY_DEVELOPMENT=1 in the
// environment does the same for a whole API.
func Development() Setting {
	return flag(here.Here(0), "Development", slotDevelopment, func(t *terms, on bool) { t.development = on })
}
