package wicketway

import (
	"context"
	"net/http"

	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
)

// An API is a compiled description. It is an http.Handler, immutable and safe
// for concurrent use.
type API struct {
	info      Info
	table     *table.Table
	targets   []target           // by number in table
	fallbacks []target           // by number of group in table
	named     map[string]*target // by version, a slash, and name
	codes     map[string]*problem.Kind
	facts     func() []Facts                // of targets, made when first asked for
	catalogue func() map[string]ProblemInfo // by code, made when first asked for
	raised    raised
}

// Info is what the API was named by.
func (a *API) Info() Info { return a.info }

// A target is where a request can end: a route as it was resolved, or a group for what none
// of its routes takes, with what serves it. It is immutable.
type target struct {
	resolved
	end   endpoint
	steps *steps
}

// An endpoint serves a request at the end of its chain. An error that it returns
// has not been answered.
type endpoint interface {
	serve(w http.ResponseWriter, r *http.Request, s *state) error
}

// isFallback reports whether the target is a group, for what none of its routes takes.
func (t *target) isFallback() bool { return t.part == nil }

// ServeHTTP answers one request.
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s := &state{Context: r.Context(), api: a}
	s.out.Init(w, r, s)
	s.resolution = a.table.Resolve(r.Method, r.URL, r.Header, &s.match)
	if s.resolution.Outcome == table.Found {
		s.target = &a.targets[s.match.Route]
	} else {
		s.target = &a.fallbacks[s.match.Group]
	}
	limits := &s.target.terms().limits
	if limits.Time > 0 {
		var cancel context.CancelFunc
		s.Context, cancel = context.WithTimeout(s.Context, limits.Time)
		defer cancel()
		s.out.Limit = limits.Time
	}
	s.request = *r.WithContext(s)
	r = &s.request
	s.body.Take(r, &s.out, s.target.bodyLimit(), limits.Rate)
	if !s.target.isFallback() {
		r.Pattern = s.target.path
	}
	defer s.finish(r)
	outside := s.out.Outside()
	s.goOn(0, outside, r)
	s.settle(outside, r)
}

// finish ends a request: what nobody logged is logged, and a broken answer is
// cut off.
func (s *state) finish(r *http.Request) {
	s.out.End()
	if s.out.Lingers() {
		s.body.ReceiveRest()
	}
	s.spool.Close()
	if f := s.failure.Load(); f != nil && s.outer() == nil && f.problem.Kind().Status() >= 500 && !f.logged.Load() {
		logFailure(s.target.terms().logger(), r, RouteSource(s), f.problem, f.err)
	}
	if s.out.Hijacked() {
		return
	}
	if s.cut.Load() || s.body.WasLate() && s.out.StaysOpen() {
		panic(http.ErrAbortHandler)
	}
}

// settle answers where a handler has not, since its context ended: left alone, the
// server would say 200.
func (s *state) settle(w http.ResponseWriter, r *http.Request) {
	err := s.Context.Err()
	if err == nil || s.out.HeaderSent() || s.failure.Load() != nil {
		return
	}
	Fail(w, r, err)
}
