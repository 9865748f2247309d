package compress_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/compress"
)

func build(t *testing.T, parts ...wicketway.Part) *wicketway.API {
	api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"}, append(parts, wicketway.Chain(compress.Bodies()))...)
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
	answer := func(set string) wicketway.Middleware {
		return wicketway.Wrap("answer", func(http.Handler) http.Handler { return http.HandlerFunc(plain(set)) })
	}
	sized := func(status, n int) wicketway.Middleware {
		return wicketway.Wrap("sized", func(http.Handler) http.Handler {
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
		zipped       bool
		body         int
		etag         string
	}{
		{"GET /text?bytes=2000", "gzip, br", true, 2003, ""},
		{"GET /text?bytes=2000", "", false, 2003, ""},
		{"GET /text?bytes=2000", "br", false, 2003, ""},
		{"GET /text?bytes=2000", "gzip;q=0", false, 2003, ""},
		{"GET /text?bytes=2000", "*", true, 2003, ""},
		{"GET /text?bytes=2000", "gzip;q=0.5, identity", false, 2003, ""},
		{"GET /text?bytes=100", "gzip", false, 103, ""},
		{"HEAD /text?bytes=2000", "gzip", true, 0, ""},
		{"HEAD /small", "gzip", false, 0, ""},
		{"GET /none", "gzip", false, 2000, ""}, // what the recorder keeps of it a server does not send
		{"GET /png", "gzip", false, 2000, ""},
		{"GET /part", "gzip", false, 2000, ""},
		{"GET /fixed", "gzip", false, 2000, ""}, // directives know no case (RFC 9111, 5.2)
		{"GET /tagged", "gzip", true, 2000, `"v1-gzip"`},
		{"HEAD /tagged", "gzip", true, 0, `"v1-gzip"`},
	} {
		method, target, _ := strings.Cut(c.line, " ")
		r := httptest.NewRequest(method, target, nil)
		if c.accept != "" {
			r.Header.Set("Accept-Encoding", c.accept)
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		zipped := w.Header().Get("Content-Encoding") == "gzip"
		body := w.Body.Bytes()
		if zipped && method != "HEAD" {
			unzip, err := gzip.NewReader(w.Body)
			if err == nil {
				body, err = io.ReadAll(unzip)
			}
			if err != nil {
				t.Error(err)
			}
		}
		if zipped != c.zipped || len(body) != c.body || w.Header().Get("Vary") != "Accept-Encoding" || c.etag != "" && w.Header().Get("Etag") != c.etag {
			t.Errorf("%s for %q: zipped %v, %d bytes, %v", c.line, c.accept, zipped, len(body), w.Header())
		}
	}
}

func TestRequestsAreUnpacked(t *testing.T) {
	api := build(t, wicketway.Chain(compress.Requests()), wicketway.Route("POST /size", func(_ context.Context, in struct {
		Body io.Reader `from:"body"`
	}) (int64, error) {
		return io.Copy(io.Discard, in.Body)
	}))
	var zipped bytes.Buffer
	w := gzip.NewWriter(&zipped)
	io.WriteString(w, strings.Repeat("a", 5000))
	w.Close()
	for _, c := range []struct {
		coding, body string
		status       int
		want         string
	}{
		{"gzip", zipped.String(), 200, "5000"},
		{"x-gzip", zipped.String(), 200, "5000"},
		{"", "abc", 200, "3"},
		{"gzip", zipped.String()[:20], 400, "not well-formed gzip"},
		{"zstd", "abc", 400, "not well-formed zstd"},
		{"br", "abc", 415, "accepted is one of gzip and zstd"},
	} {
		r := httptest.NewRequest("POST", "/size", strings.NewReader(c.body))
		r.Header.Set("Content-Encoding", c.coding)
		rec := httptest.NewRecorder()
		api.ServeHTTP(rec, r)
		if rec.Code != c.status || !strings.Contains(rec.Body.String(), c.want) {
			t.Errorf("%s: %d %s, want %d %s", c.coding, rec.Code, rec.Body, c.status, c.want)
		}
	}
}

func ExampleBodies() {
	api, err := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"}, wicketway.Chain(compress.Bodies(), compress.Requests()),
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
