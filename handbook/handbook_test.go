package handbook_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/handbook"
	"github.com/wicketway/wicketway/problem"
)

type berth struct {
	Berth string  `json:"berth" rule:"pattern=^[a-z]+$" note:"Its slug"`
	Width float64 `json:"width" rule:"minimum=1 maximum=9.5"`
	Kind  string  `json:"kind,omitzero" rule:"enum=dry|wet"`
}

type newBerth struct {
	Notify int   `from:"query notify" rule:"minimum=0 maximum=3 default=1"`
	Body   berth `from:"body"`
}

var errFull = problem.Define(http.StatusConflict, "harbour-full", "The harbour is full").Means("Try <b>later</b>.")

func built(t *testing.T, parts ...wicketway.Part) *wicketway.API {
	t.Helper()
	api, err := wicketway.Build(wicketway.Info{Title: "Harbour", Version: "1.0.0", Description: "Berths & `POST <x>`.\n\nA second paragraph."}, parts...)
	if err != nil {
		t.Fatal(err)
	}
	return api
}

func make1(context.Context, newBerth) (berth, error)        { return berth{}, nil }
func list(context.Context, wicketway.None) ([]berth, error) { return nil, nil }
func get(api http.Handler, path string) *httptest.ResponseRecorder {
	w := httptest.NewRecorder()
	api.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
	return w
}

// What a reader finds where, in an API without versions and in one with some.
func TestPages(t *testing.T) {
	routes := wicketway.At("/berths", wicketway.Route("POST /", make1, wicketway.Name("berths.make"), wicketway.Summary("A new berth"), wicketway.Fails(errFull)),
		wicketway.Route("GET /", list, wicketway.Name("berths.list"), wicketway.Summary("All berths")))
	plain := built(t, routes, wicketway.At("/handbook", handbook.Pages()))
	versions := built(t, wicketway.At("/api", wicketway.Version("v1", routes), wicketway.Version("v2", routes)), wicketway.At("/docs/handbook", handbook.Pages()))
	for _, c := range []struct {
		api    http.Handler
		path   string
		status int
		want   []string
		lacks  []string
	}{
		{plain, "/handbook", 303, nil, nil},
		{plain, "/handbook/api/", 200, []string{"<h1>Harbour</h1>", "<p>Berths &amp; <code>POST &lt;x&gt;</code>.</p>\n<p>A second", `<a href="/handbook/api/berths.make">A new berth</a>`, "<b>GET</b> /berths"}, []string{"<script>"}},
		{plain, "/handbook/api/?q=width+POST", 200, []string{"berths.make"}, []string{"berths.list"}},
		{plain, "/handbook/api/?q=" + strings.Repeat("berths+", 100_000), 200, []string{"berths.make", "berths.list"}, []string{strings.Repeat("berths ", 40)}},
		{plain, "/handbook/api/?q=harbour-full", 200, []string{"berths.make"}, []string{"berths.list"}},
		{plain, "/handbook/api/?q=%3Cscript%3E", 200, []string{"Nothing has all of these words", "&lt;script&gt;"}, []string{"<script>"}},
		{plain, "/handbook/api/berths.make", 200, []string{"<h1>A new berth</h1>", "Who may call: everyone.", "0 to 3, 1 if absent", "like ^[a-z]&#43;$", "1 to 9.5", "one of dry, wet", "Its slug", "<b>harbour-full</b> The harbour is full", "Try &lt;b&gt;later", "&#34;code&#34;: &#34;harbour-full&#34;", "curl -s "}, nil},
		{plain, "/handbook/api/problems", 200, []string{`<section id="harbour-full"><h2>409 harbour-full</h2>`, `<a href="/handbook/api/berths.make">POST /berths</a>`}, nil},
		{plain, "/handbook/api/nothing", 404, []string{"nothing"}, nil},
		{plain, "/handbook/v9/", 404, nil, nil},
		{plain, "/handbook/assets/style.css", 200, []string{"--paper"}, nil},
		{plain, "/handbook/assets/pages.html", 404, nil, nil},
		{plain, "/handbook/assets/..%2fpages.go", 404, nil, nil},
		{plain, "/handbook/problems/harbour-full", 303, nil, nil},
		{plain, "/handbook/problems/no-such", 404, nil, nil},
		{plain, "/handbook/api/operations.json", 200, []string{`{"method":"POST","path":"/berths","page":"berths.make","summary":"A new berth"}`}, nil},
		{versions, "/docs/handbook", 200, []string{`<a href="/docs/handbook/v1/">v1</a>`, `href="/docs/handbook/assets/style.css"`}, nil},
		{versions, "/docs/handbook/v2/", 200, []string{`<a href="/docs/handbook/v1/">v1</a>`, "/api/v2/berths"}, []string{"/api/v1/berths"}},
		{versions, "/docs/handbook/v1/berths.list", 200, []string{"list of", "<b>GET</b> /api/v1/berths"}, nil},
	} {
		w := get(c.api, c.path)
		if w.Code != c.status {
			t.Errorf("%s: %d, want %d\n%s", c.path, w.Code, c.status, w.Body)
		}
		for _, want := range c.want {
			if !strings.Contains(w.Body.String(), want) {
				t.Errorf("%s: no %q in\n%s", c.path, want, w.Body)
			}
		}
		for _, lacks := range c.lacks {
			if strings.Contains(w.Body.String(), lacks) {
				t.Errorf("%s: %q is in it", c.path, lacks)
			}
		}
		if policy := w.Header().Get("Content-Security-Policy"); c.status == 200 && strings.Contains(w.Header().Get("Content-Type"), "html") && !strings.HasPrefix(policy, "default-src 'none'") {
			t.Errorf("%s: the policy is %q", c.path, policy)
		}
	}
	shared := wicketway.At("/handbook", handbook.Pages())
	one, other := built(t, shared, routes), built(t, shared, wicketway.Route("GET /quays", list, wicketway.Summary("All quays")))
	for range 2 { // each API has pages of its own
		if a, b := get(one, "/handbook/api/").Body.String(), get(other, "/handbook/api/").Body.String(); strings.Contains(a, "All quays") || strings.Contains(b, "All berths") {
			t.Errorf("pages of one API are in those of another\n%s\n%s", a, b)
		}
	}
	for _, host := range []string{"a.example", "b.example"} { // a page is nobody else's, though it is made once
		r, w := httptest.NewRequest("GET", "/handbook/api/berths.make", nil), httptest.NewRecorder()
		r.Host = host
		if plain.ServeHTTP(w, r); !strings.Contains(w.Body.String(), "http://"+host+"/berths") {
			t.Errorf("for %s:\n%s", host, w.Body)
		}
	}
	for body, want := range map[string]string{
		`{}`: "bad-request", `[]`: "bad-request",
		`{"about":"berths.make 409 \"","method":"POST","target":"/berths","fields":[{"Name":"A","Value":"Bearer $WICKETWAY_TOKEN"}],"body":"{\"a\":` + "`" + `}","status":409,"code":"harbour-full"}`: "func TestBerthsMake409(t *testing.T) {\n" +
			"\tr := httptest.NewRequest(\"POST\", \"/berths\", strings.NewReader(\"{\\\"a\\\":`}\"))\n\tr.Header.Add(\"A\", \"Bearer \"+os.Getenv(\"WICKETWAY_TOKEN\"))\n" +
			"\twicketwaytest.Answers(t, api, r, 409, \"harbour-full\")\n}\n",
	} {
		w := httptest.NewRecorder()
		if plain.ServeHTTP(w, httptest.NewRequest("POST", "/handbook/test", strings.NewReader(body))); !strings.Contains(w.Body.String(), want) {
			t.Errorf("%s as a test: %d %s", body, w.Code, w.Body)
		}
	}
	first := get(plain, "/handbook/api/berths.make")
	r := httptest.NewRequest("GET", "/handbook/api/berths.make", nil)
	r.Header.Set("If-None-Match", `"other", W/`+first.Header().Get("ETag"))
	w := httptest.NewRecorder()
	if plain.ServeHTTP(w, r); w.Code != http.StatusNotModified {
		t.Errorf("the same page again: %d", w.Code)
	}
}

type wide struct {
	Berth string  `json:"berth" rule:"pattern=^[a-z]+$"`
	Width float64 `json:"width" rule:"minimum=2 maximum=9.5"`
}

type named string

func (n named) Scheme() exchange.Scheme {
	return exchange.Scheme{Name: "named", Type: "http", Scheme: "Bearer"}
}

func (n named) Challenge([]string) string { return "Bearer" }

func (n named) Authenticate(r *http.Request) (*exchange.Identity, error) {
	return &exchange.Identity{Subject: "grebe", Scopes: strings.Fields(r.Header.Get("Scopes"))}, nil
}

// Behind a guard a caller sees what they may call; and a version says what has changed since the one before.
func TestVersionsAndCallers(t *testing.T) {
	widen := func(context.Context, struct {
		Body wide `from:"body"`
	}) (wide, error) {
		return wide{}, nil
	}
	plain := wicketway.Route("GET /berths", list, wicketway.Name("berths.list"))
	api := built(t, wicketway.Guard(named("")), wicketway.Version("v1", wicketway.Route("POST /berths", make1, wicketway.Name("berths.make"), wicketway.Scopes("harbour"))),
		wicketway.Version("v2", plain, wicketway.Route("POST /berths", widen, wicketway.Name("berths.make"), wicketway.Scopes("harbour"))), wicketway.At("/handbook", handbook.Pages()))
	for _, c := range []struct {
		path, scopes string
		status       int
		want, lacks  string
	}{
		{"/handbook/v2/", "", 200, "berths.list", "berths.make"},
		{"/handbook/v2/", "harbour", 200, "berths.make", "nothing at all"},
		{"/handbook/v2/berths.make", "", 404, "", "minimum"},
		{"/handbook/v2/berths.make", "harbour", 200, `<span class="breaking">breaking</span>: `, "It is new"},
		{"/handbook/v2/berths.list", "harbour", 200, "<h2>Since v1</h2>\n<p>It is new.</p>", "breaking:"},
		{"/handbook/v1/berths.make", "harbour", 200, "A request to paste", "<h2>Since"},
	} {
		r := httptest.NewRequest("GET", c.path, nil)
		r.Header.Set("Scopes", c.scopes)
		w := httptest.NewRecorder()
		if api.ServeHTTP(w, r); w.Code != c.status || !strings.Contains(w.Body.String(), c.want) || strings.Contains(w.Body.String(), c.lacks) {
			t.Errorf("%s with %q: %d, want %d and %q, without %q\n%s", c.path, c.scopes, w.Code, c.status, c.want, c.lacks, w.Body)
		}
	}
}

// What a contract holds never becomes markup, and no page asks another host for anything.
func TestHostileContracts(t *testing.T) {
	const evil = `</title><script>alert(1)</script><img src=x onerror=alert(1)>"'` + "`x`" + `{{.}}`
	text := `{"openapi":"3.1.0","info":{"title":EVIL,"version":EVIL,"description":EVIL},"tags":[{"name":EVIL,"description":EVIL}],"paths":{"/a":{"post":{"operationId":EVIL,"tags":[EVIL],"summary":EVIL,"description":EVIL,
		"parameters":[{"name":EVIL,"in":"query","description":EVIL,"schema":{"type":"string","pattern":EVIL,"default":EVIL,"enum":[EVIL]}}],"requestBody":{"content":{"application/json":{"schema":{"$ref":"#/components/schemas/S"},"example":{EVIL:EVIL}}}},
		"responses":{"200":{"description":EVIL,"headers":{"X":{"description":EVIL}},"content":{"application/json":{"schema":{"$ref":"#/components/schemas/S"}}}},"409":{"description":EVIL,"content":{"application/problem+json":{"schema":{"description":EVIL,"type":"object","properties":{"code":{"const":EVIL},"title":{"const":EVIL}},"required":["code","title"]}}}}}}}},
		"components":{"securitySchemes":{"k":{"type":"apiKey","in":"header","name":EVIL}},"schemas":{"S":{"type":"object","properties":{EVIL:{"description":EVIL,"$ref":"#/components/schemas/S"}}}}}}`
	quoted := strings.NewReplacer(`"`, `\"`).Replace(evil)
	d, err := yaml.Read([]byte(strings.ReplaceAll(text, "EVIL", `"`+quoted+`"`)))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	files, err := handbook.Write(t.Context(), dir, []contract.Versioned{{Name: "v1", Document: d}}, "http://a.example")
	if err != nil || len(files) != 6 {
		t.Fatalf("%v %v", files, err)
	}
	markup := regexp.MustCompile(`(?i)<(script|img|iframe|link [^>]*https?:)|\son[a-z]+=|javascript:`)
	for _, file := range files {
		if rel, err := filepath.Rel(dir, file); err != nil || strings.HasPrefix(rel, "..") {
			t.Errorf("%s is outside of the folder", file)
		}
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		text = regexp.MustCompile(`<script src="(\.\./)?assets/find\.js" defer></script>`).ReplaceAll(text, nil)
		for _, found := range markup.FindAll(text, -1) {
			if quotedIn := regexp.MustCompile(`&#34;|&lt;`); !quotedIn.Match(text) || !strings.HasPrefix(string(found), " on") {
				t.Errorf("%s: %s", file, found)
			}
		}
	}
}
