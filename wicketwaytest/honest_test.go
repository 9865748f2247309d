package wicketwaytest_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/wicketwaytest"
)

// hearing is a test that keeps what it is told.
type hearing struct {
	testing.TB
	said []string
}

func (h *hearing) Errorf(format string, args ...any) {
	h.said = append(h.said, fmt.Sprintf(format, args...))
}

type gauge struct {
	Level int `json:"level" rule:"maximum=9"`
}

var errDry = problem.Define(http.StatusConflict, "dry", "The canal is dry")

// lies is a handler that says one thing of itself and does another.
func lies(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	switch body := `{"level":7}`; r.URL.RawQuery {
	case "status":
		w.WriteHeader(http.StatusAccepted)
		fmt.Fprint(w, body)
	case "field":
		w.Header().Set("Gauge", "north")
		fmt.Fprint(w, body)
	case "media":
		w.Header().Set("Content-Type", "text/csv")
		fmt.Fprint(w, body)
	case "body":
		fmt.Fprint(w, `{"level":70}`)
	case "member":
		fmt.Fprint(w, `{}`)
	case "json":
		fmt.Fprint(w, `{`)
	default:
		fmt.Fprint(w, body)
	}
}

// astray answers in the place of others, where it is asked to.
var astray = exchange.Middleware{Name: "astray", Wrap: func(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		media, status := "application/problem+json", http.StatusNotFound
		switch n, err := strconv.Atoi(r.URL.RawQuery); {
		case err == nil:
			status = n
			w.Header().Set("Allow", "PUT")
		case r.URL.RawQuery == "text":
			media = "text/plain"
		default:
			next.ServeHTTP(w, r)
			return
		}
		w.Header().Set("Content-Type", media)
		w.WriteHeader(status)
	})
}}

func TestHonest(t *testing.T) {
	api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"},
		wicketway.Log(slog.New(slog.DiscardHandler)), wicketway.Chain(requestid.Assign(), astray),
		wicketway.Handle("GET /gauge", http.HandlerFunc(lies), wicketway.Name("gauge"), wicketway.Describes[wicketway.None, gauge]()),
		wicketway.Route("GET /dry", func(context.Context, wicketway.None) (gauge, error) { return gauge{}, errDry.New("") }, wicketway.Name("dry")),
		wicketway.Route("GET /pumps", func(context.Context, wicketway.None) (gauge, error) { return gauge{70}, nil }, wicketway.Name("pumps"), wicketway.Unlisted()),
		wicketway.Mount("/old", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTeapot) })))
	if err != nil {
		t.Fatal(err)
	}
	told := &hearing{TB: t}
	h := wicketwaytest.Honest(told, api)
	for request, want := range map[string]string{
		"GET /gauge":        "",
		"HEAD /gauge":       "",
		"OPTIONS /gauge":    "",
		"GET /gauge/":       "",
		"DELETE /gauge":     "",
		"GET /nowhere":      "",
		"GET /problems/dry": "",
		"GET /old/x":        "",
		"GET /pumps":        "",
		"GET /nowhere?200":  `GET /nowhere is no operation of the contract; want 404 , and it was answered 200`,
		"GET /nowhere?503":  "",
		"GET /nowhere?507":  `GET /nowhere is no operation of the contract; want 404 , and it was answered 507`,
		"GET /nowhere?text": `GET /nowhere is no operation of the contract, and was answered 404 with "text/plain", which is no problem`,
		"PUT /gauge?405":    `PUT /gauge is no operation of the contract; want 405 GET, HEAD, OPTIONS, and it was answered 405 PUT`,
		"GET /gauge?status": "gauge (GET /gauge): the contract has no answer with the status 202",
		"GET /gauge?field":  "gauge (GET /gauge): the contract has no header field Gauge in the answer 200",
		"GET /gauge?media":  `gauge (GET /gauge): the contract has no media type "text/csv" in the answer 200 (it has application/json)`,
		"GET /gauge?body":   "gauge (GET /gauge): the body: /level: maximum: got 70, want 9",
		"GET /gauge?member": "gauge (GET /gauge): the body: the document: missing property 'level'",
		"GET /gauge?json":   "gauge (GET /gauge): the body: the document: is not JSON",
	} {
		told.said = nil
		method, target, _ := strings.Cut(request, " ")
		h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest(method, target, nil))
		if got := strings.Join(told.said, "\n"); want == "" && got != "" || !strings.HasPrefix(strings.TrimPrefix(got, "Honest: "), want) {
			t.Errorf("%s: %s, want %s", request, got, want)
		}
	}
}

// An answer is another than the test says, or than the contract says, or it is as both say.
func TestAnswers(t *testing.T) {
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"},
		wicketway.Route("GET /dry", func(context.Context, wicketway.None) (gauge, error) { return gauge{}, errDry.New("x") }, wicketway.Fails(errDry)),
		wicketway.Route("GET /gauge", func(context.Context, wicketway.None) (gauge, error) { return gauge{7}, nil }),
		wicketway.Handle("GET /lies", http.HandlerFunc(lies), wicketway.Describes[wicketway.None, gauge]()))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		path   string
		status int
		code   string
		said   string
	}{
		{"/dry", 409, "dry", ""},
		{"/dry", 409, "", ""},
		{"/dry", 0, "", "got 409 dry, want a success"},
		{"/dry", 409, "wet", "got 409 dry, want 409 wet"},
		{"/gauge", 0, "", ""},
		{"/gauge", 200, "", ""},
		{"/gauge", 201, "", "got 200 , want 201"},
		{"/lies?body", 200, "", "maximum"},
	} {
		h := &hearing{TB: t}
		answer := wicketwaytest.Answers(h, api, httptest.NewRequest("GET", c.path, nil), c.status, c.code)
		if said := strings.Join(h.said, "\n"); (said == "") != (c.said == "") || !strings.Contains(said, c.said) {
			t.Errorf("%s as %d %s: %s", c.path, c.status, c.code, said)
		}
		if body, err := io.ReadAll(answer.Body); err != nil || len(body) == 0 {
			t.Errorf("%s: the answer has no body left: %v", c.path, err)
		}
	}
}
