package cache_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/cache"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/cors"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/format/html"
)

// A slowReader takes nothing of a body until it is let go.
type slowReader struct {
	*httptest.ResponseRecorder
	proceed chan struct{}
}

func (s slowReader) Write(p []byte) (int, error) {
	<-s.proceed
	return s.ResponseRecorder.Write(p)
}

// What the first caller of a path does, and how many seconds the next one waits for its answer then.
func TestNobodyWaitsForAnother(t *testing.T) {
	const kept, hour = "max-age=60", time.Hour
	write := func(w http.ResponseWriter, control string, n int) {
		w.Header().Set("Cache-Control", control)
		io.WriteString(w, strings.Repeat("a", n))
	}
	for name, c := range map[string]struct {
		serve func(w http.ResponseWriter, r *http.Request, first bool)
		first func(r *http.Request, cancel func()) *http.Request // nil: an ordinary request
		reads bool                                               // the first caller reads
		waits time.Duration                                      // of the next
		asked int
	}{
		"it does not read": {func(w http.ResponseWriter, _ *http.Request, _ bool) { write(w, kept, 10) }, nil, false, 0, 1},
		"it does not read what has a length": {func(w http.ResponseWriter, _ *http.Request, first bool) {
			w.Header().Set("Content-Length", "10")
			if write(w, kept, 10); first {
				time.Sleep(hour)
			}
		}, nil, true, 0, 1},
		"it is promised more bytes than come": {func(w http.ResponseWriter, _ *http.Request, _ bool) {
			w.Header().Set("Content-Length", "20")
			write(w, kept, 10)
		}, nil, true, 0, 2},
		"its answer is too large": {func(w http.ResponseWriter, _ *http.Request, _ bool) { write(w, kept, 2000) }, nil, false, 0, 2},
		"its answer is not kept": {func(w http.ResponseWriter, _ *http.Request, first bool) {
			if write(w, "no-store", 10); first {
				time.Sleep(hour)
			}
		}, nil, true, 0, 2},
		"it gets a stream": {func(w http.ResponseWriter, _ *http.Request, first bool) {
			write(w, kept, 10)
			if http.NewResponseController(w).Flush(); first {
				time.Sleep(hour)
			}
		}, nil, true, 0, 2},
		"its handler hangs": {func(w http.ResponseWriter, _ *http.Request, first bool) {
			if first {
				time.Sleep(hour)
			}
			write(w, kept, 10)
		}, nil, true, 2 * time.Second, 2},
		"it leaves": {func(w http.ResponseWriter, _ *http.Request, first bool) {
			if first {
				time.Sleep(hour)
			}
			write(w, kept, 10)
		}, func(r *http.Request, cancel func()) *http.Request { time.AfterFunc(time.Second, cancel); return r }, true, time.Second - time.Millisecond, 2},
		"it sends a body slowly": {func(w http.ResponseWriter, r *http.Request, first bool) {
			io.Copy(io.Discard, r.Body)
			write(w, kept, 10)
		}, func(r *http.Request, _ func()) *http.Request {
			body, end := io.Pipe()
			time.AfterFunc(hour, func() { end.Close() })
			r.Body, r.ContentLength = body, -1
			return r
		}, true, 0, 2},
	} {
		synctest.Test(t, func(t *testing.T) {
			var mu sync.Mutex
			asked := 0
			h := cache.Responses(cache.Settings{Largest: 1000}).Wrap(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				mu.Lock()
				asked++
				first := asked == 1
				mu.Unlock()
				c.serve(w, r, first)
			}))
			w := slowReader{httptest.NewRecorder(), make(chan struct{})}
			if c.reads {
				close(w.proceed)
			}
			go func() {
				ctx, cancel := context.WithCancel(t.Context())
				defer cancel()
				r := httptest.NewRequest("GET", "/x", nil).WithContext(ctx)
				if c.first != nil {
					r = c.first(r, cancel)
				}
				h.ServeHTTP(w, r)
			}()
			time.Sleep(time.Millisecond)
			start, next := time.Now(), httptest.NewRecorder()
			h.ServeHTTP(next, httptest.NewRequest("GET", "/x", nil))
			if took := time.Since(start); took != c.waits || asked != c.asked || next.Code != 200 {
				t.Errorf("%s: the next waits %v, %d were asked, %d; want %v, %d", name, took, asked, next.Code, c.waits, c.asked)
			}
			if !c.reads {
				close(w.proceed)
			}
			time.Sleep(2 * hour)
		})
	}
}

// What a change ends of what is kept of /x, and of what is being fetched.
func TestChangesEndWhatIsKept(t *testing.T) {
	for _, c := range []struct {
		line, location string
		status         int // 0: nothing is written
		ends           bool
	}{
		{"POST /x", "", 200, true}, {"PUT /x", "", 0, true}, {"DELETE /x?all", "", 204, true}, {"POST /%78", "", 303, true}, {"MOVE /x/", "", 201, true},
		{"POST /y", "/x", 201, true}, {"POST /y", "http://example.com/x?a", 201, true}, {"POST /y/z", "../x", 201, true},
		{"POST /x", "", 409, false}, {"POST /y", "", 200, false}, {"POST /y", "http://elsewhere.example/x", 201, false}, {"GET /x?b", "", 200, false}, {"QUERY /x", "", 200, false},
	} {
		asked, meanwhile := 0, func() {}
		h := cache.Responses(cache.Settings{}).Wrap(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == "GET" {
				w.Header().Set("Cache-Control", "max-age=60")
				asked++
				meanwhile()
				fmt.Fprint(w, asked)
				return
			}
			if c.location != "" {
				w.Header().Set("Location", c.location)
			}
			if c.status != 0 {
				w.WriteHeader(c.status)
			}
		}))
		ask := func(line string) string {
			method, path, _ := strings.Cut(line, " ")
			w := httptest.NewRecorder()
			h.ServeHTTP(w, httptest.NewRequest(method, path, nil))
			return w.Body.String()
		}
		ask("GET /x?a")
		before := ask("GET /x?a")
		ask(c.line)
		if after := ask("GET /x?a"); (after != before) != c.ends {
			t.Errorf("%v: %s before it, %s after it", c, before, after)
		}
		meanwhile = func() { meanwhile = func() {}; ask(c.line) }
		before = ask("GET /x?under-way")
		if after := ask("GET /x?under-way"); (after != before) != c.ends {
			t.Errorf("%v, while it was fetched: %s before it, %s after it", c, before, after)
		}
	}
}

// A kept answer that was asked about is what it was, coded or not, and takes no cookie along that the
// handler has set meanwhile.
func TestAskedAboutAnswers(t *testing.T) {
	now, cookie, asked := time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC), false, 0
	h := cache.Responses(cache.Settings{Clock: func() time.Time { return now }}).Wrap(compress.Bodies(compress.Settings{}).Wrap(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		w.Header().Set("Cache-Control", "max-age=60")
		w.Header().Set("Content-Type", "text/plain")
		w.Header().Set("Etag", `"a"`)
		if cookie {
			w.Header().Set("Set-Cookie", "a=b")
		}
		if r.Header.Get("If-None-Match") == `"a"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		io.WriteString(w, strings.Repeat("a", 2000))
	})))
	for i, c := range []struct {
		coding, condition string
		cookie            bool
		after             time.Duration
		status, asked     int
	}{
		{"gzip", "", false, 0, 200, 1}, {"", "", false, 0, 200, 2}, {"gzip", "", false, 70 * time.Second, 200, 3}, {"gzip", `"a-gzip"`, false, 0, 304, 3},
		{"gzip", `"a"`, false, 0, 200, 3}, {"", "", false, 0, 200, 4}, {"gzip", "", true, 70 * time.Second, 200, 5}, {"gzip", "", false, 0, 200, 6}, {"gzip", "", false, 0, 200, 6},
	} {
		now, cookie = now.Add(c.after), c.cookie
		r := httptest.NewRequest("GET", "/x", nil)
		r.Header.Set("Accept-Encoding", c.coding)
		if c.condition != "" {
			r.Header.Set("If-None-Match", c.condition)
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		tag, coding := map[string]string{"gzip": `"a-gzip"`, "": `"a"`}[c.coding], w.Header().Get("Content-Encoding")
		if w.Code != c.status || asked != c.asked || w.Header().Get("Etag") != tag || c.status == 200 && coding != c.coding || (w.Header().Get("Set-Cookie") != "") != c.cookie {
			t.Errorf("%d %+v: %d %v, asked %d times", i, c, w.Code, w.Header(), asked)
		}
	}
}

// However the cache stands in a chain, each caller gets what they would get without it.
func TestEachGetsTheirOwn(t *testing.T) {
	type asked struct {
		Language string `from:"header Accept-Language"`
		Ticket   string `from:"cookie ticket"`
		Query    string `from:"query q"`
	}
	tell := func(_ context.Context, in asked) (asked, error) { in.Query = strings.Repeat("a", 2000); return in, nil }
	keeps, says := cache.Responses(cache.Settings{}), cache.Headers(cache.Control{MaxAge: time.Hour})
	origins := cors.Allow(cors.From("https://a.example", "https://b.example"), cors.Settings{})
	requests := []string{"", "Accept-Language: fr", "Accept-Language: de", "Cookie: ticket=1", "Cookie: ticket=2", "Origin: https://a.example", "Origin: https://b.example",
		"Origin: https://c.example", "Accept-Encoding: gzip", "Accept-Encoding: zstd", "Accept: text/html", "Edition: b", "Host: b.example"}
	for name, chain := range map[string][]exchange.Middleware{
		"compress outside": {compress.Bodies(compress.Settings{}), keeps, says},
		"compress inside":  {keeps, compress.Bodies(compress.Settings{}), says},
		"cors outside":     {origins, keeps, says},
		"cors inside":      {keeps, origins, says},
		"all outside":      {compress.Bodies(compress.Settings{}), origins, keeps, says},
		"all inside":       {keeps, says, compress.Bodies(compress.Settings{}), origins},
	} {
		build := func(chain ...exchange.Middleware) *wicketway.API {
			api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Chain(chain...), wicketway.Formats(html.Pages(nil)),
				wicketway.VersionBy(wicketway.InHeader("Edition"), "a"), wicketway.Version("a", wicketway.Route("GET /x", tell)), wicketway.Version("b", wicketway.Inherit("a")),
				wicketway.Handle("GET /plain", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					w.Header().Set("Vary", "Accept-Language") // what others have named stays
					w.Header().Set("Content-Type", "text/plain")
					io.WriteString(w, r.Header.Get("Accept-Language")+strings.Repeat("a", 2000))
				})))
			if err != nil {
				t.Fatal(err)
			}
			return api
		}
		kept, plain := build(chain...), build(slices.DeleteFunc(slices.Clone(chain), func(m exchange.Middleware) bool { return m.Name == "cache" })...)
		for _, path := range []string{"/x", "/plain"} {
			for range 2 {
				for _, field := range requests {
					r := httptest.NewRequest("GET", path, nil)
					if name, value, _ := strings.Cut(field, ": "); name == "Host" {
						r.Host = value
					} else if name != "" {
						r.Header.Set(name, value)
					}
					w, want := httptest.NewRecorder(), httptest.NewRecorder()
					kept.ServeHTTP(w, r.Clone(t.Context()))
					plain.ServeHTTP(want, r.Clone(t.Context()))
					for _, h := range []http.Header{w.Header(), want.Header()} {
						delete(h, "Age")
						delete(h, "Date")
					}
					if strings.Replace(fmt.Sprint(w.Code, w.Header(), w.Body), ", Age", "", 1) != fmt.Sprint(want.Code, want.Header(), want.Body) {
						t.Errorf("%s: %s with %q:\n%v\nwithout the cache\n%v", name, path, field, w.Header(), want.Header())
					}
				}
			}
		}
	}
}
