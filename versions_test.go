package wicketway_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/cache"
	"github.com/wicketway/wicketway/chain/cors"
	"github.com/wicketway/wicketway/exchange"
)

// versioned is an API whose versions are chosen in one way; each says which it is.
func versioned(t *testing.T, by wicketway.Setting, more ...wicketway.Part) *wicketway.API {
	t.Helper()
	return build(t, append([]wicketway.Part{
		wicketway.Chain(cors.Allow(cors.From("https://canal.example"), cors.Settings{})),
		wicketway.At("/api", by, wicketway.WithdrawnVersions("v0"),
			wicketway.Route("GET /status", func(ctx context.Context, _ wicketway.None) (string, error) {
				return "status" + exchange.Of(ctx).Version(), nil
			}),
			wicketway.Version("v1",
				wicketway.Route("GET /locks/{lock}", tellLock, wicketway.Name("lock"), wicketway.Conditional()),
				wicketway.Route("DELETE /tolls", tellVersion),
				wicketway.Route("PUT /locks/{lock}", tellLock)),
			wicketway.Version("v2", wicketway.Inherit("v1"),
				wicketway.Route("GET /berths", tellVersion),
				wicketway.Withdraw("DELETE /tolls"),
				wicketway.At("/locks", wicketway.Route("POST /", takeName)))),
	}, more...)...)
}

type told struct {
	Version string `json:"version"`
	Link    string `json:"link,omitzero"`
}

func tellLock(ctx context.Context, in lockIn) (told, error) {
	link, err := exchange.Of(ctx).Link("lock", in)
	return told{exchange.Of(ctx).Version(), link}, err
}

func tellVersion(ctx context.Context, _ wicketway.None) (told, error) {
	return told{Version: exchange.Of(ctx).Version()}, nil
}

func takeName(ctx context.Context, in struct {
	Name string `json:"name"`
}) (told, error) {
	return told{Version: exchange.Of(ctx).Version()}, nil
}

func TestVersionsAreChosen(t *testing.T) {
	field, media := wicketway.InHeader("api-version"), wicketway.InMediaType()
	for _, c := range []struct {
		by           wicketway.VersionScheme
		otherwise    string // the default
		line, header string
		status       int
		want         string // in the body
		vary         string
	}{
		{field, "v1", "GET /api/locks/bell", "Api-Version: v2", 200, `{"version":"v2","link":"/api/locks/bell"}`, "Api-Version"},
		{field, "v1", "GET /api/locks/bell", "Api-Version:  v1 ", 200, `"v1"`, "Api-Version"},
		{field, "v1", "GET /api/locks/bell", "", 200, `"v1"`, "Api-Version"},
		{field, "", "GET /api/locks/bell", "", 400, `The field Api-Version names no version of /api/locks/bell; served are v1, v2.`, "Api-Version"},
		{field, "v1", "GET /api/locks/bell", "Api-Version: v3", 400, `"code":"version-invalid","versions":["v1","v2"]`, "Api-Version"},
		{field, "v1", "GET /api/locks/bell", "Api-Version: v0", 400, `names version v0 of /api/locks/bell, which was withdrawn`, "Api-Version"},
		{field, "v1", "GET /api/locks/bell", "Api-Version: V2", 400, `names an unknown version of /api/locks/bell`, "Api-Version"},
		{field, "v1", "GET /api/locks/bell", "Api-Version: v1, v2", 400, `an unknown version of`, "Api-Version"},
		{field, "v1", "GET /api/berths", "", 404, `Nothing is at /api/berths in version v1.`, "Api-Version"},
		{field, "v1", "GET /api/berths", "Api-Version: v2", 200, `"v2"`, "Api-Version"},
		{field, "v1", "POST /api/berths", "Api-Version: v2", 405, `allowed are GET, HEAD, OPTIONS.`, "Api-Version"},
		{field, "v1", "OPTIONS /api/locks/bell", "Api-Version: v2", 204, ``, "Api-Version"},
		{field, "v1", "GET /api/locks/bell/", "Api-Version: v2", 308, `/api/locks/bell`, "Api-Version"},
		{field, "v1", "GET //api//locks/./bell", "Api-Version: v2", 308, `/api/locks/bell`, "Api-Version"},
		{field, "v1", "GET //api//locks/./bell", "Api-Version: v9", 400, `version-invalid`, "Api-Version"},
		{field, "v1", "GET /%61pi/locks/b%2Fl", "Api-Version: v2", 200, `"v2"`, "Api-Version"},
		{field, "v1", "GET /api/nothing", "Api-Version: v9", 400, `version-invalid`, "Api-Version"},
		{field, "v1", "GET /apis", "Api-Version: v9", 404, `Nothing is at /apis.`, ""},
		{field, "v1", "GET /api/v2/berths", "", 404, `not-found`, "Api-Version"},
		{field, "v1", "GET /api/status", "Api-Version: v9", 200, `"status"`, "Api-Version"},
		{field, "v1", "GET /api/status", "Api-Version: v2", 200, `"status"`, "Api-Version"},
		{field, "v1", "DELETE /api/tolls", "Api-Version: v2", 410, `DELETE /api/tolls was removed in v2; v1 still has it.`, "Api-Version"},
		{field, "v1", "DELETE /api/tolls", "Api-Version: v1", 200, `"v1"`, "Api-Version"},

		{media, "v1", "GET /api/locks/bell", "Accept: application/json;version=v2", 200, `"v2"`, "Accept"},
		{media, "v1", "GET /api/locks/bell", `Accept: application/json; Version="v2"`, 200, `"v2"`, "Accept"},
		{media, "v1", "GET /api/locks/bell", "Accept: application/json", 200, `"v1"`, "Accept"},
		{media, "v1", "GET /api/locks/bell", "", 200, `"v1"`, "Accept"},
		{media, "", "GET /api/locks/bell", "Accept: */*", 406, `names no version of`, "Accept"},
		{media, "v1", "GET /api/locks/bell", "Accept: application/json;version=v3", 406, `"code":"version-not-acceptable","versions":["v1","v2"]`, "Accept"},
		{media, "v1", "GET /api/locks/bell", "Accept: application/json;version=v0", 406, `which was withdrawn`, "Accept"},
		{media, "v1", "GET /api/locks/bell", "Accept: application/json;version=v3, application/json;version=v2;q=0.5", 200, `"v2"`, "Accept"},
		{media, "v1", "GET /api/locks/bell", "Accept: application/json;version=v3, */*;q=0.1", 200, `"v1"`, "Accept"},
		{media, "v1", "GET /api/locks/bell", "Accept: */*, application/json;version=v2", 200, `"v2"`, "Accept"}, // the more specific
		{media, "v1", "GET /api/locks/bell", "Accept: application/json;version=v2;q=0, */*;q=0.1", 200, `"v1"`, "Accept"},
		{media, "v1", "GET /api/locks/bell", "Content-Type: application/json;version=v2", 200, `"v1"`, "Accept"}, // a GET has no content
		{media, "v1", "POST /api/locks", "Content-Type: application/json;version=v2", 200, `"v2"`, "Accept"},
		{media, "v2", "POST /api/locks", "Content-Type: application/json", 200, `"v2"`, "Accept"},
		{media, "v1", "POST /api/locks", "Content-Type: application/json;version=v9", 415, `The Content-Type names an unknown version`, "Accept"},
		{media, "v1", "POST /api/locks", "Accept: application/json;version=v2\nContent-Type: application/json;version=v1", 415, `The content is of version v1, and another one is asked for.`, "Accept"},

		{wicketway.InPath(), "v2", "GET /api/locks/bell", "", 200, `{"version":"v2","link":"/api/v2/locks/bell"}`, ""},
		{wicketway.InPath(), "v2", "GET /api/v2/locks/bell", "", 200, `"v2"`, ""},
		{wicketway.InPath(), "v2", "GET /api/v1/locks/bell", "", 200, `{"version":"v1","link":"/api/v1/locks/bell"}`, ""},
		{wicketway.InPath(), "v1", "GET /api/berths", "", 404, `Nothing is at /api/berths.`, ""},
		{wicketway.InPath(), "v2", "GET /api/v9/locks", "", 404, `Version v9 does not exist at /api/v9/locks; available: v1, v2.`, ""},
		{wicketway.InPath(), "v2", "GET /api/v0/locks", "", 404, `Version v0 at /api/v0/locks was withdrawn; available: v1, v2.`, ""},
		{wicketway.InPath(), "", "GET /api/locks/bell", "", 404, `not-found`, ""},
		{wicketway.InPath(), "v2", "POST /api/locks/", "Content-Type: application/json", 308, `/api/locks`, ""},
	} {
		api := versioned(t, wicketway.VersionBy(c.by, c.otherwise))
		body := ""
		if strings.HasPrefix(c.line, "POST") {
			body = `{"name":"Bell"}`
		}
		w := ask(api, c.line, c.header, body)
		got := w.Body.String() + w.Header().Get("Location")
		vary := strings.Join(slices.DeleteFunc(w.Header()["Vary"], func(v string) bool {
			return v == "Origin" || v == "Accept" && w.Code >= 400 && c.by != wicketway.InMediaType()
		}), " ")
		if w.Code != c.status || !strings.Contains(got, c.want) || vary != c.vary {
			t.Errorf("%s by %s, else %q, %s: %d %q %s, want %d %q %s", c.line, c.by, c.otherwise, c.header, w.Code, vary, got, c.status, c.vary, c.want)
		}
		if media := w.Header().Get("Content-Type"); c.by == wicketway.InMediaType() && w.Code == 200 && !strings.HasSuffix(media, ";version="+strings.Split(w.Body.String(), `"`)[3]) {
			t.Errorf("%s, %s: the Content-Type is %s", c.line, c.header, media)
		}
	}
}

// A preflight cannot name a version, so it is answered for all of them; links, requests that are made, and tags are those of the version.
func TestVersionsThatShareTheirPaths(t *testing.T) {
	by := func(s wicketway.VersionScheme) *wicketway.API { return versioned(t, wicketway.VersionBy(s, "v1")) }
	api := by(wicketway.InHeader("Api-Version"))
	for _, c := range []struct{ line, method, methods string }{
		{"OPTIONS /api/locks/bell", "PUT", "GET, HEAD, OPTIONS, PUT"},
		{"OPTIONS /api/berths", "GET", "GET, HEAD, OPTIONS"}, // that v2 alone has
		{"OPTIONS /api/berths/", "GET", "GET, HEAD, OPTIONS"},
	} {
		w := ask(api, c.line, "Origin: https://canal.example\nAccess-Control-Request-Method: "+c.method+"\nAccess-Control-Request-Headers: api-version", "")
		if h := w.Header(); w.Code != 204 || h.Get("Access-Control-Allow-Methods") != c.methods || h.Get("Access-Control-Allow-Headers") != "api-version" {
			t.Errorf("%s: %d %v, want the methods %s and the field Api-Version", c.line, w.Code, h, c.methods)
		}
	}
	made, err := by(wicketway.InMediaType()).NewRequest(t.Context(), takeName, struct {
		Name string `json:"name"`
	}{"Bell"})
	if err != nil || made.Header.Get("Content-Type") != "application/json;version=v2" || made.Header.Get("Accept") != "application/json;version=v2" {
		t.Errorf("a request by media type: %v %v", made, err)
	}
	files := build(t, wicketway.VersionBy(wicketway.InHeader("Edition"), ""), wicketway.Version("a", wicketway.Files("/", fstest.MapFS{}), wicketway.Route("POST /x", tellVersion)))
	if w := ask(files, "GET /x", "Edition: a", ""); w.Code != 405 || w.Header().Get("Allow") != "OPTIONS, POST" {
		t.Errorf("beside files of a version: %d %v %s", w.Code, w.Header(), w.Body)
	}
	calls := 0
	countCalls := func(ctx context.Context, _ wicketway.None) (string, error) {
		calls++
		return fmt.Sprint(exchange.Of(ctx).Version(), calls), nil
	}
	kept := build(t, wicketway.VersionBy(wicketway.InHeader("Edition"), "a"), wicketway.Chain(cache.Responses(cache.Settings{}), cache.Headers(cache.Control{MaxAge: time.Minute})),
		wicketway.Version("a", wicketway.Route("GET /x", countCalls), wicketway.Route("PUT /x", countCalls)), wicketway.Version("b", wicketway.Inherit("a")))
	for _, c := range []struct{ method, version, want string }{
		{"GET", "a", "a1"}, {"GET", "b", "b2"}, {"GET", "a", "a1"}, {"GET", "b", "b2"}, {"PUT", "b", "b3"}, {"GET", "a", "a4"}, // the change is every version's
	} {
		if w := ask(kept, c.method+" /x", "Edition: "+c.version, ""); w.Body.String() != `"`+c.want+`"`+"\n" {
			t.Errorf("%s of what is kept, by version %s: %s, want %s", c.method, c.version, w.Body, c.want)
		}
	}
	first := ask(api, "GET /api/locks/bell", "", "").Header().Get("Etag")
	for _, s := range []wicketway.VersionScheme{wicketway.InHeader("Api-Version"), wicketway.InMediaType(), wicketway.InPath()} {
		api := by(s)
		r, err := api.NewRequest(context.Background(), "v2/lock", lockIn{Lock: "bell"})
		if err != nil {
			t.Fatal(err)
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		if !strings.HasPrefix(w.Body.String(), `{"version":"v2"`) || w.Header().Get("Etag") == first {
			t.Errorf("by %s: the request for v2/lock gets %d %v %s", s, w.Code, w.Header(), w.Body)
		}
		for _, f := range api.Routes() {
			if f.Version == "v2" && (f.Chosen.By != strings.Fields(s.String())[0] && f.Chosen.By != s.String() || f.Chosen.Default != "v1" || f.Chosen.Under != "/api" || len(f.Chosen.Served) != 2 || f.Chosen.Withdrawn[0] != "v0") {
				t.Errorf("%s %s is chosen by %+v", f.Method, f.Path, f.Chosen)
			}
		}
	}
	mixed := build(t, wicketway.At("/tenants/{tenant}-x", wicketway.VersionBy(wicketway.InHeader("Edition"), ""),
		wicketway.Version("a", wicketway.Handle("GET /a", http.NotFoundHandler())), wicketway.Version("b", wicketway.Route("GET /a", tellTenant))))
	for line, want := range map[string]int{"GET /tenants/one-x/a": 200, "GET /tenants/one/a": 404, "GET /tenants/-x/a": 404, "GET /tenants/..-x/a": 200, "GET /tenants/a%2Fb-x/a": 200} {
		if w := ask(mixed, line, "Edition: b", ""); w.Code != want {
			t.Errorf("%s: %d, want %d", line, w.Code, want)
		}
	}
	say := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.URL.Path, " ", r.URL.RawPath) })
	mounts := build(t, wicketway.At("/api", wicketway.VersionBy(wicketway.InPath(), "v2"),
		wicketway.Version("v2", wicketway.Mount("/old", say), wicketway.Route("POST /files/b", tellVersion), wicketway.Files("/files", fstest.MapFS{"a": {Data: []byte("a")}, "v2": {Data: []byte("2")}}))))
	for line, want := range map[string]string{
		"GET /api/v2/old/x/y": "/x/y ", "GET /api/old/x/y": "/x/y ", "GET /api/old/v2/y": "/v2/y ", "GET /api/%76%32/old/x%2Fy": "/x/y /x%2Fy", "GET /api/old/x%2Fy": "/x/y /x%2Fy",
		"GET /api/v2/files/a": "a", "GET /api/files/a": "a", "GET /api/files/v2": "2", "PUT /api/files/a": "allowed are GET, HEAD, OPTIONS.", "GET /api/files/b": "allowed are OPTIONS, POST.",
	} {
		if w := ask(mounts, line, "", ""); !strings.Contains(w.Body.String(), want) {
			t.Errorf("%s: %d %s, want %q", line, w.Code, w.Body, want)
		}
	}
	foreign := build(t, wicketway.At("/größe", wicketway.VersionBy(wicketway.InHeader("Edition"), ""), wicketway.Version("an-edition-of-a-long-name", wicketway.Route("GET /a", tellVersion))))
	for _, line := range []string{"GET /gr%C3%B6%C3%9Fe/a", "GET /gr%c3%b6%c3%9fe/%61"} {
		if w := ask(foreign, line, "Edition: an-edition-of-a-long-name", ""); w.Code != 200 {
			t.Errorf("%s: %d %s", line, w.Code, w.Body)
		}
	}
}

func tellTenant(_ context.Context, in struct {
	Tenant string `from:"path tenant"`
}) (string, error) {
	return in.Tenant, nil
}

func TestVersionByMistakes(t *testing.T) {
	noKey := func(context.Context, string) (auth.StoredKey, bool, error) { return auth.StoredKey{}, false, nil }
	type list = []wicketway.Part
	a, b := wicketway.Handle("GET /a", http.NotFoundHandler()), wicketway.Handle("GET /{b}", http.NotFoundHandler())
	by := func(s wicketway.VersionScheme, byDefault string) wicketway.Setting {
		return wicketway.VersionBy(s, byDefault)
	}
	field := wicketway.InHeader("Api-Version")
	for _, c := range []struct {
		parts list
		want  string
	}{
		{list{by(field, "v9"), wicketway.Version("v1", a)}, "VersionBy: version v9 does not exist under /; available: v1"},
		{list{by(wicketway.InHeader("a b"), ""), wicketway.Version("v1", a)}, `Header("a b") is not a field name`},
		{list{by(wicketway.InHeader("host"), ""), wicketway.Version("v1", a)}, "VersionBy: the field Host has a meaning of its own"},
		{list{by(wicketway.InHeader("accept"), ""), wicketway.Version("v1", a)}, "or InMediaType"},
		{list{by(wicketway.InHeader("authorization"), ""), wicketway.Version("v1", a)}, "VersionBy: the field Authorization has a meaning of its own"},
		{list{by(wicketway.InHeader("If-Match"), ""), wicketway.Version("v1", a)}, "VersionBy: the field If-Match has a meaning of its own"},
		{list{by(wicketway.InHeader("X-Canal-Key"), ""), wicketway.Version("v1", a), wicketway.Guard(auth.Key(noKey, auth.Settings{Field: "x-canal-key"}))}, "the guard key reads the field X-Canal-Key"},
		{list{by(field, ""), a}, "VersionBy: has no effect: this group has no Version"},
		{list{wicketway.Version("v1", by(field, ""), a)}, "VersionBy: concerns all versions of a group"},
		{list{wicketway.Version("v1", wicketway.WithdrawnVersions("v0"), a)}, "WithdrawnVersions: concerns all versions of a group"},
		{list{wicketway.WithdrawnVersions("v1"), wicketway.Version("v1", a)}, "WithdrawnVersions: version v1 is served under /: leave one of the two out"},
		{list{by(field, ""), wicketway.Version("v 1", a)}, "so it must be a token (RFC 9110, 5.6.2), such as v2"},
		{list{wicketway.Version("v1", a), wicketway.Group(by(field, ""), wicketway.Version("v2", a))}, `Version "v2": is chosen by header Api-Version, and the one at`},
		{list{wicketway.Group(by(field, "v1"), wicketway.Version("v1", a)), wicketway.Group(by(field, ""), wicketway.Version("v2", a))}, "with one default"},
		{list{wicketway.At("/x", by(field, ""), wicketway.Version("v1", a)), wicketway.At("/{y}", by(field, ""), wicketway.Version("v1", a))}, "a path under /{y} can be under /x as well"},
		{list{by(field, ""), wicketway.Version("v1", a), wicketway.Version("v2", a), a}, "GET /a: matches the same paths as GET /a"},
		{list{by(wicketway.InPath(), "v1"), wicketway.Version("v1", a), a}, "GET /v1/a: matches the same paths as GET /a"},
		{list{by(wicketway.InPath(), "v1"), wicketway.Version("v1", b)}, "GET /v1/{b}: begins with a parameter"},
	} {
		if _, err := wicketway.Build(about, c.parts...); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("the mistakes are %v, want %s", err, c.want)
		}
	}
}
