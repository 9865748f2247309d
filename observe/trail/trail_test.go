package trail_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/observe/trail"
	"github.com/wicketway/wicketway/problem"
)

var errTaken = problem.Define(http.StatusConflict, "slot-taken", "The slot is taken")

// A keeper lets those in who say the word.
type keeper struct{}

func (keeper) Scheme() exchange.Scheme {
	return exchange.Scheme{Name: "word", Type: "apiKey", In: "header", Field: "X-Secret-Word"}
}
func (keeper) Challenge([]string) string { return "Word" }
func (keeper) Authenticate(r *http.Request) (*exchange.Identity, error) {
	if r.Header.Get("X-Secret-Word") != "marmalade" {
		return nil, problem.Unauthorized.New("Say the word.").Because(errors.New("the word was " + r.Header.Get("X-Secret-Word")))
	}
	return &exchange.Identity{Subject: "grebe", Scopes: []string{"passages"}}, nil
}

type booking struct {
	Lock string `from:"path lock"`
	Dry  bool   `from:"query dry"`
	Body struct {
		Crew int    `json:"crew" rule:"maximum=9"`
		PIN  string `json:"pin"`
		Word string `json:"word,omitzero" rule:"writeOnly"`
	} `from:"body"`
}

// served is an API with trails, and what it has logged.
func served(t testing.TB, trails *trail.Trails, more ...wicketway.Part) (*wicketway.API, *strings.Builder) {
	t.Helper()
	log := new(strings.Builder)
	logger := slog.New(accesslog.InContext(accesslog.Redact(slog.NewTextHandler(log, nil))))
	book := func(ctx context.Context, in booking) (string, error) {
		logger.With("tide", "high").WithGroup("booking").InfoContext(ctx, "somebody books with "+in.Body.PIN, "pin", in.Body.PIN, "crew", in.Body.Crew, slog.Group("vessel", "length", 9))
		switch {
		case in.Lock == "panics":
			panic("no water")
		case in.Body.Crew == 2:
			return "", errTaken.New("Another vessel is first.").Because(fmt.Errorf("booking with %s: %w", in.Body.PIN, io.ErrUnexpectedEOF))
		}
		return "booked", nil
	}
	api, err := wicketway.Build(wicketway.Info{Title: "Locks", Version: "1"}, append(more,
		wicketway.Log(logger),
		trails.Parts("/trails"),
		wicketway.Chain(requestid.Assign(), accesslog.To(logger, accesslog.Settings{})),
		wicketway.Group(wicketway.Guard(keeper{}), wicketway.Route("POST /locks/{lock}", book, wicketway.Fails(errTaken))),
		wicketway.Route("GET /health", func(context.Context, wicketway.None) (string, error) { return "well", nil }, wicketway.Attach(facts.About{})),
		wicketway.Route("GET /value", func(context.Context, wicketway.None) (map[string]string, error) {
			return map[string]string{"lock": "bell"}, nil
		}),
		wicketway.Route("POST /streams", func(_ context.Context, in io.Reader) (wicketway.None, error) { return wicketway.None{}, nil }),
	)...)
	if err != nil {
		t.Fatal(err)
	}
	return api, log
}

// ask sends a request, and gives its trail as it is served.
func ask(t testing.TB, api *wicketway.API, line, word, body string) (status int, text string) {
	t.Helper()
	method, target, _ := strings.Cut(line, " ")
	r, w := httptest.NewRequest(method, target, strings.NewReader(body)), httptest.NewRecorder()
	r.Header.Set("X-Secret-Word", word)
	r.Header.Set("Content-Type", "application/json")
	api.ServeHTTP(w, r)
	found := httptest.NewRecorder()
	api.ServeHTTP(found, httptest.NewRequest("GET", "/trails/"+w.Header().Get("X-Request-Id"), nil))
	return w.Code, found.Body.String()
}

// told is a trail in a few words: its events with their depths, and what failed.
func told(t *testing.T, text string) string {
	t.Helper()
	var one trail.Trail
	if err := json.Unmarshal([]byte(text), &one); err != nil {
		t.Fatalf("%v in %s", err, text)
	}
	var words []string
	for _, e := range one.Events {
		word := strings.Repeat(">", e.Depth) + string(e.Kind)
		for _, more := range []string{e.Name, e.Text, strings.Join(e.Values, " ")} {
			if more != "" {
				word += " " + more
			}
		}
		if e.Error != "" {
			word += " failed"
		}
		words = append(words, word)
	}
	if f := one.Failure; f != nil {
		words = append(words, fmt.Sprintf("%d %s, %d faults, %d causes", f.Status, f.Code, len(f.Faults), len(f.Causes)))
		if len(f.Places) > 0 && !strings.Contains(f.Places[0], "trail_test.go:") {
			t.Errorf("it failed at %s", f.Places[0])
		}
	}
	return strings.Join(words, "; ")
}

// A trail has every step that a request has passed, and no secret is in it.
func TestTrails(t *testing.T) {
	api, _ := served(t, new(trail.Trails), wicketway.Development())
	for _, r := range api.Routes() { // a mistake about them is found where they are asked for
		if strings.HasPrefix(r.Path, "/trails") && !strings.HasSuffix(r.At.File, "trail_test.go") {
			t.Errorf("%s is declared at %v", r.Path, r.At)
		}
	}
	const way = "middleware requestid; >middleware accesslog; "
	const line = `log INFO somebody books with [redacted] tide=high booking.pin=[redacted] booking.crew=`
	for _, c := range []struct {
		line, word, body string
		status           int
		want, input      string
	}{
		{"POST /locks/bell?dry=true&token=cormorant", "marmalade", `{"crew":3,"pin":"heron-77","word":"dunlin"}`, 200,
			way + ">>guard word grebe of word, with passages; >>read; >>call; >>>" + line + "3 booking.vessel.length=9; >>send", `{"Lock":"bell","Dry":true,"Body":{"crew":3,"pin":"[redacted]","word":"[redacted]"}}`},
		{"POST /locks/bell", "toast-crumbs", `{"crew":3,"pin":"heron-77"}`, 401, way + ">>guard word failed; >>fail 401 unauthorized; 401 unauthorized, 0 faults, 1 causes", ""},
		{"POST /locks/bell", "marmalade", `{"crew":99,"pin":"heron-77","cre":1,"word":"dunlin"}`, 422,
			way + ">>guard word grebe of word, with passages; >>read failed; >>fail 422 input-invalid; 422 input-invalid, 2 faults, 0 causes", ""},
		{"POST /locks/bell", "marmalade", `{"crew":2,"pin":"heron-77"}`, 409,
			way + ">>guard word grebe of word, with passages; >>read; >>call failed; >>>" + line + "2 booking.vessel.length=9; >>fail 409 slot-taken; 409 slot-taken, 0 faults, 2 causes",
			`{"Lock":"bell","Dry":false,"Body":{"crew":2,"pin":"[redacted]"}}`},
		{"POST /locks/panics", "marmalade", `{"crew":4,"pin":"heron-77"}`, 500,
			way + ">>guard word grebe of word, with passages; >>read; >>call failed; >>>" + line + "4 booking.vessel.length=9; >>fail 500 internal; 500 internal, 0 faults, 1 causes",
			`{"Lock":"panics","Dry":false,"Body":{"crew":4,"pin":"[redacted]"}}`},
		{"GET /nowhere", "", "", 404, way + ">>fail 404 not-found; 404 not-found, 0 faults, 0 causes", ""},
		{"GET /health", "", "", 200, "", ""},
		{"POST /streams", "", strings.Repeat("water ", 9000), 204, way + ">>read; >>call; >>send", `"(the route reads it)"`},
	} {
		status, text := ask(t, api, c.line, c.word, c.body)
		if got := told(t, text); status != c.status || got != c.want {
			t.Errorf("%s: %d\n got %s\nwant %s", c.line, status, got, c.want)
		}
		var one trail.Trail
		json.Unmarshal([]byte(text), &one)
		if c.input != "" && one.Input != c.input {
			t.Errorf("%s: the input is %s, want %s", c.line, one.Input, c.input)
		}
		for _, secret := range []string{"marmalade", "heron-77", "toast-crumbs", "cormorant", "dunlin"} {
			if strings.Contains(text, secret) {
				t.Errorf("%s: %s is in %s", c.line, secret, text)
			}
		}
	}
}

// Answers lead to their trails, as JSON and as pages, and those that have none lead nowhere.
func TestAnswersLeadToTrails(t *testing.T) {
	for name, c := range map[string]struct {
		mode []wicketway.Part
		base string // of what they lead to; "" where they lead nowhere
	}{
		"by itself":  {[]wicketway.Part{wicketway.Development()}, "/trails/"},
		"a page":     {[]wicketway.Part{wicketway.Development(), wicketway.Handle("GET /docs", http.NotFoundHandler(), wicketway.Attach(facts.ServiceDoc{Trails: "inside/"}))}, "/docs/inside/"},
		"production": {nil, ""},
		"none of it": {[]wicketway.Part{wicketway.Development(), wicketway.Attach(facts.About{})}, ""},
	} {
		api, _ := served(t, new(trail.Trails), c.mode...)
		for target, accepts := range map[string]string{"/nowhere": "application/json", "/else": "text/html", "/value": "text/html"} {
			r, w := httptest.NewRequest("GET", target, nil), httptest.NewRecorder()
			r.Header.Set("Accept", accepts)
			api.ServeHTTP(w, r)
			leads := strings.Contains(w.Body.String(), `"`+c.base+w.Header().Get("X-Request-Id")+`"`)
			if c.base == "" && strings.Contains(w.Body.String(), "/"+w.Header().Get("X-Request-Id")) || c.base != "" && !leads {
				t.Errorf("%s: %s as %s does not lead to %q:\n%s", name, target, accepts, c.base, w.Body)
			}
		}
	}
}

// Outside of development there is no trail, and nothing to ask for one.
func TestProductionKeepsNone(t *testing.T) {
	var trails trail.Trails
	api, _ := served(t, &trails)
	if status, text := ask(t, api, "POST /locks/bell", "marmalade", `{"crew":3,"pin":"1"}`); status != 200 || !strings.Contains(text, `"not-found"`) || len(trails.All()) > 0 {
		t.Errorf("%d, a trail %s, all %v", status, text, trails.All())
	}
	for _, r := range api.Routes() {
		if strings.Contains(r.Path, "trails") || len(r.Chain) > 0 && r.Chain[0].Name == "trail" {
			t.Errorf("%s has something of it", r.Path)
		}
	}
}

// Whatever requests bring, the trails stay within their bounds, and the newest are kept.
func TestBounds(t *testing.T) {
	trails := trail.Trails{Most: 30, Bytes: 200 << 10}
	api, _ := served(t, &trails, wicketway.Development())
	var callers sync.WaitGroup
	for i := range 120 {
		callers.Go(func() {
			body := fmt.Sprintf(`{"crew":%d,"pin":"%s"}`, i, strings.Repeat("x", i*i))
			line := "POST /locks/bell?dry=" + strings.Repeat("y", i*20)
			if status, _ := ask(t, api, line, "marmalade", body); status >= 500 {
				t.Errorf("%d", status)
			}
			trails.All()
			if size := trails.Size(); size > trails.Bytes {
				t.Errorf("after %d requests: %d bytes", i, size)
			}
		})
	}
	callers.Wait()
	ask(t, api, "GET /last", "", "")
	if all := trails.All(); len(all) == 0 || len(all) > 30 || all[0].Number != 121 {
		t.Errorf("%d are kept, the newest is %d", len(all), all[0].Number)
	}
}

// A caller of the stream gets the last trails, and then each when its request has ended.
func TestLive(t *testing.T) {
	api, _ := served(t, new(trail.Trails), wicketway.Development())
	ask(t, api, "GET /before", "", "")
	server := httptest.NewServer(api)
	defer server.Close()
	r, _ := http.NewRequestWithContext(t.Context(), "GET", server.URL+"/trails/live?last=1", nil)
	r.Header.Set("Accept", "application/x-ndjson")
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	for i, path := range []string{"/before", "/now", "/later"} {
		if i > 0 {
			ask(t, api, "GET "+path, "", "")
		}
		var one trail.Trail
		if !lines.Scan() || json.Unmarshal(lines.Bytes(), &one) != nil || one.Target != path || one.Code != "not-found" || len(one.Events) == 0 {
			t.Fatalf("%s: %s", path, lines.Text())
		}
	}
}

// However broken a body is, the value of a secret's member is not in the trail.
func FuzzSecret(f *testing.F) {
	for _, s := range []string{"", "{", `"`, `{"a":"`, `{"pin":`, "[1,", `{"a":{`, "\\", "{}", `{"lock":"bell",`} {
		f.Add(s, true)
		f.Add(s, false)
	}
	var trails trail.Trails
	api, _ := served(f, &trails, wicketway.Development())
	f.Fuzz(func(t *testing.T, before string, list bool) {
		secret := `"kingfisher-7"`
		if list {
			secret = `[1, "kingfisher-7"]`
		}
		if _, text := ask(t, api, "POST /locks/bell", "marmalade", before+`{"pin": `+secret+`}`); strings.Contains(text, "kingfisher-7") && !strings.Contains(before, "kingfisher") {
			t.Errorf("the secret behind %q is in %s", before, text)
		}
	})
}
