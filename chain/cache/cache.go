// Package cache says how long answers may be kept, and keeps some itself (RFC 9111).
package cache

import (
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
)

// A Control is the field Cache-Control of answers (RFC 9111, 5.2.2), in whole seconds. The zero
// Control has them asked about each time: no-cache.
type Control struct {
	// NoStore keeps answers from being kept at all.
	NoStore bool
	// NoCache has kept answers asked about each time.
	NoCache bool
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
	// MustRevalidate forbids the use of stale answers, also where the server cannot be reached.
	MustRevalidate bool
	// NoTransform forbids intermediaries to change the answer.
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
	flag(!c.Private && c.hasAge(), "public")
	flag(!c.hasAge(), "no-cache")
	seconds(c.MaxAge, "max-age")
	seconds(c.SharedMaxAge, "s-maxage")
	seconds(c.StaleWhileRevalidate, "stale-while-revalidate")
	seconds(c.StaleIfError, "stale-if-error")
	flag(c.Immutable, "immutable")
	flag(c.MustRevalidate, "must-revalidate")
	flag(c.NoTransform, "no-transform")
	return strings.Join(all, ", ")
}

func (c Control) hasAge() bool { return c.MaxAge+c.SharedMaxAge > 0 }

// toCaller is the same for an answer to one caller: no cache that serves many may keep it.
func (c Control) toCaller() Control {
	if c.NoStore || !c.hasAge() {
		return c
	}
	c.Private, c.SharedMaxAge = true, 0
	return c
}

// check reports mistakes in it by itself.
func (c Control) check() error {
	var wrong []error
	fault := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	for _, age := range []struct {
		name string
		is   time.Duration
	}{{"MaxAge", c.MaxAge}, {"SharedMaxAge", c.SharedMaxAge}, {"StaleIfError", c.StaleIfError}, {"StaleWhileRevalidate", c.StaleWhileRevalidate}} {
		if d := age.is; d < 0 || d%time.Second != 0 || d > mostSeconds*time.Second {
			fault("%s is %v: an age has whole seconds, at most 2^31 (RFC 9111, 1.2.2)", age.name, d)
		}
	}
	stale := c.StaleIfError + c.StaleWhileRevalidate
	if c.NoStore && c != (Control{NoStore: true}) {
		fault("NoStore contradicts all else, since what is not stored has no age: keep one")
	}
	if c.NoCache && c.hasAge() {
		fault("NoCache contradicts an age: keep one")
	}
	if c.Private && c.SharedMaxAge > 0 {
		fault("SharedMaxAge has no effect together with Private: no shared cache keeps private answers")
	}
	if !c.NoStore && !c.hasAge() && (c.Immutable || stale > 0) {
		fault("without an age Immutable and the stale times have no effect: set MaxAge or SharedMaxAge")
	}
	if c.MustRevalidate && stale > 0 {
		fault("MustRevalidate contradicts the stale times: keep one")
	}
	return errors.Join(wrong...)
}

// The names of the two middlewares.
const (
	headersName   = "cache-control"
	responsesName = "cache"
)

// A spoken Control is one with the field written out.
type spoken struct {
	Control
	plain    []string
	toCaller []string // to a caller who is known
}

func speak(c Control) spoken {
	return spoken{c, []string{c.String()}, []string{c.toCaller().String()}}
}

// Check is asked by Build.
func (s spoken) Check() error {
	if s.Control == (Control{}) {
		return errors.New("nothing is set: NoCache, NoStore or an age")
	}
	return s.check()
}

// CheckRoute is asked by Build.
func (s spoken) CheckRoute(f facts.Route) error {
	at := func(name string) int {
		return slices.IndexFunc(f.Chain, func(m facts.Middleware) bool { return m.Name == name })
	}
	if keeps := at(responsesName); keeps >= 0 && at(headersName) < keeps {
		return errors.New("it is said outside of the middleware cache, which keeps nothing by it: put cache-control behind cache")
	}
	if f.Guard != nil && !s.Private && !s.NoStore && s.hasAge() {
		return fmt.Errorf(
			"the route is behind the guard %s, so answers are for one caller: say Private (RFC 9111, 3.5)", f.Guard.Name,
		)
	}
	return nil
}

// Methods is asked by Build: answers to others are never kept.
func (spoken) Methods() []string { return []string{http.MethodGet, http.MethodHead} }

// Policy sets the Cache-Control of the answers of a route or a group: of those to GET and
// HEAD.
func Policy(c Control) wicketway.Setting { return wicketway.Attach(speak(c)) }

// Headers sets Cache-Control on successes and redirects to GET and HEAD, as the nearest [Policy] has
// it, and else as given here. A field that a handler has set stays. Only a Policy says public. An answer
// that sets a cookie, or whose caller a guard has found, is private, and so is one without a Policy whose
// request brings a cookie or credentials (RFC 9111, 3.5 and 7.3).
func Headers(otherwise Control) exchange.Middleware {
	c := speak(otherwise)
	c.plain = []string{strings.TrimPrefix(otherwise.String(), "public, ")}
	return exchange.Middleware{
		Name:  headersName,
		Does:  "says how long answers may be kept: " + c.plain[0] + " unless a route says more",
		Sets:  facts.Fields("Cache-Control"),
		Reads: []reflect.Type{reflect.TypeFor[spoken]()},
		Check: otherwise.check,
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet || r.Method == http.MethodHead {
					w = exchange.BeforeHeader(w, func(status int, h http.Header) {
						if status < 400 && h["Cache-Control"] == nil {
							h["Cache-Control"] = c.of(r, h)
						}
					})
				}
				next.ServeHTTP(w, r)
			})
		},
	}
}

// of is the field for the answer to a request, unless its route has one of its own.
func (s spoken) of(r *http.Request, answer http.Header) []string {
	own, has := exchange.Attached[spoken](r.Context())
	if has {
		s = own
	}
	toCaller := answer["Set-Cookie"] != nil || exchange.Of(r.Context()).Caller().Subject != "" ||
		!has && (r.Header["Cookie"] != nil || r.Header["Authorization"] != nil)
	if toCaller {
		return s.toCaller
	}
	return s.plain
}
