// Package cache says how long answers may be kept, and keeps some itself (RFC 9111).
package cache

import (
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/wicketway/wicketway"
)

// A Control is what Cache-Control says of answers (RFC 9111, 5.2.2). The zero Control has them
// asked about each time: no-cache.
type Control struct {
	// NoStore keeps answers from being kept at all.
	NoStore bool
	// Private answers may be kept by the caller alone.
	Private bool
	// MaxAge is for how long an answer may be used without asking.
	MaxAge time.Duration
	// SharedMaxAge is the same for caches that serve many.
	SharedMaxAge time.Duration
	// StaleWhileRevalidate and StaleIfError are for how long after that an old answer may be used
	// while a new one is fetched, or cannot be had (RFC 5861).
	StaleWhileRevalidate, StaleIfError time.Duration
	// Immutable answers do not change while they are fresh (RFC 8246).
	Immutable bool
	// MustRevalidate forbids the use of what is stale, whatever happens.
	MustRevalidate bool
	// NoTransform forbids what stands between to change the answer.
	NoTransform bool
}

// String writes the field.
func (c Control) String() string {
	if c.NoStore {
		return "no-store"
	}
	var all []string
	flag := func(is bool, name string) {
		if is {
			all = append(all, name)
		}
	}
	seconds := func(d time.Duration, name string) {
		if d > 0 {
			all = append(all, fmt.Sprintf("%s=%d", name, int(d.Seconds())))
		}
	}
	flag(c.Private, "private")
	flag(!c.Private && c.MaxAge+c.SharedMaxAge > 0, "public")
	flag(c.MaxAge == 0 && c.SharedMaxAge == 0, "no-cache")
	seconds(c.MaxAge, "max-age")
	seconds(c.SharedMaxAge, "s-maxage")
	seconds(c.StaleWhileRevalidate, "stale-while-revalidate")
	seconds(c.StaleIfError, "stale-if-error")
	flag(c.Immutable, "immutable")
	flag(c.MustRevalidate, "must-revalidate")
	flag(c.NoTransform, "no-transform")
	return strings.Join(all, ", ")
}

// CheckRoute is asked by Build.
func (c Control) CheckRoute(f wicketway.Facts) error {
	switch {
	case c.MaxAge < 0 || c.SharedMaxAge < 0 || c.StaleIfError < 0 || c.StaleWhileRevalidate < 0:
		return fmt.Errorf("an age is less than nothing")
	case c.Private && c.SharedMaxAge > 0:
		return fmt.Errorf("private answers are kept by no cache that serves many, so SharedMaxAge means nothing")
	case c.NoStore && c != Control{NoStore: true}:
		return fmt.Errorf("what is not stored has no age: NoStore stands alone")
	case f.Guard != nil && !c.Private && !c.NoStore && c.MaxAge+c.SharedMaxAge > 0:
		return fmt.Errorf("the route is behind the guard %s, so answers are for one caller: say Private (RFC 9111, 3.5)", f.Guard.Name)
	}
	return nil
}

// Says attaches what Cache-Control says of a route's answers, or of a group's.
func Says(c Control) wicketway.Setting { return wicketway.Attach(c) }

// Headers sets Cache-Control on successes and redirects to GET and HEAD, as the nearest [Says] has
// it, and else as given here. A field that a handler has set stays.
func Headers(otherwise Control) wicketway.Middleware {
	return wicketway.Middleware{
		Name:  "cache-control",
		Does:  "says how long answers may be kept: " + otherwise.String() + " unless a route says more",
		Sets:  []string{"Cache-Control"},
		Reads: []reflect.Type{reflect.TypeFor[Control]()},
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet || r.Method == http.MethodHead {
					c := otherwise
					if own, ok := wicketway.Attached[Control](r.Context()); ok {
						c = own
					}
					w = wicketway.BeforeHeader(w, func(status int, h http.Header) {
						if status < 400 && h["Cache-Control"] == nil {
							h["Cache-Control"] = []string{c.String()}
						}
					})
				}
				next.ServeHTTP(w, r)
			})
		},
	}
}
