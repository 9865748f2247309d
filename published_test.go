package wicketway_test

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/format/csv"
)

// Contracts are served by version and format, and callers are led to them.
func TestContracts(t *testing.T) {
	find := func(context.Context, wicketway.None) (string, error) { return "bell", nil }
	lock := wicketway.Route("GET /locks", find, wicketway.Name("locks"))
	byHeader := wicketway.VersionBy(wicketway.InHeader("Api-Version"), "v1")
	inPath := build(t, wicketway.Log(slog.New(slog.DiscardHandler)), wicketway.At("/api", wicketway.Contracts("/contracts", yaml.Format()), wicketway.Version("v1", lock), wicketway.Version("v2", lock)))
	inHeader := build(t, wicketway.At("/api", byHeader, wicketway.Version("v1", lock), wicketway.Version("v2", lock)), wicketway.Contracts("/contracts"))
	without := build(t, lock, wicketway.Contracts("/contracts", yaml.Format()), wicketway.Log(slog.New(slog.DiscardHandler)))
	guarded := build(t, lock, wicketway.Group(wicketway.Guard(auth.Bearer(auth.HS256(make([]byte, 32)), auth.Settings{Audience: []string{"canal"}})), wicketway.Contracts("/contracts")))
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
		{inHeader, "GET /contracts/v2", "", 200, "application/json", "", `"name":"Api-Version"`, ""},
		{inHeader, "GET /.well-known/api-catalog", "", 200, `application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"`, `<http://example.com/.well-known/api-catalog>; rel="api-catalog"`, `{"anchor":"http://example.com/api/","service-desc"`, ""},
		{without, "GET /contracts/1.0.0", "", 200, "application/json", "", `"/locks"`, ""},
		{without, "GET /nowhere", "", 404, "application/problem+json", `</contracts/1.0.0>; rel="service-desc"`, "", ""},
		{guarded, "GET /contracts/1.0.0", "", 401, "application/problem+json", "", "token-missing", ""},
		{guarded, "GET /.well-known/api-catalog", "", 200, `application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"`, `<http://example.com/.well-known/api-catalog>; rel="api-catalog"`, "", ""},
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
	if _, err := yaml.Write(&contract.Document{}); err != nil {
		t.Error(err)
	}
}
