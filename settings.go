package wicketway

import (
	"cmp"
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

// Chain adds middleware, outermost first. Outer groups' chains come before inner
// ones. Each middleware is applied once where the setting is, not once a
// route, so that its state is shared by all below.
func Chain(middleware ...Middleware) Setting { return chainKind.say(middleware) }

var chainKind = &kindOf[[]Middleware]{
	name: "Chain",
	apply: func(in *reading, middleware []Middleware) {
		if len(middleware) == 0 {
			in.wrong("none is given: leave it out, or name some")
		}
		for i, m := range middleware {
			if m.Wrap == nil {
				in.wrong("middleware %d has no function: use Wrap, or a package's own", i+1)
			}
			checkMiddleware(in, m)
			if i := slices.IndexFunc(in.active(), func(l *chained) bool { return l.Name == m.Name }); i >= 0 && !m.Repeats {
				if in.inherited { // the inheriting version has its own
					continue
				}
				in.wrong("%s is in the chain already, at %s: requests would pass it twice", m.Name, in.active()[i].at)
			}
			in.chain = append(in.chain, &chained{Middleware: m, at: in.of.at, depth: len(in.chain)})
		}
	},
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

// checkMiddleware reports mistakes in a middleware by itself.
func checkMiddleware(in *reading, m Middleware) {
	if m.Name == "" {
		in.wrong("a middleware has no name: listings and Without need one")
	}
	for _, k := range m.Raises {
		in.to.kind(in.of.at, "Chain: "+m.Name, k)
	}
	wrong := func(format string, args ...any) { in.to.mistake(in.of.at, literal(m.Name)+": "+format, args...) }
	for _, field := range m.Sets {
		if !bind.IsToken(field.Name) {
			wrong("it says that it sets %q, which is not a field name (RFC 9110, 5.1)", field.Name)
		}
	}
	for _, t := range m.Reads {
		if t == nil {
			wrong("it says that it reads a nil type: use reflect.TypeFor")
		}
	}
	if m.Observes != nil && isNil(m.Observes) {
		wrong("its observer is nil")
	}
	if m.Check != nil {
		for _, err := range check.Unjoin(m.Check()) {
			wrong("%v", err)
		}
	}
}

// Without leaves middleware of outer chains out, by name.
func Without(names ...string) Setting { return withoutKind.say(names) }

var withoutKind = &kindOf[[]string]{
	name: "Without",
	mode: early,
	apply: func(in *reading, names []string) {
		some(in, names)
		for i, name := range names {
			found := slices.IndexFunc(in.active(), func(l *chained) bool { return l.Name == name })
			switch {
			case slices.Contains(names[:i], name):
			case found < 0:
				in.wrong("no %s is in the chain here; there are %s", name, chainNames(in.active()))
			default:
				in.left = append(in.left[:len(in.left):len(in.left)], in.active()[found])
			}
		}
	},
}

// Attach puts a value at a route or a group, for middleware that reads it with [exchange.Attached]:
// that is how a middleware learns about one route. Of several values of a type the
// nearest holds. It is a mistake where no middleware in the chain, and no guard, says that
// it reads the type (see [Middleware.Reads]).
//
// Where the value has a method Check() error, Build calls it once; where it has
// a method CheckRoute(facts.Route) error, Build asks it about each route
// for which it holds, and reports the errors. One with a method Methods() []string is about
// routes with these methods alone, and about mounted handlers.
func Attach[T any](value T) Setting {
	of := attachment{of: reflect.TypeFor[T](), value: value, held: exchange.AsAttached(value)}
	if m, ok := any(value).(interface{ Methods() []string }); ok {
		of.methods = m.Methods()
	}
	at, name := here.By()
	s := attachKind.sayAt(at, of)
	s.slot, s.name = of.of, cmp.Or(name, "Attach of "+of.of.String())
	return s
}

var attachKind = &kindOf[attachment]{
	name: "Attach",
	mode: replaces,
	wrong: func(in *reading, said attachment) {
		for _, err := range check.Unjoin(wrongAttached(said.of)) {
			in.wrong("%v", err)
		}
		in.askWrong(said.value)
		if isNil(said.value) {
			in.of.failed = true
			in.to.mistake(in.of.at, "Attach: the %s is nil; Undo(Attach(...)) takes away what an outer group has", said.of)
		}
	},
	apply: func(in *reading, said attachment) {
		in.attached = slices.DeleteFunc(slices.Clone(in.attached), func(held any) bool {
			return reflect.TypeOf(held) == reflect.TypeOf(said.held)
		})
		if !in.of.undo {
			in.attached = append(in.attached, said.held)
		}
	},
	undoable: true,
	picks:    func(r *resolved, said attachment) bool { return r.terms().reads(said.of) && said.isAbout(r.method) },
	none:     "no middleware in the chain and no guard here reads a %v",
	check: func(said attachment, of facts.Route) error {
		if c, asks := said.value.(interface{ CheckRoute(facts.Route) error }); asks && said.isAbout(of.Method) {
			return c.CheckRoute(of)
		}
		return nil
	},
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

func (l Limits) part() here.Place { return here.Place{} }

func (l Limits) setting() setting { return limitsKind.sayAt(here.Place{}, l) }

var limitsKind = &kindOf[Limits]{
	name: "Limits",
	mode: replaces | byField | ofGroups,
	wrong: func(in *reading, said Limits) {
		v := reflect.ValueOf(said)
		for _, i := range fieldsOf(said) {
			if f := v.Field(i); f.Int() < 0 {
				in.wrong("%s is %v: a limit must be positive; Undo(Limits{...}) lifts one", v.Type().Field(i).Name, f)
			}
		}
		if queues := said.Queue != 0; queues != (said.Wait != 0) || queues && said.AtOnce == 0 {
			in.wrong("Queue and Wait go together with AtOnce: set all three, or AtOnce alone")
		}
	},
	field: func(t *terms) *Limits { return &t.limits },
	unset: defaultLimits,
	apply: func(in *reading, said Limits) {
		switch {
		case said.AtOnce == 0, in.of.failed:
		case in.of.undo:
			in.seats = nil
		default:
			in.seats = append(slices.Clip(in.seats), &seats{
				taken: make(chan struct{}, said.AtOnce),
				queue: int64(said.Queue),
				wait:  said.Wait,
			})
		}
	},
	fields: map[string]fieldKind{
		"Body": {
			where: (*resolved).reads,
			none:  "no route here reads a body, or inner settings overrule it; a plain handler sees to its own body",
		},
		"AtOnce": {adds: true},
		"Queue":  {adds: true},
		"Wait":   {adds: true},
		"Faults": {
			where: func(r *resolved) bool { return r.input != nil && r.input.Reads() },
			none:  "no route here reads an input, or inner settings overrule it",
		},
	},
}

func (s PageSizes) part() here.Place { return here.Place{} }

func (s PageSizes) setting() setting { return pageSizesKind.sayAt(here.Place{}, s) }

var pageSizesKind = &kindOf[PageSizes]{
	name:  "PageSizes",
	mode:  replaces | byField | ofGroups,
	field: func(t *terms) *PageSizes { return &t.pageSizes },
	unset: defaultPageSizes,
	wrong: func(in *reading, said PageSizes) {
		if said.Usual < 0 || said.Most < 0 {
			in.wrong("%+v: a size is positive; Undo(PageSizes{...}) lifts one", said)
		}
		if most := cmp.Or(said.Most, in.pageSizes.Most); cmp.Or(said.Usual, in.pageSizes.Usual) > most {
			in.wrong("the usual size, %d, is more than the largest, %d", cmp.Or(said.Usual, in.pageSizes.Usual), most)
		}
	},
	where: func(r *resolved) bool { return r.input != nil && r.input.QueryField(pageSizeType) != "" },
	none:  "no query field of an input here is a wicketway.PageSize",
}

// Slashes says what a slash at the end of a path means for the routes of a group.
func Slashes(policy Slash) Setting { return slashesKind.say(policy) }

var slashesKind = &kindOf[Slash]{
	name:  "Slashes",
	mode:  replaces | ofGroups,
	field: func(t *terms) *Slash { return &t.slashes },
	wrong: func(in *reading, policy Slash) {
		if policy > SlashSame {
			in.wrong("%d is not a policy: write SlashRedirect, SlashStrict or SlashSame", uint8(policy))
		}
	},
}

// Listing lets [Files] list the folders that have no index.html, as JSON. Names that
// are no UTF-8 are left out, as no path leads to them (see [io/fs.ValidPath]).
func Listing() Setting { return listingKind.say(true) }

var listingKind = &kindOf[bool]{
	name:  "Listing",
	mode:  replaces | ofGroups,
	field: func(t *terms) *bool { return &t.listing },
	where: isFiles,
	none:  "this list has no Files",
}

// Name names a route, for links to it. Without it the name is that of the route's
// function with its package's: passages.find. Routes of one version that share a function are named by method and path:
// get.locks.lock.levels.
func Name(name string) Setting { return nameKind.say(name) }

var nameKind = &kindOf[string]{
	name:  "Name",
	mode:  replaces | onlyRoute,
	field: func(t *terms) *string { return &t.name },
	wrong: func(in *reading, name string) {
		if name == "" || strings.ContainsFunc(name, func(c rune) bool { return c <= ' ' || c == '/' || c == 0x7f }) {
			in.wrong("%q is not a name: names have neither spaces nor slashes, such as passages.find", name)
		}
	},
}

// Summary describes a route in a line.
func Summary(text string) Setting { return summaryKind.say(text) }

var summaryKind = &kindOf[string]{
	name:  "Summary",
	mode:  replaces | onlyRoute,
	field: func(t *terms) *string { return &t.summary },
	wrong: func(in *reading, text string) {
		if strings.TrimSpace(text) == "" || strings.ContainsAny(text, "\r\n") {
			in.wrong("%q is not a line of text: say what the route is for, or leave it out", text)
		}
	},
}

// Template names the template that shows a route's values as a page (format/html), where it is not the one of the
// route's name: several routes can share one.
func Template(name string) Setting { return templateKind.say(name) }

var templateKind = &kindOf[string]{
	name:  "Template",
	mode:  replaces | onlyRoute,
	field: func(t *terms) *string { return &t.template },
	wrong: func(in *reading, name string) {
		if name == "" {
			in.wrong("the name is empty: leave it out, so that the route's own name counts")
		}
	},
	where: func(r *resolved) bool { return r.terms().formats != nil },
	none:  "no format is offered here, so nothing shows the template %q",
}

// Description says more of a route than its [Summary], in one paragraph or several, as CommonMark.
func Description(text string) Setting { return descriptionKind.say(text) }

var descriptionKind = &kindOf[string]{
	name:  "Description",
	mode:  replaces | onlyRoute,
	field: func(t *terms) *string { return &t.description },
	wrong: func(in *reading, text string) {
		if strings.TrimSpace(text) == "" {
			in.wrong("the text is empty: say more of the route, or leave it out")
		}
	},
}

// Unlisted keeps routes out of contracts ([API.Contract]): those for operation, say. They are served, guarded and listed
// by the command-line tool as all others.
func Unlisted() Setting { return unlistedKind.say(true) }

var unlistedKind = &kindOf[bool]{
	name:  "Unlisted",
	mode:  replaces | ofGroups,
	field: func(t *terms) *bool { return &t.unlisted },
}

// Tags put routes into groups for readers of listings and contracts, in addition to those of outer groups.
func Tags(names ...string) Setting { return tagsKind.say(names) }

var tagsKind = &kindOf[[]string]{
	name: "Tags",
	apply: func(in *reading, names []string) {
		some(in, names)
		for _, name := range names {
			if strings.TrimSpace(name) == "" || slices.Contains(in.tags, name) {
				in.wrong("%q is empty or given twice", name)
			}
			in.tags = append(in.tags, name)
		}
	},
}

// IgnoreReadOnly passes over the members of a JSON body that only the server sets
// (rule:"readOnly"), so that callers can send back a value as they got it; they are refused
// otherwise.
func IgnoreReadOnly() Setting { return readOnlyKind.say(true) }

var readOnlyKind = &kindOf[bool]{
	name:  "IgnoreReadOnly",
	mode:  replaces | ofGroups,
	field: func(t *terms) *bool { return &t.readOnly },
	where: readsJSON,
	none:  "no route here reads a JSON body",
}

// AllowUnknown ignores members of a JSON body that the input does not have; they
// are refused otherwise.
func AllowUnknown() Setting { return unknownKind.say(true) }

var unknownKind = &kindOf[bool]{
	name:  "AllowUnknown",
	mode:  replaces | ofGroups,
	field: func(t *terms) *bool { return &t.unknown },
	where: readsJSON,
	none:  "no route here reads a JSON body",
}

// Log is the logger for the API's own lines: that it listens, and failures that
// nobody else logs (see [exchange.Failure.MarkLogged]). Without it that is where a middleware logs requests (see
// [Middleware.Log]), or else slog's default.
func Log(logger *slog.Logger) Setting { return logKind.say(logger) }

var logKind = &kindOf[*slog.Logger]{
	name:  "Log",
	mode:  replaces | ofGroups,
	field: func(t *terms) **slog.Logger { return &t.log },
	wrong: func(in *reading, logger *slog.Logger) {
		if logger == nil {
			in.wrong("the logger is nil: leave it out for slog's default")
		}
	},
}

// Development is for the programmer's machine. Answers stay the same, but more is shown: JSON is
// indented, a problem has a member debug with its causes, or with the routes that are near where nothing was
// found, and the log says once what would be right in a route: which kind of problem it raises without
// declaring it, what in an output breaks the rules of its type, which conditions were not held, and which
// middleware neither answers nor goes on. Where a value goes out as JSON though the caller prefers HTML, as browsers do, it
// is a page that can be read, with links and the same status. A request with the field Wicketway-Raise gets what it names, once
// its caller is admitted: the code of a kind of problem that the route raises, panic, its answer late, as in slow=3s, or
// lost=database, where that was opened with package observe/statements. What [InDevelopment] has is there. Production
// is the default. WICKETWAY_DEVELOPMENT=1 in the
// environment does the same for a whole API.
func Development() Setting { return developmentKind.say(true) }

var developmentKind = &kindOf[bool]{
	name:  "Development",
	mode:  replaces | ofGroups,
	field: func(t *terms) *bool { return &t.development },
}
