package main

import (
	"encoding/xml"
	"fmt"
	"go/parser"
	"go/token"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/examples/canal/demo"
	"github.com/wicketway/wicketway/internal/probe"
)

// served is the demo at an address, with its tokens in files.
func served(t *testing.T) (canal *demo.Canal, address string, file func(name, text string) string) {
	t.Helper()
	canal, err := demo.OpenAt(demo.Unlimited, t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(canal.API)
	t.Cleanup(func() { server.Close(); canal.Close() })
	dir := t.TempDir()
	return canal, server.URL, func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
}

func TestProbeCommand(t *testing.T) {
	canal, address, file := served(t)
	d, err := canal.API.Contract("v2")
	if err != nil {
		t.Fatal(err)
	}
	stale := file("stale.json", regexp.MustCompile(`"maximum": ?40`).ReplaceAllString(string(d.Text()), `"maximum":30`))
	junit, tests := filepath.Join(t.TempDir(), "junit.xml"), filepath.Join(t.TempDir(), "found_test.go")
	tokens := " --token-file " + file("skipper", canal.Skipper+"\n") + " --token-file " + file("keeper", canal.Keeper) + " --other-token-file " + file("other", canal.Visitor)
	for _, c := range []struct {
		args   string
		status int
		want   []string
	}{
		{address + " --draws 5" + tokens, 0, []string{"Osterbeck Canal v1: ", "Osterbeck Canal v2: ", "passages.change ", "200 400 401 403 404 409 412 413 415 422", "not reached", "408, since no request is sent slowly: "}},
		{address + "/api/contracts/v2 --draws 1 --only locks.find --seed 4", 0, []string{"Osterbeck Canal v2: ", "locks.find "}},
		{address + " --safe --version v2 --draws 1", 0, []string{"it is not among the methods that change nothing: locks.operate, "}},
		{address + " --contract " + stale + " --only passages.book --draws 1 --junit " + junit + " --tests " + tests + tokens, 1, []string{
			"passages.book: the member /crew breaks maximum (30)\n  wanted 422 input-invalid, got 409 slot-taken\n  curl -s " + address + `/api/v2/passages -H "Authorization: Bearer $WICKETWAY_TOKEN" -H 'Content-Type: application/json' -d '{"crew":31,`, "is not as the contract says (seed 0)"}},
		{address + " --contract " + stale + " --only passages.change --draws 1 --json" + tokens, 1, []string{`"operation": "passages.change",`, `"wanted": "422 input-invalid",`, `"reason": "the member /crew breaks maximum (30)"`}},
		{address + " --version v7", 2, []string{"has no version v7; available: v1, v2"}},
		{address + " --only nothing.at.all", 1, []string{"no operation is called nothing.at.all; known: locks.list, "}},
		{address + " --token-file " + file("two", "a b"), 2, []string{"has no token"}},
		{address + " -- --listen :1", 2, []string{"takes no arguments behind --"}},
		{"localhost:8080", 2, []string{"begins with http:// or https://: http://localhost:8080"}},
		{"http://127.0.0.1:1", 1, []string{"connection refused"}},
		{address + " --contract /nowhere.json", 1, []string{"/nowhere.json"}},
		{"", 2, []string{"missing TARGET"}},
	} {
		status, out, errs := runTool(2*time.Minute, append([]string{"probe"}, strings.Fields(c.args)...)...)
		said := out + errs
		if status != c.status {
			t.Errorf("probe %s: exit status %d, want %d\n%s", c.args, status, c.status, said)
		}
		for _, want := range c.want {
			if !strings.Contains(said, want) {
				t.Errorf("probe %s: %q is not in\n%s", c.args, want, said)
			}
		}
		if strings.Contains(said, canal.Skipper) || strings.Contains(said, canal.Visitor) {
			t.Errorf("probe %s: a token is shown", c.args)
		}
	}
	var suites struct {
		Suites []struct {
			Failures int `xml:"failures,attr"`
		} `xml:"testsuite"`
	}
	text, err := os.ReadFile(junit)
	if err != nil {
		t.Fatal(err)
	}
	if err := xml.Unmarshal(text, &suites); err != nil || len(suites.Suites) != 1 || suites.Suites[0].Failures != 1 {
		t.Errorf("JUnit: %v %+v\n%s", err, suites, text)
	}
	text, err = os.ReadFile(tests)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := parser.ParseFile(token.NewFileSet(), tests, text, 0); err != nil || !strings.Contains(string(text), `wicketwaytest.Answers(t, api, r, 422, "input-invalid")`) ||
		!strings.Contains(string(text), `"Bearer "+os.Getenv("WICKETWAY_TOKEN")`) {
		t.Errorf("tests: %v\n%s", err, text)
	}
}

// A package is built, and started on a free port; a token is got by the operation that gives one.
func TestProbePackage(t *testing.T) {
	if testing.Short() {
		t.Skip("a program is built")
	}
	status, out, errs := runTool(2*time.Minute, "probe", "../../examples/canal", "--version", "v2", "--draws", "1", "--only", "passages.*")
	if status != 0 || !strings.Contains(out, "passages.cancel") || !strings.Contains(out, "201 400 401") {
		t.Errorf("exit status %d\n%s%s", status, out, errs)
	}
	if status, _, errs = runTool(time.Minute, "probe", "../../route"); status != 1 || !strings.Contains(errs, "is not a program") {
		t.Errorf("exit status %d: %s", status, errs)
	}
}

// Nothing is sent to where an answer leads.
func TestProbeStaysAtItsAddress(t *testing.T) {
	var asked atomic.Int32
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	defer elsewhere.Close()
	contract := fmt.Sprintf(`{"openapi":"3.1.0","info":{"title":"Astray","version":"1"},"servers":[{"url":%q}],"paths":{
		"/locks":{"get":{"operationId":"list","parameters":[{"name":"limit","in":"query","schema":{"type":"integer","minimum":1,"maximum":5}}],"responses":{"200":{"description":"x"},"307":{"description":"x"}}},
			"post":{"operationId":"make","responses":{"201":{"description":"x"}}}},
		"/locks/{lock}":{"parameters":[{"name":"lock","in":"path","required":true,"schema":{"type":"integer"}}],"get":{"operationId":"find","responses":{"200":{"description":"x"},"404":{"description":"x"}}}}}}`, elsewhere.URL)
	astray := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Link", "<"+elsewhere.URL+`/locks?page=2>; rel="next", <`+elsewhere.URL+`/openapi.json>; rel="service-desc", </own>; rel="service-desc"`)
		w.Header().Set("Location", elsewhere.URL+"/locks/7")
		switch {
		case r.URL.Path == "/own":
			io.WriteString(w, contract)
		case r.Method == "POST":
			w.WriteHeader(201)
		case r.URL.Path == "/locks":
			io.WriteString(w, `[{"lock":1},{"lock":2}]`)
		default:
			w.WriteHeader(307)
		}
	}))
	defer astray.Close()
	status, out, errs := runTool(time.Minute, "probe", astray.URL, "--json")
	var found []probe.Finding
	if err := json.Unmarshal([]byte(out), &found); err != nil || status != 1 || !strings.Contains(out, "no answer with the status 307") {
		t.Errorf("exit status %d, %v\n%s%s", status, err, out, errs)
	}
	if n := asked.Load(); n != 0 {
		t.Errorf("%d requests went elsewhere", n)
	}
}

// Each of the wrong requests, as a line that is run as it is printed, gets what it names.
func TestWrongLinesGetWhatTheyName(t *testing.T) {
	for _, program := range []string{"sh", "curl"} {
		if _, err := exec.LookPath(program); err != nil {
			if os.Getenv("CI") != "" {
				t.Fatalf("CI has no %s", program)
			}
			t.Skipf("there is no %s here", program)
		}
	}
	if testing.Short() {
		t.Skip("the description is that of a program, which is built")
	}
	canal, address, _ := served(t)
	status, out, errs := runTool(2*time.Minute, "explain", "POST", "/api/v2/passages", "../../examples/canal", "--wrong", "--json", "--address", address)
	var e struct {
		Wrong []wrongRequest `json:"wrong"`
	}
	if err := json.Unmarshal([]byte(out), &e); err != nil || status != 0 || len(e.Wrong) < 15 {
		t.Fatalf("exit status %d, %v: %d wrong requests\n%s", status, err, len(e.Wrong), errs)
	}
	for _, r := range e.Wrong {
		c := exec.Command("sh", "-c", r.Line)
		c.Env = append(os.Environ(), requests.Token[1:]+"="+canal.Skipper, requests.TokenWithoutScopes[1:]+"="+canal.Keeper)
		text, err := c.Output()
		var got struct {
			Status int    `json:"status"`
			Code   string `json:"code"`
		}
		if json.Unmarshal(text, &got); err != nil || got.Status != r.Status && got.Status != r.Or || r.Code != "" && got.Code != r.Code {
			t.Errorf("%s: %v, %d %s, want %d %s\n%s\n%s", r.Wrong, err, got.Status, got.Code, r.Status, r.Code, r.Line, text)
		}
	}
}
