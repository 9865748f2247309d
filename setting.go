package wicketway

import (
	"slices"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/here"
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
	at   here.Place
	name string
	slot any // what it is about: in each list one setting of a slot, unless it adds
	mode mode
	// value is what Attach was given, and limits what Limits names.
	value  any
	limits *Limits
	// apply changes the terms, and reports what is wrong with the setting itself.
	apply func(b reporter, at here.Place, t *terms)
	// undone takes it back for an inner list; nil where another setting does that.
	undone func(t *terms)
	// acts reports whether the setting has an effect on a route; nil: on every one. Lacks
	// says what is missing where it has none on any.
	acts  func(r *resolved) bool
	lacks string
	// pieces are what the setting names, where each can have an effect or none.
	pieces []piece
	// check says what is wrong about a route on which it has an effect; suits does so without
	// its facts.
	check func(facts.Route) error
	suits func(*resolved) error
	// formats are those that Formats offers.
	formats []format.Format
}

// A piece is one of several things that a setting names.
type piece struct {
	name  string
	acts  func(at *list, r *resolved) bool // at is the list that the setting is in
	lacks string
}

// A reporter takes down what is wrong with settings.
type reporter interface {
	mistake(at here.Place, format string, args ...any)
	// kind takes a kind of problem in, and says what is wrong with it.
	kind(at here.Place, setting string, k *problem.Kind)
}

// A mode says how a setting goes together with those of outer lists, and where it stands.
type mode uint8

const (
	replaces       mode = 1 << iota // the nearest wins
	ofGroups                        // it changes the groupTerms
	onlyRoute                       // it speaks of one route, so it stands in no group
	staysBehind                     // routes that are inherited do not take it along
	besideVersions                  // it speaks of all versions of a group, so it stands in none
	early                           // it adds to what outer lists say, before its own list does
)

func (s setting) part() here.Place { return s.at }
func (s setting) setting() setting { return s }

func (s setting) is(m mode) bool { return s.mode&m != 0 }

// A slot is what settings of one kind are about.
type slot uint8

const (
	slotChain slot = iota
	slotWithout
	slotAccess
	slotPublicMethods
	slotScopes
	slotAnyScope
	slotAllow
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
	slotLocated
	slotDescribes
	slotFormats
	slotMedia
	slotOmitNull
	slotPlainProblems
	slotOverrides
	slotDeprecated
	slotSunset
	slotEnds
	slotRelated
	slotClock
	slotVersionBy
	slotWithdrawn
	slotRaisedAs
	slotProblemsAs
	slotCauses
)

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
	u := setting{at: at, name: "Undo of " + of.name, slot: of.slot, mode: of.mode, limits: of.limits}
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
