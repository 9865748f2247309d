package cors_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/cors"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/browser"
	"github.com/wicketway/wicketway/wicketwaytest"
)

type plate struct{}

func (plate) Scheme() exchange.Scheme   { return exchange.Scheme{Name: "plate"} }
func (plate) Challenge([]string) string { return "Plate" }
func (plate) Authenticate(r *http.Request) (*exchange.Identity, error) {
	if c, err := r.Cookie("plate"); err == nil {
		return &exchange.Identity{Subject: c.Value}, nil
	}
	return nil, fmt.Errorf("no plate")
}

type booking struct {
	Retry string `from:"header Idempotency-Key"`
	Lock  string `from:"path lock"`
}

func book(ctx context.Context, in booking) (wicketway.Reply[string], error) {
	return wicketway.Reply[string]{Header: http.Header{"X-Lock": {in.Lock}, "Own": {"secret"}}, Value: exchange.Of(ctx).Caller().Subject}, nil
}

func build(t *testing.T, middleware exchange.Middleware, guard ...wicketway.Part) *wicketway.API {
	t.Helper()
	var open []wicketway.Part
	if guard != nil {
		open = []wicketway.Part{wicketway.Public()}
	}
	level := exchange.Wrap("level", func(next http.Handler) http.Handler { return next })
	level.Sets = facts.Fields("X-Level", "Vary")
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, append(guard, wicketway.Chain(middleware, level),
		wicketway.Route("PUT /locks/{lock}", book), wicketway.Group(append(open, wicketway.Route("GET /locks/{lock}", book),
			wicketway.Mount("/mounted", http.NotFoundHandler()))...))...)
	if err != nil {
		t.Fatal(err)
	}
	return api
}

// The Fetch standard, 3.3: requests and what comes back; "-" is a field that must not be there.
func TestFetchStandard(t *testing.T) {
	const page = "https://console.example"
	named := cors.Allow(cors.From(page, "https://*.canal.example", "http://127.0.0.1:8080"), cors.Settings{Credentials: true, Headers: []string{"X-Trial"}, Expose: []string{"X-Lock"}, MaxAge: time.Minute})
	all := cors.Allow(cors.From("*"), cors.Settings{})
	byFunction := cors.Allow(cors.If(func(o string) bool { return strings.HasSuffix(o, ".example") }), cors.Settings{})
	for _, m := range []exchange.Middleware{named, all, byFunction} {
		wicketwaytest.Middleware(t, m)
		wicketwaytest.Middleware(t, m, wicketwaytest.Header("Origin", page))
	}
	guarded := wicketway.Guard(plate{})
	const ask, allow = "Access-Control-Request-Method: ", "Access-Control-Allow-"
	for _, c := range []struct {
		name   string
		api    *wicketway.API
		line   string
		fields string
		status int
		want   string
	}{
		{"no origin", build(t, named, guarded), "GET /locks/bell", "", 200, allow + "Origin: -|Vary: Origin"},
		{"a simple request", build(t, named, guarded), "GET /locks/bell", "Origin: " + page, 200, allow + "Origin: " + page + "|" + allow + "Credentials: true|Vary: Origin|Access-Control-Expose-Headers: ..., X-Lock, X-Level"},
		{"a sub-domain", build(t, named), "GET /locks/bell", "Origin: https://a.b.canal.example", 200, allow + "Origin: https://a.b.canal.example"},
		{"the domain itself is none", build(t, named), "GET /locks/bell", "Origin: https://canal.example", 200, allow + "Origin: -"},
		{"another that ends alike", build(t, named), "GET /locks/bell", "Origin: https://evilcanal.example", 200, allow + "Origin: -"},
		{"a host in the name", build(t, named), "GET /locks/bell", "Origin: https://evil.example/.canal.example", 200, allow + "Origin: -"},
		{"another scheme", build(t, named), "GET /locks/bell", "Origin: http://console.example", 200, allow + "Origin: -"},
		{"another port", build(t, named), "GET /locks/bell", "Origin: http://127.0.0.1:8081", 200, allow + "Origin: -"},
		{"null", build(t, named), "GET /locks/bell", "Origin: null", 200, allow + "Origin: -"},
		{"two origins", build(t, named), "GET /locks/bell", "Origin: " + page + "\nOrigin: " + page, 200, allow + "Origin: -"},
		{"all, without credentials", build(t, all), "GET /locks/bell", "Origin: https://x.example", 200, allow + "Origin: *|" + allow + "Credentials: -|Vary: -"},
		{"by a function", build(t, byFunction), "GET /locks/bell", "Origin: https://x.example", 200, allow + "Origin: https://x.example"},
		{"a refusal can be read", build(t, named, guarded), "PUT /locks/bell", "Origin: " + page, 500, allow + "Origin: " + page},
		{"a miss can be read", build(t, named, guarded), "GET /none", "Origin: " + page, 404, allow + "Origin: " + page},
		{"a preflight, past the guard", build(t, named, guarded), "OPTIONS /locks/bell", "Origin: " + page + "\n" + ask + "PUT\nAccess-Control-Request-Headers: Idempotency-Key, x-trial,X-Other, authorization", 204,
			allow + "Methods: GET, HEAD, OPTIONS, PUT|" + allow + "Headers: idempotency-key, x-trial, authorization|Access-Control-Max-Age: 60|" + allow + "Credentials: true|Vary: Origin, Access-Control-Request-Method, Access-Control-Request-Headers"},
		{"a preflight is not redirected", build(t, named, guarded), "OPTIONS /locks/bell/", "Origin: " + page + "\n" + ask + "PUT", 204, allow + "Methods: GET, HEAD, OPTIONS, PUT|Location: -"},
		{"a method that the path has not", build(t, named, guarded), "OPTIONS /locks/bell", "Origin: " + page + "\n" + ask + "DELETE", 204, allow + "Methods: GET, HEAD, OPTIONS, PUT"},
		{"what is mounted takes all", build(t, named), "OPTIONS /mounted/x", "Origin: " + page + "\n" + ask + "PURGE", 204, allow + "Methods: OPTIONS, PURGE"},
		{"nothing is there", build(t, named), "OPTIONS /none", "Origin: " + page + "\n" + ask + "PUT", 204, allow + "Methods: PUT"},
		{"a preflight of another origin", build(t, named, guarded), "OPTIONS /locks/bell", "Origin: https://evil.example\n" + ask + "PUT", 204, allow + "Origin: -|" + allow + "Methods: -|Allow: GET, HEAD, OPTIONS, PUT"},
		{"OPTIONS that is no preflight", build(t, named, guarded), "OPTIONS /locks/bell", "Origin: " + page, 204, allow + "Methods: -|Allow: GET, HEAD, OPTIONS, PUT"},
	} {
		method, path, _ := strings.Cut(c.line, " ")
		r := httptest.NewRequest(method, path, nil)
		for field := range strings.Lines(c.fields) {
			name, value, _ := strings.Cut(strings.TrimSpace(field), ": ")
			r.Header.Add(name, value)
		}
		w := httptest.NewRecorder()
		c.api.ServeHTTP(w, r)
		for piece := range strings.SplitSeq(c.want, "|") {
			name, value, _ := strings.Cut(piece, ": ")
			got := strings.Join(slices.DeleteFunc(slices.Clone(w.Header()[http.CanonicalHeaderKey(name)]), func(v string) bool { return name == "Vary" && (v == "Accept" || v == "Idempotency-Key") }), ", ")
			if end, ok := strings.CutPrefix(value, "..."); ok && strings.HasSuffix(got, end) {
				continue
			}
			if value == "-" {
				value = ""
			}
			if w.Code != c.status || got != value {
				t.Errorf("%s: %d, %s: %q, want %d %q", c.name, w.Code, name, got, c.status, value)
			}
		}
	}
	get := wicketway.Route("GET /x", func(context.Context, wicketway.None) (int, error) { return 0, nil })
	for want, parts := range map[string][]wicketway.Part{
		"all origins with credentials":                 {wicketway.Chain(cors.Allow(cors.From("*"), cors.Settings{Credentials: true})), get},
		`"https://canal.example/" is not an origin`:    {wicketway.Chain(cors.Allow(cors.From("https://canal.example/"), cors.Settings{})), get},
		`"https://*canal.example" is not an origin`:    {wicketway.Chain(cors.Allow(cors.From("https://*canal.example"), cors.Settings{})), get},
		`"canal.example" is not an origin`:             {wicketway.Chain(cors.Allow(cors.From("canal.example"), cors.Settings{})), get},
		`"https://canal.example:443" is not an origin`: {wicketway.Chain(cors.Allow(cors.From("https://canal.example:443"), cors.Settings{})), get},
		`"https://canal.example:080" is not an origin`: {wicketway.Chain(cors.Allow(cors.From("https://canal.example:080"), cors.Settings{})), get},
		`"https://größe.example" is not an origin`:     {wicketway.Chain(cors.Allow(cors.From("https://größe.example"), cors.Settings{})), get},
		`"https://[2001:db8:0::1]" is not an origin`:   {wicketway.Chain(cors.Allow(cors.From("https://[2001:db8:0::1]"), cors.Settings{})), get},
		`"https://a@canal.example" is not an origin`:   {wicketway.Chain(cors.Allow(cors.From("https://a@canal.example"), cors.Settings{})), get},
		"MaxAge is -1ns":                                  {wicketway.Chain(cors.Allow(cors.From("*"), cors.Settings{MaxAge: -1})), get},
		`"a b" is not a field name`:                       {wicketway.Chain(cors.Allow(cors.From("*"), cors.Settings{Expose: []string{"a b"}})), get},
		"null is the origin of files":                     {wicketway.Chain(cors.Allow(cors.From("null"), cors.Settings{})), get},
		"no origin is allowed":                            {wicketway.Chain(cors.Allow(cors.From(), cors.Settings{})), get},
		"it is below the guard plate, which would refuse": {wicketway.Guard(plate{}), wicketway.Group(wicketway.Chain(cors.Allow(cors.From("*"), cors.Settings{})), get)},
	} {
		if _, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, parts...); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}

// script asks the API from a page of another origin, and writes down what the browser lets it see.
const script = `<!doctype html><pre id="out"></pre><script>
const api = %q
async function ask(name, path, how, see) {
	let said
	try { const r = await fetch(api + path, how); said = r.status + " " + see(r) } catch (e) { said = "refused" }
	document.getElementById("out").textContent += name + ": " + said + "\n"
}
const status = r => ""
;(async () => {
	await ask("simple", "/locks/bell", {}, status)
	await ask("preflighted", "/open/bell", {method: "PUT", headers: {"Idempotency-Key": "1"}}, status)
	await ask("a header field that no route reads", "/open/bell", {method: "PUT", headers: {"X-Other": "1"}}, status)
	await ask("a method that is not there", "/open/bell", {method: "DELETE"}, status)
	await ask("credentialed", "/locks/bell", {credentials: "include"}, status)
	await ask("an exposed field", "/locks/bell", {}, r => r.headers.get("X-Lock"))
	await ask("a field that is not exposed", "/locks/bell", {}, r => r.headers.get("Own"))
	await ask("refused", "/closed", {}, status)
	document.title = "done"
})()
</script>`

// A real browser, from another origin. CI demands that it runs.
func TestInABrowser(t *testing.T) {
	page := httptest.NewUnstartedServer(nil)
	defer page.Close()
	allow := cors.Allow(cors.From("http://"+page.Listener.Addr().String()), cors.Settings{Credentials: true, Expose: []string{"X-Lock"}})
	built, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"},
		wicketway.Group(wicketway.Chain(allow), wicketway.Route("GET /locks/{lock}", book), wicketway.Route("PUT /open/{lock}", book)),
		wicketway.Route("GET /closed", func(context.Context, wicketway.None) (int, error) { return 0, nil }))
	if err != nil {
		t.Fatal(err)
	}
	api := httptest.NewServer(built)
	defer api.Close()
	page.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, script, api.URL)
	})
	page.Start()
	tab := browser.Open(t)
	tab.Go(page.URL)
	tab.Until(`document.title == "done"`)
	out := tab.Text()
	for _, want := range []string{"simple: 200", "preflighted: 200", "a header field that no route reads: refused", "a method that is not there: refused",
		"credentialed: 200", "an exposed field: 200 bell", "a field that is not exposed: 200 null", "\nrefused: refused"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
}
