package wicketway_test

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/cache"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/internal/advice"
	"github.com/wicketway/wicketway/problem"
)

// A record is a log that tests can read.
type record struct {
	mu    sync.Mutex
	lines bytes.Buffer
}

func (l *record) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.lines.Write(p)
}

// take gives the lines written since the last take, once there is one.
func (l *record) take() []string {
	for range 200 {
		l.mu.Lock()
		text := l.lines.String()
		l.lines.Reset()
		l.mu.Unlock()
		if text != "" {
			return strings.Split(strings.TrimSpace(text), "\n")
		}
		time.Sleep(5 * time.Millisecond)
	}
	return nil
}

// checkLog holds what was logged against what must be: one line for the request,
// with a status, at the level that goes with it, and with the cause.
func checkLog(t *testing.T, what string, lines []string, status int, cause string) {
	t.Helper()
	var line struct {
		Level, Error, Request string
		Stack                 []string
		Status                int
	}
	if len(lines) != 1 {
		t.Errorf("%s: %d lines were logged: %q", what, len(lines), lines)
		return
	}
	if err := json.Unmarshal([]byte(lines[0]), &line, json.MatchCaseInsensitiveNames(true)); err != nil {
		t.Errorf("%s: %v: %s", what, err, lines[0])
	}
	level := "WARN"
	switch {
	case strings.Contains(cause, "caller left"):
		level = "INFO"
	case status >= 500 || status <= 200:
		level = "ERROR"
	}
	if line.Status != status || line.Level != level || !strings.Contains(line.Error, cause) || line.Request == "" ||
		strings.Contains(cause, "panic") && line.Stack == nil && status >= 500 {
		t.Errorf("%s: wanted %s %d with %q: %s", what, level, status, cause, lines[0])
	}
}

var errStored = problem.Define(http.StatusNotFound, "no-such-row", "Nothing is stored there")

func TestEveryWayToFail(t *testing.T) {
	secret := errors.New("SELECT pin FROM vessels")
	give := func(err error) func(context.Context, wicketway.None) (string, error) {
		return func(context.Context, wicketway.None) (string, error) { return "", err }
	}
	throw := func(value any) func(context.Context, wicketway.None) (string, error) {
		return func(context.Context, wicketway.None) (string, error) { panic(value) }
	}
	broken := wicketway.Wrap("broken", func(http.Handler) http.Handler {
		return http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
			http.Header.Set(nil, "X", "writing to a nil map")
		})
	})
	plainText := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Kept", "yes")
		http.Error(w, "teapot in /srv/old.go", http.StatusTeapot)
	})
	log := &record{}
	waiting := make(chan struct{})
	rowsFirst := func(err error) error {
		if errors.Is(err, sql.ErrNoRows) {
			return errStored.New("No such row.")
		}
		return nil
	}
	forgets := wicketway.Wrap("forgets", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { next.ServeHTTP(w, r.WithContext(context.Background())) })
	})
	odd := problem.Define(1000, "odd", "Odd")
	gone := problem.Define(http.StatusGone, "gone", "It is no more")
	type named struct {
		Name string `from:"path name"`
	}
	api := build(t,
		wicketway.Log(slog.New(slog.NewJSONHandler(log, nil))),
		wicketway.Chain(requestid.Assign(), accesslog.To(slog.New(slog.NewJSONHandler(log, nil)), accesslog.Settings{})),
		wicketway.Translate(func(err error) error {
			switch {
			case errors.Is(err, sql.ErrNoRows), errors.Is(err, sql.ErrTxDone):
				return problem.Overloaded.New("outer")
			case errors.Is(err, sql.ErrConnDone):
				return errStored
			case errors.Is(err, io.ErrNoProgress):
				panic("the translation is wrong")
			}
			return nil
		}),
		wicketway.Route("GET /bare", give(fmt.Errorf("find: %w", sql.ErrConnDone))),
		wicketway.Route("GET /translation", give(io.ErrNoProgress)),
		wicketway.Route("GET /canceled", give(fmt.Errorf("gauge: %w", context.Canceled))),
		wicketway.Route("GET /panic/problem", throw(errClosed.New("Closed."))),
		wicketway.Route("GET /odd", give(odd.New("Odd."))),
		wicketway.Route("GET /undeclared", give(gone)),
		wicketway.Route("GET /forgotten", whoami, wicketway.Chain(forgets)),
		wicketway.Handle("GET /nothing/wrong", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { wicketway.Fail(w, r, nil) })),
		wicketway.Handle("GET /fields", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Set-Cookie", "session=1")
			w.Header().Set("X-Request-Id", "another")
			w.Header().Add("Vary", "Origin")
			panic(secret)
		})),
		wicketway.Route("GET /reply/fields", func(context.Context, wicketway.None) (wicketway.Reply[any], error) {
			return wicketway.Reply[any]{Header: http.Header{"Set-Cookie": {"session=1"}}, Value: make(chan int)}, nil
		}),
		wicketway.Route("GET /reply/204", func(context.Context, wicketway.None) (wicketway.Reply[string], error) {
			return wicketway.Reply[string]{Status: 205}, nil
		}),
		wicketway.Route("GET /reply/1000", func(context.Context, wicketway.None) (wicketway.Reply[string], error) {
			return wicketway.Reply[string]{Status: 1000}, nil
		}),
		wicketway.Handle("GET /status/1000", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(1000) })),
		wicketway.Route("GET /nil/{name}", func(context.Context, named) (*gauge, error) { return nil, nil }),
		wicketway.Route("GET /nil/{name}/reply", func(context.Context, named) (*wicketway.Reply[gauge], error) { return nil, nil }),
		wicketway.Route("GET /nil", func(context.Context, *wicketway.None) (*gauge, error) { return nil, nil }),
		wicketway.Route("POST /nil/{name}", func(context.Context, *named) (*wicketway.Reply[*gauge], error) {
			return &wicketway.Reply[*gauge]{}, nil
		}),
		wicketway.Group(wicketway.Translate(func(error) error { return nil }, rowsFirst),
			wicketway.Route("GET /row", give(fmt.Errorf("find: %w", sql.ErrNoRows))),
			wicketway.Route("GET /tx", give(sql.ErrTxDone))),
		wicketway.Route("GET /kind", give(errCanal)),
		wicketway.Route("GET /problem", give(fmt.Errorf("desk: %w", errClosed.New("Closed.").Private("gate", 7).Because(secret)))),
		wicketway.Route("GET /joined", give(errors.Join(errors.New("first"), errClosed.New("Second.")))),
		wicketway.Route("GET /foreign", give(secret)),
		wicketway.Route("GET /own500", give(problem.Internal.New("The gates are stuck.").RetryAfter(1500*time.Millisecond))),
		wicketway.Route("GET /panic", throw(secret)),
		wicketway.Route("GET /panic/text", throw("SELECT")),
		wicketway.Route("GET /panic/nil", func(context.Context, wicketway.None) (string, error) { var s *struct{ X string }; return s.X, nil }),
		wicketway.Route("GET /middleware", whoami, wicketway.Chain(broken)),
		wicketway.Route("GET /output", func(context.Context, wicketway.None) (float64, error) { return math.NaN(), nil }),
		wicketway.Route("GET /late", func(ctx context.Context, _ wicketway.None) (string, error) { <-ctx.Done(); return "", ctx.Err() }, wicketway.Limits{Time: 5 * time.Millisecond}),
		wicketway.Route("GET /seat", func(ctx context.Context, _ wicketway.None) (string, error) {
			waiting <- struct{}{}
			<-waiting
			return "", nil
		}, wicketway.Limits{AtOnce: 1}),
		wicketway.Route("POST /body", func(_ context.Context, in gauge) (gauge, error) { return in, nil }, wicketway.Limits{Body: 30}),
		wicketway.Route("GET /guarded", whoami, wicketway.Guard(plate("p"))),
		wicketway.Mount("/old", plainText, wicketway.ErrorsAsProblems()),
		wicketway.Handle("GET /fail", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { wicketway.Fail(w, r, secret) })),
		wicketway.Handle("GET /partly", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			io.WriteString(w, strings.Repeat("x", 5000))
			panic(secret)
		})),
		wicketway.Handle("GET /abort", http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })),
		wicketway.Handle("GET /gone", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			waiting <- struct{}{}
			<-r.Context().Done()
			wicketway.Fail(w, r, fmt.Errorf("stopped: %w", r.Context().Err()))
		})),
	)
	server := httptest.NewServer(api)
	defer server.Close()
	for _, c := range []struct {
		request string
		status  int
		code    string
		field   string // that the answer has
		cause   string // that the log has
	}{
		{"GET /nothing", 404, "not-found", "", "not-found"},
		{"GET /x/%2e%2e/nothing", 404, "not-found", "", "not-found"},
		{"DELETE /kind", 405, "method-not-allowed", "Allow: GET, HEAD, OPTIONS", "method-not-allowed"},
		{"GET /kind", 409, "canal", "", "canal"},
		{"GET /problem", 409, "lock-closed", "", "desk: lock-closed: Closed.: SELECT"},
		{"GET /joined", 409, "lock-closed", "", "first\nlock-closed"},
		{"GET /foreign", 500, "internal", "", "SELECT pin"},
		{"GET /own500", 500, "internal", "Retry-After: 2", "stuck"},
		{"GET /row", 404, "no-such-row", "", "no-such-row: No such row.: find: sql: no rows"},
		{"GET /tx", 503, "overloaded", "", "overloaded: outer: sql: transaction"},
		{"GET /panic", 500, "internal", "", "panic: SELECT pin"},
		{"GET /panic/text", 500, "internal", "", "panic: SELECT"},
		{"GET /panic/nil", 500, "internal", "", "panic: runtime error: invalid memory address"},
		{"GET /middleware", 500, "internal", "", "panic: assignment to entry in nil map"},
		{"GET /output", 500, "internal", "", "cannot be written as JSON"},
		{"GET /late", 503, "timeout", "", "deadline exceeded"},
		{"POST /body", 415, "unsupported-media-type", "Accept: application/json", "no Content-Type"},
		{"POST /body {", 400, "input-unreadable", "", "incomplete JSON"},
		{`POST /body {"name":"","level":1}`, 422, "input-invalid", "", "at least 1 character"},
		{`POST /body {"name":"a very long name","level":1}`, 413, "body-too-large", "", "larger than 30"},
		{"GET /guarded", 401, "unauthorized", "WWW-Authenticate: Plate", "no plate"},
		{"GET /old/pot", 418, "im-a-teapot", "X-Kept: yes", "teapot in /srv/old.go"},
		{"GET /fail", 500, "internal", "", "SELECT pin"},
		{"GET /bare", 404, "no-such-row", "", "no-such-row: find: sql: connection"}, // the cause is kept
		{"GET /translation", 500, "internal", "", "the translation is wrong"},
		{"GET /canceled", 500, "internal", "", "gauge: context canceled"}, // nobody left
		{"GET /panic/problem", 500, "internal", "", "panic: lock-closed"},
		{"GET /odd", 500, "internal", "", "the status 1000, which is not an error"},
		{"GET /undeclared", 410, "gone", "", "gone"},
		{"GET /forgotten", 500, "internal", "", "without its context"},
		{"GET /nothing/wrong", 500, "internal", "", "without an error"},
		{"GET /fields", 500, "internal", "Set-Cookie: ", "SELECT pin"},
		{"GET /fields", 500, "internal", "Vary: Accept", "SELECT pin"},
		{"GET /reply/fields", 500, "internal", "Set-Cookie: ", "cannot be written"},
		{"GET /reply/204", 500, "internal", "", "205, which has no content"},
		{"GET /reply/1000", 500, "internal", "", "status 1000, which is not a success"},
		{"GET /status/1000", 500, "internal", "", "1000 is not a status"},
		{"GET /nil/bell", 404, "not-found", "", "Nothing is at /nil/bell"},
		{"GET /nil/bell/reply", 404, "not-found", "", "Nothing is at"},
	} {
		fields := strings.SplitN(c.request, " ", 3)
		body := strings.Join(fields[2:], "")
		r, err := http.NewRequest(fields[0], server.URL+fields[1], strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		if body != "" {
			r.Header.Set("Content-Type", "application/json")
		} else if fields[0] == "POST" {
			r.Body, r.ContentLength = io.NopCloser(strings.NewReader("x")), 1
		}
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		w := httptest.NewRecorder()
		w.Header().Set("Content-Type", resp.Header.Get("Content-Type"))
		w.WriteHeader(resp.StatusCode)
		w.Body.Write(text)
		checkProblem(t, c.request, w, c.status, c.code)
		name, value, _ := strings.Cut(c.field, ": ")
		if resp.Header.Get(name) != value || !strings.Contains(string(text), "urn:uuid:"+resp.Header.Get("X-Request-Id")) {
			t.Errorf("%s: %v %s", c.request, resp.Header, text)
		}
		for _, told := range []string{"SELECT", ".go", "sql", "runtime", `gate"`} {
			if strings.Contains(string(text), told) {
				t.Errorf("%s tells the caller of %q: %s", c.request, told, text)
			}
		}
		lines := log.take()
		checkLog(t, c.request, lines, c.status, c.cause)
		if c.status >= 500 && c.status != 503 && c.code == "internal" && !strings.Contains(lines[0], "_test.go:") {
			t.Errorf("%s: the line does not say where the route is served: %s", c.request, lines[0])
		}
		if fields[1] == "/problem" && !strings.Contains(lines[0], `"private":{"gate":7}`) {
			t.Errorf("what is private is not logged: %s", lines[0])
		}
	}
	if resp, err := http.Get(server.URL + "/problems/gone"); err != nil || resp.StatusCode != 200 {
		t.Errorf("the type of a kind that no route names leads nowhere: %v %+v", err, resp)
	}
	log.take()
	// What ends without an answer: a part, an abort, a caller who leaves. No client
	// is used, since it would ask again.
	raw := func(path string) net.Conn {
		conn, err := net.Dial("tcp", server.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: x\r\n\r\n", path)
		return conn
	}
	for path, want := range map[string]struct {
		status int
		cause  string
	}{"/partly": {200, "panic: SELECT pin"}, "/abort": {0, "gave up the connection"}} {
		conn := raw(path)
		if text, _ := io.ReadAll(conn); bytes.HasSuffix(text, []byte("0\r\n\r\n")) || want.status == 0 && len(text) > 0 {
			t.Errorf("%s looks whole: %s", path, text)
		}
		checkLog(t, path, log.take(), want.status, want.cause)
		conn.Close()
	}
	conn := raw("/gone")
	<-waiting
	conn.Close()
	checkLog(t, "/gone", log.take(), 0, "the caller left before the answer was complete: stopped: context canceled")
	// One more than there are seats.
	go http.Get(server.URL + "/seat")
	<-waiting
	if resp, err := http.Get(server.URL + "/seat"); err != nil || resp.StatusCode != 503 || resp.Header.Get("Retry-After") != "1" {
		t.Errorf("an overloaded route: %v %+v", err, resp)
	}
	waiting <- struct{}{}
}

// A short load in which one request of ten panics: the others are answered, and no
// goroutine is left behind.
func TestPanicsUnderLoad(t *testing.T) {
	type number struct {
		N int `from:"path n"`
	}
	api := build(t, wicketway.Log(slog.New(slog.DiscardHandler)), wicketway.Route("GET /n/{n}", func(_ context.Context, in number) (int, error) {
		if in.N%10 == 0 {
			panic(in.N)
		}
		return in.N, nil
	}))
	before := runtime.NumGoroutine()
	server := httptest.NewServer(api)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	var all sync.WaitGroup
	end := time.Now().Add(500 * time.Millisecond)
	for i := range 8 {
		all.Go(func() {
			for n := i * 1_000_000; time.Now().Before(end); n++ {
				resp, err := client.Get(fmt.Sprintf("%s/n/%d", server.URL, n))
				if err != nil {
					t.Error(err)
					return
				}
				text, _ := io.ReadAll(resp.Body)
				resp.Body.Close()
				if want := fmt.Sprintf("%d\n", n); n%10 != 0 && string(text) != want || n%10 == 0 && resp.StatusCode != 500 {
					t.Errorf("%d: %d %s", n, resp.StatusCode, text)
				}
			}
		})
	}
	all.Wait()
	client.CloseIdleConnections()
	server.Close()
	for range 100 {
		if runtime.NumGoroutine() <= before {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Errorf("%d goroutines before, %d after", before, runtime.NumGoroutine())
}

// In development the caller is told all, and a kind that the route does not name
// is a failure.
var errCarries = problem.Define(409, "carries", "It carries").Carries("crew", 4)

func TestDevelopmentTellsAll(t *testing.T) {
	cause := fmt.Errorf("desk: %w", errors.Join(io.ErrUnexpectedEOF, errors.New("no \xff UTF-8")))
	api := build(t, wicketway.Development(), wicketway.Log(slog.New(slog.DiscardHandler)),
		wicketway.Route("GET /declared", func(context.Context, wicketway.None) (string, error) { return "", errClosed.New("x").Because(cause) }, wicketway.Fails(errCanal)),
		wicketway.Route("GET /undeclared", func(context.Context, wicketway.None) (string, error) { return "", errStored.New("x") }, wicketway.Fails(errCanal)),
		wicketway.Route("GET /member", func(context.Context, wicketway.None) (string, error) {
			return "", errCarries.New("x").With("crew", "four")
		}, wicketway.Fails(errCarries)),
		wicketway.Route("GET /translated", func(context.Context, wicketway.None) (string, error) { return "", cause },
			wicketway.Fails(errCanal), wicketway.Translate(func(error) error { return errClosed.New("x").Because(io.EOF) })),
		wicketway.Route("GET /panic", func(context.Context, wicketway.None) (string, error) { panic(cause) }),
		wicketway.Route("GET /made", func(context.Context, wicketway.None) (string, error) { return "", problem.Internal.New("x") }, wicketway.Fails(problem.Internal)),
	)
	for path, want := range map[string]struct {
		status int
		causes string // the types
		first  string // frame of the stack
	}{
		"/declared":   {409, "*fmt.wrapError *errors.joinError *errors.errorString *errors.errorString", ""},
		"/undeclared": {404, "", ""},
		"/member":     {409, "", ""},
		"/translated": {409, "*errors.errorString", ""}, // the cause that it was given
		"/panic":      {500, "*failure.Panic *fmt.wrapError *errors.joinError *errors.errorString *errors.errorString", "wicketway_test.TestDevelopmentTellsAll.func"},
		"/made":       {500, "", "wicketway_test.TestDevelopmentTellsAll.func"},
	} {
		w := ask(api, "GET "+path, "", "")
		var p struct {
			Status int
			Debug  struct {
				Route  string
				Causes []struct{ Type, Message string }
				Stack  []string
			}
		}
		if err := json.Unmarshal(w.Body.Bytes(), &p, json.MatchCaseInsensitiveNames(true)); err != nil {
			t.Fatal(err)
		}
		var types []string
		for _, c := range p.Debug.Causes {
			types = append(types, c.Type)
		}
		if p.Status != want.status || strings.Join(types, " ") != want.causes && path != "/undeclared" || len(types) == 0 && want.causes != "" ||
			!strings.HasPrefix(p.Debug.Route, "GET "+path+" at failure_test.go:") ||
			want.first != "" && (len(p.Debug.Stack) == 0 || !strings.Contains(p.Debug.Stack[0], want.first)) {
			t.Errorf("%s: %s", path, w.Body)
		}
	}
}

// What would be right in a route is said in development, once; the answer is the same in both modes.
func TestAdvice(t *testing.T) {
	value := func(err error) func(context.Context, wicketway.None) (string, error) {
		return func(context.Context, wicketway.None) (string, error) { return "", err }
	}
	fail := func(err error) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) { wicketway.Fail(w, r, err) }
	}
	around := func(name string, h http.HandlerFunc) wicketway.Middleware {
		return wicketway.Wrap(name, func(http.Handler) http.Handler { return h })
	}
	const add = `raised the kind "no-such-row" (404), which it does not declare: add Fails(errStored) at failure_test.go:`
	for name, c := range map[string]struct {
		part   wicketway.Part
		status int
		want   string // of the advice; "" for none
	}{
		"a function":                 {wicketway.Route("GET /x", value(errStored.New("x"))), 404, add},
		"a function with a family":   {wicketway.Route("GET /x", value(errClosed.New("x")), wicketway.Fails(errCanal)), 409, ""},
		"a kind of Wicketway's own":  {wicketway.Route("GET /x", value(problem.NotFound.New("x"))), 404, ""},
		"a plain handler":            {wicketway.Handle("GET /x", fail(errStored)), 404, add},
		"a mounted handler":          {wicketway.Mount("/", fail(errStored)), 404, "/{+mounted} (failure_test.go:"},
		"a middleware":               {wicketway.Route("GET /x", value(nil), wicketway.Chain(around("gate", fail(errStored)))), 404, add},
		"a middleware that says so":  {wicketway.Route("GET /x", value(nil), wicketway.Chain(wicketway.Middleware{Name: "gate", Raises: []*problem.Kind{errStored}, Wrap: func(http.Handler) http.Handler { return fail(errStored) }})), 404, ""},
		"a translation":              {wicketway.Group(wicketway.Route("GET /x", value(io.EOF)), wicketway.Translate(func(error) error { return errStored })), 404, add},
		"a member that is different": {wicketway.Route("GET /x", value(errCarries.New("x").With("crew", "four")), wicketway.Fails(errCarries)), 409, "crew"},
		"an output": {wicketway.Route("GET /x", func(context.Context, wicketway.None) (schemaRow, error) { return schemaRow{99}, nil }), 200,
			`the output breaks the rules of its type: "/n" must be at most 9`},
		"a forgotten next":          {wicketway.Group(wicketway.Chain(passing, around("idle", func(http.ResponseWriter, *http.Request) {})), wicketway.Route("GET /x", value(nil))), 200, "the middleware idle neither answered nor called the next handler"},
		"an answer without one":     {wicketway.Group(wicketway.Chain(passing, around("gate", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(204) })), wicketway.Route("GET /x", value(nil))), 204, ""},
		"a status of a Reply":       {returning(wicketway.Reply[string]{Status: 202}), 202, "answered 202 with a string, which it does not declare: add Gives[string](202) at output_test.go:"},
		"a status that is given":    {returning(wicketway.Reply[string]{Status: 202}, wicketway.Gives[string](202)), 202, ""},
		"a type in any":             {returning[any](&schemaRow{1}, wicketway.Gives[wicketway.None](204)), 200, "add Gives[*wicketway_test.schemaRow](200)"},
		"a type that is given":      {returning[any](&schemaRow{1}, wicketway.Gives[schemaRow](200)), 200, ""},
		"a page that leads nowhere": {returning(wicketway.Page[int]{Items: []int{1}, Next: "x"}), 200, "no query field of the input is a wicketway.Cursor"},
		"no content in any":         {returning[any](wicketway.None{}, wicketway.Gives[wicketway.None](204)), 204, ""},
		"an empty handler":          {wicketway.Handle("GET /x", http.HandlerFunc(func(http.ResponseWriter, *http.Request) {})), 200, ""},
	} {
		bodies := map[bool]string{}
		for _, development := range []bool{false, true} {
			var log bytes.Buffer
			parts := []wicketway.Part{c.part, wicketway.Log(slog.New(slog.NewTextHandler(&log, nil)))}
			if development {
				parts = append(parts, wicketway.Development())
			}
			api := build(t, parts...)
			var said []string
			for range 2 {
				r := httptest.NewRequest("GET", "/x", nil)
				r = r.WithContext(advice.To(r.Context(), func(text string) { said = append(said, text) }))
				w := httptest.NewRecorder()
				if api.ServeHTTP(w, r); w.Code != c.status {
					t.Errorf("%s, development %t: %d %s, want %d", name, development, w.Code, w.Body, c.status)
				}
				text := w.Body.String()
				if at := strings.Index(text, `"debug"`); at >= 0 {
					text = strings.TrimRight(text[:at], ", \n") + "}"
				}
				bodies[development] = strings.Join(strings.Fields(text), "")
			}
			wants := development && c.want != ""
			lines := strings.Count(log.String(), "advice=true")
			if wants != (len(said) == 2) || wants != (lines == 1) || wants && !strings.Contains(said[0], c.want) || len(said) > 2 || lines > 1 {
				t.Errorf("%s, development %t: advised %q, logged %s, want %q", name, development, said, log.String(), c.want)
			}
		}
		if bodies[true] != bodies[false] {
			t.Errorf("%s: in development %s, in production %s", name, bodies[true], bodies[false])
		}
	}
}

type schemaRow struct {
	N int `json:"n" rule:"maximum=9"`
}

var passing = wicketway.Wrap("passing", func(next http.Handler) http.Handler { return next })

// One request shows its causes, to those who may see them, and no cache keeps that.
func TestCausesForOneRequest(t *testing.T) {
	wet := func(context.Context, wicketway.None) (string, error) {
		return "", fmt.Errorf("desk: %w", io.ErrUnexpectedEOF)
	}
	show := wicketway.ShowCauses{Field: "Canal-Debug", Query: "debug", To: func(_ context.Context, caller wicketway.Identity) bool { return caller.Subject != "OB-2" }}
	api := build(t, show, wicketway.Log(slog.New(slog.DiscardHandler)),
		wicketway.Group(wicketway.Chain(cache.Responses(cache.Settings{})), wicketway.Route("GET /open", wet)),
		wicketway.Group(wicketway.Guard(plate("p")), wicketway.Route("GET /guarded", wet)))
	for _, c := range []struct {
		line, header string
		shown        bool
	}{
		{"GET /open", "", false},
		{"GET /open", "Canal-Debug: 1", true},
		{"GET /open", "", false}, // nothing of it was kept
		{"GET /open?debug", "", true},
		{"GET /guarded", "Canal-Debug: 1", false},
		{"GET /guarded", "Canal-Debug: 1\nPlate: OB-1", true},
		{"GET /guarded", "Canal-Debug: 1\nPlate: OB-2", false},
		{"GET /guarded", "Plate: OB-1", false},
		{"GET /nowhere", "Canal-Debug: 1", true},
	} {
		w := ask(api, c.line, c.header, "")
		body := w.Body.String()
		if shown := strings.Contains(body, `"debug":{`); shown != c.shown || (w.Header().Get("Cache-Control") == "no-store") != c.shown || w.Code < 400 ||
			c.shown && w.Code == 500 && !strings.Contains(body, "desk: unexpected EOF") {
			t.Errorf("%s (%s): %d %v %s", c.line, c.header, w.Code, w.Header(), body)
		}
	}
	for want, setting := range map[string]wicketway.ShowCauses{
		"neither Field nor Query":   {To: show.To},
		"To is nil":                 {Field: "Canal-Debug"},
		`"a b" is not a field name`: {Field: "a b", To: show.To},
		"has a meaning of its own":  {Field: "authorization", To: show.To},
	} {
		if _, err := wicketway.Build(about, setting, wicketway.Route("GET /open", wet)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}

// Who prefers a page gets one; who has no preference gets JSON.
func TestProblemsForPeopleAndTheirCatalogue(t *testing.T) {
	parts := []wicketway.Part{
		wicketway.Route("GET /canal/{id}", func(context.Context, struct {
			ID int `from:"path id"`
		}) (string, error) {
			return "", errClosed.New("<script>alert(1)</script>")
		}, wicketway.Fails(errClosed)),
	}
	api := build(t, parts...)
	for _, p := range api.Problems() {
		if p.Code == "body-too-large" || p.Code == "version-unknown" || p.Code == "input-unreadable" && len(p.Routes) != 1 || p.Code == "lock-closed" && p.Routes[0] != "GET /canal/{id}" {
			t.Errorf("the catalogue of an API that reads no body and has no versions: %+v", p)
		}
	}
	for accept, media := range map[string]string{
		"": "application/problem+json", "*/*": "application/problem+json", "text/html": "text/html; charset=utf-8",
		"text/html,application/xhtml+xml;q=0.9,*/*;q=0.8": "text/html; charset=utf-8", "application/json, text/html": "application/problem+json",
		"text/html;q=0.5, application/problem+json": "application/problem+json", "image/png": "application/problem+json",
	} {
		header := ""
		if accept != "" {
			header = "Accept: " + accept
		}
		w := ask(api, "GET /canal/1", header, "")
		if w.Header().Get("Content-Type") != media || w.Code != 409 || strings.HasPrefix(media, "text/html") && (strings.Contains(w.Body.String(), "<script") || strings.Contains(w.Body.String(), "<table") || strings.Contains(w.Body.String(), "For the programmer")) {
			t.Errorf("Accept %q: %d %s %s", accept, w.Code, w.Header().Get("Content-Type"), w.Body)
		}
	}
	if page := ask(api, "GET /canal/x", "Accept: text/html", "").Body.String(); !strings.Contains(page, "must be a whole number") || !strings.Contains(page, `href="/problems/input-unreadable"`) {
		t.Errorf("the page lacks the fault or its meaning: %s", page)
	}
	for _, c := range []struct{ request, accept, want string }{
		{"GET /problems/lock-closed", "", `"GET /canal/{id}"`},
		{"GET /problems/lock-closed", "text/html", "<h1>The lock is closed</h1>"},
		{"GET /problems/input-unreadable", "", `"meaning": "The member errors`},
		{"GET /problems/unheard-of", "", `"code":"not-found"`},
	} {
		if w := ask(api, c.request, "Accept: "+c.accept, ""); !strings.Contains(w.Body.String(), c.want) {
			t.Errorf("%s: %d %s", c.request, w.Code, w.Body)
		}
	}
	elsewhere := build(t, append(parts, wicketway.ProblemBase("https://canal.example/help#"))...)
	if w := ask(elsewhere, "GET /canal/1", "", ""); !strings.Contains(w.Body.String(), `"type":"https://canal.example/help#lock-closed"`) {
		t.Errorf("a base of one's own: %s", w.Body)
	}
	if w := ask(elsewhere, "GET /problems/lock-closed", "", ""); w.Code != 404 {
		t.Errorf("described here though the base is elsewhere: %s", w.Body)
	}
	_, err := wicketway.Build(about, append(parts, wicketway.ProblemBase("https://canal.example/help"), wicketway.Route("GET /w", func(context.Context, wicketway.None) (struct {
		PIN string `json:"pin" rule:"writeOnly"`
	}, error) {
		return struct {
			PIN string `json:"pin" rule:"writeOnly"`
		}{}, nil
	}))...)
	if err == nil || !strings.Contains(err.Error(), "ends neither in a slash nor in #") || !strings.Contains(err.Error(), "the member /pin is writeOnly") {
		t.Errorf("mistakes: %v", err)
	}
}

// An API inside another tells the outer one's log what failed, under the outer
// one's request id. Outside of any, slog's default logger is told.
func TestFailuresInsideAMountedAPI(t *testing.T) {
	log := &record{}
	logger := slog.New(slog.NewJSONHandler(log, nil))
	inner := build(t, wicketway.Log(logger), wicketway.Route("GET /closed", func(context.Context, wicketway.None) (string, error) {
		return "", errClosed.New("Closed.").Because(io.ErrUnexpectedEOF)
	}), wicketway.Route("GET /panic", func(context.Context, wicketway.None) (string, error) { panic("no water") }))
	outer := build(t, wicketway.Log(logger), wicketway.Chain(requestid.Assign(), accesslog.To(logger, accesslog.Settings{})), wicketway.Mount("/inner", inner))
	w := ask(outer, "GET /inner/closed", "", "")
	checkProblem(t, "inside", w, 409, "lock-closed")
	if !strings.Contains(w.Body.String(), w.Header().Get("X-Request-Id")) || w.Header().Get("Vary") != "Accept" {
		t.Errorf("%v %s", w.Header(), w.Body)
	}
	checkLog(t, "inside", log.take(), 409, "lock-closed: Closed.: unexpected EOF")
	ask(outer, "GET /inner/panic", "", "") // told once, by the outer log
	checkLog(t, "a panic inside", log.take(), 500, "panic: no water")
	ask(build(t, wicketway.Log(logger), wicketway.Mount("/inner", inner)), "GET /inner/panic", "", "")
	if lines := log.take(); len(lines) != 1 || !strings.Contains(lines[0], "no water") {
		t.Errorf("without an access log: %q", lines)
	}

	defer slog.SetDefault(slog.Default())
	slog.SetDefault(logger)
	outside := httptest.NewRecorder()
	wicketway.Fail(outside, httptest.NewRequest("GET", "/closed", nil), io.ErrUnexpectedEOF)
	checkProblem(t, "outside of an API", outside, 500, "internal")
	if lines := log.take(); len(lines) != 1 || !strings.Contains(lines[0], `"status":500`) || !strings.Contains(lines[0], "unexpected EOF") {
		t.Errorf("outside of an API: %q", lines)
	}
}

// What is raised on purpose is so in development alone, once the caller is admitted, and only what the route can raise.
func TestRaisedOnPurpose(t *testing.T) {
	lock := wicketway.Route("GET /locks/bell", func(context.Context, wicketway.None) (string, error) { return "open", nil }, wicketway.Fails(errClosed))
	guarded := wicketway.At("/own", wicketway.Guard(plate("")), wicketway.Route("GET /", func(context.Context, wicketway.None) (string, error) { return "own", nil }))
	quiet := wicketway.Log(slog.New(slog.DiscardHandler))
	development, production := build(t, quiet, lock, guarded, wicketway.Development()), build(t, quiet, lock, guarded)
	for _, c := range []struct {
		line, raise string
		status      int
		want        string
	}{
		{"GET /locks/bell", errClosed.Code(), errClosed.Status(), "raised on purpose"},
		{"GET /locks/bell", "panic", 500, "raised on purpose"},
		{"GET /locks/bell", "slow=1ms", 200, "open"},
		{"GET /locks/bell", "slow=1h", 400, "this route takes " + errClosed.Code() + ", lost=database, panic, slow=3s"},
		{"GET /locks/bell", "lost=database", 200, "open"}, // it asks none
		{"GET /locks/bell", "lost=harbour", 400, "this route takes"},
		{"GET /locks/bell", "slow=-1s", 400, "this route takes"},
		{"GET /locks/bell", "harbour-full\n", 400, "this route takes"},
		{"GET /nowhere", "panic", 404, ""},
		{"GET /own", "panic", 401, ""},
	} {
		for _, api := range []*wicketway.API{development, production} {
			r, w := httptest.NewRequest("GET", strings.TrimPrefix(c.line, "GET "), nil), httptest.NewRecorder()
			r.Header.Set("Wicketway-Raise", c.raise)
			api.ServeHTTP(w, r)
			switch {
			case api == development && (w.Code != c.status || !strings.Contains(w.Body.String(), c.want)):
				t.Errorf("%s with %q: %d %s", c.line, c.raise, w.Code, w.Body)
			case api == production && (w.Code == 500 || w.Code == 400 || strings.Contains(w.Body.String(), "purpose")):
				t.Errorf("%s with %q in production: %d %s", c.line, c.raise, w.Code, w.Body)
			}
		}
	}
}

// What InDevelopment has, settings too, is there where the list that it is in is in development.
func TestInDevelopment(t *testing.T) {
	one := wicketway.Route("GET /{lock}", findLock)
	inside := wicketway.InDevelopment(wicketway.OmitNull(), wicketway.InDevelopment(one), wicketway.Chain(wicketway.Wrap("only", func(next http.Handler) http.Handler { return next })))
	always := wicketway.Route("GET /always/{lock}", findLock)
	for name, c := range map[string]struct {
		environment string
		parts       []wicketway.Part
		there       bool
	}{
		"production":              {"", []wicketway.Part{always, inside}, false},
		"a setting":               {"", []wicketway.Part{inside, always, wicketway.Development()}, true},
		"the environment":         {"1", []wicketway.Part{always, inside}, true},
		"a group":                 {"", []wicketway.Part{always, wicketway.At("/locks", inside, wicketway.Development())}, true},
		"a group in another mode": {"", []wicketway.Part{always, wicketway.Development(), wicketway.At("/locks", wicketway.Group(inside, wicketway.Undo(wicketway.Development())))}, false},
	} {
		t.Setenv("WICKETWAY_DEVELOPMENT", c.environment)
		var found bool
		for _, r := range build(t, c.parts...).Routes() {
			found = found || strings.HasSuffix(r.Path, "/{lock}") && !strings.Contains(r.Path, "always") && len(r.Chain) == 1
		}
		if found != c.there {
			t.Errorf("%s: there is %v, want %v", name, found, c.there)
		}
	}
}

// A broken error is one whose methods cannot be called.
type brokenError struct{ how string }

func (e *brokenError) Error() string {
	if e.how == "Error" {
		panic("no words")
	}
	return "broken in " + e.how
}

func (e *brokenError) Unwrap() error {
	switch e.how {
	case "Unwrap":
		panic("nothing inside")
	case "itself":
		return e
	}
	return nil
}

func (e *brokenError) Is(error) bool {
	if e.how == "Is" {
		panic("no idea")
	}
	return false
}

// An error that cannot be read is a failure of the server like any other: answered and logged.
func TestErrorsThatPanic(t *testing.T) {
	for name, err := range map[string]error{
		"a nil pointer": (*brokenError)(nil), "Error": &brokenError{"Error"}, "Unwrap": &brokenError{"Unwrap"}, "Is": &brokenError{"Is"},
		"itself": &brokenError{"itself"}, "a nil problem": (*problem.Problem)(nil), "inside": fmt.Errorf("reading: %w", &brokenError{"Unwrap"}),
		"joined": errors.Join(io.EOF, (*brokenError)(nil)), "the cause of a problem": problem.NotFound.New("").Because((*brokenError)(nil)),
	} {
		for _, development := range []bool{false, true} {
			for _, logs := range []bool{false, true} {
				log := &record{}
				logger := slog.New(slog.NewJSONHandler(log, nil))
				parts := []wicketway.Part{wicketway.Log(logger), wicketway.Route("GET /x", func(context.Context, wicketway.None) (string, error) { return "", err })}
				if development {
					parts = append(parts, wicketway.Development())
				}
				if logs {
					parts = append(parts, wicketway.Chain(accesslog.To(logger, accesslog.Settings{})))
				}
				w := httptest.NewRecorder()
				build(t, parts...).ServeHTTP(w, httptest.NewRequest("GET", "/x", nil))
				checkProblem(t, name, w, 500, "internal")
				if lines := log.take(); len(lines) != 1 || !strings.Contains(lines[0], "that was given as an error: ") {
					t.Errorf("%s, development %v, access log %v: %q", name, development, logs, lines)
				}
			}
		}
	}
}
