package wicketway_test

import (
	"context"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
)

func says(what string) func(context.Context, wicketway.None) (string, error) {
	return func(context.Context, wicketway.None) (string, error) { return what, nil }
}

type parts []wicketway.Part

type noted string

// tolled sends what is attached.
func tolled() wicketway.Middleware {
	m := wicketway.Wrap("tolled", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if n, ok := exchange.Attached[noted](r.Context()); ok {
				w.Header().Add("Passed", string(n))
			}
			next.ServeHTTP(w, r)
		})
	})
	m.Reads = []reflect.Type{reflect.TypeFor[noted]()}
	return m
}

type levelBody struct {
	Level string `json:"level"`
}

func levelOf(_ context.Context, in levelBody) (string, error) { return in.Level, nil }

// answered is the status, the chain that was passed, and the value or the problem's code.
func answered(api http.Handler, line, plate, body string) string {
	header := asJSON
	if plate != "" {
		header += "\nPlate: " + plate
	}
	w := ask(api, line, header, body)
	var value any
	json.Unmarshal(w.Body.Bytes(), &value)
	if p, is := value.(map[string]any); is && p["code"] != nil {
		value = p["code"]
	}
	return strings.TrimSpace(strings.Join(strings.Fields(fmt.Sprint(w.Code, " ", strings.Join(w.Header()["Passed"], ","), " ", value)), " "))
}

// What v1 says, what v2 says (it inherits from v1), and what therefore holds.
func TestInheritance(t *testing.T) {
	get := func(path, what string, settings ...wicketway.Setting) wicketway.Part {
		if strings.Contains(path, "{") {
			return wicketway.Handle("GET "+path, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintf(w, "%q", what) }), settings...)
		}
		return wicketway.Route("GET "+path, says(what), settings...)
	}
	chain := func(names ...string) wicketway.Setting {
		var all []wicketway.Middleware
		for _, n := range names {
			all = append(all, mark(n))
		}
		return wicketway.Chain(all...)
	}
	guard := func(name string) wicketway.Setting { return wicketway.Guard(plate(name)) }
	long := `{"level": "` + strings.Repeat("x", 50) + `"}`
	for _, c := range []struct {
		what    string
		v1, v2  parts
		request string // of v2, with what follows the version
		plate   string
		body    string
		want    string
		of1     string // the same of v1; "": as for v2
	}{
		{what: "nothing, so it is taken over", v1: parts{get("/a", "one")}, request: "GET /a", want: "200 one"},
		{what: "HEAD follows", v1: parts{get("/a", "one")}, request: "HEAD /a", want: "200 <nil>"},
		{what: "it anew", v1: parts{get("/a", "one")}, v2: parts{get("/a", "two")}, request: "GET /a", want: "200 two", of1: "200 one"},
		{what: "another method of its path", v1: parts{get("/a", "one")}, v2: parts{wicketway.Route("POST /a", says("two"))},
			request: "GET /a", want: "200 one"},
		{what: "its parameter by another name", v1: parts{get("/a/{x}", "one")}, v2: parts{get("/a/{y}", "two")}, request: "GET /a/7", want: "200 two", of1: "200 one"},
		{what: "something more specific beside it", v1: parts{get("/a/{x}", "one")}, v2: parts{get("/a/b", "two")}, request: "GET /a/7", want: "200 one"},
		{what: "a remainder where v1 has a parameter", v1: parts{get("/a/{x}", "one")}, v2: parts{get("/a/{+x}", "two")}, request: "GET /a/7", want: "200 one"},
		{what: "it anew in a group", v1: parts{get("/a/b", "one")}, v2: parts{wicketway.At("/a", get("/b", "two"))}, request: "GET /a/b", want: "200 two", of1: "200 one"},
		{what: "the root anew", v1: parts{get("/", "one")}, v2: parts{get("/", "two")}, request: "GET ", want: "200 two", of1: "200 one"},
		{what: "nothing about the root", v1: parts{get("/", "one")}, request: "GET ", want: "200 one"},
		{what: "a chain: it comes first", v1: parts{chain("one"), get("/a", "x")}, v2: parts{chain("two")}, request: "GET /a", want: "200 two,one x", of1: "200 one x"},
		{what: "a chain with the same in it: it is passed once", v1: parts{chain("log", "one"), get("/a", "x")}, v2: parts{chain("log", "two")},
			request: "GET /a", want: "200 log,two,one x", of1: "200 log,one x"},
		{what: "a chain: the route's own comes last", v1: parts{get("/a", "x", chain("own"))}, v2: parts{chain("two")}, request: "GET /a", want: "200 two,own x", of1: "200 own x"},
		{what: "a chain: an inner group's stays", v1: parts{wicketway.At("/g", chain("inner"), get("/a", "x"))}, v2: parts{chain("two")},
			request: "GET /g/a", want: "200 two,inner x", of1: "200 inner x"},
		{what: "nothing: what the inner group says of misses stays", v1: parts{wicketway.At("/g", chain("inner"), get("/a", "x"))}, v2: parts{chain("two")},
			request: "GET /g/b", want: "404 two,inner not-found", of1: "404 inner not-found"},
		{what: "a chain, of which the route leaves one out", v1: parts{chain("one", "log"), get("/a", "x", wicketway.Without("log"))}, v2: parts{chain("log")},
			request: "GET /a", want: "200 one x"},
		{what: "nothing: v1's guard holds", v1: parts{guard("one"), get("/a", "x")}, request: "GET /a", want: "401 unauthorized"},
		{what: "a guard, where v1 has none", v1: parts{get("/a", "x")}, v2: parts{guard("two")}, request: "GET /a", want: "401 unauthorized", of1: "200 x"},
		{what: "a guard, in place of v1's", v1: parts{guard("one"), chain("c"), get("/a", "x")}, v2: parts{guard("two")}, request: "GET /a",
			want: "401 unauthorized", of1: "401 c unauthorized"},
		{what: "that all is public", v1: parts{guard("one"), get("/a", "x")}, v2: parts{wicketway.Public()}, request: "GET /a", want: "200 x", of1: "401 unauthorized"},
		{what: "a guard: an inner group is public", v1: parts{guard("one"), get("/b", "y"), wicketway.Group(wicketway.Public(), get("/a", "x"))}, v2: parts{guard("two")},
			request: "GET /a", want: "200 x"},
		{what: "a guard: v1 was open for reading", v1: parts{guard("one"), wicketway.Public("GET"), get("/a", "x"), wicketway.Route("POST /a", says("y"))},
			v2: parts{guard("two")}, request: "GET /a", want: "401 unauthorized", of1: "200 x"},
		{what: "a guard: the route says that it is public", v1: parts{get("/a", "x", wicketway.Name("a")), guard("one"), get("/p", "y", wicketway.Public())},
			v2: parts{guard("two")}, request: "GET /p", want: "200 y"},
		{what: "a guard: an inner group has its own", v1: parts{wicketway.At("/g", guard("inner"), get("/a", "x")), get("/b", "y")}, v2: parts{guard("two")},
			request: "GET /g/a", want: "401 unauthorized"},
		{what: "a guard: the scopes of the route travel", v1: parts{guard("one"), get("/a", "x", wicketway.Scopes("read"))}, v2: parts{guard("two")},
			request: "GET /a", plate: "OB-1 write", want: "403 scope-missing"},
		{what: "a guard: the scopes of the list travel", v1: parts{guard("one"), wicketway.Scopes("read"), get("/a", "x")}, v2: parts{guard("two")},
			request: "GET /a", plate: "OB-1 write", want: "403 scope-missing"},
		{what: "more scopes: both are needed", v1: parts{guard("one"), get("/a", "x", wicketway.Scopes("read"))}, v2: parts{wicketway.Scopes("late")},
			request: "GET /a", plate: "OB-1 read", want: "403 scope-missing", of1: "200 x"},
		{what: "a smaller body: it holds", v1: parts{wicketway.Route("POST /a", levelOf)}, v2: parts{wicketway.Limits{Body: 20}}, request: "POST /a", body: long,
			want: "413 body-too-large", of1: "200 " + strings.Repeat("x", 50)},
		{what: "a larger body than v1's list: it holds", v1: parts{wicketway.Limits{Body: 20}, wicketway.Route("POST /a", levelOf)}, v2: parts{wicketway.Limits{Body: 500}},
			request: "POST /a", body: long, want: "200 " + strings.Repeat("x", 50), of1: "413 body-too-large"},
		{what: "a time: the body of v1's list stays", v1: parts{wicketway.Limits{Body: 20, Time: 9e9}, wicketway.Route("POST /a", levelOf)},
			v2: parts{wicketway.Limits{Time: 8e9}}, request: "POST /a", body: long, want: "413 body-too-large"},
		{what: "a larger body than the route: the route's travels", v1: parts{wicketway.Route("POST /a", levelOf, wicketway.Limits{Body: 20})},
			v2: parts{wicketway.Limits{Body: 500}, wicketway.Route("POST /b", levelOf)}, request: "POST /a", body: long, want: "413 body-too-large"},
		{what: "an envelope, in place of v1's", v1: parts{wicketway.Envelope("one"), get("/a", "x")}, v2: parts{wicketway.Envelope("two")}, request: "GET /a",
			want: "200 map[two:x]", of1: "200 map[one:x]"},
		{what: "nothing: v1's envelope stays", v1: parts{wicketway.Envelope("one"), get("/a", "x")}, request: "GET /a", want: "200 map[one:x]"},
		{what: "another attached value, in place of the list's", v1: parts{chain("c"), wicketway.Chain(tolled()), wicketway.Attach(noted("low")), get("/a", "x")},
			v2: parts{wicketway.Attach(noted("high"))}, request: "GET /a", want: "200 c,high x", of1: "200 c,low x"},
		{what: "another attached value: the route's travels", v1: parts{wicketway.Chain(tolled()), get("/a", "x", wicketway.Attach(noted("own")))},
			v2: parts{wicketway.Chain(tolled()), wicketway.Attach(noted("high")), get("/b", "y")}, request: "GET /a", want: "200 own x"},
		{what: "that it is withdrawn", v1: parts{get("/a", "x"), get("/b", "y")}, v2: parts{wicketway.Withdraw("GET /a")}, request: "GET /a", want: "410 withdrawn", of1: "200 x"},
		{what: "that it is withdrawn, behind a guard", v1: parts{get("/a", "x")}, v2: parts{guard("two"), chain("c"), wicketway.Withdraw("GET /a")},
			request: "GET /a", want: "401 c unauthorized", of1: "200 x"},
		{what: "that what was public is withdrawn, behind a guard", v1: parts{guard("one"), wicketway.Route("GET /a", says("x"), wicketway.Public()), get("/b", "y")},
			v2: parts{guard("two"), wicketway.Withdraw("GET /a")}, request: "GET /a", want: "410 withdrawn", of1: "200 x"},
		{what: "that one method is withdrawn", v1: parts{get("/a", "x"), wicketway.Route("PUT /a", says("y"))}, v2: parts{wicketway.Withdraw("PUT /a")},
			request: "GET /a", want: "200 x"},
	} {
		v2 := append(parts{wicketway.Inherit("v1")}, c.v2...)
		api, err := wicketway.Build(about, wicketway.At("/api", wicketway.Version("v2", v2...), wicketway.Version("v1", c.v1...)))
		if err != nil {
			t.Errorf("v2 says %s: %v", c.what, err)
			continue
		}
		method, path, _ := strings.Cut(c.request, " ")
		if got := answered(api, method+" /api/v2"+path, c.plate, c.body); got != c.want {
			t.Errorf("v2 says %s: %s, want %s", c.what, got, c.want)
		}
		if c.of1 == "" {
			c.of1 = c.want
		}
		if got := answered(api, method+" /api/v1"+path, c.plate, c.body); strings.Replace(got, " c unauth", " unauth", 1) != strings.Replace(c.of1, " c unauth", " unauth", 1) {
			t.Errorf("v2 says %s: of v1 %s, want %s", c.what, got, c.of1)
		}
	}
}

// Each setting of an inherited route is known with the list by which it came.
func TestInheritedSettings(t *testing.T) {
	api := build(t, wicketway.At("/api", wicketway.Envelope("data"),
		wicketway.Version("v1", wicketway.Retirement{Deprecated: time.Unix(1, 0)}, wicketway.OmitNull(),
			wicketway.At("/locks", wicketway.Slashes(wicketway.SlashSame), wicketway.Route("GET /{lock}", tellLock, wicketway.Summary("One lock")))),
		wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Envelope("found"))))
	for _, f := range api.Routes() {
		var got []string
		for _, s := range f.Settings {
			got = append(got, strings.Join(strings.Fields(fmt.Sprint(s.Name, " of ", s.List, " ", s.Under, " ", s.Inherited)), " "))
		}
		want := map[string]string{
			"v1": "Summary of route false, Slashes of At /api/v1/locks false, Retirement of Version v1 false, OmitNull of Version v1 false, Envelope of At /api false",
			"v2": "Summary of route true, Slashes of At /api/v1/locks true, OmitNull of Version v1 true, Envelope of Version v2 false",
		}[f.Version]
		if f.Version != "" && strings.Join(got, ", ") != want {
			t.Errorf("%s %s: %q, want %q", f.Version, f.Path, got, want)
		}
	}
}

// A guard around the earlier version alone holds for what is inherited as well: nothing is open by
// accident.
func TestInheritanceKeepsTheGuardAround(t *testing.T) {
	api := build(t,
		wicketway.Group(wicketway.Guard(plate("p")), wicketway.Chain(mark("c")), wicketway.Version("v1", wicketway.Route("GET /a", says("x")))),
		wicketway.Group(wicketway.Chain(mark("d")), wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Route("GET /b", says("y")))))
	for line, want := range map[string]string{"GET /v1/a": "401 c unauthorized", "GET /v2/a": "401 d,c unauthorized", "GET /v2/b": "200 d y"} {
		if got := answered(api, line, "", ""); got != want {
			t.Errorf("%s: %s, want %s", line, got, want)
		}
	}
}

// A chain of three, its links, its facts, and where a withdrawal leads.
func TestThreeVersions(t *testing.T) {
	linked := func(ctx context.Context, in lockIn) (string, error) {
		return exchange.Of(ctx).Link("lock", lockIn{Lock: "heron"})
	}
	api := build(t, wicketway.At("/api",
		wicketway.Version("v3", wicketway.Inherit("v2"), wicketway.Withdraw("GET /locks/{name}/tolls"), wicketway.Route("GET /berths", says("three"))),
		wicketway.Version("v1",
			wicketway.Route("GET /locks/{lock}", linked, wicketway.Name("lock")),
			wicketway.Route("GET /locks/{lock}/tolls", lockOf),
			wicketway.Route("GET /charts", says("one")),
			wicketway.Mount("/old", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprintf(w, "%q", r.URL.Path) })),
			wicketway.Files("/files", fstest.MapFS{"a.json": {Data: []byte("7")}}),
			wicketway.Route("POST /locks", func(context.Context, wicketway.None) (*wicketway.Created[string, lockIn], error) {
				return &wicketway.Created[string, lockIn]{Value: "x", At: lockIn{Lock: "heron"}}, nil
			}, wicketway.LocatedBy(linked)),
		),
		wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Withdraw("GET /charts"),
			wicketway.Route("GET /locks/{l}/tolls", func(context.Context, struct {
				L string `from:"path l"`
			}) (string, error) {
				return "two", nil
			}, wicketway.Overrides())),
	))
	for line, want := range map[string]string{
		"GET /api/v1/locks/bell": "200 /api/v1/locks/heron", "GET /api/v3/locks/bell": "200 /api/v3/locks/heron",
		"GET /api/v2/locks/bell/tolls": "200 two", "GET /api/v3/berths": "200 three", "GET /api/v2/berths": "404 not-found",
		"GET /api/v3/old/x/y": "200 /x/y", "GET /api/v3/files/a.json": "200 7", "DELETE /api/v3/locks/bell": "405 method-not-allowed",
	} {
		if got := answered(api, line, "", ""); got != want {
			t.Errorf("%s: %s, want %s", line, got, want)
		}
	}
	for line, before := range map[string]string{
		"GET /api/v3/locks/a%20b/tolls": "/api/v2/locks/a%20b/tolls", "GET /api/v2/charts": "/api/v1/charts", "GET /api/v3/charts": "/api/v1/charts",
	} {
		w := ask(api, line, "", "")
		checkProblem(t, line, w, 410, "withdrawn")
		if got := w.Header().Get("Link"); got != "<"+before+`>; rel="predecessor-version"` {
			t.Errorf("%s: Link %s", line, got)
		}
	}
	if at := ask(api, "POST /api/v3/locks", "", "").Header().Get("Location"); at != "/api/v3/locks/heron" {
		t.Errorf("what v3 creates is at %s", at)
	}
	var got []string
	for _, f := range api.Routes() {
		if f.Version == "" || f.Method != "GET" || strings.Contains(f.Path, "+") {
			continue
		}
		from := ""
		if f.Inherited != nil {
			from = fmt.Sprint(f.Inherited.From, " ", f.Inherited.Override, " ")
		}
		got = append(got, fmt.Sprint(f.Version, " ", strings.TrimPrefix(f.Path, "/api/"+f.Version), " ", from, f.Withdrawn))
	}
	slices.Sort(got)
	want := []string{"v1 /charts false", "v1 /locks/{lock} false", "v1 /locks/{lock}/tolls false",
		"v2 /charts v1 true true", "v2 /locks/{lock} v1 false false", "v2 /locks/{l}/tolls v1 true false",
		"v3 /berths false", "v3 /charts v2 false true", "v3 /locks/{lock} v2 false false", "v3 /locks/{name}/tolls v2 true true"}
	if !slices.Equal(got, want) {
		t.Errorf("the facts are\n%s", strings.Join(got, "\n"))
	}
}

// What is wrong about versions that inherit, each with the places.
func TestInheritanceMistakes(t *testing.T) {
	a := wicketway.Route("GET /a", says("x"))
	for _, c := range []struct {
		parts parts
		want  string
	}{
		{parts{wicketway.Version("v2", wicketway.Inherit("v9"), a), wicketway.Version("v1", wicketway.Route("GET /a", says("y")))}, "Inherit: this group has no version v9; available: v2, v1"},
		{parts{wicketway.At("/x", wicketway.Version("v1", a)), wicketway.Version("v2", wicketway.Inherit("v1"), a)}, "this group has no version v1; available"},
		{parts{wicketway.Version("v1", wicketway.Inherit("v1"), a)}, "v1 inherits from v1, which inherits from it"},
		{parts{wicketway.Version("v1", wicketway.Inherit("v3"), a), wicketway.Version("v2", wicketway.Inherit("v1")), wicketway.Version("v3", wicketway.Inherit("v2"))},
			"v2 inherits from v1, which inherits from it, at inherit_test.go:"},
		{parts{wicketway.Version("v1", a), wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Inherit("v1"))}, "inherits from v1 already, at inherit_test.go:"},
		{parts{wicketway.Inherit("v1"), a}, "Inherit: is in the list of Build: it belongs in that of a Version"},
		{parts{wicketway.Version("v1", a), wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Withdraw("GET /b"))},
			"Withdraw: GET /v2/b: v1, inherited at inherit_test.go:"},
		{parts{a, wicketway.Withdraw("GET /b")}, "Withdraw: GET /b: it is not in a version that inherits"},
		{parts{wicketway.Version("v1", a), wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Withdraw("GET /a")),
			wicketway.Version("v3", wicketway.Inherit("v2"), wicketway.Withdraw("GET /a"))}, "v2 has withdrawn it already, at inherit_test.go:"},
		{parts{wicketway.Version("v1", a), wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Route("GET /aa", says("z"), wicketway.Overrides()))},
			"Overrides: GET /v2/aa: v1, inherited at inherit_test.go:"},
		{parts{wicketway.Version("v1", a), wicketway.Version("v2", wicketway.Inherit("v1"), a, wicketway.Route("GET /a", says("z")))}, "matches the same paths"},
	} {
		api, err := wicketway.Build(about, c.parts...)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("the mistakes are %v, want %s (%v)", err, c.want, api != nil)
		}
	}
}

// What comes to an end says so, ends, and rehearses; what inherits from it does not.
func TestRetirement(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2027, 1, n, 0, 0, 0, 0, time.UTC) }
	now := day(1)
	api := build(t,
		wicketway.Retirement{Clock: func() time.Time { return now }},
		wicketway.Version("v1",
			wicketway.Retirement{Deprecated: day(2), Sunset: day(20), Ends: true, Rehearsals: []facts.Window{{From: day(10), Until: day(11)}}, Successor: "/v2"},
			wicketway.Related("sunset", "https://osterbeck.example/v1"), wicketway.Related("license", "/license"),
			wicketway.Guard(plate("p")),
			wicketway.Route("GET /open", says("x"), wicketway.Public()),
			wicketway.Route("GET /a", says("x")),
			wicketway.Group(wicketway.Undo(wicketway.Retirement{Ends: true, Rehearsals: []facts.Window{{}}}),
				wicketway.Route("GET /stays", says("x"), wicketway.Retirement{Deprecated: day(5)})),
			wicketway.Route("GET /moved/{lock}", tellLock, wicketway.Public(), wicketway.Retirement{Successor: tellLock}),
			wicketway.Route("GET /whole", says("x"), wicketway.Undo(wicketway.Retirement{Sunset: day(1), Ends: true, Deprecated: day(1), Rehearsals: []facts.Window{{}}, Successor: "/"}))),
		wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Route("GET /locks/{lock}", tellLock, wicketway.Name("lock"))),
	)
	more := `<https://osterbeck.example/v1>; rel="sunset", </license>; rel="license"`
	links := []string{more + `, </v2>; rel="successor-version"`}
	for _, c := range []struct {
		at                    time.Time
		line                  string
		status                int
		code                  string
		deprecation, sunset   string
		links                 []string
		until, control, plate string
	}{
		{day(1), "GET /v1/open", 200, "", "@1798848000", "Wed, 20 Jan 2027 00:00:00 GMT", links, "", "", ""},
		{day(1), "GET /v1/a", 401, "unauthorized", "@1798848000", "Wed, 20 Jan 2027 00:00:00 GMT", links, "", "", ""},
		{day(10), "GET /v1/open", 410, "retired", "@1798848000", "Wed, 20 Jan 2027 00:00:00 GMT", links, "2027-01-11T00:00:00Z", "no-store", ""},
		{day(10), "HEAD /v1/open", 410, "", "@1798848000", "Wed, 20 Jan 2027 00:00:00 GMT", links, "", "no-store", ""},
		{day(11), "GET /v1/open", 200, "", "@1798848000", "Wed, 20 Jan 2027 00:00:00 GMT", links, "", "", ""},
		{day(20), "GET /v1/open", 410, "retired", "@1798848000", "Wed, 20 Jan 2027 00:00:00 GMT", links, "", "", ""},
		{day(21), "GET /v1/a", 401, "unauthorized", "@1798848000", "Wed, 20 Jan 2027 00:00:00 GMT", links, "", "", ""},
		{day(21), "GET /v1/a", 410, "retired", "@1798848000", "Wed, 20 Jan 2027 00:00:00 GMT", links, "", "", "OB-7"},
		{day(21), "GET /v1/stays", 200, "", "@1799107200", "Wed, 20 Jan 2027 00:00:00 GMT", links, "", "", "OB-7"},
		{day(21), "GET /v1/whole", 200, "", "", "", []string{more}, "", "", "OB-7"},
		{day(11), "GET /v1/moved/bell", 200, "", "@1798848000", "Wed, 20 Jan 2027 00:00:00 GMT", []string{`</v2/locks/bell>; rel="successor-version"`, more}, "", "", ""},
		{day(21), "GET /v1/none", 404, "not-found", "", "", nil, "", "", ""},
		{day(21), "GET /v2/a", 200, "", "", "", []string{`</license>; rel="license"`}, "", "", "OB-7"},
		{day(21), "GET /v2/stays", 200, "", "", "", []string{`</license>; rel="license"`}, "", "", "OB-7"},
	} {
		now = c.at
		w := ask(api, c.line, "Plate: "+c.plate, "")
		what := fmt.Sprint(c.at.Format(time.DateOnly), " ", c.line)
		if c.code != "" {
			checkProblem(t, what, w, c.status, c.code)
		}
		h := w.Header()
		if w.Code != c.status || h.Get("Deprecation") != c.deprecation || h.Get("Sunset") != c.sunset || !slices.Equal(h["Link"], c.links) ||
			strings.Contains(w.Body.String(), `"until"`) != (c.until != "") || !strings.Contains(w.Body.String(), c.until) || h.Get("Cache-Control") != c.control {
			t.Errorf("%s: %d %v %s", what, w.Code, h, w.Body)
		}
	}
	known, _ := json.Marshal(api.Routes())
	for _, want := range []string{`"retirement":{"deprecated":"2027-01-02T00:00:00Z","sunset":"2027-01-20T00:00:00Z","ends":true,"rehearsals":[{"from":"2027-01-10T00:00:00Z"`,
		`"fields":["Deprecation","Link","Sunset"]`, `"code":"retired"`} {
		if !strings.Contains(string(known), want) {
			t.Errorf("the facts lack %s", want)
		}
	}
	for _, c := range []struct {
		settings parts
		want     string
	}{
		{parts{wicketway.Retirement{Deprecated: day(3), Sunset: day(2)}}, "the sunset, 2027-01-02T00:00:00Z, is before the deprecation"},
		{parts{wicketway.Retirement{Ends: true}}, "no Sunset says when"},
		{parts{wicketway.Retirement{Sunset: day(3), Ends: true, Rehearsals: []facts.Window{{From: day(2), Until: day(2)}}}}, "ends before it begins"},
		{parts{wicketway.Related("successor version", "/v2")}, "is not a relation"},
		{parts{wicketway.Retirement{Successor: tellLock}}, "no route of another version is served by the successor"},
		{parts{wicketway.Related("help", "v2")}, "is not a target"},
		{parts{wicketway.Related("successor-version", "/v2>; rel=\"x")}, "is not a target"},
		{parts{wicketway.Retirement{Deprecated: day(2), Successor: "v2"}}, "is not a target"},
	} {
		_, err := wicketway.Build(about, append(c.settings, wicketway.Route("GET /a", says("x")))...)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("the mistakes are %v, want %s", err, c.want)
		}
	}
	inner := wicketway.At("/in", wicketway.Retirement{Sunset: day(2)}, wicketway.Route("GET /a", says("x")))
	if _, err := wicketway.Build(about, wicketway.Retirement{Deprecated: day(3)}, inner); err == nil || !strings.Contains(err.Error(), "is before the deprecation") {
		t.Errorf("an inner sunset before an outer deprecation: %v", err)
	}
}
