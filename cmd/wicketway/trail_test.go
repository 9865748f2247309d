package main

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/wicketway/wicketway/examples/canal/demo"
)

// A lookout waits for texts among what a command writes.
type lookout struct {
	mu      sync.Mutex
	written strings.Builder
	changed chan struct{}
}

func (l *lookout) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.written.Write(p)
	select {
	case l.changed <- struct{}{}:
	default:
	}
	return len(p), nil
}

func (l *lookout) text() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.written.String()
}

// sees waits until a text is there so many times.
func (l *lookout) sees(t *testing.T, text string, times int) {
	t.Helper()
	for strings.Count(l.text(), text) < times {
		select {
		case <-l.changed:
		case <-t.Context().Done():
			t.Fatalf("no %q in\n%s", text, l.text())
		}
	}
}

func TestTrail(t *testing.T) {
	_, production, _ := served(t)
	t.Setenv("WICKETWAY_DEVELOPMENT", "1")
	canal, err := demo.OpenAt(demo.Unlimited, t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer canal.Close()
	server := httptest.NewServer(canal.API)
	defer server.Close()
	book := func(crew string) {
		r, _ := http.NewRequest("POST", server.URL+"/api/v2/passages", strings.NewReader(`{"lock":"bell","direction":"up","slot":"2027-05-04T09:30:00Z","crew":`+crew+`}`))
		r.Header.Set("Authorization", "Bearer "+canal.Skipper)
		r.Header.Set("Content-Type", "application/json")
		r.Close = true // connections are closed below
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
	}
	book("3")

	ctx, stop := context.WithCancel(t.Context())
	out := &lookout{changed: make(chan struct{}, 1)}
	ended := make(chan int)
	go func() { ended <- run(ctx, []string{"trail", server.URL}, out, io.Discard) }()
	out.sees(t, "201 ", 1)
	book("4")
	out.sees(t, "at passages.desk.reserve passages/passages.go:", 1)
	server.CloseClientConnections() // it goes on all the same
	book("99")
	out.sees(t, "body /crew  must be at most 40\n", 1)
	stop()
	if status := <-ended; status != 0 {
		t.Errorf("it ended with %d", status)
	}
	for text, times := range map[string]int{"POST /api/v2/passages  ": 3, "UNIQUE constraint failed": 4, "rollback\n": 1, " begin\n": 1,
		"middleware requestid › tracecontext › ": 2, "guard bearer  OB-1001 of osterbeck, with passages\n": 2, "crew = 4": 1} {
		if got := strings.Count(out.text(), text); got != times {
			t.Errorf("%q is there %d times, want %d", text, got, times)
		}
	}
	if strings.Contains(out.text(), canal.Skipper) {
		t.Errorf("a token is in\n%s", out.text())
	}

	for _, c := range []struct {
		args   string
		status int
		want   []string
	}{
		{"--id 2", 0, []string{"409 slot-taken", "  middleware accesslog\n", "The request\n  Accept-Encoding: gzip\n  Authorization: Bearer [redacted]\n", `"crew": 4`, "What was read\n", "X-Request-Id: ", "Served by passages.desk.book"}},
		{"--id 2 --test", 0, []string{"func TestPOSTApiV2Passages409(t *testing.T) {", `r.Header.Add("Authorization", "Bearer "+os.Getenv("WICKETWAY_TOKEN"))`, `wicketwaytest.Answers(t, api, r, 409, "slot-taken")`}},
		{"--id 1 --json", 0, []string{`"kind":"commit"`, `"status":201`}},
		{"--id 999", 2, []string{"404: No trail of this request is kept"}},
		{"--test", 2, []string{"--id ID"}},
		{"--last -1", 2, []string{"must not be negative"}},
	} {
		var out, errs strings.Builder
		status := run(t.Context(), append([]string{"trail", server.URL}, strings.Fields(c.args)...), &out, &errs)
		for _, want := range c.want {
			if !strings.Contains(out.String()+errs.String(), want) {
				t.Errorf("%s: no %q in\n%s%s", c.args, want, &out, &errs)
			}
		}
		if status != c.status {
			t.Errorf("%s: %d, want %d", c.args, status, c.status)
		}
	}
	for address, want := range map[string]string{production: "leads to no trails: does the API run in development", production + "/api/v2/locks": "is not a list of trails", "bell": "not an http or https address"} {
		var errs strings.Builder
		if status := run(t.Context(), []string{"trail", address}, io.Discard, &errs); status != 2 || !strings.Contains(errs.String(), want) {
			t.Errorf("%s: %d %s", address, status, errs.String())
		}
	}
}
