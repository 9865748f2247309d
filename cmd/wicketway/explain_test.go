package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/quiet"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/format/csv"
)

// What explain says of a request is what the API does, for random requests to random
// APIs: the route, the status, Allow, Location, and the chain that is passed.
func TestExplainSaysWhatTheAPIDoes(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 9))
	one := func(of ...string) string { return of[random.IntN(len(of))] }
	segments := []string{"/a", "/b", "/{x}", "/a{x}", "/{x}.{y}", "/a%2Fb", "/"}
	requested := []string{"/a", "/b", "/c", "/ab", "/a.b", "/a%2Fb", "/", "//", "/.", "/..", "/%2e%2e", "/v1", "/problems", "/é"}
	outcomes, versions := map[int]int{}, map[string]int{}
	for range 1600 {
		served := ""
		mark := func(name string) wicketway.Setting {
			return wicketway.Chain(wicketway.Wrap(name, func(next http.Handler) http.Handler {
				return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					w.Header().Add("Passed", name)
					next.ServeHTTP(w, r)
				})
			}))
		}
		routes := func(n int) (parts []wicketway.Part) {
			for range 1 + random.IntN(n) {
				path := one(segments...)
				if random.IntN(2) == 0 {
					path = strings.TrimSuffix(path, "/") + strings.NewReplacer("x", "u", "y", "v").Replace(one(segments...))
				}
				line := one("GET", "GET", "POST", "PUT", "HEAD", "OPTIONS", "*") + " " + path
				parts = append(parts, wicketway.Handle(line, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					served = exchange.Of(r.Context()).Template()
					served += exchange.Of(r.Context()).Version()
				}), wicketway.Slashes(wicketway.Slash(random.IntN(3)))))
			}
			return parts
		}
		group := func(name, prefix string) wicketway.Part {
			return wicketway.At(prefix, append(routes(3), mark(name))...)
		}
		by := []wicketway.VersionScheme{wicketway.InPath(), wicketway.InHeader("Edition"), wicketway.InMediaType()}[random.IntN(3)]
		around := routes(4)
		if random.IntN(3) == 0 { // it takes nothing below a guard that it does not have
			around = append(around, wicketway.Mount(one("/", "/a", "/c"), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				served = exchange.Of(r.Context()).Template()
			})))
		}
		guarded := append(routes(3), mark("two"))
		if random.IntN(2) == 0 {
			guarded = append(guarded, wicketway.Guard(anyone{}))
		}
		api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, append(around,
			mark("root"), group("one", "/a"), wicketway.At(one("/a/b", "/b", "/{g}"), guarded...),
			wicketway.At(one("/a", "/c", "/c", "/c"), wicketway.VersionBy(by, one("", "v1", "v2")), mark("three"),
				wicketway.Version("v1", append(routes(3), mark("four"))...),
				wicketway.Version("v2", append(routes(2), mark("five"), wicketway.Inherit("v1"))...)))...)
		if err != nil {
			continue // they clash
		}
		d, err := newDescribed(api.Describe())
		if err != nil {
			t.Fatal(err)
		}
		for range 40 {
			method, path := one("GET", "GET", "POST", "PUT", "HEAD", "OPTIONS", "DELETE", "get"), one("", "/c", "/c/v1", "/c/v2")
			for range 1 + random.IntN(4) {
				path += one(requested...)
			}
			target, err := url.ParseRequestURI(path)
			if err != nil || target.Host != "" {
				continue
			}
			r := httptest.NewRequestWithContext(context.Background(), method, "/", nil)
			r.URL, r.RequestURI = target, path
			if method == "OPTIONS" && random.IntN(2) == 0 {
				r.Header.Set("Origin", "https://canal.example")
				r.Header.Set("Access-Control-Request-Method", one("GET", "PUT"))
			}
			if version := one("v1", "v2", "v2", "v9"); random.IntN(3) > 0 {
				r.Header.Set("Edition", version)
				r.Header.Set("Accept", "text/*;version="+version)
			}
			served = ""
			w := httptest.NewRecorder()
			api.ServeHTTP(w, r)
			e := d.explain(method, target, r.Header)
			passed := []string{}
			for _, m := range e.Chain {
				passed = append(passed, m.Name)
			}
			said, did := fmt.Sprint(e.Status, strings.Join(e.Allow, ", "), e.Location, passed), ""
			if e.Route != nil {
				said = fmt.Sprint(e.Route.Path+e.Route.Version, passed)
				versions[fmt.Sprint(by, e.Route.Version)]++
				did = fmt.Sprint(served, w.Header()["Passed"])
				if e.Route.Path == "/problems/{code}" {
					continue
				}
			} else {
				did = fmt.Sprint(w.Code, w.Header().Get("Allow"), w.Header().Get("Location"), w.Header()["Passed"])
				outcomes[e.Status]++
			}
			if said != did {
				lines := []string{}
				for _, r := range d.Routes {
					lines = append(lines, r.Method+" "+r.Path+" "+r.Slashes)
				}
				t.Fatalf("%s %s: explain says %s, the API does %s, of %q", method, path, said, did, slices.Compact(lines))
			}
		}
	}
	for _, found := range []string{"pathv1", "pathv2", "header Editionv1", "header Editionv2", "media typev1", "media typev2"} {
		if versions[found] < 15 {
			t.Errorf("of %s only %d routes were found", found, versions[found])
		}
	}
	for _, status := range []int{204, 308, 400, 404, 405, 406} {
		if outcomes[status] < 50 {
			t.Errorf("only %d answers were %d", outcomes[status], status)
		}
	}
}

type anyone struct{}

func (anyone) Authenticate(*http.Request) (*exchange.Identity, error) {
	return &exchange.Identity{}, nil
}
func (anyone) Challenge([]string) string { return "" }
func (anyone) Scheme() exchange.Scheme   { return exchange.Scheme{Name: "any"} }

// What a package of its own attaches to a route is shown with its place.
func TestExplainShowsAttachedValues(t *testing.T) {
	work := func(context.Context, wicketway.None) (string, error) { return "", nil }
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"},
		wicketway.Chain(quiet.Keep(time.Now)),
		wicketway.Group(quiet.Hours(22, 6), wicketway.Route("PUT /locks", work)),
		wicketway.Files("/", fstest.MapFS{}),
		wicketway.Route("GET /list/{of}", func(context.Context, struct {
			Of string `from:"path of"`
		}) ([]int, error) {
			return nil, nil
		}, wicketway.Formats(csv.Lists()), wicketway.FormatChoice{By: []format.Way{format.BySuffix(), format.ByAccept()}}),
	)
	if err != nil {
		t.Fatal(err)
	}
	d, err := newDescribed(api.Describe())
	if err != nil {
		t.Fatal(err)
	}
	for path, wants := range map[string][]string{
		"/locks":          {`quiet.hours {"From":22,"To":6}`, "explain_test.go:", "refuses what makes noise", "409 quiet-hours", "by quiet"},
		"/list/locks.csv": {`of = "locks"`, "json, csv", "by suffix, then accept", "the suffix chooses csv", "text/csv"},
		"/a file":         {"404 where the file does not exist"},
	} {
		var out strings.Builder
		d.explain(map[bool]string{true: "PUT", false: "GET"}[path == "/locks"], &url.URL{Path: path}, nil).print(&out)
		for _, want := range wants {
			if !strings.Contains(out.String(), want) {
				t.Errorf("%s: no %q in\n%s", path, want, out.String())
			}
		}
	}
}

// The parameters that explain says are refused are those that the API refuses, fault by fault.
func TestExplainRefusesAsTheAPIDoes(t *testing.T) {
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"},
		wicketway.Route("GET /locks/{lock}/{gate}", func(context.Context, struct {
			Lock   string    `from:"path lock" rule:"pattern='^[a-z]+$'"`
			Gate   uint8     `from:"path gate" rule:"maximum=9"`
			Small  *int16    `from:"query small"`
			Limit  int       `from:"query limit" rule:"minimum=1 maximum=255"`
			Since  time.Time `from:"query since"`
			Height float64   `from:"query height" rule:"exclusiveMinimum=0"`
			Open   bool      `from:"query open"`
			Side   []string  `from:"query side" rule:"items.enum=up|down uniqueItems"`
			Count  []int8    `from:"query count" rule:"maxItems=2"`
			Key    string    `from:"header Key" rule:"required"`
			Crew   int64     `from:"cookie crew" rule:"minimum=-1"`
		}) (string, error) {
			return "", nil
		}))
	if err != nil {
		t.Fatal(err)
	}
	d, err := newDescribed(api.Describe())
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(21, 11))
	texts := []string{"bell", "BELL", "0", "9", "10", "256", "-1", "1.5", "true", "up", "down", "2026-05-04T09:30:00Z", "%zz", "a;b", "128", "40000", ""}
	refusals := map[int]int{}
	for range 3000 {
		one := func() string { return texts[random.IntN(len(texts))] }
		segment := func() string { return texts[random.IntN(11)] }
		var query []string
		for _, name := range []string{"small", "limit", "since", "height", "open", "side", "side", "count", "count", "count"} {
			if random.IntN(5) == 0 {
				query = append(query, name+"="+one())
			}
		}
		target, err := url.ParseRequestURI("/locks/" + segment() + "/" + segment() + "?" + strings.Join(query, "&"))
		if err != nil {
			t.Fatal(err)
		}
		r := httptest.NewRequestWithContext(context.Background(), "GET", "/", nil)
		r.URL, r.RequestURI = target, target.RequestURI()
		if random.IntN(9) > 0 {
			r.Header.Set("Key", "k")
		}
		if random.IntN(9) == 0 {
			r.Header.Set("Cookie", "crew="+segment())
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		var did, said struct {
			Code   string
			Errors jsontext.Value
		}
		if err := json.Unmarshal(w.Body.Bytes(), &did, json.MatchCaseInsensitiveNames(true)); w.Code >= 400 && err != nil {
			t.Fatal(err)
		}
		e := d.explain("GET", target, r.Header)
		if e.Refused != nil {
			refusals[e.Refused.Status]++
			said.Code = e.Refused.Code
			said.Errors, err = json.Marshal(e.Refused.Items)
		}
		if err != nil || said.Code != did.Code || string(said.Errors) != string(did.Errors) {
			t.Fatalf("%s: explain says %s %s, the API %d %s %s", target, said.Code, said.Errors, w.Code, did.Code, did.Errors)
		}
	}
	if refusals[400] < 500 || refusals[422] < 100 {
		t.Errorf("refused were %v", refusals)
	}
}
