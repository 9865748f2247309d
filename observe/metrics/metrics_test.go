package metrics_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/observe/metrics"
	"github.com/wicketway/wicketway/observe/usage"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/wicketwaytest"
)

// A plate is a guard that takes the field Plate for the caller.
type plate struct{}

func (plate) Scheme() exchange.Scheme   { return exchange.Scheme{Name: "plate"} }
func (plate) Challenge([]string) string { return "Plate" }
func (plate) Authenticate(r *http.Request) (*exchange.Identity, error) {
	return &exchange.Identity{Subject: r.Header.Get("Plate")}, nil
}

// Whatever callers send, the labels stay within the table of routes; and who calls what is in a
// bounded table.
func TestLabelsAreBounded(t *testing.T) {
	registry := prometheus.NewRegistry()
	requests, err := metrics.Requests(registry)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := metrics.Requests(registry); err == nil {
		t.Error("the same names twice in one registry")
	}
	table := &usage.Table{Most: 50}
	registry.MustRegister(metrics.Usage(table))
	wicketwaytest.Middleware(t, new(usage.Table).Count())
	type in struct {
		Lock string `from:"path lock"`
	}
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Chain(requests, table.Count()), wicketway.Guard(plate{}),
		wicketway.Version("v1", wicketway.Route("GET /locks/{lock}", func(_ context.Context, in in) (string, error) {
			if strings.HasPrefix(in.Lock, "k") { // kinds that are made anew each time
				return "", problem.Define(409, "kind-"+in.Lock, "A kind").New("")
			}
			return in.Lock, nil
		})),
		wicketway.Mount("/mounted", http.NotFoundHandler()),
		wicketway.Handle("GET /metrics", metrics.Handler(registry), wicketway.Public()),
	)
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(3, 5))
	word := func() string { return fmt.Sprintf("%x", random.Uint32()) }
	for i := range 100_000 {
		method, path := "GET", "/v1/locks/"+word()
		switch i % 5 {
		case 1:
			path = "/" + word() + "/" + word()
		case 2:
			method = strings.ToUpper(word())
		case 3:
			path = "/mounted/" + word()
			method = "M" + word()
		case 4:
			path = "/v1/locks/k" + word()
		}
		r := httptest.NewRequest("GET", path, nil)
		r.Method = method
		r.Header.Set("Plate", word())
		api.ServeHTTP(httptest.NewRecorder(), r)
	}
	families, err := registry.Gather()
	if err != nil {
		t.Fatal(err)
	}
	series := map[string]int{}
	total := uint64(0)
	for _, f := range families {
		series[f.GetName()] = len(f.Metric)
		for _, m := range f.Metric {
			if f.GetName() == "http_server_request_duration_seconds" {
				total += m.Histogram.GetSampleCount()
				if len(m.Histogram.PositiveSpan) == 0 || len(m.Histogram.Bucket) == 0 {
					t.Error("a histogram is not both classic and native")
				}
			}
		}
	}
	if n := series["http_server_request_duration_seconds"]; n > 300 || n < 10 || total != 100_000 {
		t.Errorf("%d series for %d requests", n, total)
	}
	if n := series["http_server_response_body_size_bytes"]; n > 10 {
		t.Errorf("%d series of sizes", n)
	}
	if n := series["wicketway_usage_total"]; n > 60 || table.Others() < 1000 {
		t.Errorf("%d rows of usage, %d others", n, table.Others())
	}
	w := httptest.NewRecorder()
	r := httptest.NewRequest("GET", "/metrics", nil)
	r.Header.Set("Accept-Encoding", "identity")
	api.ServeHTTP(w, r)
	for _, want := range []string{`http_server_request_duration_seconds_count{code="not-found",method="GET",route="none",status="4xx",version=""}`, `method="other"`, `code="other"`,
		"http_server_active_requests 1", `wicketway_usage_total{caller="",method="GET",route="/v1/locks/{lock}",version="v1"}`} {
		if !strings.Contains(w.Body.String(), want) {
			t.Errorf("no %s in the metrics", want)
		}
	}
	rows, counted := table.Rows(), int64(0)
	for _, row := range rows {
		counted += row.Count
		if row.Last.Before(row.First) || row.Route == "" || row.Method != "GET" && row.Method != "*" {
			t.Errorf("%+v", row)
		}
	}
	if counted < 50_000 {
		t.Errorf("%d requests were counted in %d rows", counted, len(rows))
	}
}
