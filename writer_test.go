package wicketway_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"log/slog"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/exchange"
)

// Assertions on the writer tell the truth about what it stands around.
func TestTheWriterHasWhatTheServerHas(t *testing.T) {
	var flush, hijack, readFrom bool
	api := mustBuild(
		wicketway.Chain(accesslog.To(slog.New(slog.DiscardHandler), accesslog.Settings{}), compress.Bodies(compress.Settings{})),
		wicketway.ErrorsAsProblems(),
		wicketway.Handle("GET /", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			_, flush = w.(http.Flusher)
			_, hijack = w.(http.Hijacker)
			_, readFrom = w.(io.ReaderFrom)
		})),
	)
	type bare struct{ http.ResponseWriter }
	for name, c := range map[string]struct {
		over          func(*http.Request)
		flush, hijack bool
	}{
		"HTTP/1.1": {func(r *http.Request) { overServer(t, api, false, r) }, true, true},
		"HTTP/2":   {func(r *http.Request) { overServer(t, api, true, r) }, true, false},
		"recorder": {func(r *http.Request) { api.ServeHTTP(httptest.NewRecorder(), r) }, true, false},
		"bare":     {func(r *http.Request) { api.ServeHTTP(bare{httptest.NewRecorder()}, r) }, false, false},
		"wrapped":  {func(r *http.Request) { api.ServeHTTP(wrapped{httptest.NewRecorder()}, r) }, true, false},
	} {
		for _, coding := range []string{"", "gzip"} {
			r := httptest.NewRequest("GET", "/", nil)
			r.Header.Set("Accept-Encoding", coding)
			c.over(r)
			if flush != c.flush || hijack != c.hijack || !readFrom {
				t.Errorf("%s %s: flush %v, hijack %v, read from %v", name, coding, flush, hijack, readFrom)
			}
		}
	}
}

type wrapped struct{ http.ResponseWriter }

func (w wrapped) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func overServer(t *testing.T, h http.Handler, h2 bool, r *http.Request) {
	server := httptest.NewUnstartedServer(h)
	server.EnableHTTP2 = h2
	server.StartTLS()
	defer server.Close()
	own, err := http.NewRequest(r.Method, server.URL+r.URL.Path, nil)
	if err != nil {
		t.Fatal(err)
	}
	own.Header = r.Header
	resp, err := server.Client().Do(own)
	if err != nil || h2 != (resp.ProtoMajor == 2) {
		t.Fatal(err, resp)
	}
	resp.Body.Close()
}

// A socket takes files directly.
type socket struct {
	*httptest.ResponseRecorder
	direct int64
}

func (s *socket) ReadFrom(from io.Reader) (n int64, err error) {
	n, err = io.Copy(s.ResponseRecorder, from)
	s.direct += n
	return n, err
}

// A file goes to the socket without a copy through us, with all of our middleware around
// it, unless its bytes have to be looked at.
func TestFilesReachTheSocket(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(dir+"/chart.txt", make([]byte, 100<<10), 0o600); err != nil {
		t.Fatal(err)
	}
	var log bytes.Buffer
	api := mustBuild(wicketway.Chain(accesslog.To(slog.New(slog.NewTextHandler(&log, nil)), accesslog.Settings{}), compress.Bodies(compress.Settings{})),
		wicketway.Files("/", os.DirFS(dir)),
		wicketway.Handle("GET /copy", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			io.Copy(w, io.LimitReader(rand.Reader, 100<<10))
		})),
	)
	for coding, direct := range map[string]bool{"": true, "gzip": false} {
		for _, request := range []string{"GET /chart.txt", "HEAD /chart.txt", "GET /copy"} {
			method, path, _ := strings.Cut(request, " ")
			if direct = direct || path == "/copy"; path == "/copy" { // what has no type yet is not compressed
				coding = ""
			}
			r := httptest.NewRequest(method, path, nil)
			r.Header.Set("Accept-Encoding", coding)
			w := &socket{ResponseRecorder: httptest.NewRecorder()}
			log.Reset()
			api.ServeHTTP(w, r)
			if sent := fmt.Sprintf(" sent=%d ", w.Body.Len()); !strings.Contains(log.String(), sent) {
				t.Errorf("%s with %q: %s, want%s", request, coding, &log, sent)
			}
			want := int64(0)
			if direct && method == "GET" {
				want = 100 << 10
			}
			if w.Code != 200 || w.direct != want || method == "HEAD" && w.Body.Len() > 0 {
				t.Errorf("%s with %q: %d, %d bytes directly", request, coding, w.Code, w.direct)
			}
		}
	}
}

// A connection that was given away is logged with what it became, and nothing is written
// onto it, whatever happens after that.
func TestHijackedConnectionsAreLeftAlone(t *testing.T) {
	var log bytes.Buffer
	over := make(chan struct{})
	api := mustBuild(
		wicketway.Log(slog.New(slog.DiscardHandler)),
		wicketway.Chain(wicketway.Wrap("over", func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { next.ServeHTTP(w, r); close(over) })
		}), accesslog.To(slog.New(slog.NewTextHandler(&log, nil)), accesslog.Settings{}), compress.Bodies(compress.Settings{})),
		wicketway.Limits{Time: time.Minute},
		wicketway.Handle("GET /", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			conn, rw, err := w.(http.Hijacker).Hijack()
			if err != nil {
				t.Error(err)
				return
			}
			defer conn.Close()
			rw.WriteString("HTTP/1.1 101 Switching Protocols\r\nUpgrade: canal\r\nConnection: Upgrade\r\n\r\nahoy")
			rw.Flush()
			if _, err := w.Write([]byte("not here")); err != http.ErrHijacked {
				t.Errorf("writing after that: %v", err)
			}
			panic("after that")
		})),
	)
	server := httptest.NewServer(api)
	_, in := dial(t, server.Listener.Addr().String(), "GET / HTTP/1.1\r\nHost: canal.example\r\nAccept-Encoding: gzip\r\n\r\n")
	all, err := io.ReadAll(in)
	if err != nil || !strings.HasSuffix(string(all), "\r\n\r\nahoy") {
		t.Errorf("%v: %q", err, all)
	}
	<-over
	server.Close()
	if line := log.String(); !strings.Contains(line, "status=101") || !strings.Contains(line, "after that") {
		t.Errorf("logged: %s", line)
	}
}

// http.TimeoutHandler goes on in another goroutine and answers itself, while a form is
// still read: there is no race, the answer is its own, and no file is left.
func TestAMiddlewareThatAnswersWhileTheRouteGoesOn(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TMPDIR", dir)
	ended := make(chan error, 1)
	goOn := make(chan struct{})
	api := mustBuild(
		wicketway.Log(slog.New(slog.DiscardHandler)),
		wicketway.Chain(accesslog.To(slog.New(slog.DiscardHandler), accesslog.Settings{}), compress.Bodies(compress.Settings{}), wicketway.Wrap("timeout", func(next http.Handler) http.Handler {
			return http.TimeoutHandler(next, 500*time.Millisecond, "too late")
		})),
		wicketway.Route("POST /photos", func(_ context.Context, in struct {
			Photo wicketway.File `from:"file photo"`
		}) (string, error) {
			<-goOn
			_, err := io.ReadAll(in.Photo.Open())
			ended <- err
			panic("nobody is there any more")
		}),
	)
	var form bytes.Buffer
	m := multipart.NewWriter(&form)
	part, _ := m.CreateFormFile("photo", "a.png")
	part.Write(make([]byte, 200<<10))
	m.Close()
	r := httptest.NewRequest("POST", "/photos", &form)
	r.Header.Set("Content-Type", m.FormDataContentType())
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	if w.Code != http.StatusServiceUnavailable || w.Body.String() != "too late" {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	close(goOn)
	if err := <-ended; err == nil {
		t.Error("the file could be read after the request had ended")
	}
	if left, err := os.ReadDir(dir); err != nil || len(left) > 0 {
		t.Errorf("%v: left behind %v", err, left)
	}
}

// What a middleware asks of the writer is told alike in an API and under plain net/http.
func TestWriterOf(t *testing.T) {
	var of exchange.Writer
	look := wicketway.Wrap("look", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w, of = exchange.WriterOf(w)
			next.ServeHTTP(w, r)
		})
	})
	long := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/plain")
		w.WriteHeader(http.StatusAccepted)
		io.Copy(w, strings.NewReader(strings.Repeat("lock ", 1000)))
	})
	for name, h := range map[string]http.Handler{
		"in an API":      mustBuild(wicketway.Chain(look, compress.Bodies(compress.Settings{})), wicketway.Handle("GET /", long)),
		"under net/http": look.Wrap(compress.Bodies(compress.Settings{}).Wrap(long)),
	} {
		for _, coding := range []string{"identity", "gzip"} {
			r := httptest.NewRequest("GET", "/", nil)
			r.Header.Set("Accept-Encoding", coding)
			w := httptest.NewRecorder()
			h.ServeHTTP(w, r)
			if of.Status() != http.StatusAccepted || of.Written() != 5000 || of.Sent() != int64(w.Body.Len()) || of.Hijacked() || (coding == "gzip") != (of.Sent() < 500) {
				t.Errorf("%s, %s: %d, %d written, %d sent of %d", name, coding, of.Status(), of.Written(), of.Sent(), w.Body.Len())
			}
		}
	}
}
