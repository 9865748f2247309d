package wicketway

import (
	"cmp"
	"context"
	"net/http"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/internal/writer"
)

// ServeHTTP answers one request.
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s := &state{Context: r.Context(), api: a}
	s.State.Init(s)
	s.out.Init(w, r, &s.State)
	s.resolution = a.table.Resolve(r.Method, r.URL, r.Header, &s.match)
	if s.resolution.Outcome == table.Found {
		s.target = &a.targets[s.match.Route]
	} else {
		s.target = &a.fallbacks[s.match.Group]
		if s.resolution.Preflight > 0 {
			s.target = a.preflight(s.target, &a.targets[s.resolution.Preflight-1])
		}
	}
	terms := s.target.terms()
	limits := &terms.limits
	s.out.Rate = cmp.Or(limits.Rate, bind.LeastRate)
	if limits.Time > 0 {
		defer s.bound(limits.Time)()
	}
	s.request = *r.WithContext(s)
	r = &s.request
	s.body = bind.Take(r, &s.out, s.target.bodyLimit(), limits.Rate)
	if !s.target.isFallback() {
		r.Pattern = s.target.path
		if s.body != nil && s.target.ties != nil {
			s.body.Keep = s.target.ties.tagged && r.Method == http.MethodPut
		}
	}
	if s.developing = terms.development; s.developing {
		s.watch()
	}
	defer s.finish(r)
	if ends := terms.retirement; ends != noRetirement && !s.target.isFallback() {
		s.out.Before(ends.announce)
		if s.target.ties != nil && s.target.ties.successor != nil {
			if path := s.successor(); path != "" {
				s.out.Before(func(_ int, h http.Header) { writer.AddLinks(h, linkTo(path, "successor-version")) })
			}
		}
	}
	if field := a.table.VariesBy(&s.match); field != "" {
		s.out.Before(func(_ int, h http.Header) { writer.AddVary(h, field) })
	}
	if out := s.target.output; out != nil && out.Choice != nil && out.Choice.Field != "" {
		s.out.Before(func(_ int, h http.Header) { writer.AddVary(h, out.Choice.Field) })
	}
	outside := s.out.Outside()
	s.goOn(0, outside, r)
	s.settle(outside, r)
	if s.developing {
		s.adviseForgotten()
	}
}

// preflight is where a preflight ends: at the group, but behind the chain of the route that it is
// about, without its guard.
func (a *API) preflight(group, of *target) *target {
	t := *group
	t.list, t.steps = of.list, of.list.open
	return &t
}

// bound gives the request its time. That of a stream ends when its first item goes out.
func (s *state) bound(limit time.Duration) (end func()) {
	s.out.Limit = limit
	if s.target.isFallback() || s.target.part.out.kind != streamOutput {
		var cancel context.CancelFunc
		s.Context, cancel = context.WithTimeout(s.Context, limit)
		return cancel
	}
	var cancel context.CancelCauseFunc
	s.Context, cancel = context.WithCancelCause(s.Context)
	s.deadline = time.AfterFunc(limit, func() { cancel(context.DeadlineExceeded) })
	return func() {
		s.deadline.Stop()
		cancel(nil)
	}
}

// finish ends a request: what nobody logged is logged, and a broken answer is
// cut off.
func (s *state) finish(r *http.Request) {
	s.out.End()
	if s.out.Lingers() {
		s.body.ReceiveRest()
	}
	if s.body != nil {
		s.body.Files.Close()
	}
	if f := s.Failure(); f != nil && s.outer() == nil && f.Problem != nil && f.Problem.Kind().Status() >= 500 && !f.IsLogged() {
		exchange.LogFailure(s.target.terms().logger(), r, f.Problem, f.Err)
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
	if err == nil || s.out.HeaderSent() || s.Failure() != nil {
		return
	}
	Fail(w, r, s.ended(err))
}
