package demo_test

import (
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/examples/canal/demo"
	"github.com/wicketway/wicketway/internal/probe"
	"github.com/wicketway/wicketway/wicketwaytest"
)

func open(t *testing.T) *demo.Canal {
	t.Helper()
	canal, err := demo.OpenAt(demo.Unlimited, t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(canal.Close)
	return canal
}

// The demo keeps its contract, and no operation is left out.
func TestProbeFindsNothing(t *testing.T) {
	canal := open(t)
	wicketwaytest.Probe(t, canal.API, wicketwaytest.Probing{Tokens: []string{canal.Skipper, canal.Keeper}, Other: canal.Visitor, Seed: 3})
}

// unreached are the statuses of version 2 that no request to the demo reaches, by operation: of errors of the server's own
// none is.
var unreached = map[string][]int{
	"locks.find": {400}, "locks.plan": {400}, "locks.operate": {408}, "notices.latest": {307, 308, 404}, "notices.find": {400, 422},
	"passages.book": {408}, "passages.find": {422}, "passages.cancel": {415, 422}, "passages.change": {408},
	"passages.importAll": {400, 408, 422}, "tokens.signIn": {408, 429}, "tokens.signOut": {403, 415, 429},
}

func TestProbeReachesEveryOperation(t *testing.T) {
	canal := open(t)
	for _, tried := range probed(t, canal, canal.API, 60, nil).Tried {
		if tried.Skipped != "" {
			t.Errorf("%s: %s", tried.Operation, tried.Skipped)
		}
		var missed []int
		for _, m := range tried.Missed {
			if m.Status < 500 {
				missed = append(missed, m.Status)
			}
			if m.Reason == "" {
				t.Errorf("%s: no reason is given for %d", tried.Operation, m.Status)
			}
		}
		if !slices.Equal(missed, unreached[tried.Operation]) {
			t.Errorf("%s did not answer %v, want %v", tried.Operation, missed, unreached[tried.Operation])
		}
	}
}

func probed(t *testing.T, canal *demo.Canal, h http.Handler, draws int, only []string) probe.Report {
	t.Helper()
	d, err := canal.API.Contract("v2")
	if err != nil {
		t.Fatal(err)
	}
	report, err := probe.Run(t.Context(), probe.Settings{Document: d, Send: probe.Handler(h), Draws: draws, Only: only,
		Tokens: []string{canal.Skipper, canal.Keeper}, Other: canal.Visitor})
	if err != nil {
		t.Fatal(err)
	}
	return report
}

// A defect is put in front of the demo, or behind it.
type defect struct {
	name    string
	request func(*http.Request)                             // before it is served
	answer  func(*http.Request, *httptest.ResponseRecorder) // before it is sent
	at      string                                          // the operation that it is found at
	want    string                                          // in what is said of it
}

// on has a change be made to the answers of a method and a path, whose identifiers are left out.
func on(line string, change func(*http.Request, *httptest.ResponseRecorder)) func(*http.Request, *httptest.ResponseRecorder) {
	return func(r *http.Request, w *httptest.ResponseRecorder) {
		if r.Method+" "+r.URL.Path == line || strings.HasSuffix(line, "/*") && strings.HasPrefix(r.Method+" "+r.URL.Path, strings.TrimSuffix(line, "*")) {
			change(r, w)
		}
	}
}

func status(from, to int) func(*http.Request, *httptest.ResponseRecorder) {
	return func(_ *http.Request, w *httptest.ResponseRecorder) {
		if w.Code == from {
			w.Code = to
		}
	}
}

func body(pattern, by string) func(*http.Request, *httptest.ResponseRecorder) {
	of := regexp.MustCompile(pattern)
	return func(_ *http.Request, w *httptest.ResponseRecorder) {
		w.Body = bytes.NewBuffer(of.ReplaceAll(w.Body.Bytes(), []byte(by)))
	}
}

func header(name, pattern, by string) func(*http.Request, *httptest.ResponseRecorder) {
	of := regexp.MustCompile(pattern)
	return func(_ *http.Request, w *httptest.ResponseRecorder) {
		if value := w.Header().Get(name); value != "" {
			if value = of.ReplaceAllString(value, by); value == "" {
				w.Header().Del(name)
			} else {
				w.Header().Set(name, value)
			}
		}
	}
}

// fail answers with a problem.
func fail(w *httptest.ResponseRecorder, status int, code, title string) {
	clear(w.Header())
	w.Header().Set("Content-Type", "application/problem+json")
	w.Code = status
	w.Body = bytes.NewBufferString(fmt.Sprintf(`{"type":"/problems/%s","title":%q,"status":%d,"code":%q,"errors":[{"in":"query","name":"limit","rule":"maximum","detail":"must be at most 99"}]}`, code, title, status, code))
}

// sent changes the body of requests.
func sent(line, pattern, by string) func(*http.Request) {
	of := regexp.MustCompile(pattern)
	return func(r *http.Request) {
		if strings.HasPrefix(r.Method+" "+r.URL.Path, line) {
			text, _ := io.ReadAll(r.Body)
			text = of.ReplaceAll(text, []byte(by))
			r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(text)), int64(len(text))
		}
	}
}

func TestProbeFindsDefects(t *testing.T) {
	canal := open(t)
	as := func(line, was, token string) func(*http.Request) {
		return func(r *http.Request) {
			if strings.HasPrefix(r.Method+" "+r.URL.Path, line) && r.Header.Get("Authorization") == was {
				r.Header.Set("Authorization", "Bearer "+token)
			}
		}
	}
	without := func(line, field string) func(*http.Request) {
		return func(r *http.Request) {
			if strings.HasPrefix(r.Method+" "+r.URL.Path, line) {
				r.Header.Del(field)
			}
		}
	}
	for _, d := range []defect{
		{name: "another status", answer: on("GET /api/v2/locks/*", status(200, 202)), at: "locks.find", want: "no answer with the status 202"},
		{name: "a member is missing", answer: on("GET /api/v2/locks/*", body(`"state":"[a-z]+"`, `"was":1`)), at: "locks.find", want: "state"},
		{name: "a member of another type", answer: on("GET /api/v2/notices", body(`"title":"[^"]*"`, `"title":7`)), at: "notices.list", want: "/0/title"},
		{name: "a value that is none of an enumeration", answer: on("GET /api/v2/locks", body(`"open"`, `"ajar"`)), at: "locks.list", want: "/state"},
		{name: "an undeclared problem", answer: on("GET /api/v2/passages/*", body(`"no-such-passage"`, `"gone-fishing"`)), at: "passages.find", want: "the body: /code"},
		{name: "a page where a problem is due", answer: on("GET /api/v2/locks/*", func(_ *http.Request, w *httptest.ResponseRecorder) {
			if w.Code == 404 {
				w.Header().Set("Content-Type", "text/plain")
				w.Body = bytes.NewBufferString("404 page not found")
			}
		}), at: "locks.find", want: `no media type "text/plain"`},
		{name: "a guard is left off", request: as("GET /api/v2/passages", "", canal.Skipper), at: "passages.list", want: "no credentials"},
		{name: "any token is taken", request: as("POST /api/v2/passages", "Bearer none", canal.Skipper), at: "passages.book", want: "malformed credentials"},
		{name: "a scope is not asked", request: as("PUT /api/v2/locks", "Bearer "+canal.Skipper, canal.Keeper), at: "locks.operate", want: "without the scope locks:operate"},
		{name: "a maximum is not checked", request: sent("POST /api/v2/passages", `"crew":41`, `"crew":40`), at: "passages.book", want: "the member /crew breaks maximum (40)"},
		{name: "an enumeration is not checked", request: sent("PUT /api/v2/locks", `"state":"[^"]*"`, `"state":"open"`), at: "locks.operate", want: "the member /state breaks enum"},
		{name: "a member that is required has a default", request: sent("POST /api/v2/passages", `^\{(("crew":\d+|"lock":"[a-z]*"|"slot":"[^"]*"),?)+\}$`, `{"lock":"bell","direction":"up","slot":"2031-01-01T00:00:00Z"}`), at: "passages.book", want: "the member /direction is left out"},
		{name: "unknown members are taken", request: sent("POST /api/v2/passages", `,?"unknown0":1`, ``), at: "passages.book", want: "/unknown0 is not known"},
		{name: "a parameter of the query is not checked", request: func(r *http.Request) {
			if r.URL.Path == "/api/v2/passages" && r.URL.Query().Get("limit") == "101" {
				r.URL.RawQuery = "limit=100"
			}
		}, at: "passages.list", want: "query limit breaks maximum (100)"},
		{name: "a rule that the contract does not have", answer: on("GET /api/v2/passages", func(r *http.Request, w *httptest.ResponseRecorder) {
			if r.URL.Query().Get("limit") == "100" {
				fail(w, 422, "input-invalid", "The input breaks a rule")
			}
		}), at: "passages.list", want: "keeps all rules of the contract is refused"},
		{name: "any media type is taken", request: func(r *http.Request) {
			if r.Method == "POST" && r.Header.Get("Content-Type") == "text/plain" {
				r.Header.Set("Content-Type", "application/json")
			}
		}, at: "passages.book", want: "the media type text/plain"},
		{name: "HEAD with a body", request: func(r *http.Request) {
			if r.Method == "HEAD" && r.URL.Path == "/api/v2/locks" {
				r.Method = "GET"
			}
		}, at: "locks.list", want: "to HEAD has a body"},
		{name: "HEAD with another header", answer: on("HEAD /api/v2/notices", header("Content-Type", "json", "json; charset=utf-8")), at: "notices.list", want: "HEAD has the field Content-Type"},
		{name: "OPTIONS says too little", answer: on("OPTIONS /api/v2/passages", header("Allow", ", POST", "")), at: "passages.list", want: "OPTIONS says that it allows"},
		{name: "a false Location", answer: on("POST /api/v2/passages", header("Location", `\d+$`, "999999")), at: "passages.find", want: "is not at Location"},
		{name: "a Location of something else", answer: on("POST /api/v2/passages", header("Location", `\d+$`, "1")), at: "passages.find", want: "Location /api/v2/passages/1"},
		{name: "what was created is another thing", answer: on("GET /api/v2/passages/*", body(`"direction":"up"`, `"direction":"down"`)), at: "passages.find", want: "the member direction is another one"},
		{name: "If-None-Match is ignored", request: without("GET /api/v2/passages", "If-None-Match"), at: "passages.list", want: "RFC 9110, 13.1.2"},
		{name: "If-Match is ignored", request: without("PATCH /api/v2/passages", "If-Match"), at: "passages.change", want: "RFC 9110, 13.1.1"},
		{name: "a tag that stays", answer: on("GET /api/v2/passages/*", header("Etag", ".+", `"1"`)), at: "passages.find", want: "the same tag as before"},
		{name: "a change that is lost", request: sent("PATCH /api/v2/passages", `.+`, `{}`), at: "passages.find", want: "the member slot is still"},
		{name: "a page that loses an item", answer: on("GET /api/v2/passages", func(r *http.Request, w *httptest.ResponseRecorder) {
			if r.URL.Query().Get("after") != "" {
				body(`\{"passage":41,[^}]*\},?`, "")(r, w)
			}
		}), at: "passages.list", want: "by pages with limit=1"},
		{name: "a page without a link to the next", answer: on("GET /api/v2/passages", header("Link", ".+", "")), at: "passages.list", want: "by pages with limit=1"},
		{name: "others see a thing", request: as("GET /api/v2/passages/", "Bearer "+canal.Visitor, canal.Skipper), at: "passages.find", want: "the thing is another caller's"},
		{name: "everything is said to be deleted", answer: on("DELETE /api/v2/passages/*", func(_ *http.Request, w *httptest.ResponseRecorder) {
			if w.Code == 404 {
				w.Code, w.Body = 204, new(bytes.Buffer)
				w.Header().Del("Content-Type")
			}
		}), at: "passages.cancel", want: "the thing is another caller's"},
		{name: "what was deleted is there", request: func(r *http.Request) {
			if r.Method == "DELETE" {
				r.Method, r.URL.Path = "GET", strings.Replace(r.URL.Path, "/tokens/current", "/locks", 1)
			}
		}, at: "passages.cancel", want: "no answer with the status 200"},
		{name: "who calls is asked last", answer: func(r *http.Request, w *httptest.ResponseRecorder) {
			if r.Method == "POST" && r.URL.Path == "/api/v2/passages" && w.Code == 401 && r.Header.Get("Was") == "{" {
				fail(w, 400, "input-unreadable", "The input cannot be read")
			}
		}, at: "passages.book", want: "no credentials, before"},
		{name: "404 before 422", answer: on("PUT /api/v2/locks/*", func(r *http.Request, w *httptest.ResponseRecorder) {
			if strings.Contains(r.URL.Path, "nobody") && w.Code == 422 {
				fail(w, 404, "no-such-lock", "The canal has no such lock")
			}
		}), at: "locks.operate", want: "before what is not there"},
		{name: "a value that breaks the server", answer: on("GET /api/v2/passages/*", func(r *http.Request, w *httptest.ResponseRecorder) {
			if strings.HasSuffix(r.URL.Path, "/0") {
				w.Code = 500
			}
		}), at: "passages.find", want: "500 is an error of the server's own"},
		{name: "a header field that nobody has declared", answer: on("GET /api/v2/notices/*", func(_ *http.Request, w *httptest.ResponseRecorder) {
			w.Header().Set("X-Debug", "1")
		}), at: "notices.find", want: "no header field X-Debug"},
		{name: "401 without a challenge", answer: header("Www-Authenticate", ".+", ""), at: "passages.list", want: "WWW-Authenticate"},
		{name: "405 without Allow", answer: func(_ *http.Request, w *httptest.ResponseRecorder) {
			if w.Code == 405 {
				w.Header().Del("Allow")
			}
		}, at: "locks.list", want: "no field Allow"},
	} {
		t.Run(d.name, func(t *testing.T) {
			h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if d.request != nil {
					d.request(r)
				}
				if d.answer == nil || strings.HasSuffix(r.URL.Path, "/levels") {
					canal.API.ServeHTTP(w, r)
					return
				}
				text, _ := io.ReadAll(r.Body)
				r.Header.Set("Was", string(text))
				r.Body = io.NopCloser(bytes.NewReader(text))
				got := httptest.NewRecorder()
				canal.API.ServeHTTP(got, r)
				d.answer(r, got)
				for name, values := range got.Header() {
					w.Header()[name] = values
				}
				w.WriteHeader(got.Code)
				w.Write(got.Body.Bytes())
			})
			report := probed(t, canal, h, 30, []string{d.at})
			for _, f := range report.Findings {
				if f.Operation == d.at && strings.Contains(f.Reason, d.want) {
					return
				}
			}
			t.Errorf("it is not found at %s; found: %v", d.at, report.Findings)
		})
	}
}
