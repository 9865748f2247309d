// Package limit keeps callers from asking too often, and the server from serving too many at once.
package limit

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"strconv"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
)

// What requests are refused for.
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

// A Decision is what a Store says of one request.
type Decision struct {
	Allowed   bool
	Remaining int           // requests that may come at once after this one
	Reset     time.Duration // until all of them may
	Retry     time.Duration // until the next may come; 0 where this one was allowed
}

// A Store counts. Take takes one request of a key off what a rate allows. It is safe for
// concurrent use, and what it costs is bounded by the context.
type Store interface {
	Take(ctx context.Context, key string, rate Rate) (Decision, error)
}

// A Key says whose requests are counted together; false where a request is not counted at all.
type Key func(r *http.Request) (key string, counts bool)

// ByCaller counts the requests of each caller that a guard has found, and by [ByAddress] where
// nobody is known. Since a guard is asked after the chain of its own list, the middleware stands in
// a chain further in.
func ByCaller() Key {
	address := ByAddress()
	return func(r *http.Request) (string, bool) {
		if caller := wicketway.Caller(r.Context()).Key(); caller != "" {
			return "caller " + caller, true
		}
		return address(r)
	}
}

// ByAddress counts the requests from each address, an IPv6 network of 64 bits as one, since a
// single caller has all of it. Behind proxies it needs chain/proxy. Requests without an address,
// such as those from a socket of this machine, are counted together.
func ByAddress() Key {
	return func(r *http.Request) (string, bool) {
		a := wicketway.ClientOf(r).Addr
		if a.Is6() && !a.Is4In6() {
			if p, err := a.WithZone("").Prefix(64); err == nil {
				return "address " + p.String(), true
			}
		}
		if !a.IsValid() {
			return "address none", true
		}
		return "address " + a.Unmap().String(), true
	}
}

// Except does not count requests from some networks.
func Except(key Key, networks ...netip.Prefix) Key {
	return func(r *http.Request) (string, bool) {
		a := wicketway.ClientOf(r).Addr.Unmap()
		for _, n := range networks {
			if n.Contains(a) {
				return "", false
			}
		}
		return key(r)
	}
}

// Settings say how requests are limited.
type Settings struct {
	// Store counts; nil: in memory, for this process alone.
	Store Store
	// FailClosed refuses requests with 503 where the store fails. Without it they pass, and the log
	// says so.
	FailClosed bool
	// Log is told where the store fails; nil: slog's default.
	Log *slog.Logger
}

// Requests refuses requests that come more often than a rate allows, with 429 and Retry-After. Every
// answer says how many may still come, in the fields RateLimit and RateLimit-Policy
// (draft-ietf-httpapi-ratelimit-headers-10). Each middleware counts for itself: one that stands
// around two groups counts both together.
func Requests(rate Rate, by Key, settings Settings) wicketway.Middleware {
	if rate.Name == "" {
		rate.Name = "default"
	}
	l := &limiter{Settings: settings, rate: rate, by: by}
	l.policy = fmt.Sprintf("%q;q=%d;w=%d", rate.Name, rate.Requests, int(rate.Per.Seconds()))
	return wicketway.Middleware{
		Name:    "limit " + rate.Name,
		Does:    fmt.Sprintf("refuses more than %d requests in %v", rate.Requests, rate.Per),
		Raises:  []*problem.Kind{ErrTooManyRequests, problem.Overloaded},
		Sets:    []string{"RateLimit", "RateLimit-Policy"},
		Repeats: true,
		CheckRoute: func(wicketway.Facts) error {
			if rate.Requests <= 0 || rate.Per < time.Second || by == nil {
				return fmt.Errorf("%d requests in %v: a rate has one request at least in one second at least, and a key", rate.Requests, rate.Per)
			}
			return nil
		},
		Wrap: func(next http.Handler) http.Handler {
			own := *l
			if own.Store == nil {
				own.Store = NewMemory(0)
			}
			return own.wrap(next)
		},
	}
}

type limiter struct {
	Settings
	rate   Rate
	by     Key
	policy string
}

func (l *limiter) wrap(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key, counts := l.by(r)
		if !counts {
			next.ServeHTTP(w, r)
			return
		}
		d, err := l.Store.Take(r.Context(), l.rate.Name+" "+key, l.rate)
		if err != nil {
			if l.failed(w, r, err) {
				return
			}
			next.ServeHTTP(w, r)
			return
		}
		h := w.Header()
		h.Add("RateLimit-Policy", l.policy)
		h.Add("RateLimit", fmt.Sprintf("%q;r=%d;t=%d", l.rate.Name, d.Remaining, seconds(d.Reset)))
		if !d.Allowed {
			wicketway.Fail(w, r, ErrTooManyRequests.Newf("No more than %d requests in %v; the next may come in %s.", l.rate.Requests, l.rate.Per,
				plural(seconds(d.Retry), "second")).RetryAfter(d.Retry))
			return
		}
		next.ServeHTTP(w, r)
	})
}

// failed says what becomes of a request whose store has failed, and reports whether it was
// answered.
func (l *limiter) failed(w http.ResponseWriter, r *http.Request, err error) bool {
	if l.FailClosed {
		wicketway.Fail(w, r, problem.Overloaded.New("Requests cannot be counted at the moment.").RetryAfter(time.Second).Because(err))
		return true
	}
	log := l.Log
	if log == nil {
		log = slog.Default()
	}
	log.WarnContext(r.Context(), "requests are not counted, and pass", "limit", l.rate.Name, "error", err)
	return false
}

// seconds are whole ones, and never less than what is meant (RFC 9110, 10.2.3).
func seconds(d time.Duration) int { return int((d + time.Second - 1) / time.Second) }

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}
