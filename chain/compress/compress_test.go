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

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"

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
	for want, middleware := range map[string][]wicketway.Middleware{
		`"lzw" is no coding`:                       {compress.Bodies(compress.Codings("lzw"))},
		"late stands behind it and hides flushing": {compress.Bodies(), {Name: "late", Wrap: func(next http.Handler) http.Handler { return next }, HidesFlush: true}},
		"compress is in the chain already":         {compress.Bodies(), compress.Bodies()},
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
		server := httptest.NewServer(compress.Bodies().Wrap(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
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
