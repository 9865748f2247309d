// Package cors lets pages of other origins read answers: the CORS protocol of the Fetch standard
// (3.3).
package cors

import (
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/writer"
)

// An Origins says which origins are allowed.
type Origins struct {
	exact    []string
	below    []string // ".canal.example" for all its sub-domains, with the scheme before: "https://"
	function func(origin string) bool
	all      bool
	wrong    []error
}

// From allows origins by their names: https://console.canal.example, exactly, or
// https://*.canal.example for all its sub-domains, but not canal.example itself. "*" allows all,
// which goes without credentials alone.
func From(origins ...string) Origins {
	var o Origins
	for _, origin := range origins {
		scheme, host, _ := strings.Cut(origin, "://")
		u, err := url.Parse(strings.Replace(origin, "*.", "any.", 1))
		switch {
		case origin == "*":
			o.all = true
		case origin == "null":
			o.wrong = append(
				o.wrong,
				fmt.Errorf("cors: null is the origin of files, of sandboxed frames and of whoever wants to be it: name origins"),
			)
		case err != nil || u.Host == "" || u.Path != "" || u.RawQuery != "" || u.Fragment != "" || strings.ToLower(origin) != origin ||
			u.Scheme+"://"+u.Host != strings.Replace(origin, "*.", "any.", 1) || strings.Contains(u.Host, "*") || !isSent(u):
			o.wrong = append(
				o.wrong,
				fmt.Errorf(
					"cors: %q is not an origin: a scheme and a host in lower case as browsers send them, and a port if it is not the usual one: https://canal.example",
					origin,
				),
			)
		case strings.HasPrefix(host, "*."):
			o.below = append(o.below, scheme+"://"+host[1:])
		default:
			o.exact = append(o.exact, origin)
		}
	}
	return o
}

// isSent reports whether browsers send an origin as it is written (RFC 6454, 6.2): without the port that its
// scheme has anyway, with a name in ASCII (RFC 5890) or an address in its shortest form.
func isSent(u *url.URL) bool {
	host, port := u.Hostname(), u.Port()
	n, err := strconv.Atoi(port)
	if port != "" &&
		(err != nil || strconv.Itoa(n) != port || n < 1 || n > 65535 || port == map[string]string{"http": "80", "https": "443"}[u.Scheme]) ||
		u.User != nil ||
		strings.HasSuffix(u.Host, ":") {
		return false
	}
	if a, err := netip.ParseAddr(host); err == nil {
		return a.String() == host
	}
	return host != "" && !strings.HasPrefix(host, ".") && !strings.Contains(host, "..") &&
		!strings.ContainsFunc(host, func(c rune) bool {
			return (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' && c != '.' && c != '_'
		})
}

// If allows the origins that a function says. It is called for every request with an Origin, by
// many at a time.
func If(allowed func(origin string) bool) Origins { return Origins{function: allowed} }

// allows reports whether an origin is allowed. Origins are compared as they are written (RFC 6454,
// 6.2), so what a browser sends is what must be named.
func (o *Origins) allows(origin string) bool {
	if o.all || slices.Contains(o.exact, origin) || o.function != nil && o.function(origin) {
		return true
	}
	for _, b := range o.below {
		scheme, host, _ := strings.Cut(b, "://")
		sub, ok := strings.CutPrefix(origin, scheme+"://")
		if ok && strings.HasSuffix(sub, host) && len(sub) > len(host) &&
			!strings.ContainsAny(sub[:len(sub)-len(host)], "/@:?#") {
			return true
		}
	}
	return false
}

// Settings say what pages of allowed origins may do. The zero Settings let them read, and send all methods and
// header fields that the routes take.
type Settings struct {
	// Credentials lets them send cookies and other credentials of the browser. Not with "*".
	Credentials bool
	// Headers are request header fields that may be sent, in addition to those that the routes under the
	// path read and Authorization, Content-Type and the conditions of RFC 9110, 13.
	Headers []string
	// Expose are fields of answers that may be read, in addition to those that all may and those that the
	// chain says it sets.
	Expose []string
	// MaxAge is for how long a browser need not ask again; 10 minutes where it is 0.
	MaxAge time.Duration
}

// Allow answers preflights and lets pages of some origins read answers. A preflight learns the
// methods that the path really has, and the header fields that its routes read; it never reaches a
// guard, and is never redirected. Below a guard this is a mistake at Build, since a preflight
// carries no credentials. Requests of other origins are answered as ever, but their pages cannot
// read it: what must not be done at all for them needs a guard.
func Allow(origins Origins, settings Settings) exchange.Middleware {
	c := &sharing{origins: origins, Settings: settings}
	if c.MaxAge == 0 {
		c.MaxAge = 10 * time.Minute
	}
	return exchange.Middleware{
		Name:       "cors",
		Does:       "lets pages of other origins read answers",
		Sets:       facts.Fields("Access-Control-Allow-Origin", "Vary"),
		Check:      c.check,
		CheckRoute: checkGuard,
		Wrap:       c.wrap,
	}
}

type sharing struct {
	Settings
	origins Origins
	exposed sync.Map // the field that says so, by the first of the fields that a chain sets
}

func (c *sharing) check() error {
	wrong := slices.Clip(c.origins.wrong)
	fault := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	if c.origins.all && c.Credentials {
		fault(
			"all origins with credentials: every page could act for whoever has signed in; name the origins (the Fetch standard, 3.3.5)",
		)
	}
	if wrong == nil && c.origins.function == nil && !c.origins.all && c.origins.exact == nil && c.origins.below == nil {
		fault("no origin is allowed, so nobody can read anything")
	}
	if c.MaxAge < 0 {
		fault("MaxAge is %v: a time is not negative", c.MaxAge)
	}
	for name, list := range map[string][]string{"Headers": c.Headers, "Expose": c.Expose} {
		for i, field := range list {
			same := func(other string) bool { return strings.EqualFold(other, field) }
			switch {
			case !bind.IsToken(field):
				fault("%s: %q is not a field name (RFC 9110, 5.1)", name, field)
			case slices.ContainsFunc(list[:i], same):
				fault("%s: %s is named twice", name, field)
			}
		}
	}
	return errors.Join(wrong...)
}

// checkGuard finds a guard that would be asked before.
func checkGuard(f facts.Route) error {
	if f.Guard != nil && f.Asked >= f.Guard.After {
		return fmt.Errorf("it is below the guard %s, which would refuse preflights: put it into a chain further out",
			f.Guard.Name)
	}
	return nil
}

func (c *sharing) wrap(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		origin := r.Header["Origin"]
		preflight := r.Method == http.MethodOptions && origin != nil && r.Header["Access-Control-Request-Method"] != nil
		if preflight {
			w = exchange.BeforeHeader(w, byPreflight)
		}
		if !c.origins.all {
			w = exchange.BeforeHeader(w, byOrigin) // also where none was sent: another answer may be kept for all
		}
		if len(origin) != 1 || !c.origins.allows(origin[0]) {
			next.ServeHTTP(w, r)
			return
		}
		c.allowOrigin(w.Header(), origin[0])
		if !preflight {
			c.expose(w.Header(), r)
			next.ServeHTTP(w, r)
			return
		}
		c.preflight(w, r)
	})
}

// What answers vary by is named when the header goes out, so that no handler takes it away.
func byOrigin(_ int, h http.Header) { writer.AddVary(h, "Origin") }
func byPreflight(_ int, h http.Header) {
	writer.AddVary(h, "Access-Control-Request-Method", "Access-Control-Request-Headers")
}

func (c *sharing) allowOrigin(h http.Header, origin string) {
	if c.origins.all {
		origin = "*"
	}
	h.Set("Access-Control-Allow-Origin", origin)
	if c.Credentials {
		h.Set("Access-Control-Allow-Credentials", "true")
	}
}

// safelisted are the fields of answers that pages may always read (the Fetch standard, 2.2.2).
var safelisted = []string{
	"Cache-Control",
	"Content-Language",
	"Content-Length",
	"Content-Type",
	"Expires",
	"Last-Modified",
	"Pragma",
}

// always are those that answers of Wicketway can have.
var always = []string{"Allow", "Etag", "Link", "Location", "Retry-After", "Www-Authenticate", "Deprecation", "Sunset"}

func (c *sharing) expose(h http.Header, r *http.Request) {
	sets := exchange.Of(r.Context()).ChainSets()
	var chain *string // requests that pass one chain get one slice
	if len(sets) > 0 {
		chain = &sets[0]
	}
	field, known := c.exposed.Load(chain)
	if !known {
		field, _ = c.exposed.LoadOrStore(chain, c.exposing(sets))
	}
	h["Access-Control-Expose-Headers"] = field.([]string)
}

// exposing is the field for a chain.
func (c *sharing) exposing(sets []string) []string {
	fields := slices.Concat(always, c.Expose)
	for _, name := range sets {
		if !strings.HasPrefix(name, "Access-Control-") && name != "Vary" && !slices.Contains(safelisted, name) &&
			!slices.Contains(fields, name) {
			fields = append(fields, name)
		}
	}
	return []string{strings.Join(fields, ", ")}
}

// usual are request fields that every route may get.
var usual = []string{
	"authorization",
	"content-type",
	"if-match",
	"if-none-match",
	"if-modified-since",
	"if-unmodified-since",
	"last-event-id",
}

// preflight answers by the routes of the path (the Fetch standard, 3.3.3).
func (c *sharing) preflight(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	wanted := r.Header.Get("Access-Control-Request-Method")
	methods, fields := exchange.Of(r.Context()).AtPath()
	if methods == nil { // it stands alone, or nothing is there: what is asked for is as good as anything
		methods = []string{wanted}
	}
	allowed := slices.Concat(usual, lower(fields), lower(c.Headers))
	var granted []string
	for one := range strings.SplitSeq(strings.Join(r.Header["Access-Control-Request-Headers"], ","), ",") {
		one = strings.ToLower(strings.TrimSpace(one))
		if one != "" && slices.Contains(allowed, one) && len(granted) < 64 {
			granted = append(granted, one)
		}
	}
	h.Set("Access-Control-Allow-Methods", strings.Join(methods, ", "))
	if granted != nil {
		h.Set("Access-Control-Allow-Headers", strings.Join(granted, ", "))
	}
	h.Set("Access-Control-Max-Age", strconv.Itoa(int(c.MaxAge.Seconds())))
	w.WriteHeader(http.StatusNoContent)
}

func lower(names []string) []string {
	all := make([]string, len(names))
	for i, n := range names {
		all[i] = strings.ToLower(n)
	}
	return all
}
