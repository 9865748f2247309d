package cache

import (
	"bytes"
	"cmp"
	"container/list"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/problem"
)

// Settings say what a response cache keeps.
type Settings struct {
	// Bytes is how much it keeps at the most, of bodies and header fields; 64 MiB where it is 0.
	Bytes int
	// Largest is the size in bytes of a body that is kept; 1 MiB where it is 0.
	Largest int
	// ByCaller keeps answers for each caller apart, so that it can stand behind a guard.
	ByCaller bool
	// Clock takes the place of time.Now, for tests.
	Clock func() time.Time
}

// Responses keeps answers to GET and gives them to those who ask the same, as a shared cache does
// (RFC 9111): for as long as Cache-Control says (s-maxage before max-age, or Expires), for each
// variant that Vary names, and never what is private, no-store or sets a cookie. What callers say
// about it in Cache-Control counts too. An old answer is asked about by its validators. Many who
// ask for what is not there wait for one of them to get it.
//
// Behind a guard it is a mistake, unless it keeps the callers apart (ByCaller; RFC 9111, 3.5). It
// stands outside of what compresses, where each coding is a variant, or inside, where there is one;
// what is behind it cannot send an answer in pieces where it is kept.
func Responses(settings Settings) wicketway.Middleware {
	c := &settings
	c.Bytes, c.Largest = cmp.Or(c.Bytes, 64<<20), cmp.Or(c.Largest, 1<<20)
	if c.Clock == nil {
		c.Clock = time.Now
	}
	return wicketway.Middleware{
		Name: "cache",
		Does: "keeps answers, and gives them to those who ask the same",
		Sets: []string{"Age"},
		CheckRoute: func(f wicketway.Facts) error {
			if f.Guard != nil && !c.ByCaller {
				return fmt.Errorf("the route is behind the guard %s, and answers would be given to other callers: keep them apart with ByCaller, or stand on public routes (RFC 9111, 3.5)", f.Guard.Name)
			}
			if f.Guard != nil && isBeforeGuard(f) {
				return fmt.Errorf("it stands before the guard %s, so it does not know the caller: put it into a chain further in", f.Guard.Name)
			}
			return nil
		},
		Wrap: func(next http.Handler) http.Handler {
			s := &store{Settings: *c, next: next, asked: map[string]*variants{}, kept: map[string]*list.Element{}, order: list.New(), filling: map[string]chan struct{}{}}
			return s
		},
	}
}

func isBeforeGuard(f wicketway.Facts) bool {
	return slices.IndexFunc(f.Chain, func(m wicketway.MiddlewareInfo) bool { return m.Name == "cache" }) < f.Guard.After
}

type store struct {
	Settings
	next http.Handler

	mu      sync.Mutex
	asked   map[string]*variants // by what is asked for
	kept    map[string]*list.Element
	order   *list.List // of *response, the one used last first
	size    int
	filling map[string]chan struct{} // closed when somebody has got what many ask for
}

// variants are the answers to one question.
type variants struct {
	vary  []string // the fields that the last answer varied by
	count int
}

// A response is an answer that is kept. It is immutable.
type response struct {
	key    string // with the variant
	base   string // what is asked for
	status int
	header http.Header // as the handler has set it, without what stands further out
	body   []byte
	at     time.Time // when it was asked for
	age    time.Duration
	fresh  time.Duration
	must   bool // it must not be used stale
}

// A fill is the right of one request to get what others wait for.
type fill struct {
	key  string
	done chan struct{}
}

func (s *store) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !s.concerns(r) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead && r.Method != http.MethodOptions && r.Method != http.MethodTrace {
			s.invalidating(w, r)
			return
		}
		s.next.ServeHTTP(w, r)
		return
	}
	asks := directives(r.Header["Cache-Control"])
	base := s.base(r)
	for first := true; ; first = false {
		found, wait, mine := s.find(base, r, asks, first)
		switch {
		case found != nil && s.isFresh(found, asks):
			s.give(w, r, found)
			return
		case has(asks, "only-if-cached"): // RFC 9111, 5.2.1.7
			s.release(mine)
			wicketway.Fail(w, r, problem.OfStatus(http.StatusGatewayTimeout).New("Nothing is kept that may be used."))
			return
		case wait == nil:
			s.fetch(w, r, base, found, mine)
			return
		}
		select {
		case <-wait:
		case <-r.Context().Done():
			wicketway.Fail(w, r, r.Context().Err())
			return
		}
	}
}

// concerns reports whether a request is one that is answered from what is kept.
func (s *store) concerns(r *http.Request) bool {
	return r.Method == http.MethodGet && r.Header["Range"] == nil && (s.ByCaller || r.Header["Authorization"] == nil) &&
		!has(directives(r.Header["Cache-Control"]), "no-store")
}

// base is what is asked for, and for ByCaller by whom. Versions may share their paths.
func (s *store) base(r *http.Request) string {
	key := r.Host + " " + r.URL.EscapedPath() + "?" + r.URL.RawQuery + " " + wicketway.VersionOf(r.Context())
	if s.ByCaller {
		key = wicketway.Caller(r.Context()).Subject + "\x00" + key
	}
	return key
}

// variant is the key for the fields that an answer varies by.
func variant(base string, vary []string, h http.Header) string {
	var b strings.Builder
	b.WriteString(base)
	for _, name := range vary {
		fmt.Fprintf(&b, "\x00%s=%q", name, h[name])
	}
	return b.String()
}

// find gives what is kept. Where nothing is that can be used the first who comes fills it; others
// get a channel to wait on, once: if it turns out that it is not kept everybody asks for themselves.
func (s *store) find(base string, r *http.Request, asks map[string]string, first bool) (found *response, wait <-chan struct{}, mine *fill) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := base
	if v := s.asked[base]; v != nil {
		key = variant(base, v.vary, r.Header)
	}
	if e := s.kept[key]; e != nil {
		s.order.MoveToFront(e)
		if found = e.Value.(*response); s.isFresh(found, asks) {
			return found, nil, nil
		}
	}
	if f := s.filling[key]; f != nil {
		if first {
			return found, f, nil
		}
		return found, nil, nil
	}
	mine = &fill{key, make(chan struct{})}
	s.filling[key] = mine.done
	return found, nil, mine
}

// release lets those go on who wait.
func (s *store) release(mine *fill) {
	if mine == nil || mine.done == nil {
		return
	}
	s.mu.Lock()
	delete(s.filling, mine.key)
	s.mu.Unlock()
	close(mine.done)
	mine.done = nil
}

// isFresh reports whether an answer may be used as it is (RFC 9111, 4.2 and 5.2.1).
func (s *store) isFresh(r *response, asks map[string]string) bool {
	age := s.ageOf(r)
	if has(asks, "no-cache") {
		return false
	}
	if most, ok := seconds(asks, "max-age"); ok && age > most {
		return false
	}
	left := r.fresh - age
	if least, ok := seconds(asks, "min-fresh"); ok && left < least {
		return false
	}
	if stale, ok := asks["max-stale"]; ok && left < 0 && !r.must {
		d, given := seconds(asks, "max-stale")
		return stale == "" || given && -left <= d
	}
	return left > 0
}

func (s *store) ageOf(r *response) time.Duration { return r.age + s.Clock().Sub(r.at) }

// give answers with what is kept, by the conditions of the request (RFC 9111, 4.3.2).
func (s *store) give(w http.ResponseWriter, r *http.Request, of *response) {
	h := w.Header()
	for name, values := range of.header {
		if name == "Vary" { // what stands further out varies too
			h[name] = append(slices.Clip(h[name]), values...)
		} else {
			h[name] = slices.Clone(values)
		}
	}
	h.Set("Age", strconv.Itoa(int(s.ageOf(of).Seconds())))
	modified, _ := http.ParseTime(of.header.Get("Last-Modified"))
	v := answer.PreconditionsOf(r.Header).Hold(answer.State{Exists: true, Tags: of.header["Etag"], Modified: modified}, true)
	if done, err := answer.ConcludeReading(w, v); err != nil {
		wicketway.Fail(w, r, err)
	} else if !done {
		w.WriteHeader(of.status)
		w.Write(of.body)
	}
}

// fetch asks the handler, and keeps what it answers if it may. An old answer is asked about.
func (s *store) fetch(w http.ResponseWriter, r *http.Request, base string, old *response, mine *fill) {
	defer s.release(mine)
	began := s.Clock()
	inner := r
	validating := old != nil && !conditional(r) && validated(old.header)
	if validating {
		inner = r.Clone(r.Context())
		for from, to := range map[string]string{"Etag": "If-None-Match", "Last-Modified": "If-Modified-Since"} {
			if v := old.header.Get(from); v != "" {
				inner.Header.Set(to, v)
			}
		}
	}
	own := answer.Around(w)
	c := &copied{before: w.Header().Clone(), most: s.Largest}
	own.Before(c.header)
	own.Watch(c.take, func() { c.lost = true }) // a stream goes out as it comes, and is not kept
	if validating {
		own.Divert(func(status int, _ http.Header) bool { return status == http.StatusNotModified })
	}
	s.next.ServeHTTP(own.Outside(), inner)
	if status, _ := own.Diverted(); status != 0 { // it is as it was (RFC 9111, 4.3.4)
		c.header(status, w.Header())
		kept := *old
		kept.header = old.header.Clone()
		for name, values := range c.fields {
			if name != "Content-Length" && name != "Content-Encoding" && name != "Content-Type" {
				kept.header[name] = values
			}
		}
		kept.at, kept.age = began, 0
		kept.fresh, kept.must, _ = s.freshness(kept.header, began)
		clear(w.Header())
		maps.Copy(w.Header(), c.before)
		vary := varies(kept.header)
		kept.key = variant(base, vary, r.Header)
		s.keep(&kept, vary)
		s.release(mine)
		s.give(w, r, &kept)
		return
	}
	if made, vary := s.response(c, r, base, began); made != nil {
		s.keep(made, vary)
	}
}

func conditional(r *http.Request) bool {
	for _, name := range []string{"If-None-Match", "If-Modified-Since", "If-Match", "If-Unmodified-Since"} {
		if r.Header[name] != nil {
			return true
		}
	}
	return false
}

// A copied answer goes out while it is copied.
type copied struct {
	before http.Header // what had been set further out
	most   int

	status int
	fields http.Header // that were set further in
	body   bytes.Buffer
	lost   bool // it is too large, or comes in pieces
}

// header notes what was set further in, or was added to what there was.
func (c *copied) header(status int, h http.Header) {
	c.status, c.fields = status, http.Header{}
	for name, values := range h {
		before := c.before[name]
		if len(before) > 0 && len(values) >= len(before) && slices.Equal(values[:len(before)], before) {
			values = values[len(before):]
		}
		if len(values) > 0 {
			c.fields[name] = slices.Clone(values)
		}
	}
}

func (c *copied) take(p []byte) {
	if c.body.Len()+len(p) > c.most {
		c.lost = true
		c.body = bytes.Buffer{}
	}
	if !c.lost {
		c.body.Write(p)
	}
}

// keepable are the statuses of answers that are kept.
var keepable = []int{http.StatusOK, http.StatusNotFound, http.StatusGone, http.StatusMovedPermanently, http.StatusPermanentRedirect}

// response is what is kept of an answer, and the fields that it varies by; nil where it must not be
// kept (RFC 9111, 3).
func (s *store) response(c *copied, r *http.Request, base string, at time.Time) (*response, []string) {
	broke := r.Context().Err() != nil || wicketway.Failure(r.Context()) != nil && c.status < 400
	if c.lost || broke || !slices.Contains(keepable, c.status) || c.fields["Set-Cookie"] != nil {
		return nil, nil
	}
	if n := c.fields.Get("Content-Length"); n != "" && n != strconv.Itoa(c.body.Len()) {
		return nil, nil
	}
	fresh, must, ok := s.freshness(c.fields, at)
	vary := varies(c.fields)
	if !ok || slices.Contains(vary, "*") {
		return nil, nil
	}
	age, _ := strconv.Atoi(c.fields.Get("Age"))
	for _, name := range []string{"Connection", "Keep-Alive", "Transfer-Encoding", "Trailer", "Upgrade"} {
		delete(c.fields, name)
	}
	return &response{variant(base, vary, r.Header), base, c.status, c.fields, bytes.Clone(c.body.Bytes()), at, time.Duration(age) * time.Second, fresh, must}, vary
}

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

// freshness is for how long an answer is good (RFC 9111, 4.2.1); false where it must not be kept.
func (s *store) freshness(h http.Header, at time.Time) (fresh time.Duration, must, ok bool) {
	d := directives(h["Cache-Control"])
	if has(d, "no-store") || has(d, "private") && !s.ByCaller {
		return 0, false, false
	}
	must = has(d, "must-revalidate") || has(d, "proxy-revalidate") || has(d, "s-maxage")
	if has(d, "no-cache") {
		return 0, true, validated(h)
	}
	if v, given := seconds(d, "s-maxage"); given {
		return v, must, true
	}
	if v, given := seconds(d, "max-age"); given {
		return v, must, v > 0 || validated(h)
	}
	if v := h.Get("Expires"); v != "" {
		t, err := http.ParseTime(v)
		if err != nil {
			return 0, must, validated(h)
		}
		return max(t.Sub(at), 0), must, true
	}
	return 0, must, false // nothing is guessed
}

func validated(h http.Header) bool { return h.Get("Etag") != "" || h.Get("Last-Modified") != "" }

// keep puts an answer in, and those out that were not used for longest.
func (s *store) keep(r *response, vary []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if old := s.kept[r.key]; old != nil {
		s.drop(old)
	}
	v := s.asked[r.base]
	if v == nil {
		v = &variants{}
		s.asked[r.base] = v
	}
	v.count++
	v.vary = vary
	s.kept[r.key] = s.order.PushFront(r)
	for s.size += sizeOf(r); s.size > s.Bytes; {
		s.drop(s.order.Back())
	}
}

func (s *store) drop(e *list.Element) {
	r := s.order.Remove(e).(*response)
	delete(s.kept, r.key)
	s.size -= sizeOf(r)
	if v := s.asked[r.base]; v != nil {
		if v.count--; v.count == 0 {
			delete(s.asked, r.base)
		}
	}
}

func sizeOf(r *response) int {
	n := len(r.body) + len(r.key) + 512
	for name, values := range r.header {
		n += len(name)
		for _, v := range values {
			n += len(v)
		}
	}
	return n
}

// invalidating forgets what is kept of a path once something there has been changed (RFC 9111,
// 4.4).
func (s *store) invalidating(w http.ResponseWriter, r *http.Request) {
	w, of := wicketway.WriterOf(w)
	s.next.ServeHTTP(w, r)
	if status := of.Status(); status < 200 || status > 399 {
		return
	}
	path := r.Host + " " + r.URL.EscapedPath() + "?"
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range s.kept {
		base := e.Value.(*response).base
		if _, own, apart := strings.Cut(base, "\x00"); apart {
			base = own
		}
		if strings.HasPrefix(base, path) {
			s.drop(e)
		}
	}
}

// directives reads Cache-Control (RFC 9111, 5.2); their names know no case.
func directives(lines []string) map[string]string {
	if lines == nil {
		return nil
	}
	all := map[string]string{}
	for _, line := range lines {
		for one := range strings.SplitSeq(line, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(one), "=")
			if name != "" {
				all[strings.ToLower(name)] = strings.Trim(value, `"`)
			}
		}
	}
	return all
}

func has(d map[string]string, name string) bool { _, there := d[name]; return there }

func seconds(d map[string]string, name string) (time.Duration, bool) {
	n, err := strconv.ParseInt(d[name], 10, 32)
	return time.Duration(n) * time.Second, err == nil && n >= 0
}
