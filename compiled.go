package wicketway

import (
	"net/http"
	"slices"
	"sync"
	"sync/atomic"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// An API is a compiled description. It is an http.Handler, immutable and safe
// for concurrent use.
type API struct {
	info      Info
	table     *table.Tables
	targets   []target           // by number in table
	fallbacks []target           // by number of group in table
	named     map[string]*target // by version, a slash, and name
	varies    []string           // by edition: the field that chooses it
	codes     map[string]*problem.Kind
	facts     func() allFacts              // of targets, made when first asked for
	catalogue func() map[string]facts.Kind // by code, made when first asked for
	raised    raised
	advised   advised
}

// A target is where a request can end: a route as it was resolved, or a group for what none
// of its routes takes, with what serves it. It is immutable.
type target struct {
	resolved
	end    endpoint
	steps  *steps
	parsed *atomic.Pointer[route.Template]
}

// An endpoint serves a request at the end of its chain. An error that it returns
// has not been answered.
type endpoint interface {
	serve(w http.ResponseWriter, r *http.Request, s *state) error
}

// isFallback reports whether the target is a group, for what none of its routes takes.
func (t *target) isFallback() bool { return t.part == nil }

// Raised are the kinds that occurred though no route names them, so that their type
// leads somewhere all the same.
type raised struct {
	mu    sync.Mutex
	kinds map[string]*problem.Kind // by code
}

// Steps are what a request passes before its route: those from the k-th middleware on begin at from[k].
type steps struct {
	list      []step
	observers []exchange.Observer
	sets      []string // the header fields that the chain says it sets
	from      []int    // by number of the middleware; the last is for what comes behind all of it
}

// A step is a Step with what it needs.
type step struct {
	exchange.Step
	middleware http.Handler
	seat       chan struct{}
}

// makeSteps orders what a request passes before its route. Where the guard is not asked the
// same terms have other steps.
func (t *terms) makeSteps(guarded bool) *steps {
	s := &steps{observers: t.observers[:len(t.observers):len(t.observers)]}
	for _, l := range t.active() {
		s.sets = append(s.sets, facts.FieldNames(l.Sets)...)
		if l.Observes != nil {
			s.observers = append(s.observers, l.Observes)
		}
	}
	for k := range len(t.chain) + 1 {
		s.from = append(s.from, len(s.list))
		if guarded && k == t.after {
			s.list = append(s.list, step{Step: exchange.Step{Kind: exchange.StepGuard, Name: t.guardName}})
		}
		if k < len(t.chain) && !slices.Contains(t.left, t.chain[k]) {
			s.list = append(s.list, step{Step: exchange.Step{Kind: exchange.StepMiddleware, Name: t.chain[k].Name}, middleware: t.chain[k].handler})
		}
	}
	for _, seat := range t.seats {
		s.list = append(s.list, step{Step: exchange.Step{Kind: exchange.StepSeats}, seat: seat})
	}
	return s
}
