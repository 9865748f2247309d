package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/observe/trail"
)

// trailed is an API that logs what it does, and keeps trails in development.
func trailed(more ...wicketway.Part) http.Handler {
	logger := slog.New(accesslog.InContext(slog.NewJSONHandler(io.Discard, nil)))
	type report struct {
		Lock string `from:"path lock"`
		Body struct {
			Text string `json:"text"`
		} `from:"body"`
	}
	api, err := wicketway.Build(wicketway.Info{Title: "Bench", Version: "1.0.0"}, append(more,
		wicketway.Log(logger),
		wicketway.Chain(requestid.Assign(), accesslog.To(logger, accesslog.Settings{})),
		wicketway.Route("GET /locks/{lock}", func(_ context.Context, in oneLock) (lock, error) { return bell(in.Lock), nil }),
		wicketway.Route("POST /locks/{lock}", func(ctx context.Context, in report) (lock, error) {
			for i := range 20 {
				logger.InfoContext(ctx, "a line of the report", "number", i, "text", in.Body.Text[:100])
			}
			return bell(in.Lock), nil
		}))...)
	if err != nil {
		panic(err)
	}
	return api
}

// trailsInProduction compares an API with trails that is not in development with one that has none.
func trailsInProduction(m meter) result {
	ratio, a, b := m.compare(getting(trailed(new(trail.Trails).Parts("/trails"))), getting(trailed()))
	return holds("", ratio, 1+max(*m.spread, 0.02), "%.0f ns to %.0f ns", a, b)
}

// trailsHeap is what the trails of 30,000 requests, 500 a second for a minute, take of the heap, as a share of their bound.
func trailsHeap(m meter) result {
	requests := 30_000
	if m.milliseconds == 1 { // briefly
		requests = 2_000
	}
	trails := new(trail.Trails)
	h := trailed(wicketway.Development(), trails.Parts("/trails"))
	const bound = 8 << 20
	before, most := heap(), 0
	for i := range requests {
		r := httptest.NewRequest("POST", fmt.Sprintf("/locks/lock-%d?page=%d", i, i), strings.NewReader(`{"text":"`+strings.Repeat("water ", 5_000)+`"}`))
		r.Header.Set("Content-Type", "application/json")
		h.ServeHTTP(httptest.NewRecorder(), r)
		most = max(most, trails.Size())
	}
	grown := float64(heap()-before) / bound
	runtime.KeepAlive(h)
	return holds("", grown, 1.25, "%.1f MiB of heap, %.1f MiB counted at most, %d trails", grown*8, float64(most)/(1<<20), len(trails.All()))
}
