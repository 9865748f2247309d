package wicketway_test

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/limit"
	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format/csv"
)

// Contracts are served by version and format, and callers are led to them.
func TestContracts(t *testing.T) {
	save := func(_ context.Context, in struct {
		Body string `from:"body"`
	}) (wicketway.None, error) {
		return wicketway.None{}, nil
	}
	find := func(context.Context, wicketway.None) (string, error) { return "bell", nil }
	lock := wicketway.Route("GET /locks", find, wicketway.Name("locks"))
	byHeader := wicketway.VersionBy(wicketway.InHeader("Api-Version"), "v1")
	root := wicketway.Route("GET /", find, wicketway.Name("root"))
	withRoot, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1.0.0", Status: "/state"}, wicketway.At("/api", wicketway.Contracts("/contracts"), root, wicketway.Version("v1", lock, root)),
		wicketway.Handle("GET /state", http.NotFoundHandler(), wicketway.Unlisted()))
	if err != nil {
		t.Fatal(err)
	}
	inPath := build(t, wicketway.Log(slog.New(slog.DiscardHandler)), wicketway.At("/api", wicketway.Contracts("/contracts", yaml.Format()), wicketway.Version("v1", lock), wicketway.Version("v2", lock)))
	inHeader := build(t, wicketway.At("/api", byHeader, wicketway.Version("v1", lock), wicketway.Version("v2", lock)), wicketway.Contracts("/contracts"))
	without := build(t, lock, wicketway.Contracts("/contracts", yaml.Format()), wicketway.Log(slog.New(slog.DiscardHandler)))
	guarded := build(t, lock, wicketway.Group(wicketway.Guard(auth.Bearer(auth.HS256(make([]byte, 32)), auth.Settings{Audience: []string{"canal"}})), wicketway.Contracts("/contracts")))
	manual := wicketway.Handle("GET /manual", http.NotFoundHandler(), wicketway.Attach(facts.ServiceDoc{Problems: "kinds#"}))
	documented, alone := build(t, lock, manual, wicketway.Contracts("/contracts")), build(t, wicketway.Version("v1", lock), manual)
	closed := build(t, wicketway.Guard(auth.Bearer(auth.HS256(make([]byte, 32)), auth.Settings{Audience: []string{"canal"}})), manual)
	const v2 = `</api/contracts/v2>; rel="service-desc"`
	const both = `</api/contracts/v1>; rel="service-desc", ` + v2
	for _, c := range []struct {
		api                       *wicketway.API
		line, accept              string
		status                    int
		media, link, has, hasNone string
	}{
		{inPath, "GET /api/contracts/v2", "", 200, "application/json", "", `"/api/v2/locks"`, "/api/v1/locks"},
		{inPath, "GET /api/contracts/v1", "application/yaml", 200, "application/yaml", "", "openapi: 3.1.1\n", "v2"},
		{inPath, "GET /api/contracts/v1.yaml", "", 200, "application/yaml", "", "  /api/v1/locks:\n", "contracts"},
		{inPath, "GET /api/contracts/v3", "", 404, "application/problem+json", "", `There is no contract \"v3\"; available: v1, v2.`, ""},
		{inPath, "GET /api/v2/nowhere", "", 404, "application/problem+json", v2, "", ""},
		{inPath, "GET /api", "", 404, "application/problem+json", both, "", ""},
		{inPath, "PUT /api/v2/locks", "", 405, "application/problem+json", v2, "", ""},
		{inPath, "OPTIONS /api/v2/locks", "", 204, "", v2, "", ""},
		{inPath, "GET /api/v2/locks", "", 200, "application/json", "", "bell", ""},
		{inPath, "GET /.well-known/api-catalog", "", 200, `application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"`, `<http://example.com/.well-known/api-catalog>; rel="api-catalog"`,
			`{"linkset":[{"anchor":"http://example.com/api/v1","service-desc":[{"href":"http://example.com/api/contracts/v1","type":"application/json"}]},{"anchor":"http://example.com/api/v2",`, ""},
		{withRoot, "GET /api", "", 200, "application/json", `</api/contracts/v1>; rel="service-desc"`, "", ""},
		{withRoot, "GET /api/v1", "", 200, "application/json", `</api/contracts/v1>; rel="service-desc"`, "", ""},
		{withRoot, "GET /api/v1/locks", "", 200, "application/json", "", "", ""},
		{withRoot, "GET /api/contracts/v1", "", 200, "application/json", "", `"$ref":"#/components/headers/Link"`, ""},
		{withRoot, "GET /.well-known/api-catalog", "", 200, `application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"`, `<http://example.com/.well-known/api-catalog>; rel="api-catalog"`,
			`"status":[{"href":"http://example.com/state","type":"application/json"}]`, ""},
		{inHeader, "GET /contracts/v2", "", 200, "application/json", "", `"name":"Api-Version"`, ""},
		{inHeader, "GET /.well-known/api-catalog", "", 200, `application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"`, `<http://example.com/.well-known/api-catalog>; rel="api-catalog"`, `{"anchor":"http://example.com/api/","service-desc"`, ""},
		{without, "GET /contracts/1.0.0", "", 200, "application/json", "", `"/locks"`, ""},
		{without, "GET /nowhere", "", 404, "application/problem+json", `</contracts/1.0.0>; rel="service-desc"`, "", ""},
		{guarded, "GET /contracts/1.0.0", "", 401, "application/problem+json", "", "token-missing", ""},
		{guarded, "GET /.well-known/api-catalog", "", 200, `application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"`, `<http://example.com/.well-known/api-catalog>; rel="api-catalog"`, "", ""},
		{documented, "GET /nowhere", "", 404, "application/problem+json", `</contracts/1.0.0>; rel="service-desc", </manual>; rel="service-doc"`, "", ""},
		{documented, "GET /.well-known/api-catalog", "", 200, `application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"`, `<http://example.com/.well-known/api-catalog>; rel="api-catalog"`,
			`"service-doc":[{"href":"http://example.com/manual","type":"text/html"}]`, ""},
		{documented, "GET /problems/not-found", "text/html", 303, "", "", "", ""},
		{documented, "GET /problems/not-found", "", 200, "application/json", "", `"code": "not-found"`, ""},
		{documented, "GET /problems/never", "text/html", 404, "text/html; charset=utf-8", "", "", ""},
		{alone, "GET /v1/nowhere", "", 404, "application/problem+json", `</manual>; rel="service-doc"`, "", ""},
		{closed, "GET /problems/not-found", "text/html", 200, "text/html; charset=utf-8", "", "Nothing is here", ""},
	} {
		method, path, _ := strings.Cut(c.line, " ")
		r, w := httptest.NewRequest(method, path, nil), httptest.NewRecorder()
		if c.accept != "" {
			r.Header.Set("Accept", c.accept)
		}
		c.api.ServeHTTP(w, r)
		body := w.Body.String()
		if strings.Contains(w.Header().Get("Content-Type"), "linkset") {
			var v any
			if err := json.Unmarshal([]byte(body), &v); err != nil {
				t.Error(err)
			}
			body = strings.NewReplacer("\n", "", "  ", "", ": ", ":").Replace(body)
		}
		if w.Code != c.status || w.Header().Get("Content-Type") != c.media || w.Header().Get("Link") != c.link || !strings.Contains(body, c.has) || c.hasNone != "" && strings.Contains(body, c.hasNone) {
			t.Errorf("%s: %d %v\n%s", c.line, w.Code, w.Header(), body)
		}
		if tag := w.Header().Get("Etag"); w.Code == 200 && strings.Contains(path, "/contracts/") {
			r.Header.Set("If-None-Match", tag)
			again := httptest.NewRecorder()
			if c.api.ServeHTTP(again, r); again.Code != 304 {
				t.Errorf("%s: %d with the tag %s", c.line, again.Code, tag)
			}
		}
	}
	for _, r := range inPath.Routes() {
		if r.Name == "contract" && !strings.HasSuffix(r.At.File, "published_test.go") {
			t.Errorf("the route of the contracts was declared at %s", r.At.File)
		}
	}
	one, err := inPath.Contract("v1")
	if again, _ := inPath.Contract("v1"); err != nil || one != again {
		t.Errorf("the contract is made twice: %v", err)
	}
	for want, parts := range map[string][]wicketway.Part{
		"which lists the contracts; leave Contracts out":      {lock, wicketway.Contracts("/contracts"), wicketway.Route("GET /.well-known/api-catalog", find)},
		"the route answers with string, which is no contract": {wicketway.Route("GET /locks", find, wicketway.Formats(yaml.Format()))},
		"which is not a list":                                 {lock, wicketway.Contracts("/contracts", csv.Lists())},
	} {
		if _, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, parts...); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
	type photos struct {
		Title string         `from:"form title" rule:"maxLength=9"`
		Photo wicketway.File `from:"file photo" rule:"contentMediaType=image/png|image/jpeg"`
	}
	store := func(context.Context, photos) (wicketway.None, error) { return wicketway.None{}, nil }
	byMedia := wicketway.VersionBy(wicketway.InMediaType(), "v1")
	for want, parts := range map[string][]wicketway.Part{
		`"encoding":{"photo":{"contentType":"image/png, image/jpeg"}}`:                                            {wicketway.Route("POST /photos", store)},
		`"content":{"application/json; version=v1":{"schema":{"type":"string"},"example":"text"}}`:                {byMedia, wicketway.Version("v1", lock), wicketway.Version("v2", lock)},
		`{"name":"Api-Version","in":"header","description":"The version of the API","schema":{"const":"v1","defa`: {byHeader, wicketway.Version("v1", lock), wicketway.Version("v2", lock)},
		`"requestBody":{"content":{"application/json; version=v1":`:                                               {byMedia, wicketway.Version("v1", wicketway.Route("PUT /locks", save)), wicketway.Version("v2", lock)},
		`"x-wicketway-limits":{"too-many-requests":"refuses more than 9 requests in 1m0s"}`:                       {wicketway.Chain(limit.Requests(limit.Rate{Requests: 9, Per: time.Minute, Name: "x"}, limit.ByAddress(), limit.Settings{})), lock},
	} {
		api := build(t, wicketway.At("/api", parts...))
		versions := api.Routes()
		d, err := api.Contract(versions[len(versions)-1].Version)
		if strings.Contains(want, "v1") {
			d, err = api.Contract("v1")
		}
		if err != nil {
			t.Fatal(err)
		}
		text := jsontext.Value(d.Text())
		if text.Compact(); !strings.Contains(string(text), want) {
			t.Errorf("the contract lacks %s\n%s", want, text)
		}
	}
	type chamber struct{ Width int }
	named := func(names map[reflect.Type]string) wicketway.Info {
		return wicketway.Info{Title: "T", Version: "1", Names: names}
	}
	measure := wicketway.Route("GET /chamber", func(context.Context, wicketway.None) (chamber, error) { return chamber{4}, nil })
	called, err := wicketway.Build(named(map[reflect.Type]string{reflect.TypeFor[chamber](): "Lock.Chamber"}), measure)
	if err != nil {
		t.Fatal(err)
	}
	if d, err := called.Contract(""); err != nil || !strings.Contains(string(d.Text()), `"#/components/schemas/Lock.Chamber"`) {
		t.Errorf("%v: the name of a type is not in the contract", err)
	}
	for want, info := range map[string]wicketway.Info{
		`Info: "Lock Chamber", for wicketway_test.chamber, is not a name for contracts`: named(map[reflect.Type]string{reflect.TypeFor[chamber](): "Lock Chamber"}),
		"Info: both int and wicketway_test.chamber are called X":                        named(map[reflect.Type]string{reflect.TypeFor[chamber](): "X", reflect.TypeFor[int](): "X"}),
		`Info: the type that is called "X" is nil`:                                      named(map[reflect.Type]string{nil: "X"}),
		`Info: it has a text about the scope "locks:open", which no route asks for`:     {Title: "T", Version: "1", Scopes: map[string]string{"locks:open": "Open locks"}},
		`Info: no GET route is at "/state", the path of the status`:                     {Title: "T", Version: "1", Status: "/state"},
	} {
		if _, err := wicketway.Build(info, measure); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
	if _, err := yaml.Write(&contract.Document{}); err != nil {
		t.Error(err)
	}
}
