package cache_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/cache"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/proxy"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/wicketwaytest"
)

type plate struct{}

func (plate) Scheme() exchange.Scheme   { return exchange.Scheme{Name: "plate"} }
func (plate) Challenge([]string) string { return "Plate" }
func (plate) Authenticate(r *http.Request) (*exchange.Identity, error) {
	return &exchange.Identity{Subject: r.Header.Get("Plate")}, nil
}

// RFC 9111, section by section: what is answered with which field, asked again at some second, and
// how often the handler was asked in all.
func TestResponses(t *testing.T) {
	wicketwaytest.Middleware(t, cache.Responses(cache.Settings{}))
	wicketwaytest.Middleware(t, cache.Responses(cache.Settings{}), wicketwaytest.Header("Cache-Control", "no-cache"))
	for _, c := range []struct {
		name   string
		answer string // fields, and a status first if it is not 200
		first  string // fields of the first request
		after  int    // seconds
		again  string // fields of the second; a method first if it is not GET
		asked  int
		want   string // of the second: status, Age, body
	}{
		{"3: max-age", "Cache-Control: max-age=60", "", 59, "", 1, "200 59 1"},
		{"4.2: no longer fresh", "Cache-Control: max-age=60", "", 60, "", 2, "200  2"},
		{"3: nothing said", "", "", 0, "", 2, "200  2"},
		{"5.2.2.10: s-maxage before max-age", "Cache-Control: max-age=1, S-MaxAge=60", "", 30, "", 1, "200 30 1"},
		{"5.3: Expires", "Expires: Tue, 04 May 2027 09:31:00 GMT", "", 59, "", 1, "200 59 1"},
		{"5.3: Expires that is not a date", "Expires: 0", "", 0, "", 2, "200  2"},
		{"5.2.2.5: no-store", "Cache-Control: no-store, max-age=60", "", 0, "", 2, "200  2"},
		{"5.2.2.7: private", "Cache-Control: private, max-age=60", "", 0, "", 2, "200  2"},
		{"5.2.2.4: no-cache is asked about", "Cache-Control: no-cache\nEtag: \"a\"", "", 0, "", 2, "200 0 1"},
		{"4.3.4: a stale one is asked about, and fresh again", "Cache-Control: max-age=60\nEtag: \"a\"", "", 100, "", 2, "200 9 1"},
		{"4.1: Vary, the same", "Cache-Control: max-age=60\nVary: Accept", "Accept: a", 1, "Accept: a", 1, "200 1 1"},
		{"4.1: Vary, another", "Cache-Control: max-age=60\nVary: Accept", "Accept: a", 1, "Accept: b", 2, "200  2"},
		{"4.1: Vary: *", "Cache-Control: max-age=60\nVary: *", "", 0, "", 2, "200  2"},
		{"3: a cookie", "Cache-Control: max-age=60\nSet-Cookie: a=b", "", 0, "", 2, "200  2"},
		{"3.5: Authorization", "Cache-Control: max-age=60", "Authorization: x", 0, "Authorization: x", 2, "200  2"},
		{"4.2.3: an age of its own", "Cache-Control: max-age=60\nAge: 30", "", 29, "", 1, "200 59 1"},
		{"3: a status that is not kept", "500\nCache-Control: max-age=60", "", 0, "", 2, "500  2"},
		{"3: a miss that is", "404\nCache-Control: max-age=60", "", 0, "", 1, "404 0 1"},
		{"5.2.1.4: the caller wants no-cache", "Cache-Control: max-age=60", "", 1, "Cache-Control: no-cache", 2, "200  2"},
		{"5.2.1.5: the caller wants no-store", "Cache-Control: max-age=60", "", 1, "Cache-Control: no-store", 2, "200  2"},
		{"5.2.1.1: the caller wants it younger", "Cache-Control: max-age=60", "", 30, "Cache-Control: max-age=10", 2, "200  2"},
		{"5.2.1.3: the caller wants it to last", "Cache-Control: max-age=60", "", 30, "Cache-Control: min-fresh=40", 2, "200  2"},
		{"5.2.1.2: the caller takes it stale", "Cache-Control: max-age=60", "", 70, "Cache-Control: max-stale=20", 1, "200 70 1"},
		{"5.2.1.2: but not so stale", "Cache-Control: max-age=60", "", 90, "Cache-Control: max-stale=20", 2, "200  2"},
		{"5.2.2.2: must-revalidate", "Cache-Control: max-age=60, must-revalidate", "", 70, "Cache-Control: max-stale", 2, "200  2"},
		{"5.2.1.7: only-if-cached, and it is", "Cache-Control: max-age=60", "", 1, "Cache-Control: only-if-cached", 1, "200 1 1"},
		{"5.2.1.7: and it is not", "", "", 1, "Cache-Control: only-if-cached", 1, "504"},
		{"4.3.2: a condition that holds", "Cache-Control: max-age=60\nEtag: \"a\"", "", 1, "If-None-Match: \"a\"", 1, "304 1 "},
		{"4.3.2: one that does not", "Cache-Control: max-age=60\nEtag: \"a\"", "", 1, "If-None-Match: \"b\"", 1, "200 1 1"},
		{"4.4: a change forgets it", "Cache-Control: max-age=60", "", 1, "POST", 3, "200  3"},
		{"14: a range is not answered by it", "Cache-Control: max-age=60", "", 1, "Range: bytes=0-0", 2, "200  2"},
		{"1.2.2: seconds beyond 2^31", "Cache-Control: max-age=99999999999999999999", "", 1_000_000, "", 1, "200 1000000 1"},
		{"4.2.1: the first of two", "Cache-Control: max-age=60, max-age=1", "", 30, "", 1, "200 30 1"},
		{"4.2.1: an age that is no number is none", "Cache-Control: max-age=1.5\nExpires: Tue, 04 May 2027 09:31:00 GMT", "", 0, "", 2, "200  2"},
		{"5.2: a space is no part of a directive", "Cache-Control: max-age = 60", "", 0, "", 2, "200  2"},
		{"5.2: a comma in a quoted string", `Cache-Control: ext="a, no-store, \"", max-age=60`, "", 30, "", 1, "200 30 1"},
		{"5.2.2.7: fields that are private", `Cache-Control: private="A, B", max-age=60`, "", 0, "", 2, "200  2"},
		{"4.2.3: an age by Date", "Date: Tue, 04 May 2027 09:29:30 GMT\nCache-Control: max-age=60", "", 29, "", 1, "200 59 1"},
		{"4.2.1: Expires by Date", "Date: Tue, 04 May 2027 09:29:30 GMT\nExpires: Tue, 04 May 2027 09:30:20 GMT", "", 30, "", 2, "200  2"},
		{"5.1: the first age of a list", "Cache-Control: max-age=60\nAge: 10, 50", "", 30, "", 1, "200 40 1"},
		{"7.6.1: fields that Connection names", "Cache-Control: max-age=60\nConnection: Hop\nHop: x", "", 1, "", 1, "200 1 1"},
		{"a limit inside is of one caller", "Cache-Control: max-age=60\nRatelimit: x", "", 1, "", 1, "200 1 1"},
		{"a cookie of the caller", "Cache-Control: max-age=60", "Cookie: a=b", 0, "Cookie: a=b", 2, "200  2"},
		{"a cookie, after a caller without", "Cache-Control: max-age=60", "", 0, "Cookie: a=b", 2, "200  2"},
		{"a cookie where the answer is public", "Cache-Control: public, max-age=60", "Cookie: a=b", 0, "Cookie: a=c", 1, "200 0 1"},
		{"the same cookie, varied by", "Cache-Control: max-age=60\nVary: cookie", "Cookie: a=b", 0, "Cookie: a=b", 1, "200 0 1"},
		{"another cookie, varied by", "Cache-Control: max-age=60\nVary: cookie", "Cookie: a=b", 0, "Cookie: a=c", 2, "200  2"},
		{"5.2.1.4: a new answer is kept", "Cache-Control: max-age=60\nEtag: \"a\"", "", 70, "Cache-Control: no-cache", 2, "200 0 1"},
		{"4.3.2: a condition on a stale answer", "Cache-Control: max-age=60\nEtag: \"a\"", "", 70, "If-None-Match: \"a\"", 2, "304 0 "},
		{"9110, 9.3.2: HEAD is not", "Cache-Control: max-age=60", "", 1, "HEAD", 2, "200  "},
	} {
		now := time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC)
		asked := 0
		inner := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked++
			status := http.StatusOK
			for line := range strings.Lines(c.answer) {
				name, value, field := strings.Cut(strings.TrimSpace(line), ": ")
				if !field {
					fmt.Sscan(name, &status)
					continue
				}
				w.Header().Add(name, value)
			}
			if tag := w.Header().Get("Etag"); tag != "" && r.Header.Get("If-None-Match") == tag {
				status = http.StatusNotModified
			}
			w.WriteHeader(status)
			if status != http.StatusNotModified {
				fmt.Fprint(w, asked)
			}
		})
		outer := func(w http.ResponseWriter, r *http.Request, h http.Handler, mark string) {
			w.Header().Set("X-Request-Id", mark) // what stands further out is not kept
			h.ServeHTTP(w, r)
			if w.Header().Get("X-Request-Id") != mark {
				t.Errorf("%s: a field from further out was kept", c.name)
			}
		}
		h := cache.Responses(cache.Settings{Clock: func() time.Time { return now }}).Wrap(inner)
		ask := func(fields, mark string) *httptest.ResponseRecorder {
			method := "GET"
			r := httptest.NewRequest("GET", "/x", nil)
			for line := range strings.Lines(fields) {
				if name, value, field := strings.Cut(strings.TrimSpace(line), ": "); field {
					r.Header.Set(name, value)
				} else {
					method = name
				}
			}
			r.Method = method
			w := httptest.NewRecorder()
			outer(w, r, h, mark)
			return w
		}
		ask(c.first, "one")
		now = now.Add(time.Duration(c.after) * time.Second)
		w := ask(c.again, "two")
		if c.again == "POST" {
			w = ask("", "three")
		}
		if strings.HasPrefix(c.name, "4.3.4") {
			now = now.Add(9 * time.Second)
			w = ask("", "three")
		}
		if asked == 1 && (w.Header()["Hop"] != nil || w.Header()["Ratelimit"] != nil) {
			t.Errorf("%s: kept %v", c.name, w.Header())
		}
		got := fmt.Sprint(w.Code, " ", w.Header().Get("Age"), " ", w.Body)
		if c.want == "504" {
			got = fmt.Sprint(w.Code)
		}
		if c.again == "HEAD" {
			got = strings.TrimSuffix(got, fmt.Sprint(asked)) // the recorder keeps what a server does not send
		}
		if got != c.want || asked != c.asked {
			t.Errorf("%s: %q, asked %d times; want %q, %d", c.name, got, asked, c.want, c.asked)
		}
	}
}

// Many who ask wait for one; what is kept is bounded; and codings are variants.
func TestFillingAndSize(t *testing.T) {
	var mu sync.Mutex
	asked := 0
	h := cache.Responses(cache.Settings{Bytes: 50_000}).Wrap(compress.Bodies(compress.Settings{From: 1}).Wrap(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked++
		mu.Unlock()
		time.Sleep(20 * time.Millisecond)
		w.Header().Set("Cache-Control", "max-age=60")
		w.Header().Set("Content-Type", "text/plain")
		io.WriteString(w, strings.Repeat(r.URL.Path, 500))
	})))
	ask := func(path, coding string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("GET", path, nil)
		r.Header.Set("Accept-Encoding", coding)
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w
	}
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			if w := ask("/a", "identity"); w.Body.String() != strings.Repeat("/a", 500) {
				t.Errorf("%d bytes", w.Body.Len())
			}
		})
	}
	if all.Wait(); asked != 1 {
		t.Errorf("50 requests at once asked %d times", asked)
	}
	for range 2 {
		if w := ask("/a", "gzip"); w.Header().Get("Content-Encoding") != "gzip" || w.Body.Len() > 200 {
			t.Errorf("gzip: %v, %d bytes", w.Header(), w.Body.Len())
		}
		if w := ask("/a", "identity"); w.Header().Get("Content-Encoding") != "" || w.Body.Len() != 1000 {
			t.Errorf("identity: %v, %d bytes", w.Header(), w.Body.Len())
		}
	}
	if asked > 3 {
		t.Errorf("variants asked %d times", asked)
	}
	for i := range 200 {
		ask(fmt.Sprint("/", i), "identity")
	}
	before := asked
	if ask("/199", "identity"); asked != before {
		t.Error("the newest is not kept")
	}
	if ask("/1", "identity"); asked != before+1 {
		t.Error("the oldest is kept, though there is no room")
	}
	renew := func(path string) {
		r := httptest.NewRequest("GET", path, nil)
		r.Header = http.Header{"Accept-Encoding": {"identity"}, "Cache-Control": {"no-cache"}}
		h.ServeHTTP(httptest.NewRecorder(), r)
	}
	ask("/b", "identity")
	for range 50 { // it takes its room once
		renew("/c")
	}
	before = asked
	if ask("/b", "identity"); asked != before {
		t.Error("what is renewed takes the room of others")
	}
	for i := range 30 { // of these about 16 have room
		if ask(fmt.Sprintf("/%d-%d", i%10, i/10), "identity"); i%10 == 0 {
			renew("/b")
		}
	}
	before = asked
	if ask("/b", "identity"); asked != before {
		t.Error("what was renewed counts as old")
	}
}

// Where it may stand, and what Cache-Control says.
func TestControlAndBuild(t *testing.T) {
	text := func(ctx context.Context, _ wicketway.None) (string, error) {
		return exchange.Of(ctx).Caller().Subject, nil
	}
	gone := func(context.Context, wicketway.None) (string, error) { return "", fmt.Errorf("gone") }
	public := cache.Control{MaxAge: time.Minute, SharedMaxAge: time.Hour, Immutable: true, StaleWhileRevalidate: time.Second, StaleIfError: 2 * time.Second, NoTransform: true}
	info := wicketway.Info{Title: "T", Version: "1"}
	cookie := func(context.Context, wicketway.None) (wicketway.Reply[string], error) {
		return wicketway.Reply[string]{Header: http.Header{"Set-Cookie": {"a=b"}}}, nil
	}
	minutes := cache.Headers(cache.Control{MaxAge: time.Minute, SharedMaxAge: time.Hour})
	api, err := wicketway.Build(info,
		wicketway.Group(wicketway.Chain(cache.Headers(cache.Control{})),
			wicketway.Route("GET /plain", text), wicketway.Route("GET /public", text, cache.Policy(public)), wicketway.Route("GET /gone", gone, cache.Policy(public)),
			wicketway.Route("GET /public/cookie", cookie, cache.Policy(public)), wicketway.Route("POST /plain", text),
			wicketway.Group(wicketway.Guard(plate{}), cache.Policy(cache.Control{Private: true, MaxAge: time.Minute}), wicketway.Route("GET /private", text), wicketway.Route("POST /private", text),
				wicketway.Group(wicketway.Without("cache-control"), wicketway.Chain(cache.Responses(cache.Settings{ByCaller: true}), cache.Headers(cache.Control{})), wicketway.Route("GET /apart", text)))),
		wicketway.Group(wicketway.Chain(minutes), wicketway.Route("GET /minutes", text), wicketway.Route("GET /minutes/cookie", cookie),
			wicketway.Route("GET /minutes/guarded", text, wicketway.Guard(plate{}))))
	if err != nil {
		t.Fatal(err)
	}
	for line, want := range map[string]string{
		"GET /plain": "no-cache", "GET /public": "public, max-age=60, s-maxage=3600, stale-while-revalidate=1, stale-if-error=2, immutable, no-transform",
		"GET /gone": "", "GET /private": "private, max-age=60", "POST /plain": "", "GET /public/cookie": "private, max-age=60, stale-while-revalidate=1, stale-if-error=2, immutable, no-transform",
		"GET /minutes": "max-age=60, s-maxage=3600", "GET /minutes/cookie": "private, max-age=60", "GET /minutes/guarded": "private, max-age=60",
		"GET /minutes Cookie": "private, max-age=60", "GET /minutes Authorization": "private, max-age=60",
		"GET /public Cookie": "public, max-age=60, s-maxage=3600, stale-while-revalidate=1, stale-if-error=2, immutable, no-transform",
	} {
		method, path, _ := strings.Cut(line, " ")
		path, field, _ := strings.Cut(path, " ")
		r := httptest.NewRequest(method, path, nil)
		r.Header.Set("Plate", "a")
		if field != "" {
			r.Header.Set(field, "a=b")
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		if got := w.Header().Get("Cache-Control"); got != want {
			t.Errorf("%s: %q, want %q", line, got, want)
		}
	}
	for i, caller := range []string{"a", "b", "a"} {
		r := httptest.NewRequest("GET", "/apart", nil)
		r.Header.Set("Plate", caller)
		w := httptest.NewRecorder()
		if api.ServeHTTP(w, r); w.Body.String() != `"`+caller+"\"\n" {
			t.Errorf("%s got the answer for another: %s", caller, w.Body)
		} else if kept := w.Header().Get("Age") != ""; kept != (i == 2) {
			t.Errorf("request %d: %v", i, w.Header())
		}
	}
	keeps, get := wicketway.Chain(cache.Responses(cache.Settings{})), wicketway.Route("GET /x", text)
	for want, parts := range map[string][]wicketway.Part{
		"answers would be given to other callers":    {wicketway.Guard(plate{}), keeps, get},
		"it comes before the guard plate":            {wicketway.Guard(plate{}), wicketway.Chain(cache.Responses(cache.Settings{ByCaller: true})), get},
		"so answers are for one caller: say Private": {wicketway.Guard(plate{}), wicketway.Chain(cache.Headers(cache.Control{})), cache.Policy(public), get},
		"put cache-control behind cache":             {wicketway.Chain(cache.Headers(cache.Control{}), cache.Responses(cache.Settings{})), cache.Policy(public), get},
		"SharedMaxAge has no effect":                 {wicketway.Chain(cache.Headers(cache.Control{})), cache.Policy(cache.Control{Private: true, SharedMaxAge: time.Hour}), get},
		"NoStore contradicts all else":               {wicketway.Chain(cache.Headers(cache.Control{})), cache.Policy(cache.Control{NoStore: true, MaxAge: time.Hour}), get},
		"no middleware in the chain":                 {cache.Policy(public), get},
		"MaxAge is -1ns":                             {wicketway.Chain(cache.Headers(cache.Control{})), cache.Policy(cache.Control{MaxAge: -1}), get},
		"MaxAge is 1.5s":                             {wicketway.Chain(cache.Headers(cache.Control{MaxAge: 1500 * time.Millisecond})), get},
		"nothing is set":                             {wicketway.Chain(cache.Headers(cache.Control{})), cache.Policy(cache.Control{}), get},
		"without an age Immutable":                   {wicketway.Chain(cache.Headers(cache.Control{Immutable: true})), get},
		"NoCache contradicts an age":                 {wicketway.Chain(cache.Headers(cache.Control{NoCache: true, MaxAge: time.Hour})), get},
		"MustRevalidate contradicts the stale times": {wicketway.Chain(cache.Headers(cache.Control{MustRevalidate: true, MaxAge: time.Hour, StaleIfError: time.Hour})), get},
		"a method that it is about (GET, HEAD)":      {wicketway.Chain(cache.Headers(cache.Control{})), cache.Policy(public), wicketway.Route("POST /x", text)},
		"sizes are not negative":                     {wicketway.Chain(cache.Responses(cache.Settings{Bytes: -1})), get},
		"it comes before proxy":                      {wicketway.Chain(cache.Responses(cache.Settings{}), proxy.Trust(proxy.Forwarded, netip.MustParsePrefix("192.0.2.0/24"))), get},
	} {
		if _, err := wicketway.Build(info, parts...); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}
