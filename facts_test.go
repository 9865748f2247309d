package wicketway_test

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
)

type berth struct {
	ID       int64    `json:"id" rule:"readOnly"`
	Name     string   `json:"name" rule:"minLength=1" note:"On the sign" example:"East Basin 4"`
	Depth    *int64   `json:"depth"`
	Bollards []string `json:"bollards,omitempty"`
}

type changeBerth struct {
	Berth string `from:"path berth"`
	Body  berth  `from:"body"`
}

// What the facts say of a route, as pieces of their JSON, for what no answer can show.
func TestFacts(t *testing.T) {
	keeper := func(name string) exchange.Authenticator { return &namedKeeper{name} }
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusNoContent) })
	whose := func(ctx context.Context, _ wicketway.None) (string, error) { return wicketway.Caller(ctx).Key(), nil }
	change := func(_ context.Context, in changeBerth) (berth, error) { return in.Body, nil }
	api := build(t,
		wicketway.Group(wicketway.Tags("berths"), wicketway.Route("PUT /berths/{berth}", change, wicketway.Fails(errMoored), wicketway.Tags("keepers"), wicketway.Description("Renames a berth.\n\nThe sign follows."))),
		wicketway.Route("PUT /lax/{berth}", change, wicketway.AllowUnknown()),
		wicketway.Route("PUT /terse/{berth}", change, wicketway.OmitNull(), wicketway.Envelope("data")),
		wicketway.Handle("GET /plain/{berth}", handler),
		wicketway.Handle("PUT /told/{berth}", handler, wicketway.Describes[changeBerth, berth]()),
		wicketway.Route("POST /photos", func(context.Context, struct {
			Title string           `from:"form title" rule:"required"`
			Photo wicketway.File   `from:"file photo" rule:"contentMediaType=image/png|image/jpeg"`
			More  []wicketway.File `from:"file more"`
		}) (wicketway.None, error) {
			return wicketway.None{}, nil
		}),
		returning(wicketway.Reply[any]{}, wicketway.Gives[berth](203), wicketway.Gives[wicketway.None](204), wicketway.Gives[wicketway.Content](404)),
		wicketway.At("/east", wicketway.Guard(keeper("gate")), wicketway.Route("GET /", whose)),
		wicketway.At("/west", wicketway.Guard(keeper("gate")), wicketway.Route("GET /", whose)),
	)
	d := api.Describe()
	of := func(path string) facts.Route {
		for _, r := range d.Routes {
			if r.Path == path {
				return r
			}
		}
		t.Fatalf("no route %s", path)
		return facts.Route{}
	}
	for _, c := range []struct {
		what string
		of   any
		want string
	}{
		{"what is sent is open, and has null", d.Defs["berth"], `{"properties":{"bollards":{"items":{"type":"string"},"type":"array"},"depth":{"format":"int64","maximum":9223372036854775807,"minimum":-9223372036854775808,"type":["integer","null"]},"id":{"format":"int64","maximum":9223372036854775807,"minimum":-9223372036854775808,"readOnly":true,"type":"integer"},"name":{"description":"On the sign","examples":["East Basin 4"],"minLength":1,"type":"string"}},"required":["depth","id","name"],"type":"object"}`},
		{"what is read refuses others", d.Defs["berthInput"], `"additionalProperties":false`},
		{"given statuses and types are answers", of("/x").Answers, `{"status":203,"media":"application/json","type":"wicketway_test.berth","schema":{"$ref":"#/$defs/berth"}},{"status":204},{"status":404,"media":"*/*"`},
		{"and needs less", d.Defs["berthInput"], `"required":["name"]`},
		{"unless it allows them", of("/lax/{berth}").Bodies, `{"$ref":"#/$defs/berthInput2"}`},
		{"in a schema of its own", d.Defs["berthInput2"], `"required":["name"],"type":"object"}`},
		{"a reference in a body", of("/berths/{berth}").Bodies, `"schema":{"$ref":"#/$defs/berthInput"}`},
		{"nulls that are left out", d.Defs["berth2"], `"required":["id","name"]`},
		{"under an envelope", of("/terse/{berth}").Answers, `{"properties":{"data":{"$ref":"#/$defs/berth2"}},"required":["data"],"type":"object"}`},
		{"a handler's parameter", of("/plain/{berth}").Inputs, `[{"in":"path","name":"berth","type":"string","required":true,"schema":{"type":"string"}}]`},
		{"a handler that is described", of("/told/{berth}"), `"bodies":[{"media":"application/json","required":true,"schema":{"$ref":"#/$defs/berthInput"}}],"answers":[{"status":200,"media":"application/json","type":"wicketway_test.berth","schema":{"$ref":"#/$defs/berth"}}]`},
		{"a text and tags", of("/berths/{berth}"), `"description":"Renames a berth.\n\nThe sign follows.","tags":["berths","keepers"]`},
		{"a form", of("/photos").Bodies, `"schema":{"properties":{"more":{"items":{"contentMediaType":"application/octet-stream"},"type":"array"},"photo":{"anyOf":[{"contentMediaType":"image/png"},{"contentMediaType":"image/jpeg"}]},"title":{"type":"string"}},"required":["title"],"type":"object"}`},
		{"guards of one name", d.Guards, `[{"name":"gate","type":"oauth2","flows":[{"name":"clientCredentials","token":"https://identity.osterbeck.example/token"}]`},
		{"are told apart", of("/west"), `"guard":{"name":"gate-2"`},
		{"a family, its members and fields", kind(d, "moored"), `"family":["canal"],"fields":["Retry-After"]`},
		{"the schema of a kind", kind(d, "moored"), `"until":{"type":"string"}`},
		{"a field and its meaning", d.Fields, `{"name":"Retry-After","note":"In how many seconds to try again (RFC 9110, 10.2.3)","schema":{"type":"integer","minimum":0}}`},
	} {
		text, err := json.Marshal(c.of, json.Deterministic(true), jsontext.AllowInvalidUTF8(true))
		if err != nil || !strings.Contains(string(text), c.want) {
			t.Errorf("%s: %v\n%s\nwant %s", c.what, err, text, c.want)
		}
	}
	if east, west := ask(api, "GET /east", "Keeper: ada", "").Body.String(), ask(api, "GET /west", "Keeper: ada", "").Body.String(); east == west {
		t.Errorf("callers of two guards of one name are the same: %s", east)
	}
}

var errMoored = errCanal.Define(409, "moored", "A vessel is moored").Carries("until", "2027-05-04").Sends("Retry-After")

func kind(d facts.API, code string) (found facts.Kind) {
	for _, k := range d.Problems {
		if k.Code == code {
			found = k
		}
	}
	return found
}

type namedKeeper struct{ name string }

func (k *namedKeeper) Authenticate(r *http.Request) (*exchange.Identity, error) {
	return &exchange.Identity{Subject: r.Header.Get("Keeper")}, nil
}
func (*namedKeeper) Challenge([]string) string { return "Keeper" }
func (k *namedKeeper) Scheme() exchange.Scheme {
	return exchange.Scheme{Name: k.name, Type: "oauth2", Flows: []facts.Flow{{Name: "clientCredentials", Token: "https://identity.osterbeck.example/token"}}}
}

func functions(context.Context, wicketway.None) (string, error) { return "", nil }

func lockFacts(context.Context, berthIn) (string, error) { return "", nil }

type berthIn struct {
	Berth string `from:"path berth"`
}

// Routes are named by their functions, or by method and path where they share one.
func TestNamesOfRoutes(t *testing.T) {
	api := build(t, wicketway.Route("GET /x", functions), wicketway.Route("GET /literal", func(context.Context, wicketway.None) (string, error) { return "", nil }),
		wicketway.At("/api", wicketway.Version("v1", wicketway.Route("GET /berths/{berth}", lockFacts)),
			wicketway.Version("v2", wicketway.Route("GET /berths/{berth}", lockFacts), wicketway.Route("PUT /old/{berth}/now", lockFacts), wicketway.Route("GET /y", functions, wicketway.Name("own")))))
	var names []string
	for _, r := range api.Routes() {
		names = append(names, strings.TrimSpace(r.Method+" "+r.Path+" "+r.Name))
	}
	want := "GET /literal|GET /problems/{code}|GET /x wicketway_test.functions|GET /api/v1/berths/{berth} wicketway_test.lockFacts|GET /api/v2/berths/{berth} get.berths.berth|PUT /api/v2/old/{berth}/now put.old.berth.now|GET /api/v2/y own"
	if got := strings.Join(names, "|"); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if to, err := api.Link("v2/put.old.berth.now", berthIn{"a"}); err != nil || to != "/api/v2/old/a/now" {
		t.Errorf("%s %v", to, err)
	}
}
