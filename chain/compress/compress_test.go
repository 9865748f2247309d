package compress_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/exchange"
)

func build(t *testing.T, parts ...wicketway.Part) *wicketway.API {
	api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"}, append(parts, wicketway.Chain(compress.Bodies(compress.Settings{})))...)
	if err != nil {
		t.Fatal(err)
	}
	return api
}

type size struct {
	Bytes int `from:"query bytes"`
}

func text(_ context.Context, in size) (string, error) { return strings.Repeat("a", in.Bytes), nil }

func TestBodiesAreCompressedWhereItHelps(t *testing.T) {
	plain := func(set string) func(w http.ResponseWriter, r *http.Request) {
		name, value, _ := strings.Cut(set, ": ")
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/plain")
			w.Header().Set(name, value)
			io.WriteString(w, strings.Repeat("a", 2000))
		}
	}
	answer := func(set string) exchange.Middleware {
		return exchange.Wrap("answer", func(http.Handler) http.Handler { return http.HandlerFunc(plain(set)) })
	}
	sized := func(status, n int) exchange.Middleware {
		return exchange.Wrap("sized", func(http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Content-Length", strconv.Itoa(n))
				w.WriteHeader(status)
				if r.Method != "HEAD" {
					io.WriteString(w, strings.Repeat("a", n))
				}
			})
		})
	}
	api := build(t,
		wicketway.Route("GET /text", text),
		wicketway.Route("GET /off", text, compress.Off()),
		wicketway.Route("GET /png", text, wicketway.Chain(answer("Content-Type: image/png"))),
		wicketway.Route("GET /part", text, wicketway.Chain(answer("Content-Range: bytes 0-1999/9000"))),
		wicketway.Route("GET /fixed", text, wicketway.Chain(answer("Cache-Control: max-age=5, No-Transform"))),
		wicketway.Route("GET /tagged", text, wicketway.Chain(answer(`Etag: "v1"`))),
		wicketway.Route("GET /small", text, wicketway.Chain(sized(http.StatusOK, 1023))),
		wicketway.Route("GET /none", text, wicketway.Chain(sized(http.StatusNotModified, 2000))),
		wicketway.Route("GET /panic", func(context.Context, wicketway.None) (string, error) { panic("x") }),
	)
	for _, c := range []struct {
		line, accept string
		coding       string
		body         int
		etag         string
	}{
		{"GET /text?bytes=2000", "gzip, br", "br", 2003, ""},
		{"GET /text?bytes=2000", "gzip, br, zstd", "zstd", 2003, ""},
		{"GET /text?bytes=2000", "gzip, br;q=0.9, zstd;q=0.8", "gzip", 2003, ""},
		{"GET /text?bytes=2000", "x-gzip", "gzip", 2003, ""},
		{"GET /text?bytes=2000", "", "", 2003, ""},
		{"GET /text?bytes=2000", "deflate", "", 2003, ""},
		{"GET /text?bytes=2000", "gzip;q=0", "", 2003, ""},
		{"GET /text?bytes=2000", "identity;q=0, gzip", "gzip", 2003, ""},
		{"GET /text?bytes=2000", "*", "zstd", 2003, ""},
		{"GET /text?bytes=2000", "*, zstd;q=0", "br", 2003, ""},
		{"GET /text?bytes=2000", "gzip;q=0.5, identity", "", 2003, ""},
		{"GET /text?bytes=100", "gzip", "", 103, ""},
		{"HEAD /text?bytes=2000", "gzip", "gzip", 0, ""},
		{"HEAD /small", "gzip", "", 0, ""},
		{"GET /none", "gzip", "", 2000, ""}, // what the recorder keeps of it a server does not send
		{"GET /png", "gzip", "", 2000, ""},
		{"GET /part", "gzip", "", 2000, ""},
		{"GET /fixed", "gzip", "", 2000, ""}, // directives know no case (RFC 9111, 5.2)
		{"GET /tagged", "gzip", "gzip", 2000, `"v1-gzip"`},
		{"GET /tagged", "zstd", "zstd", 2000, `"v1-zstd"`},
		{"HEAD /tagged", "gzip", "gzip", 0, `"v1-gzip"`},
		{"GET /off?bytes=2000", "gzip", "", 2003, ""},
	} {
		method, target, _ := strings.Cut(c.line, " ")
		r := httptest.NewRequest(method, target, nil)
		if c.accept != "" {
			r.Header.Set("Accept-Encoding", c.accept)
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		body := w.Body.Bytes()
		if c.coding != "" && method != "HEAD" {
			var err error
			if body, err = unpacked(w.Header().Get("Content-Encoding"), w.Body); err != nil {
				t.Errorf("%s for %q: %v", c.line, c.accept, err)
			}
		}
		vary := map[bool]string{true: "", false: "Accept-Encoding"}[strings.Contains(c.line, "/off")]
		if w.Header().Get("Content-Encoding") != c.coding || len(body) != c.body || w.Header().Get("Vary") != vary || c.etag != "" && w.Header().Get("Etag") != c.etag {
			t.Errorf("%s for %q: %d bytes, %v, want %s", c.line, c.accept, len(body), w.Header(), c.coding)
		}
	}
	more := compress.Bodies(compress.Settings{Types: []string{"model/*", "image/x-chart"}})
	for media, coding := range map[string]string{"model/obj": "gzip", "image/x-chart": "gzip", "image/x-charts": "", "text/plain": "gzip"} {
		r, w := httptest.NewRequest("GET", "/", nil), httptest.NewRecorder()
		r.Header.Set("Accept-Encoding", "gzip")
		if more.Wrap(answer("Content-Type: "+media).Wrap(nil)).ServeHTTP(w, r); w.Header().Get("Content-Encoding") != coding {
			t.Errorf("%s: %v, want %q", media, w.Header(), coding)
		}
	}
	for want, middleware := range map[string][]exchange.Middleware{
		"a size is not negative":               {compress.Bodies(compress.Settings{From: -1})},
		"no coding is offered":                 {compress.Bodies(compress.Settings{Codings: []string{}})},
		"the coding br is offered twice":       {compress.Bodies(compress.Settings{Codings: []string{"br", "br"}})},
		`"lzw" is not a coding`:                {compress.Bodies(compress.Settings{Codings: []string{"lzw"}})},
		"late is behind it and hides flushing": {compress.Bodies(compress.Settings{}), {Name: "late", Wrap: func(next http.Handler) http.Handler { return next }, HidesFlush: true}},
		"compress is in the chain already":     {compress.Bodies(compress.Settings{}), compress.Bodies(compress.Settings{})},
	} {
		if _, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Chain(middleware...), wicketway.Route("GET /text", text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}

func unpacked(coding string, packed io.Reader) ([]byte, error) {
	switch coding {
	case "br":
		packed = brotli.NewReader(packed)
	case "zstd":
		z, err := zstd.NewReader(packed, zstd.WithDecoderMaxWindow(8<<20))
		if err != nil {
			return nil, err
		}
		defer z.Close()
		packed = z
	case "gzip":
		z, err := gzip.NewReader(packed)
		if err != nil {
			return nil, err
		}
		packed = z
	}
	return io.ReadAll(packed)
}

// What is flushed is sent, and can be read before the end.
func TestStreamsAreSentWhenTheyAreFlushed(t *testing.T) {
	for _, coding := range []string{"zstd", "br", "gzip"} {
		proceed := make(chan struct{})
		server := httptest.NewServer(compress.Bodies(compress.Settings{}).Wrap(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/event-stream")
			io.WriteString(w, "data: 1\n\n")
			w.(http.Flusher).Flush()
			<-proceed
			io.WriteString(w, "data: 2\n\n")
		})))
		r, _ := http.NewRequest("GET", server.URL, nil)
		r.Header.Set("Accept-Encoding", coding)
		resp, err := (&http.Client{Transport: &http.Transport{DisableCompression: true}}).Do(r)
		if err != nil {
			t.Fatal(err)
		}
		var plain io.Reader
		switch coding {
		case "br":
			plain = brotli.NewReader(resp.Body)
		case "zstd":
			z, _ := zstd.NewReader(resp.Body, zstd.WithDecoderConcurrency(1))
			defer z.Close()
			plain = z
		default:
			plain, _ = gzip.NewReader(resp.Body)
		}
		first := make([]byte, 9)
		if _, err := io.ReadFull(plain, first); err != nil || string(first) != "data: 1\n\n" {
			t.Errorf("%s: %q %v", coding, first, err)
		}
		close(proceed)
		if rest, err := io.ReadAll(plain); err != nil || string(rest) != "data: 2\n\n" {
			t.Errorf("%s: %q %v", coding, rest, err)
		}
		server.Close()
	}
}

// A note has a tag of its own.
type note struct {
	Text string `json:"text"`
	tag  string
}

func (n note) ETag() string { return n.tag }

// Whatever tag a value has of its own, each tag that is sent has one reading (RFC 9110, 8.8.3 and 13.1).
func TestEachTagHasOneReading(t *testing.T) {
	var own string
	present := func() note { return note{strings.Repeat("a", 2000), own} }
	type put struct {
		If   wicketway.Conditions[note]
		Text string `from:"query text"`
	}
	var unheld error
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Conditional(), wicketway.Chain(compress.Bodies(compress.Settings{Codings: []string{"gzip", "zstd"}})),
		wicketway.Route("GET /note", func(context.Context, wicketway.None) (note, error) { return present(), nil }),
		wicketway.Route("PUT /note", func(_ context.Context, in put) (wicketway.None, error) {
			unheld = in.If.Hold(present())
			return wicketway.None{}, unheld
		}))
	if err != nil {
		t.Fatal(err)
	}
	ask := func(method, accept, field, tag string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(method, "/note", nil)
		r.Header.Set("Accept-Encoding", accept)
		if field != "" {
			r.Header.Set(field, tag)
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		return w
	}
	readings := map[string]string{}
	for _, own = range []string{`"a"`, `"a-gzip"`, `"a-zstd"`, `"a-br"`, `"a-identity"`, `"a-gzip-identity"`, `"a-identity-gzip"`, `W/"a-gzip"`, `W/"b"`} {
		for _, accept := range []string{"", "gzip", "zstd"} {
			sent := ask("GET", accept, "", "").Header().Get("Etag")
			if before, is := readings[sent]; is && before != own+accept && !strings.HasPrefix(sent, "W/") {
				t.Errorf("%s is sent for %s by %q, and for %s", sent, own, accept, before)
			}
			readings[sent] = own + accept
			for _, c := range []struct {
				method, accept, field, tag string
				status                     int
			}{
				{"GET", accept, "If-None-Match", sent, 304}, {"HEAD", accept, "If-None-Match", `"x", ` + sent, 304}, {"PUT", "", "If-None-Match", sent, 412},
				{"PUT", "", "If-Match", sent, map[bool]int{true: 412, false: 204}[strings.HasPrefix(sent, "W/")]}, {"PUT", "", "If-Match", `"x"`, 412}, {"PUT", "", "If-None-Match", `"x"`, 204},
			} {
				w := ask(c.method, c.accept, c.field, c.tag)
				if w.Code != c.status || w.Code == 304 && w.Header().Get("Etag") != sent {
					t.Errorf("own %s, sent %s: %s by %q with %s: %s gives %d %q, want %d", own, sent, c.method, c.accept, c.field, c.tag, w.Code, w.Header().Get("Etag"), c.status)
				}
			}
		}
		for _, never := range []string{`"a-br"`, `"b-br"`} { // a coding that the chain does not have
			if match, none := ask("PUT", "", "If-Match", never).Code, ask("PUT", "", "If-None-Match", never).Code; match != 412 && own != `"a-br"` || none != 204 && own != `"a-br"` {
				t.Errorf("own %s: If-Match: %s gives %d, If-None-Match %d", own, never, match, none)
			}
		}
	}
	own = `"a"`
	if w := ask("GET", "zstd", "If-None-Match", `"a-gzip"`); w.Code != 200 {
		t.Errorf("a tag by a coding that is no longer accepted: %d", w.Code)
	}
	if w := ask("GET", "zstd, gzip", "If-None-Match", `"a-gzip", "b"`); w.Code != 304 || w.Header().Get("Etag") != `"a-gzip"` {
		t.Errorf("a tag by a coding that is still accepted: %d %v", w.Code, w.Header())
	}
	own = `"a-br"`
	if w := ask("PUT", "", "If-Match", `"a-br"`); w.Code != 412 {
		t.Errorf(`"a-br", which is never sent, holds: %d`, w.Code)
	}
}

// Bodies that are written and flushed at random come out as they went in, and where all seats of br are
// taken another coding does, or none.
func TestBodiesInPieces(t *testing.T) {
	proceed := make(chan struct{})
	var drawn atomic.Uint64
	texts := strings.Repeat(`{"lock":"bell","metres":2.417,"read":"2027-05-04T09:30:00Z"}`, 5000)
	h := compress.Bodies(compress.Settings{From: 1}).Wrap(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body := drawn.Add(1)
		random := rand.New(rand.NewPCG(19, body))
		w.Header().Set("Content-Type", r.URL.Path[1:])
		io.WriteString(w, "x")
		if waits := r.URL.RawQuery == "wait"; waits || body%2 == 0 { // others begin with what the body before may have ended with
			if w.(http.Flusher).Flush(); waits {
				<-proceed
			}
		}
		for rest := texts; rest != ""; {
			n := min([]int{0, 1, 100, 5000, 40_000, 70_000}[random.IntN(6)], len(rest))
			io.WriteString(w, rest[:n])
			if rest = rest[n:]; random.IntN(3) == 0 {
				w.(http.Flusher).Flush()
			}
		}
	}))
	ask := func(target, accept string) (coding string) {
		r := httptest.NewRequest("GET", target, nil)
		r.Header.Set("Accept-Encoding", accept)
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		coding = w.Header().Get("Content-Encoding")
		packed := w.Body.Len()
		if body, err := unpacked(coding, w.Body); err != nil || string(body) != "x"+texts || coding != "" && packed > len(texts)/4 {
			t.Errorf("%s by %s: %d bytes of %d, %v", target, accept, len(body), packed, err)
		}
		return coding
	}
	for range 10 {
		for _, c := range []struct{ media, accept, want string }{
			{"/text/plain", "gzip", "gzip"}, {"/text/plain", "zstd", "zstd"}, {"/text/plain", "br", "br"}, {"/text/plain", "br, gzip", "br"},
			{"/text/event-stream", "br, gzip", "gzip"}, {"/text/event-stream", "zstd, gzip", "gzip"}, {"/application/x-ndjson", "zstd, gzip;q=0.5", "zstd"},
			{"/text/event-stream", "br", "br"},
		} {
			if got := ask(c.media, c.accept); got != c.want {
				t.Errorf("%s by %s: %s, want %s", c.media, c.accept, got, c.want)
			}
		}
	}
	done, started := make(chan struct{}), make(chan struct{}, 32)
	for range 32 {
		go func() {
			r := httptest.NewRequest("GET", "/text/plain?wait", nil)
			r.Header.Set("Accept-Encoding", "br")
			h.ServeHTTP(&flushes{httptest.NewRecorder(), started}, r)
			done <- struct{}{}
		}()
		<-started
	}
	for accept, want := range map[string]string{"br": "", "br, gzip": "gzip", "br, zstd, gzip": "zstd"} {
		if got := ask("/text/plain", accept); got != want {
			t.Errorf("%s, with no seat for br: %s, want %s", accept, got, want)
		}
	}
	close(proceed)
	for range 32 {
		<-done
	}
	if got := ask("/text/plain", "br"); got != "br" {
		t.Errorf("br, once there are seats again: %s", got)
	}
}

// flushes tells when an answer is first flushed.
type flushes struct {
	*httptest.ResponseRecorder
	started chan struct{}
}

func (f *flushes) Flush() {
	if !f.Flushed {
		f.ResponseRecorder.Flush()
		f.started <- struct{}{}
	}
}

func TestRequestsAreUnpacked(t *testing.T) {
	plain := func(w http.ResponseWriter, r *http.Request) {
		n, err := io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, n, " ", err)
	}
	api := build(t, wicketway.Chain(compress.Requests(compress.Unpacking{Most: 4000})), wicketway.Handle("POST /plain", http.HandlerFunc(plain)), wicketway.Route("POST /size", func(_ context.Context, in struct {
		Body io.Reader `from:"body"`
	}) (int64, error) {
		return io.Copy(io.Discard, in.Body)
	}))
	var zipped bytes.Buffer
	w := gzip.NewWriter(&zipped)
	io.WriteString(w, strings.Repeat("a", 5000))
	w.Close()
	z, _ := zstd.NewWriter(nil)
	bomb, whole := string(z.EncodeAll(make([]byte, 1<<20), nil)), string(z.EncodeAll(make([]byte, 4000), nil))
	for _, c := range []struct {
		coding, body string
		status       int
		want         string
	}{
		{"plain gzip", zipped.String(), 200, "4000 http: request body too large"},
		{"plain zstd", bomb, 200, "4000 http: request body too large"},
		{"plain zstd", whole, 200, "4000 <nil>"},
		{"gzip", zipped.String(), 200, "5000"},
		{"x-gzip", zipped.String(), 200, "5000"},
		{"", "abc", 200, "3"},
		{"gzip", zipped.String()[:20], 400, "not well-formed gzip"},
		{"zstd", "abc", 400, "not well-formed zstd"},
		{"br", "abc", 415, "accepted is one of gzip and zstd"},
	} {
		coding, isPlain := strings.CutPrefix(c.coding, "plain ")
		r := httptest.NewRequest("POST", map[bool]string{true: "/plain", false: "/size"}[isPlain], strings.NewReader(c.body))
		r.Header.Set("Content-Encoding", coding)
		rec := httptest.NewRecorder()
		api.ServeHTTP(rec, r)
		if rec.Code != c.status || !strings.Contains(rec.Body.String(), c.want) {
			t.Errorf("%s: %d %s, want %d %s", c.coding, rec.Code, rec.Body, c.status, c.want)
		}
	}
}

func ExampleBodies() {
	api, err := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"}, wicketway.Chain(compress.Bodies(compress.Settings{}), compress.Requests(compress.Unpacking{})),
		wicketway.Route("POST /remarks", func(_ context.Context, in string) (string, error) { return in, nil }))
	if err != nil {
		fmt.Println(err)
	}
	var packed strings.Builder
	z := gzip.NewWriter(&packed)
	io.WriteString(z, `"`+strings.Repeat("moored ", 300)+`"`)
	z.Close()
	r := httptest.NewRequest("POST", "/remarks", strings.NewReader(packed.String()))
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Content-Encoding", "gzip")
	r.Header.Set("Accept-Encoding", "gzip")
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	fmt.Println(w.Code, w.Header().Get("Content-Encoding"), w.Body.Len() < 100)
	// Output: 200 gzip true
}
