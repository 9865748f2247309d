package wicketway_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/adapt"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// show prints what an API answers to a request.
func show(api http.Handler, method, path, body string) {
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	fmt.Println(w.Code, strings.TrimSpace(w.Header().Get("Location")+" "+w.Body.String()))
}

func mustBuild(parts ...wicketway.Part) *wicketway.API {
	api, err := wicketway.Build(wicketway.Info{Title: "Osterbeck Canal", Version: "2.4.0"}, parts...)
	if err != nil {
		log.Fatal(err)
	}
	return api
}

func ExampleBuild() {
	_, err := wicketway.Build(wicketway.Info{Title: "Osterbeck Canal", Version: "2.4.0"},
		wicketway.Route("GET /locks/{lock}", func(context.Context, struct {
			Lock  string `from:"path lok"`
			Limit int    `from:"querry limit"`
		}) (string, error) {
			return "", nil
		}))
	for _, mistake := range err.(wicketway.Mistakes) {
		fmt.Println(mistake.Text)
	}
	// Output:
	// GET /locks/{lock}: .Lock: the template has no parameter {lok}; it has {lock}
	// GET /locks/{lock}: .Limit: unknown source "querry" (path, query, header, cookie, body, form, file)
	// GET /locks/{lock}: no field reads the parameter {lock}: add one with the tag from:"path lock"
}

func ExampleRoute() {
	type bookPassage struct {
		Lock string `from:"path lock"`
		Body struct {
			Vessel string `json:"vessel" rule:"pattern='^[A-Z]{2}-[0-9]{4}$'"`
			Crew   int    `json:"crew" rule:"minimum=1 maximum=40 default=2"`
		} `from:"body"`
	}
	api := mustBuild(wicketway.Route("POST /locks/{lock}/passages", func(_ context.Context, in bookPassage) (string, error) {
		return fmt.Sprintf("%s takes %s with %d", in.Lock, in.Body.Vessel, in.Body.Crew), nil
	}, wicketway.Answers(http.StatusCreated)))
	show(api, "POST", "/locks/bell/passages", `{"vessel":"OB-1001"}`)
	show(api, "POST", "/locks/bell/passages", `{"vessel":"OB-1","crew":99}`)
	// Output:
	// 201 "bell takes OB-1001 with 2"
	// 422 {"type":"/problems/input-invalid","title":"The input breaks a rule","status":422,"detail":"2 values are invalid.","code":"input-invalid","errors":[{"in":"body","pointer":"/vessel","rule":"pattern","want":"^[A-Z]{2}-[0-9]{4}$","detail":"must match the pattern ^[A-Z]{2}-[0-9]{4}$"},{"in":"body","pointer":"/crew","rule":"maximum","want":40,"detail":"must be at most 40"}]}
}

func ExampleAt() {
	word := func(text string) func(context.Context, wicketway.None) (string, error) {
		return func(context.Context, wicketway.None) (string, error) { return text, nil }
	}
	api := mustBuild(
		wicketway.At("/api",
			wicketway.Version("v1", wicketway.Route("GET /locks", word("in feet"))),
			wicketway.Version("v2", wicketway.Route("GET /locks", word("in metres"))),
		))
	show(api, "GET", "/api/v2/locks", "")
	show(api, "GET", "/api/v2/locks/", "")
	// Output:
	// 200 "in metres"
	// 308 /api/v2/locks
}

func ExampleChain() {
	clock := wicketway.Wrap("clock", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			fmt.Println("before")
			next.ServeHTTP(w, r)
			fmt.Println("after")
		})
	})
	api := mustBuild(wicketway.Chain(clock), wicketway.Route("GET /locks", func(context.Context, wicketway.None) (string, error) {
		fmt.Println("serving")
		return "bell", nil
	}))
	show(api, "GET", "/locks", "")
	// Output:
	// before
	// serving
	// after
	// 200 "bell"
}

func ExampleGuard() {
	api := mustBuild(
		wicketway.Guard(plate("plates")), // a guard of the tests; package chain/auth has those for use
		wicketway.Route("GET /passages", func(context.Context, wicketway.None) (string, error) { return "", nil }),
		wicketway.Route("GET /locks", func(context.Context, wicketway.None) (string, error) { return "bell", nil }, wicketway.Public()),
	)
	show(api, "GET", "/locks", "")
	w := ask(api, "GET /passages", "", "")
	fmt.Println(w.Code, w.Header().Get("WWW-Authenticate"))
	// Output:
	// 200 "bell"
	// 401 Plate
}

func ExampleTranslate() {
	errNoRow := errors.New("no row")
	api := mustBuild(
		wicketway.Translate(func(err error) error {
			if errors.Is(err, errNoRow) {
				return problem.NotFound.New("It does not exist.")
			}
			return nil
		}),
		wicketway.Route("GET /locks", func(context.Context, wicketway.None) (string, error) { return "", errNoRow }))
	show(api, "GET", "/locks", "")
	// Output:
	// 404 {"type":"/problems/not-found","title":"Nothing is here","status":404,"detail":"It does not exist.","code":"not-found"}
}

func ExampleFail() {
	api := mustBuild(wicketway.Handle("GET /gauge", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		wicketway.Fail(w, r, problem.Overloaded.New("The gauge is being read.").RetryAfter(2*time.Second))
	})))
	w := ask(api, "GET /gauge", "", "")
	fmt.Println(w.Code, w.Header().Get("Content-Type"), w.Header().Get("Retry-After"))
	// Output: 503 application/problem+json 2
}

func ExampleReply() {
	api := mustBuild(wicketway.Route("POST /passages", func(ctx context.Context, _ wicketway.None) (*wicketway.Reply[string], error) {
		return &wicketway.Reply[string]{Status: 202, Header: http.Header{"Location": {"/passages/61"}}, Value: "noted"}, nil
	}))
	show(api, "POST", "/passages", "")
	// Output: 202 /passages/61 "noted"
}

func ExamplePage() {
	type list struct {
		After wicketway.Cursor[int] `from:"query after"`
	}
	api := mustBuild(wicketway.Route("GET /numbers", func(_ context.Context, in list) (wicketway.Page[int], error) {
		n := in.After.Key
		return wicketway.Page[int]{Items: []int{n + 1, n + 2}, Next: wicketway.CursorAt(n + 2).String()}, nil
	}))
	w := ask(api, "GET /numbers", "", "")
	fmt.Println(w.Header().Get("Link"), w.Body)
	// Output: <?after=Mg>; rel="next" {"items":[1,2],"next":"Mg"}
}

func ExampleOptional() {
	type patch struct {
		Crew   schema.Optional[int]    `json:"crew,omitzero" rule:"type=integer"`
		Remark schema.Optional[string] `json:"remark,omitzero"`
	}
	api := mustBuild(wicketway.Route("PATCH /passage", func(_ context.Context, in patch) (string, error) {
		crew, remark := 3, "in a hurry"
		in.Crew.Apply(&crew)
		in.Remark.Apply(&remark)
		return fmt.Sprintf("%d %q %v", crew, remark, in.Remark.State == schema.Null), nil
	}))
	show(api, "PATCH", "/passage", `{"remark":null}`)
	show(api, "PATCH", "/passage", `{"crew":4}`)
	// Output:
	// 200 "3 \"\" true"
	// 200 "4 \"in a hurry\" false"
}

func ExampleMount() {
	old := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { http.Error(w, "no "+r.URL.Path, http.StatusNotFound) })
	api := mustBuild(wicketway.Mount("/old", old, wicketway.ErrorsAsProblems()))
	show(api, "GET", "/old/lochs", "")
	// Output: 404 {"type":"/problems/not-found","title":"Nothing is here","status":404,"code":"not-found"}
}

func ExampleFiles() {
	api := mustBuild(wicketway.Files("/plans", fstest.MapFS{"bell.txt": {Data: []byte("38.5 by 5.2 m")}}))
	show(api, "GET", "/plans/bell.txt", "")
	// Output: 200 38.5 by 5.2 m
}

func ExampleAPI_Link() {
	api := mustBuild(wicketway.Route("GET /locks/{lock}", findLock, wicketway.Name("lock")))
	path, err := api.Link("lock", lockInput{Lock: "low ferry", Since: 3})
	fmt.Println(path, err)
	// Output: /locks/low%20ferry?since=3 <nil>
}

func ExampleAPI_Routes() {
	api := mustBuild(wicketway.Route("GET /locks/{lock}", findLock, wicketway.Summary("One lock")))
	for _, r := range api.Routes() {
		fmt.Println(r.Method, r.Path, r.Summary, len(r.Inputs))
	}
	// Output:
	// GET /locks/{lock} One lock 2
	// GET /problems/{code} A kind of problem 1
}

func ExampleLimits() {
	api := mustBuild(wicketway.Limits{Body: 10, Time: time.Second}, wicketway.Route("POST /remarks", func(_ context.Context, in struct {
		Body io.Reader `from:"body"`
	}) (int64, error) {
		return io.Copy(io.Discard, in.Body)
	}))
	show(api, "POST", "/remarks", "short")
	show(api, "POST", "/remarks", "longer than that")
	// Output:
	// 200 5
	// 413 {"type":"/problems/body-too-large","title":"The body is too large","status":413,"detail":"The body is larger than 10 bytes.","code":"body-too-large","limit":10}
}

func ExampleHandle() {
	api := mustBuild(wicketway.Handle("GET /locks/{lock}/plan", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "the plan of ", r.PathValue("lock"))
	})))
	show(api, "GET", "/locks/bell/plan", "")
	// Output: 200 the plan of bell
}

func ExampleEnvelope() {
	api := mustBuild(wicketway.Envelope("data"), wicketway.Route("GET /locks", func(context.Context, wicketway.None) ([]string, error) {
		return []string{"bell"}, nil
	}))
	show(api, "GET", "/locks", "")
	// Output: 200 {"data":["bell"]}
}

func ExampleConditional() {
	api := mustBuild(wicketway.Conditional(), wicketway.Route("GET /locks", func(context.Context, wicketway.None) (string, error) { return "bell", nil }))
	tag := ask(api, "GET /locks", "", "").Header().Get("ETag")
	fmt.Println(ask(api, "GET /locks", "If-None-Match: "+tag, "").Code)
	// Output: 304
}

func ExampleIgnoreReadOnly() {
	type lock struct {
		ID   int    `json:"id" rule:"readOnly"`
		Name string `json:"name"`
	}
	put := func(_ context.Context, in lock) (lock, error) { return in, nil }
	api := mustBuild(wicketway.Route("PUT /strict", put), wicketway.Route("PUT /lenient", put, wicketway.IgnoreReadOnly()))
	fmt.Println(ask(api, "PUT /strict", asJSON, `{"id":7,"name":"bell"}`).Code)
	show(api, "PUT", "/lenient", `{"id":7,"name":"bell"}`)
	// Output:
	// 422
	// 200 {"id":0,"name":"bell"}
}

func ExampleAdapted() {
	type lock struct {
		Lock   string  `json:"lock"`
		Metres float64 `json:"metres"`
	}
	find := func(_ context.Context, in lockInput) (lock, error) { return lock{in.Lock, 30.48}, nil }
	old := adapt.Struct[lock](
		adapt.Rename("lock", "id"),
		adapt.Compute("metres", "feet", func(metres float64) float64 { return metres / 0.3048 }, nil))
	api := mustBuild(
		wicketway.Version("v2", wicketway.Route("GET /locks/{lock}", find)),
		wicketway.Version("v1", wicketway.Adapted("GET /locks/{lock}", find, adapt.Same(), old)))
	show(api, "GET", "/v2/locks/bell", "")
	show(api, "GET", "/v1/locks/bell", "")
	// Output:
	// 200 {"lock":"bell","metres":30.48}
	// 200 {"id":"bell","feet":100}
}

func ExampleVersionBy() {
	tell := func(ctx context.Context, _ wicketway.None) (string, error) { return exchange.Of(ctx).Version(), nil }
	api := mustBuild(wicketway.VersionBy(wicketway.InHeader("Api-Version"), "v1"),
		wicketway.Version("v1", wicketway.Route("GET /locks", tell)),
		wicketway.Version("v2", wicketway.Inherit("v1")))
	for _, version := range []string{"v2", "v3"} {
		w := ask(api, "GET /locks", "Api-Version: "+version, "")
		fmt.Print(w.Code, " ", w.Body)
	}
	// Output:
	// 200 "v2"
	// 400 {"type":"/problems/version-invalid","title":"Unknown API version","status":400,"detail":"The field Api-Version names an unknown version of /locks; served are v1, v2.","code":"version-invalid","versions":["v1","v2"]}
}

// A keeper sees the causes of a failure in production by sending one header field.
func ExampleShowCauses() {
	api, _ := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"},
		wicketway.ShowCauses{Field: "Canal-Debug", To: func(_ context.Context, caller wicketway.Identity) bool {
			return slices.Contains(caller.Scopes, "locks:operate")
		}},
		wicketway.Log(slog.New(slog.DiscardHandler)),
		wicketway.Guard(keepers{}),
		wicketway.Route("GET /level", func(context.Context, wicketway.None) (float64, error) {
			return 0, fmt.Errorf("gauge 7: %w", io.ErrUnexpectedEOF)
		}))
	for _, field := range []string{"Accept", "Canal-Debug"} {
		r := httptest.NewRequest("GET", "/level", nil)
		r.Header.Set(field, "application/json")
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		var p struct {
			Code  string
			Debug struct{ Causes []exchange.Cause }
		}
		_ = json.Unmarshal(w.Body.Bytes(), &p, json.MatchCaseInsensitiveNames(true))
		fmt.Printf("%s %v %q\n", p.Code, p.Debug.Causes, w.Header().Get("Cache-Control"))
	}
	// Output:
	// internal [] ""
	// internal [{*fmt.wrapError gauge 7: unexpected EOF} {*errors.errorString unexpected EOF}] "no-store"
}

// Keepers is a guard that takes everybody for a keeper.
type keepers struct{}

func (keepers) Scheme() exchange.Scheme   { return exchange.Scheme{Name: "keepers"} }
func (keepers) Challenge([]string) string { return "Keepers" }
func (keepers) Authenticate(*http.Request) (*wicketway.Identity, error) {
	return &wicketway.Identity{Subject: "K-1", Scopes: []string{"locks:operate"}}, nil
}

func ExampleLanguages() {
	german := problem.Texts{
		Language: "de",
		Titles:   map[string]string{"lock-closed": "Die Schleuse ist geschlossen"},
		Details:  map[string]string{"lock-closed": "Sie öffnet wieder am {reopens}."},
	}
	closed := problem.Define(http.StatusConflict, "lock-closed", "The lock is closed")
	api := mustBuild(wicketway.Languages("en", german), wicketway.ProblemPages(format.JSON()),
		wicketway.Route("PUT /gate", func(context.Context, wicketway.None) (wicketway.None, error) {
			return wicketway.None{}, closed.New("It reopens on 4 May.").With("reopens", "4. Mai")
		}, wicketway.Fails(closed)),
		wicketway.Route("PUT /sluice", func(context.Context, wicketway.None) (wicketway.None, error) {
			return wicketway.None{}, problem.NotImplemented.New("There is no sluice yet.")
		}, wicketway.Fails(problem.NotImplemented)))
	for _, c := range [][2]string{{"PUT /gate", "en"}, {"PUT /gate", "fr, de-CH;q=0.9"}, {"PUT /sluice", "de"}} {
		w := ask(api, c[0], "Accept-Language: "+c[1], "")
		var p struct{ Title, Detail string }
		_ = json.Unmarshal(w.Body.Bytes(), &p, json.MatchCaseInsensitiveNames(true))
		fmt.Printf("%s: %s. %s\n", w.Header().Get("Content-Language"), p.Title, p.Detail)
	}
	// Output:
	// en: The lock is closed. It reopens on 4 May.
	// de: Die Schleuse ist geschlossen. Sie öffnet wieder am 4. Mai.
	// de, en: The server cannot do this. There is no sluice yet.
}

func ExampleReply_content() {
	find := func(_ context.Context, in struct {
		Weir string `from:"path weir"`
	}) (wicketway.Reply[wicketway.Content], error) {
		if in.Weir != "bell" {
			return wicketway.Reply[wicketway.Content]{Status: http.StatusNotFound, Value: wicketway.Text("no such weir")}, nil
		}
		return wicketway.Reply[wicketway.Content]{Header: http.Header{"Age": {"7"}}, Value: wicketway.Text("open")}, nil
	}
	api := mustBuild(wicketway.Route("GET /weirs/{weir}", find, wicketway.Gives[wicketway.Content](http.StatusNotFound)))
	for _, path := range []string{"/weirs/bell", "/weirs/heron"} {
		w := httptest.NewRecorder()
		api.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
		fmt.Println(w.Code, w.Header().Get("Age"), w.Body)
	}
	// Output:
	// 200 7 open
	// 404  no such weir
}

func ExampleValueShape() {
	type house struct {
		Data    format.Payload `json:"data"`
		Message string         `json:"message,omitzero"`
	}
	open := func(context.Context, wicketway.None) (wicketway.Reply[[]string], error) {
		return wicketway.Reply[[]string]{Value: []string{"bell", "heron"}, Message: "Two locks are open."}, nil
	}
	api := mustBuild(wicketway.Route("GET /locks", open),
		wicketway.ValueShape(func(s format.Success) house { return house{s.Value, s.Message} }))
	w := httptest.NewRecorder()
	api.ServeHTTP(w, httptest.NewRequest("GET", "/locks", nil))
	fmt.Println(w.Body)
	// Output:
	// {"data":["bell","heron"],"message":"Two locks are open."}
}
