// Package limit keeps callers from asking too often. How many requests are served at a time is said by the setting
// Limits of package wicketway.
package limit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// Kinds of problem that limits raise.
var (
	// ErrTooManyRequests is raised where a caller has asked too often.
	ErrTooManyRequests = problem.OfStatus(http.StatusTooManyRequests)
)

// A Rate is how many requests may come within a time. They refill evenly: of 60 a minute one comes
// back each second.
type Rate struct {
	Requests int
	Per      time.Duration
	// Name names the policy in the fields RateLimit and RateLimit-Policy, where there are several;
	// "default" without it. It has letters, digits and hyphens.
	Name string
}

// A Decision is the answer of a Store about one request.
type Decision struct {
	Allowed   bool
	Remaining int           // requests that may come at once after this one
	Reset     time.Duration // until all of them may
	Retry     time.Duration // until the next may come; 0 where this one was allowed
}

// A Store counts. Take takes one request of a key off what a rate allows. It is safe for
// concurrent use, and its time is bounded by the context.
type Store interface {
	Take(ctx context.Context, key string, rate Rate) (Decision, error)
}

// A Key says whose requests are counted together.
type Key struct {
	// Of gives the key of a request; false where it is not counted at all.
	Of func(r *http.Request) (key string, counts bool)
	// OfCaller says that the key names the caller, so that it is a mistake where a guard comes after the
	// middleware.
	OfCaller bool
}

// ByCaller counts the requests of each caller that a guard has found, by issuer and subject, and by
// [ByAddress] where nobody is known: on public routes. Since a guard is asked after the chain of its own
// list, the middleware is in a chain further in.
func ByCaller() Key {
	address := ByAddress()
	return Key{OfCaller: true, Of: func(r *http.Request) (string, bool) {
		if caller := exchange.Of(r.Context()).Caller().Key(); caller != "" {
			return "caller " + caller, true
		}
		return address.Of(r)
	}}
}

// ByAddress counts the requests from each address, an IPv6 network of 64 bits as one, since a
// single caller has all of it. Behind proxies it needs chain/proxy. Requests without an address,
// such as those from a socket of this machine, are counted together.
func ByAddress() Key {
	return Key{Of: func(r *http.Request) (string, bool) {
		if n := exchange.ClientOf(r).Network(); n.IsValid() {
			var room [64]byte
			return string(n.AppendTo(append(room[:0], "address "...))), true
		}
		return "address none", true
	}}
}

// Except does not count requests from some networks.
func Except(key Key, networks ...netip.Prefix) Key {
	of := key.Of
	if of == nil {
		return key
	}
	key.Of = func(r *http.Request) (string, bool) {
		a := exchange.ClientOf(r).Addr.Unmap()
		for _, n := range networks {
			if n.Contains(a) {
				return "", false
			}
		}
		return of(r)
	}
	return key
}

// Settings say how requests are limited.
type Settings struct {
	// Store counts; nil: in memory, for this process alone.
	Store Store
	// Timeout is for how long a Store is waited for; 1 second where it is 0. One that takes longer has
	// failed.
	Timeout time.Duration
	// FailClosed refuses requests with 503 where the store fails. Without it they pass, and the log
	// says so.
	FailClosed bool
	// Log is told where the store fails; nil: slog's default.
	Log *slog.Logger
}

// Requests refuses requests that come more often than a rate allows, with 429 and Retry-After. Every
// answer says how many may still come, in the fields RateLimit and RateLimit-Policy
// (draft-ietf-httpapi-ratelimit-headers-10). Each middleware counts for itself: one that is
// around two groups counts both together. Over one Store it is told from others by its rate and by
// the line of the program that calls Requests; those that one line makes, as in a loop, need rates
// with names of their own.
func Requests(rate Rate, by Key, settings Settings) exchange.Middleware {
	rate.Name = cmp.Or(rate.Name, "default")
	l := &limiter{
		Settings: settings,
		rate:     rate,
		by:       by,
		key:      rate.Name + " " + caller() + " ",
		asker:    newAsker(),
	}
	l.Timeout = cmp.Or(l.Timeout, time.Second)
	l.policy = []string{fmt.Sprintf("%q;q=%d;w=%d", rate.Name, rate.Requests, int(rate.Per.Seconds()))}
	l.remaining = fmt.Sprintf("%q;r=", rate.Name)
	return exchange.Middleware{
		Name:       "limit " + rate.Name,
		Does:       fmt.Sprintf("refuses more than %d requests in %v", rate.Requests, rate.Per),
		Raises:     []*problem.Kind{ErrTooManyRequests, problem.Overloaded},
		Sets:       facts.Fields("RateLimit", "RateLimit-Policy"),
		Repeats:    true,
		Check:      l.check,
		CheckRoute: l.checkRoute,
		Wrap: func(next http.Handler) http.Handler {
			own := *l
			if own.Store == nil {
				own.Store = NewMemory(0)
			}
			return own.wrap(next)
		},
	}
}

// caller is the line that calls Requests.
func caller() string {
	_, file, line, _ := runtime.Caller(2)
	return filepath.Base(file) + ":" + strconv.Itoa(line)
}

type limiter struct {
	Settings
	rate      Rate
	by        Key
	key       string // what comes before that of each request
	policy    []string
	remaining string // the start of RateLimit
	asker     asker
}

// mostAsking bounds how many ask a store at a time.
const mostAsking = 10_000

// mostRequests is up to how many a rate may have in its time: one in each microsecond.
func (r Rate) mostRequests() int64 { return int64(r.Per / time.Microsecond) }

func (l *limiter) check() error {
	var wrong []error
	fault := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	r := l.rate
	if r.Requests <= 0 || r.Per < time.Second || int64(r.Requests) > r.mostRequests() || r.Per > longestRate {
		fault(
			"%d requests in %v: a rate has at least one request in one second to a year, and at most one in a microsecond",
			r.Requests, r.Per,
		)
	}
	if strings.ContainsFunc(
		r.Name, func(c rune) bool { return (c|0x20 < 'a' || c|0x20 > 'z') && (c < '0' || c > '9') && c != '-' },
	) {
		fault("%q is not a policy name: it has letters, digits and hyphens", r.Name)
	}
	if l.by.Of == nil {
		fault("the Key does not say whose requests are counted together: ByAddress, ByCaller or a Key of your own")
	}
	if l.Timeout < 0 {
		fault("Timeout is %v: a time is not negative", l.Timeout)
	}
	return errors.Join(wrong...)
}

func (l *limiter) checkRoute(f facts.Route) error {
	if l.by.OfCaller && f.Guard != nil && f.Asked < f.Guard.After {
		return fmt.Errorf(
			"it counts by caller, but the guard %s comes after it, so that nobody is known: put it into a chain further in",
			f.Guard.Name,
		)
	}
	return nil
}

const longestRate = 366 * 24 * time.Hour

func (l *limiter) wrap(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key, counts := l.by.Of(r)
		if !counts {
			next.ServeHTTP(w, r)
			return
		}
		d, err := l.take(r.Context(), l.key+key)
		if err != nil {
			if l.failed(w, r, err) {
				return
			}
			next.ServeHTTP(w, r)
			return
		}
		h := w.Header()
		if h["Ratelimit-Policy"] == nil {
			h["Ratelimit-Policy"] = l.policy
		} else {
			h["Ratelimit-Policy"] = append(slices.Clip(h["Ratelimit-Policy"]), l.policy...)
		}
		h["Ratelimit"] = append(slices.Clip(h["Ratelimit"]), l.field(d))
		if !d.Allowed {
			exchange.Fail(
				w,
				r,
				ErrTooManyRequests.Newf("The limit is %s per %s. Retry in %d s.", plural(l.rate.Requests, "request"), period(l.rate.Per),
					seconds(d.Retry)).
					RetryAfter(d.Retry),
			)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// field is RateLimit for a decision.
func (l *limiter) field(d Decision) string {
	var room [96]byte
	text := strconv.AppendInt(append(room[:0], l.remaining...), int64(d.Remaining), 10)
	return string(strconv.AppendInt(append(text, ";t="...), int64(seconds(d.Reset)), 10))
}

// take asks the store, unless it is in memory, with a bound on its time.
func (l *limiter) take(ctx context.Context, key string) (Decision, error) {
	if m, ok := l.Store.(*Memory); ok {
		return m.Take(ctx, key, l.rate)
	}
	return l.asker.ask(ctx, l.Timeout, func(ctx context.Context) (Decision, error) { return l.Store.Take(ctx, key, l.rate) })
}

// An asker asks a store that may hang and does not heed its context: such a question is left to itself, and a
// bounded number is open at a time.
type asker struct{ open chan struct{} }

func newAsker() asker { return asker{make(chan struct{}, mostAsking)} }

func (a asker) ask(
	ctx context.Context, within time.Duration, question func(ctx context.Context) (Decision, error),
) (Decision, error) {
	type answer struct {
		decision Decision
		err      error
	}
	select {
	case a.open <- struct{}{}:
	default:
		return Decision{}, fmt.Errorf("%d requests are waiting for the store", cap(a.open))
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	done := make(chan answer, 1)
	go func() {
		defer func() { cancel(); <-a.open }()
		d, err := question(ctx)
		done <- answer{d, err}
	}()
	select {
	case t := <-done:
		return t.decision, t.err
	case <-ctx.Done():
		select {
		case t := <-done: // the context ends with the goroutine, too
			return t.decision, t.err
		default:
		}
		return Decision{}, fmt.Errorf("the store has not answered within %v: %w", within, ctx.Err())
	}
}

// failed says what becomes of a request whose store has failed, and reports whether it was
// answered.
func (l *limiter) failed(w http.ResponseWriter, r *http.Request, err error) bool {
	if l.FailClosed {
		exchange.Fail(
			w, r, problem.Overloaded.New("Requests cannot be counted at the moment.").RetryAfter(time.Second).Because(err),
		)
		return true
	}
	log := l.Log
	if log == nil {
		log = slog.Default()
	}
	log.WarnContext(r.Context(), "rate limit store failed; allowing requests", "limit", l.rate.Name, "error", err)
	return false
}

// period names a time: minute for 1m0s, 90s for 1m30s.
func period(d time.Duration) string {
	switch d {
	case time.Second:
		return "second"
	case time.Minute:
		return "minute"
	case time.Hour:
		return "hour"
	case 24 * time.Hour:
		return "day"
	}
	for _, unit := range []struct {
		is   time.Duration
		name string
	}{{time.Hour, "hours"}, {time.Minute, "minutes"}} {
		if d%unit.is == 0 {
			return strconv.Itoa(int(d/unit.is)) + " " + unit.name
		}
	}
	return strconv.FormatFloat(d.Seconds(), 'f', -1, 64) + " seconds"
}

// seconds are whole ones, and never less than what is meant (RFC 9110, 10.2.3).
func seconds(d time.Duration) int { return int((d + time.Second - 1) / time.Second) }

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}
