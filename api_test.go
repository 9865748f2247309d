package wicketway_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/honest"
	"github.com/wicketway/wicketway/problem"
)

var about = wicketway.Info{Title: "Test", Version: "1.0.0"}

func build(t *testing.T, parts ...wicketway.Part) *wicketway.API {
	t.Helper()
	api, err := wicketway.Build(about, parts...)
	if err != nil {
		t.Fatal(err)
	}
	return api
}

// ask sends a request in process, and holds the answer against the facts. The header is written as "Name: value"
// lines.
func ask(api http.Handler, line, header, body string) *httptest.ResponseRecorder {
	r, w := send(api, line, header, body)
	if a, is := api.(*wicketway.API); is {
		noteDishonest(a, r, w.Code, w.Header(), w.Body.String())
	}
	return w
}

func send(api http.Handler, line, header, body string) (*http.Request, *httptest.ResponseRecorder) {
	method, target, _ := strings.Cut(line, " ")
	r := httptest.NewRequest(method, target, strings.NewReader(body))
	for field := range strings.Lines(header) {
		name, value, _ := strings.Cut(strings.TrimSpace(field), ": ")
		r.Header.Add(name, value)
	}
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	return r, w
}

// dishonest are the answers to ask that the facts of their API do not have.
var dishonest struct {
	mu       sync.Mutex
	checkers map[*wicketway.API]*honest.Checker
	found    []string
}

func noteDishonest(api *wicketway.API, r *http.Request, status int, header http.Header, body string) {
	dishonest.mu.Lock()
	defer dishonest.mu.Unlock()
	c := dishonest.checkers[api]
	if c == nil {
		var err error
		if c, err = honest.New(api.Describe()); err != nil {
			dishonest.found = append(dishonest.found, err.Error())
			return
		}
		if dishonest.checkers == nil {
			dishonest.checkers = map[*wicketway.API]*honest.Checker{}
		}
		dishonest.checkers[api] = c
	}
	a := honest.Answer{Method: r.Method, Path: r.URL.EscapedPath(), Status: status, Header: header, Body: body}
	if wrong := c.Wrong(a, false); wrong != "" && !strings.HasSuffix(r.URL.Path, "/broken") && r.URL.Path != "/dev" { // those break their own rules
		dishonest.found = append(dishonest.found, wrong)
	}
}

// What the facts say of answers is held against every answer that a test of this package has asked for.
func TestMain(m *testing.M) {
	status := m.Run()
	for _, wrong := range dishonest.found {
		fmt.Fprintf(os.Stderr, "the facts do not have an answer: %.600s\n", wrong)
		status = 1
	}
	os.Exit(status)
}

const asJSON = "Content-Type: application/json"

// checkProblem holds an answer against the shape that all problems have, and
// gives its faults as "in name-or-pointer rule".
func checkProblem(t *testing.T, what string, w *httptest.ResponseRecorder, status int, code string) (faults []string) {
	t.Helper()
	var p struct {
		Type, Title, Detail, Instance, Code string
		Status                              int
		Errors                              []struct{ In, Name, Pointer, Rule, Detail string }
	}
	if err := json.Unmarshal(w.Body.Bytes(), &p, json.MatchCaseInsensitiveNames(true)); err != nil {
		t.Errorf("%s: %v in %q", what, err, w.Body)
	}
	if w.Code != status || p.Status != status || p.Code != code || p.Type == "" || p.Title == "" ||
		w.Header().Get("Content-Type") != problem.MediaType {
		t.Errorf("%s: %d %s %s, want %d %s", what, w.Code, w.Header().Get("Content-Type"), w.Body, status, code)
	}
	for _, e := range p.Errors {
		faults = append(faults, e.In+" "+e.Name+e.Pointer+" "+e.Rule)
	}
	return faults
}

// mark is a middleware that leaves its name in the field Passed.
func mark(name string) wicketway.Middleware {
	return wicketway.Wrap(name, func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Add("Passed", name)
			next.ServeHTTP(w, r)
		})
	})
}

// A plate is a guard that takes the field Plate for the caller.
type plate string

func (p plate) Scheme() exchange.Scheme   { return exchange.Scheme{Name: string(p)} }
func (p plate) Challenge([]string) string { return "Plate" }
func (p plate) Authenticate(r *http.Request) (*wicketway.Identity, error) {
	name, scopes, _ := strings.Cut(r.Header.Get("Plate"), " ")
	if name == "nobody" {
		return nil, nil // which no guard may do
	}
	if name == "" {
		return nil, problem.Unauthorized.Newf("no plate for %s", p).WithHeader("WWW-Authenticate", "Plate")
	}
	return &wicketway.Identity{Subject: name, Scopes: strings.Fields(scopes)}, nil
}

func whoami(ctx context.Context, _ wicketway.None) (string, error) {
	return wicketway.Caller(ctx).Subject, nil
}

// Chains add up from the outside in, guards replace each other and are asked
// after the chain of their own list, and what no route takes passes the chain of
// its group without the guard.
func TestSettingsHoldForWhatStandsInTheirGroup(t *testing.T) {
	api := build(t,
		wicketway.Route("GET /open", whoami),
		wicketway.Chain(mark("outer")), // after a route: order does not matter
		wicketway.At("/in",
			wicketway.Guard(plate("first")),
			wicketway.Chain(mark("a"), mark("b")),
			wicketway.Route("GET /", whoami),
			wicketway.Route("GET /public", whoami, wicketway.Public(), wicketway.Chain(mark("own"))),
			wicketway.Group(
				wicketway.Chain(mark("c")),
				wicketway.Scopes("read"),
				wicketway.Route("GET /read", whoami),
				wicketway.Route("GET /write", whoami, wicketway.Scopes("write"), wicketway.Chain(mark("d"))),
			),
			wicketway.At("/deep", wicketway.Guard(plate("second")), wicketway.Chain(mark("e")), wicketway.Route("GET /x", whoami)),
			wicketway.Group(wicketway.Version("v1", wicketway.Chain(mark("v")), wicketway.Route("GET /x", whoami, wicketway.Public()))),
		),
	)
	for _, c := range []struct {
		line, plate string
		status      int
		passed      string
		body        string
	}{
		{"GET /open", "", 200, "outer", `""`},
		{"GET /in", "", 401, "outer a b", "no plate for first"},
		{"GET /in", "OB-1001", 200, "outer a b", `"OB-1001"`},
		{"GET /in", "nobody", 500, "outer a b", "internal"},
		{"GET /in/public", "", 200, "outer a b own", `""`},
		{"GET /in/read", "OB-1001", 403, "outer a b", "the scope read; the caller has no scope"},
		{"GET /in/read", "OB-1001 read", 200, "outer a b c", `"OB-1001"`},
		{"GET /in/write", "OB-1001 read", 403, "outer a b", "the scopes read, write"},
		{"GET /in/write", "OB-1001 read write", 200, "outer a b c d", `"OB-1001"`},
		{"GET /in/deep/x", "", 401, "outer a b e", "no plate for second"},
		{"GET /in/v1/x", "", 200, "outer a b v", `""`},
		{"GET /in/v1/none", "", 404, "outer a b v", "not-found"},
		{"GET /in/v2/x", "", 404, "outer a b", "Version v2 does not exist at /in/v2/x; available: v1."},
		{"GET /in/none", "", 404, "outer a b", "not-found"},
		{"GET /none", "", 404, "outer", "not-found"},
		{"PUT /in/read", "", 405, "outer a b", "allowed are GET, HEAD, OPTIONS"},
		{"OPTIONS /in/read", "", 204, "outer a b", ""},
	} {
		header := ""
		if c.plate != "" {
			header = "Plate: " + c.plate
		}
		w := ask(api, c.line, header, "")
		passed := strings.Join(w.Header().Values("Passed"), " ")
		if w.Code != c.status || passed != c.passed || !strings.Contains(w.Body.String(), c.body) {
			t.Errorf("%s as %q: %d, passed %q, %s\nwant %d, %q, %s", c.line, c.plate, w.Code, passed, w.Body, c.status, c.passed, c.body)
		}
	}
}

type inputs struct {
	ID    int64    `from:"path id" rule:"minimum=1"`
	Limit int      `from:"query limit" rule:"maximum=100 default=20"`
	Tags  []string `from:"query tag"`
	Key   string   `from:"header Idempotency-Key" rule:"required maxLength=4"`
	Body  struct {
		Name string `json:"name" rule:"minLength=1"`
		Due  bool   `json:"due"`
	} `from:"body"`
}

func TestInputs(t *testing.T) {
	var got inputs
	api := build(t, wicketway.Route("PUT /things/{id}", func(_ context.Context, in inputs) (wicketway.None, error) {
		got = in
		return wicketway.None{}, nil
	}, wicketway.Limits{Body: 64}))
	const key = asJSON + "\nIdempotency-Key: k1"
	if w := ask(api, "PUT /things/7?tag=a&tag=b", key, `{"name":"x","due":false}`); w.Code != 204 ||
		got.ID != 7 || got.Limit != 20 || !slices.Equal(got.Tags, []string{"a", "b"}) || got.Key != "k1" || got.Body.Name != "x" {
		t.Errorf("%d %s: %+v", w.Code, w.Body, got)
	}
	for _, c := range []struct {
		line, header, body string
		status             int
		code               string
		faults             string
	}{
		{"PUT /things/seven?limit=x", asJSON, `{"name":""}`, 400, "input-unreadable",
			"path id type, query limit type, header Idempotency-Key required, body /name minLength, body /due required"},
		{"PUT /things/0?limit=101", asJSON + "\nIdempotency-Key: toolong", `{"due":true,"name":"n"}`, 422, "input-invalid",
			"path id minimum, query limit maximum, header Idempotency-Key maxLength"},
		{"PUT /things/1?limit=1&limit=2", key, `{"name":"x","due":true}`, 400, "input-unreadable", "query limit unique"},
		{"PUT /things/1?limit=%zz", key, `{"name":"x","due":true}`, 400, "input-unreadable", "query  syntax"},
		{"PUT /things/1", key, ``, 400, "input-unreadable", "body  syntax"},
		{"PUT /things/1", "Idempotency-Key: k1", `{}`, 415, "unsupported-media-type", ""},
		{"PUT /things/1", "Idempotency-Key: k1\nContent-Type: application/xml", `{}`, 415, "unsupported-media-type", ""},
		{"PUT /things/1", "Idempotency-Key: k1\nContent-Type: application/json; charset=latin1", `{}`, 415, "unsupported-media-type", ""},
		{"PUT /things/1", key, `{"name":"` + strings.Repeat("x", 64) + `"}`, 413, "body-too-large", ""},
	} {
		w := ask(api, c.line, c.header, c.body)
		if faults := checkProblem(t, c.line+" "+c.body, w, c.status, c.code); strings.Join(faults, ", ") != c.faults {
			t.Errorf("%s %s: %q, want %q", c.line, c.body, faults, c.faults)
		}
	}
	for sent, want := range map[string][]string{ // what was meant is named, what may be a secret is not repeated
		`{"Name":"x","due":true}`:                                     {"did you mean name?"},
		`{"nothing":"x","due":true}`:                                  {"is not a known member (known: name, due)"},
		asJSON + "\nContent-Encoding: lzw":                            {"encoded as lzw"},
		asJSON + "\nContent-Encoding: " + strings.Repeat("s3cret", 5): {"encoded as something else"},
	} {
		header, body := key, sent
		if !strings.HasPrefix(sent, "{") {
			header, body = sent+"\nIdempotency-Key: k1", `{"name":"x","due":true}`
		}
		if w := ask(api, "PUT /things/1", header, body); !strings.Contains(w.Body.String(), want[0]) || strings.Contains(w.Body.String(), "s3cret") {
			t.Errorf("%s: %s, want %s", sent, w.Body, want)
		}
	}
	if w := ask(api, "PUT /things/1", "Idempotency-Key: k1\nContent-Type: application/merge+json; charset=UTF-8", `{"name":"x","due":true}`); w.Code != 204 {
		t.Errorf("a type that ends in +json: %d %s", w.Code, w.Body)
	}
}

type edges struct {
	Host   string  `from:"header Host"`
	Berth  string  `from:"cookie berth"`
	Level  float64 `from:"query level"`
	Change *change `from:"body"`
}

type change struct {
	Name string `json:"name"`
}

// What is at the edge of a request, row by row.
func TestEdgesOfRequests(t *testing.T) {
	var api *wicketway.API
	api = build(t,
		wicketway.Route("PATCH /edges", func(_ context.Context, in *edges) (string, error) {
			return fmt.Sprint(in.Host, in.Berth, in.Level, in.Change != nil), nil
		}),
		wicketway.Group(wicketway.Limits{AtOnce: 1}, wicketway.Route("GET /outer", func(context.Context, wicketway.None) (int, error) {
			return ask(api, "GET /inner", "", "").Code, nil
		}), wicketway.Route("GET /inner", whoami, wicketway.Limits{AtOnce: 5})),
	)
	for _, c := range []struct {
		line, header, body string
		chunked            bool
		status             int
		want               string
	}{
		{"PATCH /edges", "", "", false, 200, `"canal.example0 false"`},
		{"PATCH /edges", "", "", true, 200, `"canal.example0 false"`}, // of unknown length, and empty
		{"PATCH /edges", asJSON, `{"name":"x"}`, true, 200, `"canal.example0 true"`},
		{"PATCH /edges", "Content-Type: text/plain", `{"name":"x"}`, true, 415, "unsupported-media-type"},
		{"PATCH /edges", "Content-Type: application/json-patch+json", `[]`, false, 415, "The body is a JSON Patch."},
		{"PATCH /edges", "Content-Type: application/merge-patch+json", `null`, false, 200, `"canal.example0 false"`},
		{"PATCH /edges", "Cookie: berth=a; berth=b", "", false, 400, `"is given more than once"`},
		{"PATCH /edges", "Cookie: berth=a", "", false, 200, `"canal.examplea0 false"`},
		{"PATCH /edges?level=NaN", "", "", false, 400, "must be a number"},
		{"PATCH /edges?level=Infinity", "", "", false, 400, "must be a number"},
		{"PATCH /edges?level=1e400", "", "", false, 400, "must be a number"},
		{"GET /outer", "", "", false, 200, "503"}, // the outer limit holds beside the inner one
		{"GET /outer", "", "", false, 200, "503"}, // and the seat was given back
	} {
		method, target, _ := strings.Cut(c.line, " ")
		r := httptest.NewRequest(method, target, strings.NewReader(c.body))
		if r.Host = "canal.example"; c.chunked {
			r.ContentLength, r.TransferEncoding = -1, []string{"chunked"}
		}
		if name, value, ok := strings.Cut(c.header, ": "); ok {
			r.Header.Add(name, value)
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		if w.Code != c.status || !strings.Contains(w.Body.String(), c.want) {
			t.Errorf("%s (%s) %s: %d %s, want %d %s", c.line, c.header, c.body, w.Code, w.Body, c.status, c.want)
		}
	}
}

var (
	errCanal  = problem.Define(http.StatusConflict, "canal", "The canal cannot do that now")
	errClosed = errCanal.Define(http.StatusConflict, "lock-closed", "The lock is closed")
)

// Over real connections: a HEAD has the length and no body, a panic after the
// header cuts the connection, and many callers at a time do not meet.
func TestOverConnections(t *testing.T) {
	late := wicketway.Wrap("late", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/late" {
				io.WriteString(w, strings.Repeat("x", 8192))
				panic("too late")
			}
			next.ServeHTTP(w, r)
		})
	})
	type echo struct {
		Word string `from:"path word"`
	}
	api := build(t, wicketway.Chain(late),
		wicketway.Route("GET /late", whoami),
		wicketway.Handle("GET /written", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "water") })),
		wicketway.Handle("GET /flushed", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, "wa")
			w.(http.Flusher).Flush()
			io.WriteString(w, "ter")
		})),
		wicketway.Route("GET /echo/{word}", func(_ context.Context, in echo) (string, error) { return in.Word, nil }),
	)
	server := httptest.NewServer(api)
	defer server.Close()
	long := strings.Repeat("y", 5000)
	for path, length := range map[string]int64{"/echo/" + long: int64(len(long) + 3), "/written": 5, "/flushed": -1} { // a GET that flushes has no length
		resp, err := http.Head(server.URL + path)
		if err != nil || resp.ContentLength != length {
			t.Errorf("HEAD %.20s: %v, length %d, want %d", path, err, resp.ContentLength, length)
		}
	}
	if resp, err := http.Get(server.URL + "/late"); err == nil {
		if _, err := io.ReadAll(resp.Body); err == nil {
			t.Error("a broken answer looks whole")
		}
		resp.Body.Close()
	}
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			for j := range 25 {
				word := fmt.Sprintf("w%d-%d", i, j)
				resp, err := http.Get(server.URL + "/echo/" + word)
				if err != nil {
					t.Error(err)
					return
				}
				body, _ := io.ReadAll(resp.Body)
				resp.Body.Close()
				if string(body) != `"`+word+`"`+"\n" {
					t.Errorf("%s came back as %s", word, body)
				}
			}
		})
	}
	all.Wait()
}

func TestBuildListsEveryMistake(t *testing.T) {
	type wrong struct {
		Limit int    `from:"querry limit"`
		Gauge string `from:"path gauge"`
		Depth int    `from:"query depth" rule:"minLength=2"`
		Loose string
	}
	nothing := func(context.Context, wicketway.None) (wicketway.None, error) { return wicketway.None{}, nil }
	list := []wicketway.Part{
		wicketway.Route("GET /a/{x}", func(context.Context, wrong) (wicketway.None, error) { return wicketway.None{}, nil }),
		wicketway.Route("GET /same", nothing),
		wicketway.Route("GET /same", nothing),
		wicketway.Route("/no-method", nothing),
		wicketway.Route("GET /open{", nothing),
		wicketway.Route("GET /body", func(context.Context, struct{ A int }) (wicketway.None, error) { return wicketway.None{}, nil }),
		wicketway.Route("GET /scoped", nothing, wicketway.Scopes("x")),
		wicketway.Group(wicketway.Guard(plate("p")), wicketway.Scopes("x"), wicketway.Route("GET /reopened", nothing, wicketway.Public(), wicketway.Scopes("y"))),
		wicketway.Route("GET /status", nothing, wicketway.Answers(404)),
		wicketway.Route("GET /twice", nothing, wicketway.Summary("a"), wicketway.Summary("b")),
		wicketway.Group(wicketway.Guard(plate("p")), wicketway.Public(), wicketway.Route("GET /both", nothing)),
		wicketway.Group(wicketway.Guard(nil), wicketway.Chain(wicketway.Middleware{}), wicketway.Route("GET /nil", nothing)),
		wicketway.Route("GET /fails", nothing, wicketway.Fails(problem.Define(200, "Bad Code", ""), problem.Define(409, "canal", "Other"), errCanal)),
		wicketway.Route("GET /chan", func(context.Context, wicketway.None) (chan int, error) { return nil, nil }),
		wicketway.Version("v1", wicketway.Version("v2", wicketway.Route("GET /v", nothing))),
		nil,
	}
	build := func() error { _, err := wicketway.Build(wicketway.Info{}, list...); return err }
	err := build()
	mistakes, ok := errors.AsType[wicketway.Mistakes](err)
	if !ok {
		t.Fatalf("Build: %v", err)
	}
	for _, want := range []string{
		`Info: the API needs a Title`,
		`GET /a/{x}: wrong.Limit: unknown source "querry" (path, query, header, cookie, body, form, file)`,
		`GET /a/{x}: wrong.Gauge: the template has no parameter {gauge}; it has {x}`,
		`GET /a/{x}: wrong.Depth: rule minLength: is for text, not for int`,
		`GET /a/{x}: wrong.Loose: has no from tag`,
		`GET /a/{x}: no field reads the parameter {x}`,
		`GET /same: matches the same paths as GET /same at api_test.go:`,
		`"/no-method": a route's line is a method, a space and a path template`,
		`template "/open{", character 6: { is never closed`,
		`GET /body: the input reads a body, which a GET does not have`,
		`Scopes: has no effect: no guard holds here`,
		`Answers: 404 is not the status of a success`,
		`Summary: cannot be used together with Summary at api_test.go:`,
		`Public: cannot be used together with Guard`,
		`Guard: the guard is nil`,
		`Chain: middleware 1 has no function`,
		`status 200 is not an error`,
		`the code "canal" is declared by two kinds`,
		`the type chan int has no JSON form`,
		`Version "v2": is inside version "v1"`,
		`a part or a setting is nil`,
	} {
		n := slices.IndexFunc(mistakes, func(m wicketway.Mistake) bool { return strings.Contains(m.Text, want) })
		if n < 0 {
			t.Errorf("nothing is said of: %s", want)
			continue
		}
		if m := mistakes[n]; !strings.HasSuffix(m.File, "api_test.go") || m.Line == 0 {
			t.Errorf("%v has the wrong place", m)
		}
	}
	if n := strings.Count(err.Error(), "Scopes: has no effect: no guard holds here"); n != 2 { // without a guard, and beside Public
		t.Errorf("%d lists have scopes without a guard", n)
	}
	if t.Failed() {
		t.Log(err)
	}
	if again := build(); again == nil || again.Error() != err.Error() {
		t.Errorf("building again says something else: %v", again)
	}
}
