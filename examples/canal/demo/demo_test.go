package demo_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/klauspost/compress/zstd"

	"github.com/wicketway/wicketway/examples/canal/demo"
	"github.com/wicketway/wicketway/wicketwaytest"
)

const (
	asJSON  = "Content-Type: application/json"
	skipper = "Authorization: Bearer {skipper}"
	keeper  = "Authorization: Bearer {keeper}"
	good    = `"lock":"bell","direction":"up","slot":"2027-05-04T09:30:00Z"`
)

func opened(t *testing.T) (*demo.Canal, *httptest.Server) {
	canal, err := demo.Open(t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { canal.Close() })
	server := httptest.NewServer(wicketwaytest.Honest(t, canal.API))
	t.Cleanup(server.Close)
	return canal, server
}

// No text is missing in German, and a page of it says so.
func TestTexts(t *testing.T) {
	canal, _ := opened(t)
	wicketwaytest.Texts(t, canal.API, []string{"halfHour", "season"}, demo.German)
	r, w := httptest.NewRequest("GET", "/api/v2/nothing", nil), httptest.NewRecorder()
	r.Header = http.Header{"Accept": {"text/html"}, "Accept-Language": {"de"}}
	canal.API.ServeHTTP(w, r)
	for _, want := range []string{`<html lang="de">`, "<h1>Hier ist nichts</h1>"} {
		if !strings.Contains(w.Body.String(), want) {
			t.Errorf("no %s in %d %s", want, w.Code, w.Body)
		}
	}
}

// What a real service has: numbers by route and caller, spans for a collector, and answers that are kept.
func TestObserved(t *testing.T) {
	spans := make(chan string, 10)
	collector := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		spans <- r.URL.Path + string(body)
	}))
	defer collector.Close()
	t.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", collector.URL)
	canal, err := demo.Open(t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	get := func(path string) *httptest.ResponseRecorder {
		r, w := httptest.NewRequest("GET", path, nil), httptest.NewRecorder()
		if strings.Contains(path, "passages") {
			r.Header.Set("Authorization", "Bearer "+canal.Skipper)
		}
		canal.API.ServeHTTP(w, r)
		return w
	}
	get("/api/v2/passages")
	if first, second := get("/api/v2/locks"), get("/api/v2/locks"); second.Header().Get("Age") == "" || first.Body.String() != second.Body.String() {
		t.Errorf("the list was not kept: %v", second.Header())
	}
	numbers, err := canal.Numbers()
	if err != nil {
		t.Fatal(err)
	}
	w := httptest.NewRecorder()
	numbers.ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
	for _, want := range []string{
		`http_server_request_duration_seconds_count{code="",method="GET",route="/api/v2/locks",status="2xx",version="v2"} 2`,
		`wicketway_usage_total{caller="OB-1001",`,
	} {
		if !strings.Contains(w.Body.String(), want) {
			t.Errorf("the numbers lack %s:\n%s", want, w.Body)
		}
	}
	canal.Close()
	if got := <-spans; !strings.HasPrefix(got, "/v1/traces") || !strings.Contains(got, "GET /api/v2/passages") {
		t.Errorf("the collector got %q", got)
	}
}

// Wrong requests to the demo over real HTTP: status, code, and exactly the items
// that fail, as in, name or pointer, rule.
func TestWrongRequests(t *testing.T) {
	canal, server := opened(t)
	const (
		book   = "POST /v2/passages"
		change = "PATCH /v2/passages/1"
		body   = asJSON + "\n" + skipper
	)
	for _, c := range []struct {
		line, header, body string
		status             int
		code               string
		items              string
	}{
		// Paths and methods.
		{"GET /v2/nothing", "", "", 404, "not-found", ""},
		{"GET /v9/locks", "", "", 404, "version-unknown", ""},
		{"GET /v9", "", "", 404, "version-unknown", ""},
		{"GET /vessels", "", "", 404, "not-found", ""},
		{"GET /v2/locks/nowhere", "", "", 404, "no-such-lock", ""},
		{"GET /v2/locks/%FF", "", "", 400, "input-unreadable", "path lock type"},
		{"POST /v2/locks", "", "", 405, "method-not-allowed", ""},
		{"PATCH /v2/locks/bell", "", "", 405, "method-not-allowed", ""},
		{"GET /v2/passages/x", skipper, "", 400, "input-unreadable", "path passage type"},
		{"GET /v2/passages/1.0", skipper, "", 400, "input-unreadable", "path passage type"},
		{"GET /v2/passages/99999999999999999999", skipper, "", 400, "input-unreadable", "path passage type"},
		{"GET /v2/passages/2", skipper, "", 404, "no-such-passage", ""}, // another skipper's
		{"DELETE /v2/passages/999", skipper, "", 404, "no-such-passage", ""},
		// Access.
		{"GET /v2/passages", "", "", 401, "token-missing", ""},
		{"GET /v2/passages", "Authorization: Basic eDp5", "", 401, "token-missing", ""},
		{"GET /v2/passages", "Authorization: Bearer x", "", 401, "token-malformed", ""},
		{"GET /v2/passages", keeper, "", 403, "scope-missing", ""},
		{"PUT /v2/locks/bell/state", body, `{"state":"open"}`, 403, "scope-missing", ""},
		// Queries.
		{"GET /v2/passages?limit=0", skipper, "", 422, "input-invalid", "query limit minimum"},
		{"GET /v2/passages?limit=101", skipper, "", 422, "input-invalid", "query limit maximum"},
		{"GET /v2/passages?limit=", skipper, "", 400, "input-unreadable", "query limit type"},
		{"GET /v2/passages?limit=2&limit=3", skipper, "", 400, "input-unreadable", "query limit unique"},
		{"GET /v2/passages?after=7", skipper, "", 400, "input-unreadable", "query after format"},
		{"GET /v2/passages?after=Ing", skipper, "", 400, "input-unreadable", "query after format"}, // "x" in base64
		{"GET /v2/passages?after=MQ&limit=many", skipper, "", 400, "input-unreadable", "query limit type"},
		{"GET /v2/passages?limit=%zz", skipper, "", 400, "input-unreadable", "query  syntax"},
		{"GET /v2/passages?limit=1;after=MQ", skipper, "", 400, "input-unreadable", "query  syntax"},
		{"GET /v2/drill", "", "", 422, "input-invalid", "query fault required"},
		{"GET /v2/drill?fault=flood", "", "", 422, "input-invalid", "query fault enum"},
		// Bodies that cannot be read.
		{book, body, ``, 400, "input-unreadable", "body  syntax"},
		{book, body, ` `, 400, "input-unreadable", "body  syntax"},
		{book, body, `{`, 400, "input-unreadable", "body  syntax"},
		{book, body, `{"lock":"bell" "crew":1}`, 400, "input-unreadable", "body  syntax"},
		{book, body, `{'lock':'bell'}`, 400, "input-unreadable", "body  syntax"},
		{book, body, `null`, 400, "input-unreadable", "body  type"},
		{book, body, `[]`, 400, "input-unreadable", "body  type"},
		{book, body, `"bell"`, 400, "input-unreadable", "body  type"},
		{book, body, `{` + good + `}{}`, 400, "input-unreadable", "body  syntax"},
		{book, body, "{" + good + `,"remark":"` + "\xff" + `"}`, 400, "input-unreadable", "body /remark syntax"},
		{book, body, `{` + good + `,"crew":"3"}`, 400, "input-unreadable", "body /crew type"},
		{book, body, `{` + good + `,"crew":3.5}`, 400, "input-unreadable", "body /crew type"},
		{book, body, `{` + good + `,"crew":null}`, 400, "input-unreadable", "body /crew type"},
		{book, body, `{` + good + `,"crew":1e400}`, 400, "input-unreadable", "body /crew type"},
		{book, body, `{` + good + `,"lock":"kiln"}`, 400, "input-unreadable", "body /lock unique"},
		{book, body, `{"lock":7,"direction":["up"],"slot":"4 May","crew":{}}`, 400, "input-unreadable",
			"body /lock type, body /direction type, body /slot format, body /crew type"},
		// Bodies that break rules.
		{book, body, `{}`, 422, "input-invalid", "body /lock required, body /direction required, body /slot required"},
		{book, body, `{` + good + `,"crew":0}`, 422, "input-invalid", "body /crew minimum"},
		{book, body, `{` + good + `,"crew":41}`, 422, "input-invalid", "body /crew maximum"},
		{book, body, `{` + good + `,"Crew":4}`, 422, "input-invalid", "body /Crew additionalProperties"},
		{book, body, `{` + good + `,"a/b~c":1}`, 422, "input-invalid", "body /a~1b~0c additionalProperties"},
		{book, body, `{` + good + `,"remark":"` + strings.Repeat("ä", 201) + `"}`, 422, "input-invalid", "body /remark maxLength"},
		{book, body, `{"lock":"bell","direction":"UP","slot":"2027-05-04T09:30:00Z"}`, 422, "input-invalid", "body /direction enum"},
		{book, body, `{"lock":"bell","direction":"up","slot":"2027-05-04T09:30:01Z"}`, 422, "input-invalid", "body /slot halfHour"},
		{book, body, `{"lock":"bell","direction":"up","slot":"9999-12-31T23:30:00-05:00"}`, 422, "input-invalid", "body /slot season"},
		{book, body, `{"lock":"bell","direction":"up","slot":"0000-01-01T00:00:00+14:00"}`, 422, "input-invalid", "body /slot season"},
		{book + "?notify=all", body, `{"lock":"","slot":"2027-05-04T09:31:00Z"}`, 422, "input-invalid",
			"query notify enum, body /lock minLength, body /direction required"},
		{book + "?notify=all", body, `{"lock":"bell","direction":"up","slot":"2027-05-04T09:31:00Z"}`, 422, "input-invalid",
			"query notify enum, body /slot halfHour"},
		{change, skipper + "\nContent-Type: application/merge-patch+json", `{"slot":null,"crew":null}`, 400, "input-unreadable", "body /slot type, body /crew type"},
		{change, skipper + "\nContent-Type: application/merge-patch+json", `{"slot":"x","crew":99,"lock":"bell"}`, 400, "input-unreadable",
			"body /slot format, body /crew maximum, body /lock additionalProperties"},
		{change, body + "\nIf-Match: \"old\"", `{"crew":3}`, 412, "precondition-failed", ""},
		{"PUT /v2/locks/bell/state", asJSON + "\n" + keeper, `{"state":"flooded"}`, 422, "input-invalid", "body /state enum"},
		{"POST /v2/tokens", asJSON, `{"vessel":"ob-1","pin":"12345"}`, 422, "input-invalid", "body /vessel pattern, body /pin pattern"},
		{"POST /v2/tokens", asJSON, `{"vessel":"OB-1001","pin":"0000"}`, 403, "wrong-pin", ""},
		// The body as a whole.
		{book, skipper, `{` + good + `}`, 415, "unsupported-media-type", ""},
		{book, skipper + "\nContent-Type: text/html", `{` + good + `}`, 415, "unsupported-media-type", ""},
		{book, skipper + "\nContent-Type: application/json; charset=utf-16", `{` + good + `}`, 415, "unsupported-media-type", ""},
		{book, skipper + "\nContent-Type: ;", `{` + good + `}`, 415, "unsupported-media-type", ""},
		{book, body + "\nContent-Encoding: br", `{` + good + `}`, 415, "unsupported-media-type", ""},
		{book, body + "\nContent-Encoding: gzip", `{` + good + `}`, 400, "input-unreadable", ""},
		{book, body, `{"remark":"` + strings.Repeat("x", 1<<20) + `"}`, 413, "body-too-large", ""},
		{book, body + "\nContent-Encoding: gzip", packed("gzip", `{"remark":"`+strings.Repeat("x", 1<<20)+`"}`), 413, "body-too-large", ""},
		{book, body + "\nContent-Encoding: zstd", packed("zstd", `{"remark":"`+strings.Repeat("x", 1<<20)+`"}`), 413, "body-too-large", ""},
		{book, body + "\nContent-Encoding: gzip", packed("gzip", `{`+good+`,"crew":0}`), 422, "input-invalid", "body /crew minimum"},
		// The storage's own refusals, and failures.
		{"GET /v2/drill?fault=norows", "", "", 404, "not-found", ""},
		{"GET /v2/drill?fault=unique", "", "", 409, "conflict", ""},
		{"GET /v2/drill?fault=foreignkey", "", "", 409, "conflict", ""},
		{"GET /v2/drill?fault=notnull", "", "", 422, "storage-refused", ""},
		{"GET /v2/drill?fault=check", "", "", 422, "storage-refused", ""},
		{"GET /v2/drill?fault=gauge", "", "", 502, "gauge-silent", ""},
		{"GET /v2/drill?fault=late", "", "", 503, "timeout", ""},
		// What the canal itself refuses.
		{book, body, `{"lock":"tanners","direction":"up","slot":"2027-05-04T09:30:00Z"}`, 409, "lock-closed", ""},
		{book, body, `{"lock":"nowhere","direction":"up","slot":"2027-05-04T09:30:00Z"}`, 404, "no-such-lock", ""},
		{book, body, `{"lock":"basin","direction":"up","slot":"2027-04-01T06:00:00Z"}`, 409, "slot-taken", ""},
	} {
		method, path, _ := strings.Cut(c.line, " ")
		r, err := http.NewRequest(method, server.URL+"/api"+path, strings.NewReader(c.body))
		if err != nil {
			t.Fatal(err)
		}
		for field := range strings.Lines(strings.NewReplacer("{skipper}", canal.Skipper, "{keeper}", canal.Keeper).Replace(c.header)) {
			name, value, _ := strings.Cut(strings.TrimSpace(field), ": ")
			r.Header.Set(name, value)
		}
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		var p struct {
			Status int    `json:"status"`
			Code   string `json:"code"`
			Errors []struct {
				In      string `json:"in"`
				Name    string `json:"name"`
				Pointer string `json:"pointer"`
				Rule    string `json:"rule"`
				Detail  string `json:"detail"`
			} `json:"errors"`
		}
		err = json.Unmarshal(text, &p)
		var items []string
		for _, e := range p.Errors {
			items = append(items, e.In+" "+e.Name+e.Pointer+" "+e.Rule)
			if e.Detail == "" {
				t.Errorf("%s %s: %s has no sentence", c.line, c.body, e.Rule)
			}
		}
		if err != nil || resp.Header.Get("Content-Type") != "application/problem+json" || resp.StatusCode != c.status || p.Status != c.status ||
			p.Code != c.code || strings.Join(items, ", ") != c.items {
			t.Errorf("%s %s\n%.80q: %s\n got %d %q, want %d %s %q", c.line, c.header, c.body, text, resp.StatusCode, items, c.status, c.code, c.items)
		}
	}
}

func packed(coding, text string) string {
	var b bytes.Buffer
	var w io.WriteCloser = gzip.NewWriter(&b)
	if coding == "zstd" {
		w, _ = zstd.NewWriter(&b)
	}
	io.WriteString(w, text)
	w.Close()
	return b.String()
}

// Four hundred bookings at once: each slot is had once, and nobody meets a failure of
// the server. A store that is busy says when to come back.
func TestManyBookAtOnce(t *testing.T) {
	canal, server := opened(t)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 400}}
	var all sync.WaitGroup
	var mu sync.Mutex
	counts := map[int]int{}
	for i := range 400 {
		all.Go(func() {
			slot := fmt.Sprintf("2027-06-%02dT%02d:00:00Z", 1+i%20, i/20%5) // 100 slots, four callers for each
			r, _ := http.NewRequest("POST", server.URL+"/api/v2/passages", strings.NewReader(`{"lock":"bell","direction":"up","slot":"`+slot+`"}`))
			r.Header.Set("Content-Type", "application/json")
			r.Header.Set("Authorization", "Bearer "+canal.Skipper)
			resp, err := client.Do(r)
			if err != nil {
				t.Error(err)
				return
			}
			text, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			mu.Lock()
			defer mu.Unlock()
			counts[resp.StatusCode]++
			if s := resp.StatusCode; s != 201 && s != 409 && (s != 503 || resp.Header.Get("Retry-After") == "") {
				t.Errorf("%s: %d %s", slot, s, text)
			}
		})
	}
	all.Wait()
	if counts[201] > 100 || counts[201]+counts[503] < 100 {
		t.Errorf("%v: each of the 100 slots is had once", counts)
	}
}
