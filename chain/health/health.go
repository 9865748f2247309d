// Package health says whether a server lives, and whether it is ready for requests.
package health

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// ErrNotReady is raised where a server should get no requests.
var ErrNotReady = problem.Define(http.StatusServiceUnavailable, "not-ready", "The server is not ready").
	Means("The member checks lists what is missing; draining means that the server is about to stop.").
	Carries("checks", map[string]string{"storage": "down"}).
	Carries("draining", true).
	Sends("Cache-Control")

// A Check asks whether something that the server needs is there.
type Check struct {
	// Name is shown to callers.
	Name string
	// Ask returns an error where the dependency is unavailable; callers do not see it. It must end with its context.
	Ask func(ctx context.Context) error
	// Within is how long it may take; 2 seconds where it is 0.
	Within time.Duration
	// Every is how long an answer counts; 5 seconds where it is 0. It is asked no more often,
	// however many want to know.
	Every time.Duration
}

// Live answers 200 as long as the server can answer at all. It asks nothing: what restarts a server
// should not do so since another one is down.
func Live() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { write(w, map[string]any{"status": "live"}) })
}

// Readiness asks checks, one after the other and never two at once, and keeps what they said. It is
// an http.Handler, and safe for concurrent use.
type Readiness struct {
	// Log is told when a check fails, and when it is well again; nil: slog's default.
	Log *slog.Logger

	checks []*check
	wrong  error
	asking chan struct{} // taken by the one who asks
}

type check struct {
	Check

	mu   sync.Mutex
	said error
	at   time.Time // zero: never asked
}

// NewReadiness makes a handler that asks checks. A check that is incomplete is a mistake at Build.
func NewReadiness(checks ...Check) *Readiness {
	r := &Readiness{asking: make(chan struct{}, 1)}
	for _, c := range checks {
		r.wrong = errors.Join(r.wrong, r.wrongWith(c))
		c.Within, c.Every = cmp.Or(c.Within, 2*time.Second), cmp.Or(c.Every, 5*time.Second)
		r.checks = append(r.checks, &check{Check: c})
	}
	return r
}

func (r *Readiness) wrongWith(c Check) error {
	var wrong []error
	fault := func(format string, args ...any) {
		wrong = append(wrong, fmt.Errorf("the check %q: "+format, append([]any{c.Name}, args...)...))
	}
	if c.Name == "" {
		fault("Name is empty, so nobody could tell which one failed")
	} else if slices.ContainsFunc(r.checks, func(other *check) bool { return other.Name == c.Name }) {
		fault("another one has the same Name")
	}
	if c.Ask == nil {
		fault("Ask is nil")
	}
	if c.Within < 0 || c.Every < 0 {
		fault("Within is %v and Every %v: a time is not negative", c.Within, c.Every)
	}
	return errors.Join(wrong...)
}

// Check is asked by Build.
func (r *Readiness) Check() error { return r.wrong }

// Routes serves GET /health/live and GET /health/ready.
func Routes(ready *Readiness) wicketway.Part {
	return wicketway.At(
		"/health",
		wicketway.Attach(facts.About{}),
		wicketway.Handle("GET /live", Live(), wicketway.Summary("The server lives")),
		wicketway.Handle(
			"GET /ready", ready, wicketway.Summary("The server is ready for requests"), wicketway.Fails(ErrNotReady)),
	)
}

// ServeHTTP answers 200 where all checks are well, and 503 where one is not, or the server drains.
func (r *Readiness) ServeHTTP(w http.ResponseWriter, request *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	select {
	case <-exchange.Of(request.Context()).Draining():
		exchange.Fail(
			w, request,
			ErrNotReady.New("The server is about to stop.").With("draining", true).WithHeader("Cache-Control", "no-store"),
		)
		return
	default:
	}
	states, well := map[string]string{}, true
	for _, c := range r.checks {
		states[c.Name] = "up"
		if r.ask(request.Context(), c) != nil {
			states[c.Name], well = "down", false
		}
	}
	if !well {
		exchange.Fail(
			w, request,
			ErrNotReady.New("A dependency is unavailable.").With("checks", states).WithHeader("Cache-Control", "no-store"),
		)
		return
	}
	write(w, map[string]any{"status": "ready", "checks": states})
}

// ask gives what a check has said, and asks it where that is too old.
func (r *Readiness) ask(ctx context.Context, c *check) error {
	if said, is := c.recent(); is {
		return said
	}
	select {
	case r.asking <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-r.asking }()
	if said, is := c.recent(); is { // somebody has asked meanwhile
		return said
	}
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), c.Within) // the answer is for others too
	defer cancel()
	said := guarded(limited, c.Ask)
	if said == nil && limited.Err() != nil {
		said = limited.Err()
	}
	c.mu.Lock()
	before := c.said
	c.said, c.at = said, time.Now()
	c.mu.Unlock()
	r.log(ctx, c.Name, before, said)
	return said
}

var errPanicked = errors.New("the check panicked")

func guarded(ctx context.Context, ask func(context.Context) error) (err error) {
	defer func() {
		if v := recover(); v != nil {
			err = fmt.Errorf("%w: %v", errPanicked, v)
		}
	}()
	return ask(ctx)
}

func (c *check) recent() (said error, is bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.said, !c.at.IsZero() && time.Since(c.at) < c.Every
}

func (r *Readiness) log(ctx context.Context, name string, before, said error) {
	log := r.Log
	if log == nil {
		log = slog.Default()
	}
	switch {
	case said != nil && (before == nil || before.Error() != said.Error()):
		log.WarnContext(ctx, "readiness check failed", "check", name, "error", said)
	case said == nil && before != nil:
		log.InfoContext(ctx, "readiness check recovered", "check", name)
	}
}

func write(w http.ResponseWriter, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	json.MarshalWrite(w, value, json.Deterministic(true)) // an error is the caller's, who is gone
}
