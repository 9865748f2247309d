package wicketway

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
	"github.com/wicketway/wicketway/schema"
)

type gate struct {
	Gates []*gate `json:"gates" from:"body"`
}

// FuzzBuild compiles input and output types whose fields and tags are put together at
// random, under settings that are. Whatever they are, there is a plan or there are mistakes.
func FuzzBuild(f *testing.F) {
	types := []reflect.Type{
		reflect.TypeFor[string](), reflect.TypeFor[int8](), reflect.TypeFor[float32](), reflect.TypeFor[bool](), reflect.TypeFor[[]byte](), reflect.TypeFor[[3]uint8](),
		reflect.TypeFor[time.Time](), reflect.TypeFor[time.Duration](), reflect.TypeFor[*time.Time](), reflect.TypeFor[[]int](), reflect.TypeFor[map[string]int](),
		reflect.TypeFor[map[bool]string](), reflect.TypeFor[any](), reflect.TypeFor[error](), reflect.TypeFor[func()](), reflect.TypeFor[chan int](), reflect.TypeFor[complex64](),
		reflect.TypeFor[schema.Optional[int]](), reflect.TypeFor[*schema.Optional[string]](), reflect.TypeFor[gate](), reflect.TypeFor[*gate](), reflect.TypeFor[File](), reflect.TypeFor[[]File](),
		reflect.TypeFor[Cursor[int]](), reflect.TypeFor[None](), reflect.TypeFor[Page[int]](), reflect.TypeFor[Reply[*gate]](), reflect.TypeFor[*Reply[string]](), reflect.TypeFor[**string](),
		reflect.TypeFor[struct{ embedded }](), reflect.TypeFor[schema.Report](), reflect.TypeFor[reflect.Type](), reflect.TypeFor[uintptr](),
	}
	f.Add(uint64(1), `from:"path x"`, `json:"a,omitzero" rule:"minimum=1 maximum=0"`)
	f.Add(uint64(2), `from:"file f" rule:"maxLength=-1 contentMediaType=*/x"`, `rule:"default=x enum=a|b pattern='('"`)
	f.Add(uint64(3), `from:"header Host" rule:"items.format=date uniqueItems"`, `json:",string,embed" rule:"multipleOf=1e99999999999"`)
	f.Add(uint64(4), `from:""`, `rule:"minimum=1e-800 exclusiveMaximum=99999999999999999999999"`)
	f.Fuzz(func(t *testing.T, seed uint64, first, second string) {
		random := rand.New(rand.NewPCG(seed, 1))
		fields := make([]reflect.StructField, 1+random.IntN(4))
		for i := range fields {
			tag := []string{first, second, first + " " + second, `json:"x"`, `from:"query q"`, `from:"form f"`}[random.IntN(6)]
			fields[i] = reflect.StructField{Name: fmt.Sprintf("F%d", i), Type: types[random.IntN(len(types))], Tag: reflect.StructTag(tag)}
		}
		of := reflect.StructOf(fields)
		for _, of := range []reflect.Type{of, reflect.PointerTo(of), reflect.SliceOf(of), types[random.IntN(len(types))]} {
			line := []string{"GET", "POST", "PATCH"}[random.IntN(3)] + []string{" /", " /{x}"}[random.IntN(2)]
			part := &routePart{line: line, in: of, out: outputOf(of), serve: func(*target) endpoint { return nil }}
			for range random.IntN(3) {
				part.settings = append(part.settings, drawnSetting(random, first))
			}
			parts := []Part{part}
			for range random.IntN(5) {
				parts = append(parts, drawnSetting(random, second))
			}
			if random.IntN(3) == 0 {
				parts = []Part{Version("v1", parts...), Version("v2", Inherit("v1"), drawnSetting(random, first)), drawnSetting(random, second)}
			}
			_, err := Build(Info{Title: "T", Version: "1"}, parts...)
			mistakes, _ := err.(Mistakes)
			for _, m := range mistakes {
				if strings.Contains(m.Text, "%!") && !strings.Contains(first+second, "%!") || m.Text == "" { // "%!" is what fmt writes for a wrong verb
					t.Errorf("%v: %q", of, m.Text)
				}
			}
		}
	})
}

// drawnSetting is one that reads facts, adds kinds, or asks values; some with a text in them.
func drawnSetting(random *rand.Rand, text string) Setting {
	pass := func(next http.Handler) http.Handler { return next }
	reads := []reflect.Type{reflect.TypeFor[lockRule](), nil}
	all := []func() Setting{
		func() Setting {
			return Chain(Middleware{Name: text, Wrap: pass, Sets: facts.Fields(text), Reads: reads[:random.IntN(3)], CheckRoute: func(f facts.Route) error {
				_, err := json.Marshal(f)
				return err
			}})
		},
		func() Setting {
			return Chain(Wrap("w", pass), Middleware{Name: "n", Raises: []*problem.Kind{nil, problem.Define(200, text, "")}})
		},
		func() Setting { return Guard(wrongGuard{}) },
		func() Setting { return Guard((*wrongGuard)(nil)) },
		func() Setting { return Public("GET", text) },
		func() Setting { return Public() },
		func() Setting { return Scopes(text, "a") },
		func() Setting { return AnyScope("a") },
		func() Setting { return Attach(lockRule{}) },
		func() Setting { return Attach(oddValue{}) },
		func() Setting { return Attach[Setting](nil) },
		func() Setting { return Undo(Limits{Body: 1}) },
		func() Setting { return Limits{Body: 1, Faults: random.IntN(3) - 1} },
		func() Setting { return Envelope(text) },
		func() Setting { return Conditional() },
		func() Setting { return Formats(format.JSON(), nil) },
		func() Setting { return FormatChoice{By: []format.Way{format.ByQuery(text)}} },
		func() Setting { return Media(text) },
		func() Setting { return KindAs(problem.NotFound, nil) },
		func() Setting { return ProblemShape(text, func(format.Problem) any { return nil }) },
		func() Setting {
			return Allow(problem.Forbidden, func(context.Context, Identity, gate) (bool, error) { return true, nil })
		},
		func() Setting { return LocatedBy(func(context.Context, gate) (gate, error) { return gate{}, nil }) },
		func() Setting { return Name(text) },
		func() Setting { return Related(text, text) },
		func() Setting { return VersionBy(InHeader(text), text) },
		func() Setting { return Retirement{Ends: true, Rehearsals: []facts.Window{{}}} },
		func() Setting { return Development() },
	}
	return all[random.IntN(len(all))]()
}

// planned gives the mistakes of a route with an input and an output.
func planned(method, path string, in, out reflect.Type) Mistakes {
	b := newBuilder(here.Place{}, nil)
	l := b.list(&list{}, nil)
	template, _ := route.Parse(path)
	b.plan(&resolved{method: method, names: template.Names(), list: l, part: &routePart{in: in, out: outputOf(out)}}, false)
	return b.mistakes
}

type embedded struct{ A, B int }

func (embedded) Check() error { return nil }

type lockRule struct{}

func (lockRule) Check(*schema.Report) {}

type gateRule struct{}

func (gateRule) Check(*schema.Report) {}

// Every slip of the pen that Go and JSON would pass over is a mistake, and says what to
// write instead.
func TestBuildLeavesNothingSilent(t *testing.T) {
	serve := func(context.Context, None) (None, error) { return None{}, nil }
	var guard exchange.Authenticator
	var setting Setting
	ok := http.NotFoundHandler()
	group := func(of reflect.Type) func(*testing.T) string {
		return func(t *testing.T) string { return planned("POST", "/", of, reflect.TypeFor[None]()).Error() }
	}
	built := func(parts ...Part) func(*testing.T) string {
		return func(t *testing.T) string {
			_, err := Build(Info{Title: "T", Version: "1"}, parts...)
			return fmt.Sprint(err)
		}
	}
	for name, c := range map[string]struct {
		mistakes func(*testing.T) string
		want     []string
	}{
		"a nil setting":                {built(Route("GET /x", serve, setting)), []string{"a part or a setting is nil"}},
		"a nil guard":                  {built(Guard(guard), Route("GET /x", serve)), []string{"the guard is nil"}},
		"a guard that holds nil":       {built(Guard((*wrongGuard)(nil)), Route("GET /x", serve)), []string{"the guard is nil"}},
		"middleware without effect":    {built(Chain(Wrap("w", func(next http.Handler) http.Handler { return nil })), Route("GET /x", serve)), []string{"the middleware w gave no handler"}},
		"scopes as one text":           {built(Guard(wrongGuard{}), Scopes("a b", "", `"`), Route("GET /x", serve)), []string{`"a b" is not a scope`, `"" is not a scope`, `Scopes("a", "b")`, `"\"" is not a scope`}},
		"no translation":               {built(Translate(nil), Route("GET /x", serve)), []string{"function 1 is nil"}},
		"a limit below nothing":        {built(Limits{Rate: -1}, Route("GET /x", serve)), []string{"Rate is -1", "must be positive"}},
		"no such policy":               {built(Slashes(9), Route("GET /x", serve)), []string{"9 is not a policy"}},
		"no prefix":                    {built(At("", Route("GET /x", serve))), []string{"the prefix is empty"}},
		"no scopes":                    {built(Guard(wrongGuard{}), Scopes(), Route("GET /x", serve)), []string{"none is given"}},
		"conditions that nobody takes": {built(Route("PUT /x", serve, Conditional())), []string{"its input takes no conditions: add a field of type wicketway.Conditions"}},
		"205 with content":             {built(Route("GET /x", func(context.Context, None) (string, error) { return "", nil }, Answers(205))), []string{"205 has no content"}},
		"several at once": {built(Route("GET /{x", func(context.Context, struct {
			A int `from:"querry a"`
			B int `from:"query b" rule:"minLength=1 minimum=x"`
		}) (None, error) {
			return None{}, nil
		}, Answers(99))), []string{"never closed", `unknown source "querry"`, "rule minLength", `"x" is not a number`, "99 is not the status"}},
		"a query for a path": {built(Route("GET /{x}", func(context.Context, struct {
			A int `from:"query x"`
		}) (None, error) {
			return None{}, nil
		})), []string{"no field reads the parameter {x}"}},
		"a body under a path":             {built(Route("POST /{x}", func(context.Context, struct{ A int }) (None, error) { return None{}, nil })), []string{"no field reads {x}"}},
		"an envelope around a handler":    {built(Envelope("data"), Handle("GET /x", ok), Handle("GET /y", ok)), []string{"Envelope: has no effect: no route here sends a value as JSON"}},
		"a status for a handler":          {built(Handle("GET /x", ok, Answers(201))), []string{"Answers: has no effect: no route here has a function"}},
		"tags for a handler":              {built(Handle("GET /x", ok, Conditional())), []string{"Conditional: has no effect: no route here answers with a value, or takes conditions"}},
		"uniform functions":               {built(ErrorsAsProblems(), Route("GET /x", serve)), []string{"ErrorsAsProblems: has no effect: this list has no plain or mounted handler"}},
		"a listing without files":         {built(Listing(), Route("GET /x", serve)), []string{"Listing: has no effect: this list has no Files"}},
		"unknown members of nothing":      {built(AllowUnknown(), IgnoreReadOnly(), Route("GET /x", serve)), []string{"AllowUnknown: has no effect: no route here reads a JSON body", "IgnoreReadOnly: has no"}},
		"a body limit for a handler":      {built(Limits{Body: 5}, Handle("POST /x", ok)), []string{"Limits: Body has no effect: no route here reads a body"}},
		"a guard around nothing":          {built(Group(Guard(wrongGuard{}), Route("GET /x", serve, Public()))), []string{"Guard: has no effect: every route here is public"}},
		"public without a guard":          {built(Route("GET /x", serve, Public())), []string{"Public: has no effect: no guard is around it"}},
		"a public method that nobody has": {built(Guard(wrongGuard{}), Public("PUT"), Route("GET /x", serve)), []string{"Public: PUT has no effect: no route here has the method and a guard"}},
		"a public method in lower case":   {built(Guard(wrongGuard{}), Public("get", "GET"), Route("GET /x", serve), Route("PUT /x", serve)), []string{`Public: "get" is not a method`}},
		"a group without a route":         {built(Route("GET /x", serve), Group(Guard(wrongGuard{}), Slashes(SlashSame))), []string{"Group: no route is in it"}},
		"a name for a group":              {built(Name("x"), Route("GET /x", serve)), []string{"Name: speaks of one route"}},
		"what adds up cannot be undone":   {built(Translate(func(error) error { return nil }), Route("GET /x", serve, Undo(Translate()), Undo(Guard(wrongGuard{})))), []string{"Translate cannot be undone", "use Public for a Guard"}},
		"nothing to undo":                 {built(Route("GET /x", serve, Undo(Envelope("a")))), []string{"Undo of Envelope: has no effect: no group around it"}},
		"everything undone":               {built(Slashes(SlashSame), Route("GET /x", serve, Undo(Slashes(SlashSame)))), []string{"Slashes: has no effect: inner settings overrule it"}},
		"nil values":                      {built(Undo(nil), Chain(Middleware{Name: "m", Wrap: func(next http.Handler) http.Handler { return next }, Observes: (*struct{ exchange.Observer })(nil)}), Attach((*gate)(nil)), Route("GET /x", serve)), []string{"Undo: the setting is nil", "m: its observer is nil", "Attach: the *wicketway.gate is nil"}},
		"a value that nobody reads":       {built(Attach(gate{}), Route("GET /x", serve)), []string{"has no effect: no middleware in the chain and no guard here reads a wicketway.gate"}},
		"the path of problems": {built(Route("GET /problems/{x}", func(context.Context, struct {
			X string `from:"path x"`
		}) (None, error) {
			return None{}, nil
		})), []string{"GET /problems/{x}: matches the same paths as GET /problems/{code}", "ProblemBase takes it away"}},
		"a middleware that refuses a route": {built(Chain(Middleware{Name: "picky", Wrap: func(next http.Handler) http.Handler { return next }, CheckRoute: func(f facts.Route) error { return fmt.Errorf("%s is too short", f.Path) }}), Route("GET /x", serve)), []string{"picky: GET /x: /x is too short"}},
		"a kind of a middleware":            {built(Chain(Middleware{Name: "odd", Wrap: func(next http.Handler) http.Handler { return next }, Raises: []*problem.Kind{problem.Define(200, "Odd", "")}}), Route("GET /x", serve)), []string{"Chain: odd: problem"}},
		"rules for rule": {group(reflect.TypeFor[struct {
			A int `from:"query a" rules:"minimum=1"`
		}]()), []string{"the struct tag rules is read by nobody: write rule"}},
		"form for from": {group(reflect.TypeFor[struct {
			A int `form:"query a"`
		}]()), []string{"the struct tag form is read by nobody: write from"}},
		"Json for json": {group(reflect.TypeFor[struct {
			A int `Json:"a" db:"a"`
		}]()), []string{"write json"}},
		"omitEmpty": {group(reflect.TypeFor[struct {
			//lint:ignore SA5008 the mistake is what is tested
			A int `json:"a,omitEmpty"`
			//lint:ignore SA5008 the mistake is what is tested
			B int `json:"b,omit_zero"`
		}]()), []string{`"omitEmpty" is unknown`, `"omit_zero" is unknown`}},
		"enum with commas": {group(reflect.TypeFor[struct {
			A string `json:"a" rule:"enum=a,b"`
		}]()), []string{"write enum=a|b"}},
		"another Check": {group(reflect.TypeFor[struct {
			Body embedded `json:"body"`
		}]()), []string{"so it is never asked: write Check(*schema.Report)"}},
		"two embedded Checks": {group(reflect.TypeFor[struct {
			lockRule
			gateRule
			A int `from:"query a"`
		}]()), []string{"it embeds lockRule and gateRule"}},
		"limits": {group(reflect.TypeFor[struct {
			A uint8   `json:"a" rule:"maximum=300"`
			B int     `json:"b" rule:"minimum=2 maximum=1"`
			C float64 `json:"c" rule:"maximum=9007199254740993"`
			D string  `json:"d" rule:"minLength=3 maxLength=2"`
			E float64 `json:"e" rule:"minimum=1 exclusiveMaximum=1"`
			F float32 `json:"f" rule:"maximum=1e39"`
			G *int    `json:"g" rule:"type=string"`
		}]()), []string{"300 is beyond what a uint8", "together with maximum=1", "cannot hold 9007199254740993 exactly; the nearest is 9007199254740992", "together with maxLength=2",
			"together with exclusiveMaximum=1", "1e39 is beyond", `"string" is not what int is`}},
		"files": {group(reflect.TypeFor[struct {
			A File `from:"file a" rule:"maxLength=-1 contentMediaType=png size=3"`
			B File `from:"file a"`
			C int  `from:"file c"`
		}]()), []string{`"-1" is not a number of bytes`, `"png" is not a media type`, "rule size: unknown keyword for a file", "file a is read by another field", "a wicketway.File"}},
		"header fields": {group(reflect.TypeFor[struct {
			A string `from:"header Trailer"`
			B string `from:"header a:b"`
		}]()), []string{"the server takes the field Trailer", "not a field name"}},
		"another notation": {built(Route("GET /a/:lock", serve), Route("GET /*", serve), Route("ANY /x", serve), Route("GET /x/a:b", serve)), []string{"write {lock} for a parameter", "write {name} for any segment", "no request has the method ANY: write *"}},
		"a fault beside checks of facts": {built(Chain(Middleware{Name: "asks", Wrap: func(next http.Handler) http.Handler { return next }, CheckRoute: func(f facts.Route) error { return nil }}),
			Route("GET /x", func(context.Context, struct {
				A int      `from:"query a" rule:"minimum=x"`
				B []func() `from:"query b"`
				C gate     `from:"cookie a b"`
			}) (func(), error) {
				return nil, nil
			})), []string{`minimum`, "B", "not a cookie name"}},
		"a folder that is not there": {built(Files("/x", os.DirFS("nowhere/at/all"))), []string{"the folder of its files cannot be read"}},
		"methods of other signatures": {built(Attach(oddValue{}), Route("GET /x", func(context.Context, None) (oddValue, error) { return oddValue{}, nil }),
			Route("GET /y", func(context.Context, None) (Stream[oddItem], error) { return nil, nil })),
			[]string{"its method ETag has another signature", "write LastModified() time.Time", "write EventID() string", "write CheckRoute(facts.Route) error"}},
		"types of ours as JSON": {built(Route("POST /a", func(context.Context, struct {
			Body struct {
				Plan File       `json:"plan"`
				By   []Identity `json:"by"`
				Page Page[int]  `json:"page"`
			} `from:"body"`
		}) (map[string]Redirect, error) {
			return nil, nil
		})), []string{"wicketway.File has no meaning as JSON", "exchange.Identity has no meaning", "wicketway.Page[int] is an output by itself", "wicketway.Redirect has no meaning"}},
		"readOnly and required": {group(reflect.TypeFor[struct {
			A int `json:"a" rule:"readOnly required"`
		}]()), []string{"a readOnly member is never sent"}},
	} {
		said := c.mistakes(t)
		if n := strings.Count(said, "has no effect"); n > strings.Count(strings.Join(c.want, ""), "has no") {
			t.Errorf("%s: said more than once, or noise: %s", name, said)
		}
		for _, want := range c.want {
			if !strings.Contains(said, want) {
				t.Errorf("%s: wanted %q, got %s", name, want, said)
			}
		}
	}
	// Files of one name are told apart by as many folders as it takes.
	all := filesOf(here.Place{}, nil)
	for _, file := range []string{"/a/canal/locks/routes.go", "/a/canal/passages/routes.go", "/b/canal/locks/routes.go", "/a/main.go"} {
		all[file] = ""
	}
	for file, want := range map[string]string{"/a/main.go": "main.go", "/a/canal/passages/routes.go": "passages/routes.go", "/b/canal/locks/routes.go": "b/canal/locks/routes.go"} {
		if all.shorten(); all[file] != want {
			t.Errorf("%s is called %s, want %s", file, all[file], want)
		}
	}
}

type oddValue struct{}

func (oddValue) ETag() int                     { return 0 }
func (oddValue) LastModified() string          { return "" }
func (oddValue) CheckRoute(*facts.Route) error { return nil }

type oddItem struct{}

func (oddItem) EventID() int { return 0 }

type wrongGuard struct{}

func (wrongGuard) Authenticate(*http.Request) (*Identity, error) { return nil, nil }
func (wrongGuard) Challenge([]string) string                     { return "" }
func (wrongGuard) Scheme() exchange.Scheme                       { return exchange.Scheme{Name: "wrong"} }
