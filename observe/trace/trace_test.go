package trace_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"go.opentelemetry.io/otel/codes"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/chain/tracecontext"
	"github.com/wicketway/wicketway/observe/trace"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/wicketwaytest"
)

var errShut = problem.Define(502, "gauge-silent", "The gauge is silent")

// Spans through an outgoing call and every way to end: parents right, none left open.
func TestRequests(t *testing.T) {
	spans := tracetest.NewSpanRecorder()
	provider := sdk.NewTracerProvider(sdk.WithSpanProcessor(spans))
	wicketwaytest.Middleware(t, trace.Requests(provider))
	build := func(parts ...wicketway.Part) *httptest.Server {
		api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, append(parts, wicketway.Chain(trace.Requests(provider), tracecontext.Keep(), requestid.Assign()))...)
		if err != nil {
			t.Fatal(err)
		}
		server := httptest.NewServer(api)
		t.Cleanup(server.Close)
		return server
	}
	type none = wicketway.None
	gauge := build(wicketway.Route("GET /levels/{lock}", func(context.Context, struct {
		Lock string `from:"path lock"`
	}) (int, error) {
		return 7, nil
	}))
	client := &http.Client{Transport: tracecontext.Transport(nil)}
	canal := build(
		wicketway.Version("v2", wicketway.Route("GET /locks/{lock}", func(ctx context.Context, in struct {
			Lock string `from:"path lock"`
		}) (int, error) {
			r, _ := http.NewRequestWithContext(ctx, "GET", gauge.URL+"/levels/"+in.Lock, nil)
			resp, err := client.Do(r)
			if err != nil {
				return 0, err
			}
			return resp.StatusCode, resp.Body.Close()
		})),
		wicketway.Route("GET /panic/{token}", func(_ context.Context, in struct {
			Token string `from:"path token"`
		}) (none, error) {
			panic("no water for " + in.Token)
		}),
		wicketway.Route("GET /gauge", func(context.Context, none) (none, error) { return none{}, errShut.New("").Because(errors.New("ttyS4")) }, wicketway.Fails(errShut)),
		wicketway.Handle("GET /socket", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			if conn, _, err := w.(http.Hijacker).Hijack(); err == nil {
				conn.Close()
			}
		})),
		wicketway.Handle("GET /abort", http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })),
	)
	before := len(spans.Ended())
	for _, path := range []string{"GET /v2/locks/bell", "GET /panic/hush", "GET /gauge", "GET /socket", "GET /abort", "GET /none/7", "FETCH /none"} {
		method, path, _ := strings.Cut(path, " ")
		r, _ := http.NewRequest(method, canal.URL+path, nil)
		r.Header.Set("Traceparent", "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")
		if resp, err := http.DefaultClient.Do(r); err == nil {
			resp.Body.Close()
		}
	}
	canal.Close()
	gauge.Close()
	for end := time.Now().Add(5 * time.Second); len(spans.Started()) != len(spans.Ended()) && time.Now().Before(end); {
		time.Sleep(time.Millisecond) // Close does not wait for a connection that was taken over
	}
	if len(spans.Started()) != len(spans.Ended()) {
		t.Errorf("%d spans were started, %d ended", len(spans.Started()), len(spans.Ended()))
	}
	byName := map[string]sdk.ReadOnlySpan{}
	for _, s := range spans.Ended()[before:] {
		byName[s.Name()] = s
	}
	for name, want := range map[string]string{
		"GET /v2/locks/{lock}": "http.route=/v2/locks/{lock} http.response.status_code=200 wicketway.version=v2 url.path=/v2/locks/bell step=read step=call",
		"GET /levels/{lock}":   "http.response.status_code=200",
		"GET /panic/{token}":   "http.response.status_code=500 error.type=internal status=Error url.path=/panic/[redacted]",
		"GET /gauge":           "http.response.status_code=502 error.type=gauge-silent status=Error step=fail",
		"GET /socket":          "http.response.status_code=101",
		"GET /abort":           "http.route=/abort",
		"GET":                  "http.response.status_code=404 error.type=not-found",
		"HTTP":                 "http.request.method=_OTHER http.request.method_original=FETCH",
	} {
		s := byName[name]
		if s == nil {
			t.Errorf("no span is called %s", name)
			continue
		}
		var said []string
		for _, a := range s.Attributes() {
			said = append(said, string(a.Key)+"="+a.Value.String())
		}
		for _, e := range s.Events() {
			for _, a := range e.Attributes {
				if a.Key == "wicketway.step" {
					said = append(said, "step="+a.Value.AsString())
				}
			}
		}
		if s.Status().Code == codes.Error {
			said = append(said, "status=Error")
		}
		for piece := range strings.FieldsSeq(want) {
			if !slices.Contains(said, piece) {
				t.Errorf("%s: no %s in %q", name, piece, said)
			}
		}
		if text := fmt.Sprint(s.Attributes(), s.Events(), s.Status()); strings.Contains(text, "hush") {
			t.Errorf("%s: a token is in %s", name, text)
		}
		parent := "00f067aa0ba902b7"
		if name == "GET /levels/{lock}" {
			parent = byName["GET /v2/locks/{lock}"].SpanContext().SpanID().String()
		}
		if s.Parent().SpanID().String() != parent || s.SpanContext().TraceID().String() != "4bf92f3577b34da6a3ce929d0e0e4736" || !s.Parent().IsRemote() {
			t.Errorf("%s: below %s in %s, want %s", name, s.Parent().SpanID(), s.SpanContext().TraceID(), parent)
		}
	}
}
