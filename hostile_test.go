package wicketway_test

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"reflect"
	"runtime"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

type sluice struct {
	Name  string            `json:"name"`
	Gates []sluice          `json:"gates,omitzero"`
	By    map[string]sluice `json:"by,omitzero"`
	List  map[string][]int  `json:"list,omitzero"`
	Level float64           `json:"level,omitzero" rule:"maximum=9"`
}

func (s sluice) Check(r *schema.Report) {
	if s.Name == "broken" {
		r.Fault("/name", "broken", "must not be broken")
	}
}

type wideQuery struct {
	Levels []int `from:"query level" rule:"items.maximum=9"`
}

// allocated is how many bytes work allocates.
func allocated(work func()) int64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	work()
	runtime.ReadMemStats(&after)
	return int64(after.TotalAlloc - before.TotalAlloc)
}

// Whatever is sent, the problem and the line of the log stay small, and memory is what
// plain decoding takes and eight times the body.
func TestNoRequestCostsMoreThanItsSize(t *testing.T) {
	var log bytes.Buffer
	logger := slog.New(slog.NewJSONHandler(&log, nil))
	api := build(t, wicketway.Chain(requestid.Assign(), accesslog.To(logger, accesslog.Settings{}), compress.Requests(compress.Unpacking{})), wicketway.Log(logger),
		wicketway.Route("POST /sluices", func(_ context.Context, in sluice) (wicketway.None, error) { return wicketway.None{}, nil }),
		wicketway.Route("GET /levels", func(_ context.Context, in wideQuery) (wicketway.None, error) { return wicketway.None{}, nil }),
		wicketway.Route("GET /pages", func(_ context.Context, in listGauges) (wicketway.Page[gauge], error) {
			return wicketway.Page[gauge]{Items: []gauge{}, Next: "x"}, nil
		}),
	)
	nested := func(open, shut string, n int) string { return strings.Repeat(open, n) + strings.Repeat(shut, n) }
	many := func(piece string) string { return strings.Repeat(piece, 200_000/len(piece)) }
	long := strings.Repeat("k", 60_000)
	for name, body := range map[string]string{
		"duplicate names":         `{` + many(`"a":1,`) + `"a":1}`,
		"unknown names":           `{` + many(`"y":1,"z":2,`) + `"a":1}`,
		"a long key over faults":  `{"name":"x","list":{"` + long + `":[` + many(`"x",`) + `1]}}`,
		"checks in a tree":        `{"name":"x","gates":[` + many(`{"name":"broken"},`) + `{"name":"x"}]}`,
		"a deep tree of checks":   `{"name":"x","gates":[` + many(nested(`{"name":"x","gates":[`, `]}`, 28)+",") + `{"name":7}]}`,
		"absent in every item":    `{"name":"x","gates":[` + many(`{},`) + `{}]}`,
		"null in every item":      `{"name":"x","gates":[` + many(`null,`) + `null]}`,
		"a fault after all":       `{"name":"x","list":{"a":[` + many(`1,`) + `1]}} x`,
		"wrong numbers":           `{"name":"x","list":{"a":[` + many(`1.5,`) + `1]}}`,
		"long numbers":            `{"name":"x","level":` + strings.Repeat("9", 100_000) + `}`,
		"escapes in names":        `{"name":"x","by":{` + many(`"\u0061\u0062":{},`) + `"x":{}}}`,
		"too deep":                nested("[", "]", 60_000),
		"a text with many quotes": `{"name":"` + many(`\"`) + `"`,
		"controls":                `{"name":"` + many("\x01") + `"}`,
	} {
		log.Reset()
		r := httptest.NewRequest("POST", "/sluices", strings.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		var plain sluice
		most := allocated(func() { json.Unmarshal([]byte(body), &plain) }) + int64(8*len(body)) + 1<<18
		if took := allocated(func() { api.ServeHTTP(w, r) }); took > slack*most {
			t.Errorf("%s: %d bytes were allocated for a body of %d, want %d at most", name, took, len(body), most)
		}
		code := map[int]string{400: "input-unreadable", 422: "input-invalid"}[w.Code]
		if n := len(checkProblem(t, name, w, w.Code, code)); n > 100 || n == 0 || (n == 100) != strings.Contains(w.Body.String(), `"more":true`) {
			t.Errorf("%s: %d faults are told: %.200s", name, n, w.Body)
		}
		if w.Body.Len() > problem.MaxSize+1 || log.Len() > 16<<10 {
			t.Errorf("%s: a problem of %d bytes, %d in the log", name, w.Body.Len(), log.Len())
		}
	}
	for target, status := range map[string]int{
		"/levels?" + strings.Repeat("level=x&", 9000) + "level=1": 400,
		"/levels?" + strings.Repeat("level=10&", 9000):            422,
		"/levels?level=" + long:                                   400,
		"/nowhere/" + long:                                        404,
		"/pages?kind=" + long:                                     200,
		"//levels/" + long:                                        404, // and no Location of that length
	} {
		log.Reset()
		page := ask(api, "GET "+target, "Accept: text/html", "")
		log.Reset()
		w := ask(api, "GET "+target, "", "")
		if page.Code != status || page.Body.Len() > problem.MaxSize {
			t.Errorf("%.40s: a page with %d of %d bytes", target, page.Code, page.Body.Len())
		}
		if w.Code != status || w.Body.Len() > problem.MaxSize || log.Len() > 16<<10 || len(strings.Join(w.Header()["Link"], "")) > 8<<10 {
			t.Errorf("%.40s: %d, %d bytes, %d in the log, Link %d", target, w.Code, w.Body.Len(), log.Len(), len(w.Header().Get("Link")))
		}
	}
	few := build(t, wicketway.Limits{Faults: 2}, wicketway.Route("GET /levels", func(_ context.Context, in wideQuery) (wicketway.None, error) { return wicketway.None{}, nil }))
	if w := ask(few, "GET /levels?level=x&level=11&level=y", "", ""); len(checkProblem(t, "few", w, 400, "input-unreadable")) != 2 || !strings.Contains(w.Body.String(), `"more":true`) {
		t.Errorf("a bound of two: %s", w.Body)
	}
}

// FuzzAllocations counts what a body makes the decoder allocate beyond plain decoding.
func FuzzAllocations(f *testing.F) {
	for _, text := range []string{`{"name":"x"}`, `{"gates":[{},{"name":1}]}`, `{"by":{"a":null,"a":{}}}`, `{"list":{"a":[1,"x",1.5]}}`, `[[[[`, `{"name":"broken"}`} {
		f.Add([]byte(text), uint8(9))
	}
	var set check.Set
	typ, err := set.Type(reflect.TypeFor[sluice]())
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, piece []byte, times uint8) {
		body := bytes.Repeat(piece, int(times)+1)
		var plain, ours sluice
		most := allocated(func() { json.Unmarshal(body, &plain, json.RejectUnknownMembers(true)) }) + int64(8*len(body)) + 1<<17
		if took := allocated(func() { typ.Decode(body, &ours, check.Reading{}) }); took > slack*most {
			t.Errorf("%d bytes for a body of %d, want %d at most: %.200q", took, len(body), most, body)
		}
	})
}

// dial opens a connection and sends the start of a request.
func dial(t *testing.T, at, request string) (net.Conn, *bufio.Reader) {
	conn, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	io.WriteString(conn, request)
	return conn, bufio.NewReader(conn)
}

const postJSON = " HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n"

// What the connection is told is true: nothing that failed is a success, the rest of a
// body is no request, and whoever is slow gives the seat back.
func TestTheConnectionTellsTheTruth(t *testing.T) {
	t.Parallel()
	effects := make(chan string, 100)
	ended := make(chan string, 100)
	api := build(t, wicketway.Log(slog.New(slog.DiscardHandler)), wicketway.Chain(compress.Requests(compress.Unpacking{})),
		wicketway.Route("POST /effect", func(context.Context, wicketway.None) (string, error) { effects <- "ran"; return "ran", nil }),
		wicketway.Route("POST /gauge", func(_ context.Context, in gauge) (gauge, error) { return in, nil }, wicketway.Limits{Body: 1000}),
		wicketway.Route("GET /after", func(context.Context, wicketway.None) (string, error) {
			time.Sleep(150 * time.Millisecond)
			return "after", nil
		}),
		wicketway.Handle("GET /silent", http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }), wicketway.Limits{Time: 50 * time.Millisecond}),
		wicketway.Handle("POST /left", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.Copy(io.Discard, r.Body); <-r.Context().Done() })),
		wicketway.Handle("GET /early", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Link", "</style.css>; rel=preload")
			w.WriteHeader(http.StatusEarlyHints)
			io.WriteString(w, "late")
		})),
		wicketway.Group(wicketway.Limits{Time: 100 * time.Millisecond, AtOnce: 1},
			wicketway.Handle("POST /careless", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				io.Copy(io.Discard, r.Body) // and the error is not looked at
				io.WriteString(w, "well")
			})),
			wicketway.Route("POST /slow", func(_ context.Context, in gauge) (gauge, error) { return in, nil }),
			wicketway.Handle("GET /large", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				for range 1000 {
					if _, err := w.Write(make([]byte, 64<<10)); err != nil {
						break
					}
				}
				ended <- "large"
			})),
			wicketway.Handle("GET /stream", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				for range 4 { // longer in all than the time: it bounds the writing of a piece
					io.WriteString(w, "piece ")
					http.NewResponseController(w).Flush()
					time.Sleep(60 * time.Millisecond)
				}
			})),
			wicketway.Handle("GET /hijack", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				conn, rw, err := http.NewResponseController(w).Hijack()
				if err != nil {
					ended <- err.Error()
					return
				}
				defer conn.Close()
				io.WriteString(w, "by mistake") // sets no deadline for a connection that was given away
				time.Sleep(200 * time.Millisecond)
				line, err := rw.ReadString('\n')
				fmt.Fprintf(conn, "%s%v", line, err)
			})),
		),
	)
	server := httptest.NewServer(api)
	defer server.Close()
	at := server.Listener.Addr().String()
	status := func(in *bufio.Reader) int {
		resp, err := http.ReadResponse(in, nil)
		if err != nil {
			return 0 // no answer is no success
		}
		io.Copy(io.Discard, resp.Body)
		return resp.StatusCode
	}

	t.Run("the rest of a refused body is no request", func(t *testing.T) {
		var all sync.WaitGroup
		for _, framing := range []string{"Content-Length: 1048876\r\n\r\n", "Transfer-Encoding: chunked\r\n\r\n10000\r\n"} {
			conn, in := dial(t, at, "POST /gauge"+postJSON+framing+strings.Repeat(" ", 2000))
			all.Go(func() {
				if got := status(in); got != 413 {
					t.Errorf("%q: %d", framing, got)
				}
				time.Sleep(2200 * time.Millisecond) // longer than the rest is received
				io.WriteString(conn, "POST /effect HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n")
				if rest, _ := io.ReadAll(in); len(rest) > 0 {
					t.Errorf("%q: the connection went on: %s", framing, rest)
				}
			})
		}
		if all.Wait(); len(effects) > 0 {
			t.Error("the rest of a body was taken for a request")
		}
	})
	t.Run("what failed is no success", func(t *testing.T) {
		for request, want := range map[string]int{
			"POST /gauge" + postJSON + "Content-Length: 500\r\n\r\n{\"name\":": 400, // and no more: the body is cut short
			"GET /silent HTTP/1.1\r\nHost: x\r\n\r\n":                          503,
			"POST /left" + postJSON + "Content-Length: 2\r\n\r\n{}":            0, // nobody is told anything
		} {
			conn, in := dial(t, at, request)
			if want != 503 {
				conn.(*net.TCPConn).CloseWrite()
			}
			if got := status(in); got != want {
				t.Errorf("%.20s: %d, want %d", request, got, want)
			}
		}
	})
	t.Run("the rest of a body that was given up is no request", func(t *testing.T) {
		conn, in := dial(t, at, "POST /careless"+postJSON+"Content-Length: 5000\r\n\r\n{")
		status(in)
		io.WriteString(conn, "POST /effect HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n")
		if rest, _ := io.ReadAll(in); len(rest) > 0 || len(effects) > 0 {
			t.Errorf("the connection went on: %s", rest)
		}
	})
	t.Run("slow callers give their seats back", func(t *testing.T) {
		conn, in := dial(t, at, "POST /slow"+postJSON+"Content-Length: 500\r\n\r\n")
		go func() {
			for range 20 {
				time.Sleep(20 * time.Millisecond)
				if _, err := io.WriteString(conn, " "); err != nil {
					return
				}
			}
		}()
		resp, err := http.ReadResponse(in, nil)
		if err != nil {
			t.Fatal(err)
		}
		if told, _ := io.ReadAll(resp.Body); resp.StatusCode != 408 || !strings.Contains(string(told), "within the time that the route has") {
			t.Errorf("a slow body: %d %s", resp.StatusCode, told)
		}
		_, in = dial(t, at, "GET /large HTTP/1.1\r\nHost: x\r\n\r\n")
		in.Peek(1)
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			t.Error("a caller who does not read holds the seat")
		}
		for range 100 {
			if _, in = dial(t, at, "POST /slow"+postJSON+"Content-Length: 26\r\n\r\n"+`{"name":"bell","level":1} `); status(in) == 200 {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
		t.Error("the seat was not given back")
	})
	t.Run("no deadline is left behind", func(t *testing.T) {
		conn, in := dial(t, at, "POST /slow"+postJSON+"Content-Length: 25\r\n\r\n"+`{"name":"bell","level":1}`)
		if got := status(in); got != 200 {
			t.Errorf("in time: %d", got)
		}
		time.Sleep(150 * time.Millisecond)
		io.WriteString(conn, "GET /after HTTP/1.1\r\nHost: x\r\n\r\n")
		if got := status(in); got != 200 {
			t.Errorf("the next request: %d", got)
		}
		_, in = dial(t, at, "GET /stream HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
		resp, err := http.ReadResponse(in, nil)
		if err != nil {
			t.Fatal(err)
		}
		if text, err := io.ReadAll(resp.Body); string(text) != strings.Repeat("piece ", 4) || err != nil {
			t.Errorf("a stream that takes longer: %q %v", text, err)
		}
		conn, in = dial(t, at, "GET /hijack HTTP/1.1\r\nHost: x\r\n\r\n")
		time.Sleep(250 * time.Millisecond)
		io.WriteString(conn, "still here\n")
		if text, _ := io.ReadAll(in); string(text) != "still here\n<nil>" {
			t.Errorf("a hijacked connection: %q", text)
		}
	})
	t.Run("interim answers pass", func(t *testing.T) {
		_, in := dial(t, at, "GET /early HTTP/1.1\r\nHost: x\r\n\r\n")
		if first, last := status(in), status(in); first != 103 || last != 200 {
			t.Errorf("%d, then %d", first, last)
		}
	})
	t.Run("packed bodies count on both sides", func(t *testing.T) {
		var empty, double bytes.Buffer
		gzip.NewWriter(&empty).Close()
		z := gzip.NewWriter(&double)
		io.WriteString(z, strings.Repeat(" ", 5000))
		z.Close()
		skippable := "\x50\x2a\x4d\x18\x00\x00\x00\x00"
		window := func(exponent byte) string {
			return "\x28\xb5\x2f\xfd\x00" + string([]byte{exponent << 3}) + "\x29\x00\x00hello"
		}
		for _, c := range []struct {
			codings, body string
			status        int
		}{
			{"gzip", strings.Repeat(empty.String(), 100), 413},
			{"gzip", double.String(), 413},
			{"zstd", strings.Repeat(skippable, 200), 413},
			{"zstd", window(14), 413}, // 16 MiB
			{"zstd", window(0), 400},  // read, and no JSON
			{"gzip, gzip", "x", 415},
			{"gzip\nContent-Encoding: zstd", "x", 415},
			{"identity\nContent-Encoding: br", "x", 415},
		} {
			w := ask(api, "POST /gauge", asJSON+"\nContent-Encoding: "+c.codings, c.body)
			if w.Code != c.status {
				t.Errorf("%s: %d %s, want %d", c.codings, w.Code, w.Body, c.status)
			}
		}
		if took := allocated(func() { ask(api, "POST /gauge", asJSON+"\nContent-Encoding: zstd", window(13)) }); took > 1<<20 {
			t.Errorf("a window of 8 MiB announced by ten bytes takes %d", took)
		}
	})
	t.Run("HTTP/2 refuses at once", func(t *testing.T) {
		two := httptest.NewUnstartedServer(api)
		two.EnableHTTP2 = true
		two.StartTLS()
		defer two.Close()
		start := time.Now()
		resp, err := two.Client().Post(two.URL+"/gauge", "application/json", strings.NewReader(strings.Repeat(" ", 3000)))
		if err != nil || resp.StatusCode != 413 || resp.ProtoMajor != 2 || time.Since(start) > time.Second {
			t.Errorf("%v %+v after %v", err, resp, time.Since(start))
		}
	})
}

// Serve answers what is under way before it ends, and hears of a body that is too slow.
func TestServeDrains(t *testing.T) {
	begun := make(chan bool)
	api := build(t, wicketway.Log(slog.New(slog.DiscardHandler)), wicketway.Route("GET /tide", func(context.Context, wicketway.None) (string, error) {
		begun <- true
		time.Sleep(200 * time.Millisecond)
		return "high", nil
	}))
	ctx, stop := context.WithCancel(context.Background())
	address := make(chan net.Addr, 1)
	ended := make(chan error, 1)
	go func() { ended <- api.Serve(ctx, "127.0.0.1:0", func(a net.Addr) { address <- a }) }()
	_, in := dial(t, (<-address).String(), "GET /tide HTTP/1.1\r\nHost: x\r\n\r\n")
	<-begun
	stop()
	resp, err := http.ReadResponse(in, nil)
	if err != nil || resp.StatusCode != 200 {
		t.Errorf("a request under way: %v %+v", err, resp)
	}
	if err := <-ended; err != nil {
		t.Errorf("Serve ends with %v", err)
	}
}

// A counted file counts what is read of it.
type counted struct {
	io.ReadSeeker
	read *int
}

func (c counted) Read(p []byte) (int, error) {
	n, err := c.ReadSeeker.Read(p)
	*c.read += n
	return n, err
}

// zeros read as many zeros as they have, at most.
type zeros struct{ at, size int64 }

func (z *zeros) Read(p []byte) (int, error) {
	n := min(int64(len(p)), z.size-z.at)
	z.at += n
	if clear(p[:n]); n == 0 {
		return 0, io.EOF
	}
	return int(n), nil
}

func (z *zeros) Seek(offset int64, whence int) (int64, error) {
	z.at = offset + []int64{0, z.at, z.size}[whence]
	return z.at, nil
}

// Of a large content no more is read than is sent, and of one that cannot seek nothing is kept.
func TestContentIsReadOnce(t *testing.T) {
	const size = 16 << 20
	read := 0
	var packed bytes.Buffer
	archive := zip.NewWriter(&packed)
	member, _ := archive.Create("large.bin")
	io.Copy(member, &zeros{size: size})
	archive.Close()
	files, err := zip.NewReader(bytes.NewReader(packed.Bytes()), int64(packed.Len()))
	if err != nil {
		t.Fatal(err)
	}
	content := func(modified time.Time) func(context.Context, wicketway.None) (wicketway.Content, error) {
		return func(context.Context, wicketway.None) (wicketway.Content, error) {
			return wicketway.Content{Modified: modified, Body: counted{&zeros{size: size}, &read}}, nil
		}
	}
	api := build(t, wicketway.Files("/zip", files), wicketway.Group(wicketway.Conditional(),
		wicketway.Route("GET /dated", content(time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC))), wicketway.Route("GET /undated", content(time.Time{}))))
	tag := ask(api, "HEAD /dated", "", "").Header().Get("Etag")
	for _, c := range []struct {
		line, header string
		status, body int
		tagged       bool
	}{
		{"GET /dated", "Range: bytes=7-7", 206, 1, true}, {"GET /dated", "If-None-Match: " + tag, 304, 0, true}, {"HEAD /dated", "", 200, 0, true},
		{"GET /undated", "Range: bytes=7-7", 206, 1, false}, {"HEAD /zip/large.bin", "", 200, 0, true},
	} {
		read = 0
		var w *httptest.ResponseRecorder
		cost := allocated(func() { w = ask(api, c.line, c.header, "") })
		if w.Code != c.status || w.Body.Len() != c.body || read > 100_000 || cost > 500_000 || (w.Header().Get("Etag") != "") != c.tagged {
			t.Errorf("%s with %s: %d, %d bytes, %d read, %d allocated, tag %q", c.line, c.header, w.Code, w.Body.Len(), read, cost, w.Header().Get("Etag"))
		}
	}
	if w := ask(api, "HEAD /zip/large.bin", "", ""); w.Header().Get("Content-Length") != fmt.Sprint(size) || w.Header().Get("Content-Type") != "application/octet-stream" {
		t.Errorf("a member of an archive: %v", w.Header())
	}
	server := httptest.NewServer(api)
	defer server.Close()
	resp, err := http.Get(server.URL + "/zip/large.bin")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if n, err := io.Copy(io.Discard, resp.Body); n != size || err != nil {
		t.Errorf("a member of an archive: %d bytes, %v", n, err)
	}
}

// A taker is the far end of a connection that takes so many bytes a second, by the time of a bubble.
type taker struct {
	*httptest.ResponseRecorder
	rate  int
	until time.Time
	kept  int // bytes that the server keeps
}

func (s *taker) SetWriteDeadline(t time.Time) error { s.until = t; return nil }

func (s *taker) Write(p []byte) (int, error) {
	if s.kept+len(p) <= 4096 {
		s.kept += len(p)
		return len(p), nil
	}
	took := 1000 * time.Hour
	if s.rate > 0 {
		took = time.Duration(s.kept+len(p)) * time.Second / time.Duration(s.rate)
	}
	s.kept = 0
	if !s.until.IsZero() && time.Until(s.until) < took {
		time.Sleep(time.Until(s.until))
		return 0, os.ErrDeadlineExceeded
	}
	time.Sleep(took)
	return len(p), nil
}

func (s *taker) FlushError() error {
	s.kept += 4096 // so that it must go out
	_, err := s.Write([]byte("the end of a piece"))
	return err
}

// Callers who do not read, or hardly, do not hold a seat; those who read slowly get their answer.
func TestWhoDoesNotReadHoldsNoSeat(t *testing.T) {
	large := strings.Repeat("a", 1<<20)
	api := build(t, wicketway.Limits{AtOnce: 1},
		wicketway.Handle("GET /plain", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, large) })),
		wicketway.Route("GET /value", func(context.Context, wicketway.None) (string, error) { return large, nil }),
		wicketway.Route("GET /content", func(context.Context, wicketway.None) (wicketway.Content, error) { return wicketway.Text(large), nil }),
		wicketway.Handle("GET /events", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			for range 5 {
				fmt.Fprint(w, "event")
				if http.NewResponseController(w).Flush() != nil {
					return
				}
				time.Sleep(time.Hour) // meanwhile the caller need not take anything
			}
		})))
	slow := wicketway.Handle("GET /slow", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for range 3 {
			if _, err := io.WriteString(w, large[:9000]); err != nil {
				return
			}
			time.Sleep(time.Hour) // it is the handler that is slow
		}
	}))
	slowly := build(t, slow)
	synctest.Test(t, func(t *testing.T) {
		for _, proto := range []int{1, 2} {
			w, start := &taker{ResponseRecorder: httptest.NewRecorder(), rate: 5000}, time.Now()
			r := httptest.NewRequest("GET", "/slow", nil)
			r.ProtoMajor = proto
			if slowly.ServeHTTP(w, r); time.Since(start) < 3*time.Hour || proto == 2 && !w.until.IsZero() {
				t.Errorf("a slow handler, HTTP/%d: ends after %v, deadline %v", proto, time.Since(start), w.until)
			}
		}
	})
	for _, c := range []struct {
		path  string
		rate  int // bytes a second
		whole bool
	}{
		{"/plain", 0, false}, {"/value", 0, false}, {"/content", 0, false}, {"/events", 0, false}, {"/plain", 100, false}, {"/content", 500, false},
		{"/plain", 2000, true}, {"/value", 2000, true}, {"/content", 2000, true}, {"/events", 2000, true},
	} {
		synctest.Test(t, func(t *testing.T) {
			start, slow := time.Now(), &taker{ResponseRecorder: httptest.NewRecorder(), rate: c.rate}
			ended := make(chan time.Duration, 1)
			go func() {
				defer func() { recover(); ended <- time.Since(start) }() // a connection is given up by a panic
				r := httptest.NewRequest("GET", c.path, nil)
				api.ServeHTTP(slow, r)
			}()
			took := <-ended
			if c.whole && took < 500*time.Second || !c.whole && took > 5*time.Minute {
				t.Errorf("%s at %d bytes a second ends after %v", c.path, c.rate, took)
			}
			if w := ask(api, "OPTIONS "+c.path, "", ""); w.Code != 204 {
				t.Errorf("%s at %d bytes a second still holds the seat: %d", c.path, c.rate, w.Code)
			}
		})
	}
}
