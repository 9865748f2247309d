package main

import (
	"context"
	"encoding/hex"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/google/uuid"
	"github.com/prometheus/client_golang/prometheus"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/chain/tracecontext"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/observe/metrics"
)

// logHandler is where both sides write.
var logHandler = slog.NewJSONHandler(io.Discard, nil)

// accessLog is held against one call of LogAttrs with the same attributes, around the same
// handler.
func accessLog(m meter) result {
	serve := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w, `{"lock":"bell","name":"Bell Lock","width":5.2,"open":true}`)
	})
	logger := slog.New(logHandler)
	ours := accesslog.To(logger, accesslog.Settings{}).Wrap(serve)
	theirs := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rec, start := &recorder{ResponseWriter: w}, time.Now()
		serve.ServeHTTP(rec, r)
		host, _, _ := net.SplitHostPort(r.RemoteAddr)
		logger.LogAttrs(
			r.Context(),
			slog.LevelInfo,
			"request",
			slog.String("method", r.Method),
			slog.String("path", r.URL.Path),
			slog.String(
				"route", ""), slog.Int("status", rec.status), slog.Float64("duration_ms", milliseconds(time.Since(start))),
			slog.Int64("sent", rec.bytes), slog.String("remote", host),
		)
	})
	ratio, a, b := m.compare(getting(ours), getting(theirs))
	return holds("", ratio, 1.05, "%.0f ns to %.0f ns", a, b)
}

// watched is an API with ids, a trace, the log and metrics, and the same by hand: what a careful
// engineer would write around one handler.
func watched() (ours, theirs http.Handler) {
	counted, err := metrics.Requests(prometheus.NewRegistry())
	if err != nil {
		panic(err)
	}
	api, err := wicketway.Build(wicketway.Info{Title: "Bench", Version: "1.0.0"},
		wicketway.Chain(requestid.Assign(), tracecontext.Keep(), counted, accesslog.To(slog.New(logHandler), accesslog.Settings{})),
		wicketway.Route("GET /locks/{lock}", func(_ context.Context, in oneLock) (lock, error) { return bell(in.Lock), nil }))
	if err != nil {
		panic(err)
	}
	sizes := prometheus.ExponentialBuckets(64, 8, 8)
	duration := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "duration", Buckets: []float64{.005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10},
		NativeHistogramBucketFactor: 1.1, NativeHistogramMaxBucketNumber: 100, NativeHistogramMinResetDuration: time.Hour},
		[]string{"method", "route", "version", "status", "code"}).
		WithLabelValues("GET", "/locks/{lock}", "", "2xx", "")
	received := prometheus.NewHistogram(prometheus.HistogramOpts{Name: "received", Buckets: sizes})
	sent := prometheus.NewHistogram(prometheus.HistogramOpts{Name: "sent", Buckets: sizes})
	active := prometheus.NewGauge(prometheus.GaugeOpts{Name: "active"})
	logger := slog.New(logHandler)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /locks/{lock}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if err := json.MarshalWrite(w, bell(r.PathValue("lock"))); err != nil {
			panic(err)
		}
	})
	type key struct{}
	return api, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id, err := uuid.NewV7()
		if err != nil {
			panic(err)
		}
		text := id.String()
		trace := tracecontext.Begin(r.Header)
		ctx := context.WithValue(r.Context(), key{}, &struct {
			id    string
			trace exchange.Trace
		}{text, trace})
		w.Header().Set("X-Request-Id", text)
		rec, start := &recorder{ResponseWriter: w}, time.Now()
		active.Inc()
		mux.ServeHTTP(rec, r.WithContext(ctx))
		active.Dec()
		took := time.Since(start)
		duration.Observe(took.Seconds())
		received.Observe(0)
		sent.Observe(float64(rec.bytes))
		host, _, _ := net.SplitHostPort(r.RemoteAddr)
		logger.LogAttrs(
			ctx,
			slog.LevelInfo,
			"request",
			slog.String("method", r.Method),
			slog.String("path", r.URL.Path),
			slog.String(
				"route",
				"/locks/{lock}",
			),
			slog.Int("status", rec.status),
			slog.Float64("duration_ms", milliseconds(took)),
			slog.Int64("sent", rec.bytes),
			slog.String("request", text),
			slog.String("trace", hex.EncodeToString(trace.ID[:])),
			slog.String("remote", host),
		)
	})
}

func watchedChain(m meter) result {
	ours, theirs := watched()
	ratio, a, b := m.compare(getting(ours), getting(theirs))
	return holds("", ratio, 1.1, "%.1f µs to %.1f µs", a/1000, b/1000)
}

// unwatched compares a route in an API that watches others with one in an API that watches nobody.
func unwatched(m meter) result {
	plain, _ := small()
	counted, err := metrics.Requests(prometheus.NewRegistry())
	if err != nil {
		panic(err)
	}
	api, err := wicketway.Build(wicketway.Info{Title: "Bench", Version: "1.0.0"},
		wicketway.Route("GET /locks/{lock}", func(_ context.Context, in oneLock) (lock, error) { return bell(in.Lock), nil }),
		wicketway.Group(
			wicketway.Chain(counted, accesslog.To(slog.New(logHandler), accesslog.Settings{Slow: time.Second})),
			wicketway.Route(
				"GET /passages/{lock}",
				func(_ context.Context, in oneLock) (lock, error) { return bell(in.Lock), nil },
			),
		))
	if err != nil {
		panic(err)
	}
	w := httptest.NewRecorder()
	if api.ServeHTTP(w, httptest.NewRequest("GET", "/passages/bell", nil)); w.Code != http.StatusOK {
		panic(w.Body.String())
	}
	ratio, a, b := m.compare(getting(api), getting(plain))
	return holds("", ratio, 1+max(*m.spread, 0.02), "%.0f ns to %.0f ns", a, b)
}
