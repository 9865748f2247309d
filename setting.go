package wicketway

import (
	"log/slog"
	"net/http"
	"slices"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/problem"
)

// A Setting is a part that says what holds for a route, or for all that stands
// in a group.
type Setting interface {
	Part
	setting() setting
}

// A setting is a Setting as data: what it is about, where it was declared, how it changes
// the terms of the list in which it stands, and on which routes it has an effect.
type setting struct {
	at   place
	name string
	slot any // what it is about: in each list one setting of a slot, unless it adds
	mode mode
	// value is what Attach was given.
	value any
	// apply changes the terms, and reports what is wrong with the setting itself.
	apply func(b *builder, at place, t *terms)
	// undone takes it back for an inner list; nil where another setting does that.
	undone func(t *terms)
	// acts reports whether the setting has an effect on a route; nil: on every one. Lacks
	// says what is missing where it has none on any.
	acts  func(r *resolved) bool
	lacks string
}

// A mode says how a setting goes together with those of outer lists, and where it stands.
type mode uint8

const (
	replaces  mode = 1 << iota // the nearest wins
	ofGroups                   // it changes the groupTerms
	onlyRoute                  // it speaks of one route, so it stands in no group
)

func (s setting) part() place      { return s.at }
func (s setting) setting() setting { return s }

func (s setting) is(m mode) bool { return s.mode&m != 0 }

// A slot is what settings of one kind are about.
type slot uint8

const (
	slotChain slot = iota
	slotAccess
	slotPublicMethods
	slotScopes
	slotFails
	slotAnswers
	slotSummary
	slotName
	slotLimits
	slotSlashes
	slotUniform
	slotUnknown
	slotReadOnly
	slotListing
	slotEnvelope
	slotConditional
	slotDevelopment
	slotLog
	slotProblemBase
	slotTranslate
	slotObserve
)

// Undo takes a setting back that a group further out has: what holds is what would hold
// without any of its kind, so of Envelope("data") only that it is an Envelope counts. Of
// [Limits] each field that is not zero is lifted to its default. A [Guard] is undone by
// [Public], and what adds up (Chain, Scopes, Fails, Translate) cannot be undone.
func Undo(s Setting) Setting {
	at := here(0)
	if isNil(s) {
		return setting{at: at, name: "Undo", slot: at, apply: func(b *builder, at place, _ *terms) {
			b.mistake(at, "Undo: the setting is nil")
		}}
	}
	of := s.setting()
	u := setting{at: at, name: "Undo of " + of.name, slot: of.slot, mode: of.mode}
	if of.undone == nil {
		u.apply = func(b *builder, at place, _ *terms) {
			b.mistake(at, "Undo: %s cannot be undone: use Public for a Guard; what adds up stays", of.name)
		}
		return u
	}
	u.apply = func(_ *builder, _ place, t *terms) { of.undone(t) }
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

// terms are what holds at one point of the description: what all settings around it add up
// to. Routes without settings of their own share those of their group.
type terms struct {
	chain    []*chained // the chain, outermost first
	guard    Authenticator
	guardAt  place
	after    int      // how many of the chain come before the guard
	open     []string // the methods for which the guard is not asked
	public   bool
	scopes   []string
	fails    []*problem.Kind
	attached []any // by Attach, nearest first
	answers  int   // the status of a success; 0: 200, or 204 for None
	summary  string
	name     string
	steps    *steps // made when the description is compiled
	*groupTerms
}

// groupTerms are what mostly holds for whole groups. The lists share one until a setting
// changes it: an API has many routes, and few of these.
type groupTerms struct {
	limits      Limits
	seats       []chan struct{} // one for each limit; each holds as many as may be served at a time
	version     string
	slashes     Slash
	uniform     bool
	unknown     bool // members are allowed
	readOnly    bool // members are passed over
	listing     bool
	envelope    string
	conditional bool
	development bool
	log         *slog.Logger
	base        string
	translate   []func(error) error // nearest first
	nearest     int                 // how many of them the list that is being read has added
	observers   []Observer
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
	method string // anyMethod for what is mounted
	path   string // the path template
	names  []string
	at     place
	name   string // for links; "" where it has none
	part   *routePart
	list   *list // whose settings hold, nearest first
	input  *bind.Plan
	output *answer.Plan // nil for handlers
}

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
	outer    *list
	at       place
	kind     groupKind
	ofRoute  bool
	settings []setting
	used     []bool // which of them have an effect on some route
	terms    terms
	routes   int // how many stand in it, at whatever depth
}

// Routes of which settings speak.
func isTyped(r *resolved) bool   { return r.output != nil }
func isHandler(r *resolved) bool { return r.output == nil && r.part.what != filesPart }
func isFiles(r *resolved) bool   { return r.part.what == filesPart }
func readsJSON(r *resolved) bool { return r.input != nil && r.input.ReadsJSON() }
func sendsJSON(r *resolved) bool { return r.output != nil && r.output.Type != nil }
