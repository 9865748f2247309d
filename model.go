package wicketway

import (
	"context"
	"net/http"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// A Part is one piece of a description: a result of [Route], [At], [Group], [Version]
// and the settings return. Parts are immutable, and can be built from more than
// once.
type Part interface {
	part() here.Place
}

// A group is a list of parts under a prefix, a version, or neither.
type group struct {
	at      here.Place
	kind    groupKind
	prefix  string
	version string
	parts   []Part
}

// A groupKind says how a list of parts was declared.
type groupKind uint8

const (
	builtGroup groupKind = iota // the list of Build
	atGroup
	plainGroup
	versionGroup
	developmentGroup
)

// String gives the name of the function.
func (k groupKind) String() string {
	return [...]string{"Build", "At", "Group", "Version", "InDevelopment"}[k]
}

func (g group) part() here.Place { return g.at }

// Info names an API. What is beyond title and version is for readers of contracts.
type Info struct {
	Title   string
	Version string // of the description, such as 2.4.0; not one of the versions served
	// Description says more, as CommonMark.
	Description string
	// Servers are the URLs that paths are relative to, such as https://api.canal.example; none: the host that a contract
	// comes from.
	Servers []string
	// Tags are texts about tags, and Scopes about scopes, by their names.
	Tags   map[string]string
	Scopes map[string]string
	// Names are those of types in contracts, where the name of the Go type would not do. They consist of ASCII letters,
	// digits, dots, hyphens and underscores.
	Names map[reflect.Type]string
	// Status is the path of a GET route that tells whether the API is well, for the catalog of the contracts (the relation
	// status of RFC 8631).
	Status string
}

// A Setting is a part that holds for a route, or for all that is
// in a group.
type Setting interface {
	Part
	setting() setting
}

// A setting is a Setting as data. Its kind knows what it means.
type setting struct {
	at   here.Place
	name string // of the function that made it
	kind settingKind
	slot any  // the matter that it is about: in each list one setting of a slot, unless it adds
	said any  // what it was given
	undo bool // it takes back what the lists around it say

	failed bool // something is wrong with it, so whether it has an effect is of no interest
}

// A settingKind is a row of the table of all settings: what the settings of one function have in common. Its
// methods get the setting itself, for what it was given.
type settingKind interface {
	modes() mode
	canUndo() bool
	// read changes the terms of the list that the setting is in, and reports mistakes in it by itself.
	read(in *reading)
	// acts reports whether it has an effect on a route, and lacks says what is missing where it has none on any;
	// "": each has one, unless inner settings overrule it.
	acts(s *setting, r *resolved) bool
	lacks(s *setting) string
	// pieces are what it names, where each can have an effect or none.
	pieces(s *setting) []piece
	// suits reports mistakes about a route on which it has an effect, and asks does so with its facts.
	suits(s *setting, r *resolved) error
	asks(s *setting) func(facts.Route) error
	// travels is the setting as an inherited route takes it along; false where it does not.
	travels(s setting) (setting, bool)
	// besides is the setting without the fields that other settings of its kind set; false where none is left.
	besides(s setting, others []setting) (setting, bool)
}

// A piece is one of several things that a setting names.
type piece struct {
	name  string
	acts  func(at *list, r *resolved) bool // at is the list that the setting is in
	lacks string
}

// A reading is one setting while the terms of its list are made.
type reading struct {
	*terms
	of *setting
	to reporter
}

// A reporter takes down mistakes in settings.
type reporter interface {
	mistake(at here.Place, format string, args ...any)
	// kind takes a kind of problem in, and reports mistakes in it; false where something is.
	kind(at here.Place, setting string, k *problem.Kind) bool
}

// A mode says how a setting goes together with those of outer lists, and where it is.
type mode uint8

const (
	replaces       mode = 1 << iota // the nearest wins
	byField                         // of each field by itself; the fields that are not zero are said
	ofGroups                        // it changes the groupTerms
	onlyRoute                       // it speaks of one route, so it is in no group
	besideVersions                  // it speaks of all versions of a group, so it is in none
	early                           // it adds to what outer lists say, before its own list does
)

func (s setting) part() here.Place { return s.at }

func (s setting) setting() setting { return s }

func (s setting) is(m mode) bool { return s.kind.modes()&m != 0 }

// isAttached reports whether a setting is of Attach.
func (s *setting) isAttached() bool {
	_, is := s.said.(attachment)
	return is
}

// order is that in which the settings of a list are read.
func (s setting) order() int {
	switch {
	case s.is(early):
		return 0
	case s.is(replaces):
		return 1
	}
	return 2
}

// acts reports whether a setting has an effect on a route.
func (s *setting) acts(r *resolved) bool {
	if !s.undo {
		return s.kind.acts(s, r)
	}
	for l := r.list; l != nil; l = l.outer {
		if slices.ContainsFunc(l.settings, func(o setting) bool { return o.slot == s.slot && !o.undo }) {
			return true
		}
	}
	return false
}

// lacks says what is missing where a setting has no effect on any route; "": inner settings overrule it.
func (s *setting) lacks() string {
	if s.undo {
		return "no group around it has such a setting"
	}
	return s.kind.lacks(s)
}

// An attachment is a value that was attached.
type attachment struct {
	of      reflect.Type
	value   any
	held    any      // the value as package exchange finds it
	methods []string // that it is about; nil: all
}

// String says who is missing where nobody reads it.
func (a attachment) String() string {
	text := a.of.String() + ": add the one that does"
	if a.methods != nil {
		text += ", or no route here has a method that it is about (" + strings.Join(a.methods, ", ") + ")"
	}
	return text
}

// isAbout reports whether the value is about routes with a method.
func (a attachment) isAbout(method string) bool {
	return a.methods == nil || method == anyMethod || slices.Contains(a.methods, method)
}

// A list is a group's parts, or a route's settings.
type list struct {
	outer     *list
	at        here.Place
	kind      groupKind
	ofRoute   bool
	inherited bool   // it is one of an earlier version, as it holds in a later one
	prefix    string // of a group that has one, as a template
	version   string // of a Version its name
	settings  []setting
	used      []bool // which of them have an effect on some route
	terms     terms
	open      *steps // without the guard, for preflights
	routes    int    // how many are in it, at whatever depth
	broken    bool   // a route in it has mistakes, so what has an effect is not known
}

// breaks notes that a route in a list has mistakes.
func (l *list) breaks() {
	for ; l != nil && !l.broken; l = l.outer {
		l.broken = true
	}
}

// below is a copy to which inner settings can add without touching t. The groupTerms are a
// copy only if one of them can change it.
func (t terms) below(settings []setting) terms {
	t.chain = slices.Clip(t.chain)
	t.scopes = slices.Clip(t.scopes)
	t.tags = slices.Clip(t.tags)
	t.fails = slices.Clip(t.fails)
	t.open = slices.Clip(t.open)
	if slices.ContainsFunc(settings, func(s setting) bool { return s.is(ofGroups) }) {
		t.ownGroupTerms()
	}
	return t
}

// overruled reports whether a setting that replaces does not hold for a route, since a list
// nearer to it has another one of its slot.
func overruled(s *setting, at *list, r *resolved) bool {
	if !s.is(replaces) || s.is(byField) { // each field is a setting of its own
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

// A routePart is a route as it was declared.
type routePart struct {
	at        here.Place
	what      partKind
	line      string // the method is empty for mounted handlers
	settings  []Setting
	function  *runtime.Func // that serves it; nil for handlers
	value     *closure      // of the function
	in        reflect.Type  // nil for handlers
	out       outputType
	adapts    *adaptation // it is Adapted
	missing   string      // what is nil: the function, the handler
	handler   any         // a handler of the user's; nil for functions
	withdrawn bool        // it takes an inherited route back
	own       bool        // it is ours: no setting around it is there for its sake
	serve     func(t *target) endpoint
	readable  func() error // says why files are not; nil for what is none
}

func (p *routePart) part() here.Place { return p.at }

// A partKind says what serves a route.
type partKind uint8

const (
	typedPart partKind = iota // a function
	handlerPart
	mountPart
	filesPart
)

// anyMethod is that of mounted handlers.
const anyMethod = table.AnyMethod

// A resolved route is what a description says of one, as plain data: it is complete before
// anything is compiled.
type resolved struct {
	method string   // anyMethod for mounted handlers
	path   string   // the path template, as it was written where it is none
	names  []string // of its parameters
	at     here.Place
	name   string // for links; "" where it has none
	part   *routePart
	list   *list // whose settings hold, nearest first
	input  *bind.Plan
	output *answer.Plan // nil for handlers
	// openStream sends the streams that an output of an interface type can hold; nil for others.
	openStream *answer.Plan
	given      []*answer.Plan // what Gives says
	ties       *ties          // to other routes; nil for most
	lineage    *lineage       // to an earlier version; nil for most
	adapted    *adapted       // nil: it reads and sends what its function does
	says       *resolved      // what Describes says of a handler; nil for most
}

// An endpoint serves a request at the end of its chain. An error that it returns
// has not been answered.
type endpoint interface {
	serve(w http.ResponseWriter, r *http.Request, s *state) error
}

// A target is where a request can end: a route as it was resolved, or a group for what none
// of its routes takes, with what serves it. It is immutable.
type target struct {
	resolved
	end    endpoint
	steps  *steps
	parsed *atomic.Pointer[route.Template]
}

// isFallback reports whether the target is a group, for what none of its routes takes.
func (t *target) isFallback() bool { return t.part == nil }

// namesValue reports whether the path says which value is wanted, so that nil means that it is not there.
func (t *target) namesValue() bool { return len(t.names) > 0 && t.method == http.MethodGet }

// A step is a Step with what it needs.
type step struct {
	exchange.Step
	middleware http.Handler
	seats      *seats
}

// Steps are what a request passes before its route: those from the k-th middleware on begin at from[k].
type steps struct {
	list      []step
	observers []exchange.Observer
	sets      []string // the header fields that the chain says it sets
	from      []int    // by number of the middleware; the last is for what comes behind all of it
}

// An API is a compiled description. It is an http.Handler, immutable and safe
// for concurrent use.
type API struct {
	info      Info
	table     *table.Tables
	targets   []target               // by number in table
	fallbacks []target               // by number of group in table
	named     map[string]*target     // by version, a slash, and name
	there     func(int, string) bool // is isThere
	codes     map[string]*problem.Kind
	facts     func() allFacts              // of targets, made when first asked for
	catalogue func() map[string]facts.Kind // by code, made when first asked for
	contracts sync.Map                     // of versions, made when first asked for
	published []published                  // contracts that are served
	doc       serviceDoc                   // for people; the zero one where there is none
	trails    string                       // the path of what happened to requests; "" where nobody keeps that
	links     map[string]string            // to the contracts of a version, or of all, and to the documentation
	raised    raised
	advised   advised
}

// A serviceDoc is where documentation for people is.
type serviceDoc struct {
	path     string
	problems string // what comes before the code of a kind of problem; "": they are not described there, or not to everyone
	trails   string // what comes before the id of a request; "": what happened to it is not shown there
}

// A published contract is one that Contracts serves.
type published struct {
	version string // "" for an API without versions
	name    string // in its path
	path    string // where it is served
	of      string // the path of what it is about
}

// Raised are the kinds that occurred though no route names them, so that their type
// leads somewhere all the same.
type raised struct {
	mu    sync.Mutex
	kinds map[string]*problem.Kind // by code
}

// Advised is what has been said in development, so that it is said once.
type advised struct {
	mu    sync.Mutex
	said  map[string]bool
	names map[*problem.Kind]string
}

// allFacts are the facts of all routes, and the definitions that their schemas share.
type allFacts struct {
	routes []facts.Route
	defs   map[string]jsontext.Value
}

// A state is what is known of one request. It is made when the request comes in,
// carried as its context, and never used for another: something may have kept
// the context. What changes after the start is atomic, since middleware may go
// on in another goroutine, even after the request has been answered.
type state struct {
	context.Context // the server's
	exchange.State
	api        *API
	target     *target
	resolution table.Resolution // where no route was found
	match      table.Match
	out        writer.Writer
	body       *bind.Body
	request    http.Request // as the chain gets it
	developing bool         // the target is in development

	before  atomic.Pointer[headerBefore]
	cut     atomic.Bool  // the answer broke off after its header
	bare    atomic.Bool  // what failed says nothing of what callers sent: no route took the request, say
	reached atomic.Int32 // the last middleware whose turn it was, in development

	conditions atomic.Pointer[heldConditions]
	deadline   *time.Timer // of a stream, until its first item
}

// A headerBefore is what the chain had set in a header when a plain handler began.
type headerBefore struct {
	of   uintptr // the header; in another goroutine a middleware may use its own
	held []heldField
}

type heldField struct {
	name   string
	values []string
}

// Held conditions are those of one request. They may be asked by any goroutine.
type heldConditions struct {
	sent  answer.Preconditions
	get   *target
	asked atomic.Bool
}

// A conditional field is one of type Conditions.
type conditionalField interface {
	of() reflect.Type
	set(*heldConditions)
}

var conditionalFieldType = reflect.TypeFor[conditionalField]()
