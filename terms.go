package wicketway

import (
	"fmt"
	"log/slog"
	"net/http"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
)

// terms are what holds at one point of the description: what all settings around it add up
// to. Routes without settings of their own share those of their group.
type terms struct {
	chain     []*chained // the chain, outermost first
	left      []*chained // those of it that are left out
	guard     exchange.Authenticator
	guardAt   here.Place
	guardName string   // its scheme's, or one that tells it from other guards of that name
	after     int      // how many of the chain come before the guard
	open      []string // the methods for which the guard is not asked
	public    bool
	scopes    []string
	anyScope  [][]string // of each list one
	rules     []allowRule
	fails     []*problem.Kind
	attached  []any         // by Attach, nearest first
	inherited bool          // they are of a list that another version has
	answers   int           // the status of a success; 0: 200, or 204 for None
	describes *described    // what a handler reads and answers
	located   *runtime.Func // the function of the route that makes locations
	summary   string
	name      string
	*groupTerms
}

// groupTerms are what mostly holds for whole groups. The lists share one until a setting
// changes it: an API has many routes, and few of these.
type groupTerms struct {
	limits      Limits
	seats       []chan struct{} // one for each limit; each holds as many as may be served at a time
	version     string
	versions    *versionSet // in which it stands
	edition     int32       // of the version, in the table; 0: its path has it
	versionBy   versionBy
	withdrawn   withdrawals
	raisedAs    []raisedAs
	problemsAs  *problemShape
	slashes     Slash
	uniform     bool
	unknown     bool // members are allowed
	readOnly    bool // members are passed over
	listing     bool
	envelope    string
	conditional bool
	omitNull    bool
	jsonOnly    bool   // problems are JSON whatever is accepted
	media       string // what JSON is called
	formats     *answer.Choice
	development bool
	log         *slog.Logger
	base        string
	translate   []func(error) error // nearest first
	nearest     int                 // how many of them the list that is being read has added
	observers   []exchange.Observer
	retirement  *retirement
	causes      *ShowCauses
}

// below is a copy to which inner settings can add without touching t. The groupTerms are a
// copy only if one of them can change it.
func (t terms) below(settings []setting) terms {
	t.chain = slices.Clip(t.chain)
	t.scopes = slices.Clip(t.scopes)
	t.fails = slices.Clip(t.fails)
	t.open = slices.Clip(t.open)
	if slices.ContainsFunc(settings, func(s setting) bool { return s.is(ofGroups) }) {
		t.ownGroupTerms()
	}
	return t
}

func (t *terms) ownGroupTerms() {
	own := *t.groupTerms
	own.nearest = 0
	t.groupTerms = &own
}

// active are the middleware that a request passes.
func (t *terms) active() []*chained { return t.activeIn(t.chain) }

// activeIn are those of a part of the chain.
func (t *terms) activeIn(all []*chained) []*chained {
	if t.left == nil {
		return all
	}
	return slices.DeleteFunc(slices.Clone(all), func(l *chained) bool { return slices.Contains(t.left, l) })
}

// guards reports whether the guard is asked for a method.
func (t *terms) guards(method string) bool {
	if t.guard == nil {
		return false
	}
	if method == http.MethodHead && slices.Contains(t.open, http.MethodGet) {
		return false
	}
	return !slices.Contains(t.open, method)
}

// A resolved route is what a description says of one, as plain data: it is complete before
// anything is compiled.
type resolved struct {
	method  string   // anyMethod for what is mounted
	path    string   // the path template, as it was written where it is none
	names   []string // of its parameters
	at      here.Place
	name    string // for links; "" where it has none
	part    *routePart
	list    *list // whose settings hold, nearest first
	input   *bind.Plan
	output  *answer.Plan // nil for handlers
	ties    *ties        // to other routes; nil for most
	lineage *lineage     // to an earlier version; nil for most
	adapted *adapted     // nil: it reads and sends what its function does
	says    *resolved    // what Describes says of a handler; nil for most
}

// Ties bind a route to others, by their numbers.
type ties struct {
	locates     int // what makes its locations; -1: nothing
	reads       int // the GET of the state that it changes or makes; -1: none is known
	conditional *conditional
	tagged      bool // its answers carry the tag of the new state
}

// tie gives the ties of a route to add to.
func (r *resolved) tie() *ties {
	if r.ties == nil {
		r.ties = &ties{locates: -1, reads: -1}
	}
	return r.ties
}

// isReading reports whether the route changes nothing.
func (r *resolved) isReading() bool { return r.method == http.MethodGet || r.method == http.MethodHead }

// line is the route as its declaration has it.
func (r *resolved) line() string {
	if r.method == anyMethod {
		return r.path
	}
	return r.method + " " + r.path
}

// key is the name with the version's, under which links find the route.
func (r *resolved) key() string { return r.list.terms.version + "/" + r.name }

func (r *resolved) terms() *terms { return &r.list.terms }

// guarded reports whether callers must be known.
func (r *resolved) guarded() bool { return r.list.terms.guards(r.method) }

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
	routes    int    // how many stand in it, at whatever depth
	broken    bool   // a route in it has mistakes, so what has an effect is not known
}

// breaks notes that a route in a list has mistakes.
func (l *list) breaks() {
	for ; l != nil && !l.broken; l = l.outer {
		l.broken = true
	}
}

// Routes of which settings speak.
func isTyped(r *resolved) bool   { return r.output != nil }
func isHandler(r *resolved) bool { return r.output == nil && r.part.what != filesPart }
func isFiles(r *resolved) bool   { return r.part.what == filesPart }
func readsJSON(r *resolved) bool { return r.input != nil && r.input.ReadsJSON() }
func sendsJSON(r *resolved) bool { return r.output != nil && r.part.out.kind == valueOutput }
func sendsText(r *resolved) bool { return r.output != nil && r.output.Type != nil }

// bodyLimit is 0 for a route that does not read a body itself.
func (r *resolved) bodyLimit() int64 {
	if r.reads() {
		return r.terms().limits.Body
	}
	return 0
}

// reads reports whether the route's input takes the body.
func (r *resolved) reads() bool { return r.input != nil && r.input.ReadsBody() }

// source says which function serves a route, and where it stands.
func (r *resolved) source() string {
	function := r.part.function
	if function == nil {
		return "declared at " + r.at.String()
	}
	file, line := function.FileLine(function.Entry())
	name := function.Name()
	name, isMethod := strings.CutSuffix(name[strings.LastIndexByte(name, '/')+1:], "-fm")
	if isMethod { // a method value: Go knows the place of its wrapper only
		return fmt.Sprintf("%s (declared at %s)", name, r.at)
	}
	return fmt.Sprintf("%s (%s:%d)", name, filepath.Base(file), line)
}
