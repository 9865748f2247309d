package wicketway_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
)

type depth struct {
	Level int `json:"level"`
}

// What replaces can be undone further in, and Public can name methods.
func TestSettingsAreUndone(t *testing.T) {
	none := func(context.Context, wicketway.None) (depth, error) { return depth{1}, nil }
	slow := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, limited := r.Context().Deadline()
		fmt.Fprint(w, "limited ", limited)
	})
	bad := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "plain words", 400) })
	take := func(_ context.Context, in depth) (wicketway.None, error) { return wicketway.None{}, nil }
	api := mustBuild(
		wicketway.Envelope("data"),
		wicketway.Development(),
		wicketway.Limits{Time: time.Minute, AtOnce: 1, Body: 4},
		wicketway.ErrorsAsProblems(),
		wicketway.AllowUnknown(),
		wicketway.Answers(http.StatusAccepted),
		wicketway.Slashes(wicketway.SlashStrict),
		wicketway.ProblemBase("https://canal.example/p/"),
		wicketway.Route("GET /wrapped", none),
		wicketway.Handle("GET /limited", slow),
		wicketway.Handle("GET /uniform", bad),
		wicketway.Route("POST /take", take),
		wicketway.Group(
			wicketway.Undo(wicketway.Envelope("")),
			wicketway.Undo(wicketway.Development()),
			wicketway.Undo(wicketway.Limits{Time: 1, AtOnce: 1, Body: 1}),
			wicketway.Undo(wicketway.ErrorsAsProblems()),
			wicketway.Undo(wicketway.AllowUnknown()),
			wicketway.Undo(wicketway.Answers(0)),
			wicketway.Undo(wicketway.Slashes(wicketway.SlashSame)),
			wicketway.Undo(wicketway.ProblemBase("")),
			wicketway.Route("GET /bare", none),
			wicketway.Handle("GET /unlimited", slow),
			wicketway.Handle("GET /plain", bad),
			wicketway.Route("POST /strict", take),
		),
		wicketway.Group(
			wicketway.Undo(wicketway.Limits{Body: 1}),
			wicketway.Route("POST /partly", func(ctx context.Context, _ depth) (bool, error) {
				_, limited := ctx.Deadline()
				return limited, nil
			}),
		),
		wicketway.Group(
			wicketway.Guard(plate("p")),
			wicketway.Public("GET"),
			wicketway.Route("GET /read", whoami),
			wicketway.Route("PUT /read", whoami),
			wicketway.Mount("/mounted", http.NotFoundHandler(), wicketway.Undo(wicketway.ErrorsAsProblems())),
			wicketway.Group(wicketway.Guard(plate("q")), wicketway.Route("GET /closed", whoami)),
		),
	)
	guarded := mustBuild(wicketway.Guard(plate("p")), wicketway.Route("GET /x", whoami))
	if w := ask(guarded, "GET /problems/not-found", "", ""); w.Code != 200 { // callers who were refused must be able to read why
		t.Errorf("a problem's description under a guard: %d", w.Code)
	}
	for request, want := range map[string]string{
		"GET /wrapped":      "202 {\n  \"data\": {\n",
		"GET /bare":         "200 {\"level\":1}",
		"GET /bare/":        "308",
		"GET /wrapped/":     "404",
		"GET /limited":      "200 limited true",
		"GET /unlimited":    "200 limited false",
		"GET /uniform":      "400 {\n",
		"GET /plain":        "400 plain words",
		"POST /take":        "413",
		"POST /strict":      `422 {"type":"/problems/input-invalid"`,
		"POST /partly":      "202 {\n  \"data\": true",
		"GET /read":         "202",
		"HEAD /read":        "202",
		"PUT /read":         "401",
		"GET /closed":       "401",
		"GET /mounted/x":    "404 404 page",
		"HEAD /mounted/x":   "404",
		"POST /mounted/x":   "401",
		"PURGE /mounted/x":  "401",
		"GET /bare/nothing": "404 {\n",
	} {
		method, path, _ := strings.Cut(request, " ")
		r := httptest.NewRequest(method, path, strings.NewReader(`{"level":1,"x":2}`))
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		if got := fmt.Sprint(w.Code, " ", w.Body); !strings.HasPrefix(got, want) {
			t.Errorf("%s: %.200s, want %s", request, got, want)
		}
	}
}

// A diary takes down the steps of a request.
type diary struct {
	mu    sync.Mutex
	lines []string
}

func (d *diary) StepBegins(_ context.Context, s exchange.Step) { d.note("+" + d.name(s)) }

func (d *diary) StepEnds(_ context.Context, s exchange.Step, err error) {
	line := "-" + d.name(s)
	if err != nil {
		line += "!"
	}
	d.note(line)
}

func (*diary) name(s exchange.Step) string {
	if s.Name == "" {
		return s.Kind.String()
	}
	return s.Kind.String() + " " + s.Name
}

func (d *diary) note(line string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.lines = append(d.lines, line)
}

func TestStepsAreObserved(t *testing.T) {
	d := &diary{}
	pass := func(next http.Handler) http.Handler { return next }
	api := mustBuild(
		wicketway.Chain(exchange.Middleware{Name: "diary", Wrap: pass, Observes: d}),
		wicketway.Chain(wicketway.Wrap("outer", pass)),
		wicketway.Limits{AtOnce: 1},
		wicketway.Handle("GET /handler", http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic("wet") })),
		wicketway.Group(wicketway.Guard(plate("p")),
			wicketway.Route("GET /locks/{lock}", findLock, wicketway.Chain(wicketway.Wrap("inner", pass)))),
	)
	for request, want := range map[string]string{
		"p /locks/bell":         "+middleware diary +middleware outer +guard p -guard p +middleware inner +seats -seats +read -read +call -call +send -send -middleware inner -middleware outer -middleware diary",
		" /locks/bell":          "+middleware diary +middleware outer +guard p -guard p! +fail -fail! -middleware outer -middleware diary",
		"p /locks/bell?since=x": "+middleware diary +middleware outer +guard p -guard p +middleware inner +seats -seats +read -read! +fail -fail! -middleware inner -middleware outer -middleware diary",
		" /handler":             "+middleware diary +middleware outer +seats -seats +call -call! +fail -fail! -middleware outer -middleware diary",
		" /nothing":             "+middleware diary +middleware outer +seats -seats +fail -fail! -middleware outer -middleware diary",
	} {
		who, path, _ := strings.Cut(request, " ")
		r := httptest.NewRequest("GET", path, nil)
		r.Header.Set("Plate", who)
		d.lines = nil
		api.ServeHTTP(httptest.NewRecorder(), r)
		if got := strings.Join(d.lines, " "); got != want {
			t.Errorf("%s:\n got %s\nwant %s", request, got, want)
		}
	}
}

// Some are served, some wait, some wait too long, the others are refused at once.
func TestAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		sleep := http.HandlerFunc(func(http.ResponseWriter, *http.Request) { time.Sleep(3 * time.Second) })
		h := mustBuild(wicketway.Limits{AtOnce: 2, Queue: 3, Wait: 5 * time.Second}, wicketway.Handle("GET /", sleep))
		var mu sync.Mutex
		counts := map[string]int{}
		var all sync.WaitGroup
		start := time.Now()
		for i := range 8 {
			all.Go(func() {
				time.Sleep(time.Duration(i) * time.Millisecond)
				w := httptest.NewRecorder()
				h.ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
				mu.Lock()
				counts[fmt.Sprint(w.Code, " ", time.Since(start).Round(time.Second), " ", w.Header().Get("Retry-After"))]++
				mu.Unlock()
			})
		}
		all.Wait()
		if fmt.Sprint(counts) != "map[200 3s :2 200 6s :2 503 0s 5:3 503 5s 5:1]" {
			t.Errorf("%v", counts)
		}
	})
}
