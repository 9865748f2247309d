package wicketway

import (
	"context"
	"net/http"
	"time"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// An API is a compiled description. It is an http.Handler, immutable and safe
// for concurrent use.
type API struct {
	info      Info
	table     *route.Table
	targets   []*target // by number in table
	prefixes  *route.Table
	fallbacks []*target          // by number in prefixes
	named     map[string]*target // by version, a slash, and name
	codes     map[string]*problem.Kind
	catalogue func() map[string]ProblemInfo // by code, made when first asked for
	raised    raised
}

// Info is what the API was named by.
func (a *API) Info() Info { return a.info }

// ServeHTTP answers one request.
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s := newState(a, w, r)
	path := r.URL.Path
	if path == "" && r.Method != http.MethodConnect { // RFC 9110, 4.2.3
		path = "/"
	}
	if outcome := a.table.Find(r.Method, path, r.URL.RawPath, &s.match); outcome == route.Found {
		s.target = a.targets[s.match.Route]
	} else {
		a.miss(r, s, outcome)
	}
	if limit := s.target.limits.Time; limit > 0 {
		var cancel context.CancelFunc
		s.Context, cancel = context.WithTimeout(s.Context, limit)
		defer cancel()
		s.response.limit = limit
	}
	r = r.WithContext(s)
	s.takeBody(r)
	if !s.target.fallback {
		r.Pattern = s.target.path
	}
	defer s.finish(r)
	s.target.from(0, &s.response, r, s)
	s.settle(r)
}

// from goes through a target's chain, beginning with link k. It returns when the
// request has been answered, whatever happens on the way.
func (t *target) from(k int, w http.ResponseWriter, r *http.Request, s *state) {
	defer s.catch(w, r)
	if t.guard != nil && k == int(t.guardAt) {
		if err := t.admit(r, s); err != nil {
			Fail(w, r, err)
			return
		}
	}
	if k < len(t.links) {
		t.links[k].handler.ServeHTTP(w, r)
		return
	}
	for _, seats := range t.seats {
		select {
		case seats <- struct{}{}:
			defer func() { <-seats }()
		default:
			Fail(w, r, problem.Overloaded.New("%d requests are being served already.", cap(seats)).RetryAfter(time.Second))
			return
		}
	}
	if err := t.end.serve(w, r, s); err != nil {
		Fail(w, r, err)
	}
}
