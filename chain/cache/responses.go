package cache

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/method"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

// Settings bound a response cache.
type Settings struct {
	// Bytes is how much it keeps at most, of bodies and header fields; 64 MiB where it is 0.
	Bytes int
	// Largest is the size in bytes of a body that is kept; 1 MiB where it is 0.
	Largest int
	// ByCaller keeps answers for each caller apart, so that it can be behind a guard. A caller is
	// an issuer and a subject, with the scopes of the request.
	ByCaller bool
	// Clock takes the place of time.Now, for tests.
	Clock func() time.Time
}

// patience is for how long a request waits for another one that fetches the same.
const patience = 2 * time.Second

// Responses keeps answers to GET and gives them to requests that ask the same, as a shared cache does
// (RFC 9111): for as long as Cache-Control says (s-maxage before max-age, or Expires), for each
// variant that Vary names, and never what is private, no-store or sets a cookie. What callers say
// about it in Cache-Control counts too. An old answer is asked about by its validators. A change of a
// path that succeeds ends what is kept of it, and of the paths in its Location and Content-Location
// (4.4).
//
// What is asked for is the scheme, host, path and query that [exchange.ClientOf] gives, the
// version, and the header fields in Vary; a typed route names those that its input reads. Requests
// with Authorization are answered from what is kept only with ByCaller, and those with a Cookie only
// where the answer says public or varies by Cookie. Requests that have content, a Range or an Upgrade
// pass.
//
// Of several requests for an answer that is not kept one fetches it and the others wait, for 2 seconds at most and as
// long as its answer may be kept: an answer is held back until it is whole, so that nobody waits
// for the one who reads it first. One that is flushed, or larger than Largest, passes as it comes
// and is not kept.
//
// Behind a guard it is a mistake, unless it keeps the callers apart (ByCaller; RFC 9111, 3.5), and so
// it is before chain/proxy. It is outside of what compresses, where each coding is a variant, or
// inside, where there is one.
func Responses(settings Settings) exchange.Middleware {
	c := &settings
	given := settings
	c.Bytes, c.Largest = cmp.Or(c.Bytes, 64<<20), cmp.Or(c.Largest, largestKept)
	if c.Clock == nil {
		c.Clock = time.Now
	}
	return exchange.Middleware{
		Name:       responsesName,
		Does:       "keeps answers, and gives them to those who ask the same",
		Sets:       facts.Fields("Age"),
		Raises:     []*problem.Kind{problem.OfStatus(http.StatusGatewayTimeout)}, // to only-if-cached
		Check:      given.check,
		CheckRoute: c.checkRoute,
		Wrap: func(next http.Handler) http.Handler {
			return &responses{Settings: *c, next: next, store: newStore(c.Bytes)}
		},
	}
}

// largestKept is the size of the largest body that is kept where nothing is said.
const largestKept = 1 << 20

func (c *Settings) check() error {
	switch {
	case c.Bytes < 0 || c.Largest < 0:
		return fmt.Errorf("the settings have %d Bytes and %d for the Largest: sizes are not negative", c.Bytes, c.Largest)
	case c.Bytes > 0 && cmp.Or(c.Largest, largestKept) > c.Bytes:
		return fmt.Errorf(
			"the Largest has %d bytes, more than the %d Bytes of all that is kept", cmp.Or(c.Largest, largestKept), c.Bytes,
		)
	}
	return nil
}

func (c *Settings) checkRoute(f facts.Route) error {
	switch {
	case f.Guard != nil && !c.ByCaller:
		return fmt.Errorf(
			"the route is behind the guard %s, and answers would be given to other callers: keep them apart with ByCaller, or use it on public routes (RFC 9111, 3.5)",
			f.Guard.Name,
		)
	case f.Guard != nil && f.Asked < f.Guard.After:
		return fmt.Errorf(
			"it comes before the guard %s, so it does not know the caller: put it into a chain further in", f.Guard.Name,
		)
	case slices.ContainsFunc(f.Chain[f.Asked:], func(m facts.Middleware) bool { return m.FindsClient }):
		return fmt.Errorf("it comes before proxy, so it does not know the host that was asked for: put it behind")
	}
	return nil
}

// responses is the middleware in its place.
type responses struct {
	Settings
	next  http.Handler
	store *store
}

func (c *responses) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.Method == http.MethodGet && c.concerns(r):
		c.answer(w, r)
	case method.IsSafe(r.Method): // the answer to a QUERY depends on its content, so it is not kept
		c.next.ServeHTTP(w, r)
	default:
		c.change(w, r)
	}
}

// concerns reports whether a GET can be answered from what is kept.
func (c *responses) concerns(r *http.Request) bool {
	if r.Header["Authorization"] != nil && (!c.ByCaller || exchange.Of(r.Context()).Caller().Subject == "") {
		return false // who else reads it is not known
	}
	return r.Header["Range"] == nil && r.Header["Upgrade"] == nil && r.ContentLength == 0 &&
		!read(r.Header["Cache-Control"]).has("no-store")
}

// question is what a request asks for.
func (c *responses) question(r *http.Request) question {
	client := exchange.ClientOf(r)
	host := strings.TrimSuffix(
		strings.ToLower(client.Host), map[string]string{"http": ":80", "https": ":443"}[client.Scheme],
	)
	key := client.Scheme + "://" + host + r.URL.EscapedPath() + "?" + r.URL.RawQuery + " " + exchange.Of(r.Context()).
		Version()
	if c.ByCaller {
		caller := exchange.Of(r.Context()).Caller()
		key += fmt.Sprintf(" %q %q", caller.Key(), slices.Sorted(slices.Values(caller.Scopes)))
	}
	return question{key, placeOf(r.URL)}
}

// placeOf is the path where a change counts, however it was escaped.
func placeOf(u *url.URL) string { return "/" + strings.Trim(u.Path, "/") }

// answer gives what is kept, or fetches it.
func (c *responses) answer(w http.ResponseWriter, r *http.Request) {
	asks := askingOf(r.Header)
	q := c.question(r)
	usable := func(of *response) bool { return c.suits(of, r) && asks.takes(of, c.age(of)) }
	for may := !asks.fresh && !asks.has("only-if-cached"); ; {
		is := c.store.find(q, r.Header, usable, func(old *response) bool { return may && c.shares(r, old) })
		switch {
		case is.found != nil && is.fetch == nil && is.wait == nil:
			c.give(w, r, is.found)
			return
		case asks.has("only-if-cached"): // RFC 9111, 5.2.1.7
			if is.fetch != nil {
				c.store.end(is.fetch)
			}
			exchange.Fail(w, r, problem.OfStatus(http.StatusGatewayTimeout).New("Nothing is kept that may be used."))
			return
		case is.fetch != nil:
			c.fetch(w, r, is)
			return
		}
		var err error
		if may, err = wait(r.Context(), is.wait); err != nil {
			exchange.Fail(w, r, err)
			return
		}
	}
}

// shares reports whether what a request would fetch is for others, too: the answer to one with
// conditions or cookies is its own, unless it turns into a question about what is kept.
func (c *responses) shares(r *http.Request, old *response) bool {
	if old != nil && validated(old.header) && c.suits(old, r) {
		return true
	}
	for _, name := range []string{"Cookie", "If-None-Match", "If-Modified-Since", "If-Match", "If-Unmodified-Since"} {
		if r.Header[name] != nil {
			return false
		}
	}
	return true
}

// wait waits for another request, and reports whether one may wait again.
func wait(ctx context.Context, f *fill) (again bool, err error) {
	t := time.NewTimer(patience)
	defer t.Stop()
	select {
	case <-f.done:
		return f.left, nil
	case <-t.C:
		return false, nil
	case <-ctx.Done():
		return false, ctx.Err()
	}
}

// suits reports whether an answer is for a request with or without cookies: who serves it may know
// the caller by them.
func (c *responses) suits(of *response, r *http.Request) bool {
	return r.Header["Cookie"] == nil || forCookies(of.header)
}

func forCookies(h http.Header) bool {
	return read(h["Cache-Control"]).has("public") || slices.Contains(varies(h), "Cookie")
}

func (c *responses) age(of *response) time.Duration { return of.age + c.Clock().Sub(of.here) }

// give answers with what is kept, by the conditions of the request (RFC 9111, 4.3.2).
func (c *responses) give(w http.ResponseWriter, r *http.Request, of *response) {
	h := w.Header()
	for name, values := range of.header {
		if name == "Link" { // what is further out has links too
			h[name] = append(slices.Clip(h[name]), values...)
		} else if name != "Vary" {
			h[name] = slices.Clone(values)
		}
	}
	writer.AddVary(h, of.header["Vary"]...)
	h.Set("Age", strconv.FormatInt(min(int64(c.age(of).Seconds()), mostSeconds), 10))
	modified, _ := http.ParseTime(of.header.Get("Last-Modified"))
	v := answer.PreconditionsOf(r.Header).
		Hold(answer.State{Exists: true, Tags: of.header["Etag"], Modified: modified}, true)
	if done, err := answer.ConcludeReading(w, v); err != nil {
		exchange.Fail(w, r, err)
	} else if !done {
		w.WriteHeader(of.status)
		w.Write(of.body)
	}
}

// fetch asks the handler, and keeps what it answers if it may. An old answer is asked about.
func (c *responses) fetch(w http.ResponseWriter, r *http.Request, is lookup) {
	f, old, began := is.fetch, is.found, c.Clock()
	defer c.store.end(f)
	defer context.AfterFunc(r.Context(), func() { c.store.release(f, hasLeft) })()
	if old != nil && (!validated(old.header) || !c.suits(old, r)) {
		old = nil
	}
	inner := r
	if old != nil {
		inner = asking304(r, old.header)
	}
	d := newDraft(w, c.Largest)
	d.judge = func() verdict {
		switch {
		case old != nil && d.status == http.StatusNotModified:
			return dropped
		case c.mayKeep(d.status, d.fields(), r):
			return isHeld
		}
		return passes
	}
	d.lost = func() {
		as := isAlone
		if d.status >= 500 { // the next one may be kept
			as = isFailed
		}
		c.store.release(f, as)
	}
	d.whole = func() {
		if c.isWhole(d, r) {
			c.store.keep(f, c.made(d, r, f.key, began))
			c.store.release(f, isKept)
		}
	}
	own := writer.Around(d)
	c.next.ServeHTTP(own.Outside(), inner)
	own.End()
	d.end()
	if d.state == isDropped {
		c.renew(w, r, f, old, d, began)
	}
}

// asking304 is a request by which an answer is asked about (RFC 9111, 4.3.1).
func asking304(r *http.Request, kept http.Header) *http.Request {
	inner := r.Clone(r.Context())
	for _, name := range []string{"If-Match", "If-Unmodified-Since"} {
		inner.Header.Del(name) // they are held against what is kept, or what comes
	}
	for from, to := range map[string]string{"Etag": "If-None-Match", "Last-Modified": "If-Modified-Since"} {
		if v := kept.Get(from); v != "" {
			inner.Header.Set(to, v)
		} else {
			inner.Header.Del(to)
		}
	}
	return inner
}

// keepable are the statuses of answers that are kept.
var keepable = []int{
	http.StatusOK,
	http.StatusNotFound,
	http.StatusGone,
	http.StatusMovedPermanently,
	http.StatusPermanentRedirect,
}

// mayKeep reports whether an answer may be kept, as far as its header says (RFC 9111, 3).
func (c *responses) mayKeep(status int, h http.Header, r *http.Request) bool {
	if !slices.Contains(keepable, status) || h["Trailer"] != nil || h["Set-Cookie"] != nil ||
		slices.Contains(varies(h), "*") {
		return false
	}
	if _, ok := lifetimeOf(h, c.Clock(), c.ByCaller); !ok {
		return false
	}
	return r.Header["Cookie"] == nil || forCookies(h)
}

// isWhole reports whether nothing went wrong with an answer.
func (c *responses) isWhole(d *draft, r *http.Request) bool {
	failed := r.Context().Err() != nil || exchange.Of(r.Context()).Failure() != nil && d.status < 400
	return !failed && (d.expected < 0 || d.expected == len(d.body))
}

// made is what is kept of an answer.
func (c *responses) made(d *draft, r *http.Request, asked string, began time.Time) *response {
	now := c.Clock()
	of := &response{status: d.status, header: keptFields(d.fields()), body: slices.Clip(d.body), here: now}
	of.key = variant(asked, varies(of.header), r.Header)
	c.complete(of, began, now)
	return of
}

// complete finds out how old an answer is and how old it may be; false where it must not be kept.
func (c *responses) complete(of *response, began, now time.Time) (ok bool) {
	of.age, of.here = ageOf(of.header, began, now), now
	of.lifetime, ok = lifetimeOf(of.header, now, c.ByCaller)
	delete(of.header, "Age")
	if of.header["Date"] == nil { // it is that of the answer, whenever it is given again (RFC 9110, 6.6.1)
		of.header["Date"] = []string{now.UTC().Format(http.TimeFormat)}
	}
	return ok
}

// transient are the fields that speak of one connection or one request (RFC 9111, 3.1).
var transient = []string{
	"Connection",
	"Keep-Alive",
	"Proxy-Authenticate",
	"Proxy-Authentication-Info",
	"Proxy-Authorization",
	"Proxy-Connection",
	"Ratelimit",
	"Ratelimit-Policy",
	"Server-Timing",
	"Te",
	"Traceparent",
	"Trailer",
	"Transfer-Encoding",
	"Upgrade",
	"X-Request-Id",
}

// ofContent are the fields that speak of the content that is kept, whatever a 304 says (RFC 9111, 3.2).
var ofContent = []string{"Content-Encoding", "Content-Length", "Content-Range", "Content-Type"}

// keptFields leaves out what is not kept, those that Connection names among it.
func keptFields(h http.Header) http.Header {
	for _, line := range h["Connection"] {
		for one := range strings.SplitSeq(line, ",") {
			delete(h, http.CanonicalHeaderKey(strings.TrimSpace(one)))
		}
	}
	maps.DeleteFunc(h, func(name string, _ []string) bool {
		return slices.Contains(transient, name) || strings.HasPrefix(name, http.TrailerPrefix)
	})
	return h
}

// renew is called where an old answer is as it was (RFC 9111, 4.3.4): it is given, and kept for
// longer if what the handler says now lets it.
func (c *responses) renew(w http.ResponseWriter, r *http.Request, f *fetch, old *response, d *draft, began time.Time) {
	fresh := *old
	fresh.header = old.header.Clone()
	delete(fresh.header, "Date")
	said := d.fields()
	cookie := said["Set-Cookie"]
	delete(said, "Set-Cookie")
	for name, values := range keptFields(said) {
		if !slices.Contains(ofContent, name) {
			fresh.header[name] = values
		}
	}
	fresh.key = variant(f.key, varies(fresh.header), r.Header)
	if c.complete(&fresh, began, c.Clock()) && cookie == nil && !slices.Contains(varies(fresh.header), "*") {
		c.store.keep(f, &fresh)
		c.store.release(f, isKept)
	} else {
		c.store.forget(old.key)
		c.store.release(f, isAlone)
	}
	for _, one := range cookie {
		w.Header().Add("Set-Cookie", one)
	}
	c.give(w, r, &fresh)
}

// varies lists the fields in Vary, sorted.
func varies(h http.Header) (names []string) {
	for _, line := range h["Vary"] {
		for name := range strings.SplitSeq(line, ",") {
			if name = http.CanonicalHeaderKey(strings.TrimSpace(name)); name != "" && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return names
}

// change passes a request that changes something, and ends what is kept of its path if it succeeds
// (RFC 9111, 4.4): before its caller hears of it, and once more when it is over, for what was fetched
// meanwhile.
func (c *responses) change(w http.ResponseWriter, r *http.Request) {
	ended := func(status int, h http.Header) {
		if status < 200 || status > 399 {
			return
		}
		c.store.change(placeOf(r.URL))
		for _, name := range []string{"Location", "Content-Location"} {
			if to, err := r.URL.Parse(h.Get(name)); err == nil && h.Get(name) != "" &&
				(to.Host == "" || to.Host == r.URL.Host || strings.EqualFold(to.Host, exchange.ClientOf(r).Host)) {
				c.store.change(placeOf(to))
			}
		}
	}
	w = exchange.BeforeHeader(w, ended)
	w, of := exchange.WriterOf(w)
	c.next.ServeHTTP(w, r)
	ended(cmp.Or(of.Status(), http.StatusOK), w.Header()) // who writes nothing has succeeded
}
