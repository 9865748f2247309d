// Package metrics counts requests for Prometheus.
package metrics

import (
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/observe/usage"
)

// methods are those that have a label of their own; callers can make up any.
var methods = map[string]bool{
	"GET":     true,
	"HEAD":    true,
	"POST":    true,
	"PUT":     true,
	"PATCH":   true,
	"DELETE":  true,
	"OPTIONS": true,
}

// mostCodes bounds the codes of problems that have a label of their own: those of an API are few,
// but a program could make kinds anew for every request.
const mostCodes = 256

// Requests counts requests in a registry, with the names and units of OpenTelemetry's HTTP
// conventions:
//
//	http_server_request_duration_seconds  histogram, classic and native; its count is that of requests
//	http_server_request_body_size_bytes   histogram of bytes received
//	http_server_response_body_size_bytes  histogram of bytes sent
//	http_server_active_requests           gauge
//
// The labels are method (or other), route (the template, or none), version, status (2xx) and code
// (of the problem): all of them come from the description, so that no caller can add any. The
// middleware is outermost, or behind the one that logs.
func Requests(registry prometheus.Registerer) (exchange.Middleware, error) {
	labels := []string{"method", "route", "version", "status", "code"}
	c := &counters{
		duration: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name:                            "http_server_request_duration_seconds",
			Help:                            "How long requests took.",
			Buckets:                         []float64{.005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10},
			NativeHistogramBucketFactor:     1.1,
			NativeHistogramMaxBucketNumber:  100,
			NativeHistogramMinResetDuration: time.Hour,
		}, labels),
		received: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name:    "http_server_request_body_size_bytes",
			Help:    "How large the bodies of requests were, as they were received.",
			Buckets: prometheus.ExponentialBuckets(64, 8, 8),
		}, []string{"method", "route"}),
		sent: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name:    "http_server_response_body_size_bytes",
			Help:    "How large the bodies of answers were, as they were sent.",
			Buckets: prometheus.ExponentialBuckets(64, 8, 8),
		}, []string{"method", "route"}),
		active: prometheus.NewGauge(prometheus.GaugeOpts{
			Name: "http_server_active_requests",
			Help: "How many requests are being served.",
		}),
		codes: map[string]bool{},
		known: map[seriesKey]*series{},
	}
	for _, one := range []prometheus.Collector{c.duration, c.received, c.sent, c.active} {
		if err := registry.Register(one); err != nil {
			return exchange.Middleware{}, err
		}
	}
	return exchange.Middleware{
		Name: "metrics",
		Does: "counts requests for Prometheus",
		Wrap: c.wrap,
	}, nil
}

type counters struct {
	duration, received, sent *prometheus.HistogramVec
	active                   prometheus.Gauge

	mu    sync.RWMutex
	codes map[string]bool
	known map[seriesKey]*series // by what makes their labels
}

// A series is where one kind of request is counted: looking it up by labels each time would cost
// more than counting.
type series struct{ duration, received, sent prometheus.Observer }

type seriesKey struct {
	method, route, version, code string
	class                        int
}

func (c *counters) wrap(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w, answer := exchange.WriterOf(w)
		start := time.Now()
		c.active.Inc()
		defer func() {
			c.active.Dec()
			c.count(r, answer, time.Since(start))
		}()
		next.ServeHTTP(w, r)
	})
}

func (c *counters) count(r *http.Request, answer exchange.Writer, took time.Duration) {
	ctx := r.Context()
	x := exchange.Of(ctx)
	key := seriesKey{method: r.Method, version: x.Version(), route: x.Template(), class: answer.Status() / 100}
	if !methods[key.method] {
		key.method = "other"
	}
	if key.route == "" {
		key.route = "none"
	}
	if f := x.Failure(); f != nil {
		key.code = c.code(f.Code())
	}
	s := c.series(key)
	s.duration.Observe(took.Seconds())
	received, _ := x.BytesRead()
	s.received.Observe(float64(received))
	s.sent.Observe(float64(answer.Sent()))
}

func (c *counters) series(key seriesKey) *series {
	c.mu.RLock()
	found := c.known[key]
	c.mu.RUnlock()
	if found != nil {
		return found
	}
	status := "none" // nothing was announced: the caller left, or the handler gave up
	if key.class > 0 {
		status = strconv.Itoa(key.class) + "xx"
	}
	made := &series{
		duration: c.duration.WithLabelValues(key.method, key.route, key.version, status, key.code),
		received: c.received.WithLabelValues(key.method, key.route),
		sent:     c.sent.WithLabelValues(key.method, key.route),
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.known[key] = made
	return made
}

// code is a code, or other where there are too many.
func (c *counters) code(code string) string {
	c.mu.RLock()
	known, full := c.codes[code], len(c.codes) >= mostCodes
	c.mu.RUnlock()
	if known {
		return code
	}
	if full {
		return "other"
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.codes[code] = true
	return code
}

// Handler serves the gathered metrics, in the formats that Prometheus asks for, for a route such as
// Handle("GET /metrics", metrics.Handler(registry)) needs. Put it where not everybody can call it.
func Handler(from prometheus.Gatherer) http.Handler {
	return promhttp.HandlerFor(from, promhttp.HandlerOpts{})
}

// Usage gathers a table of usage, as wicketway_usage_total and wicketway_usage_last_seconds by
// caller, version, method and route. It has as many series as the table has rows.
func Usage(of *usage.Table) prometheus.Collector {
	labels := []string{"caller", "version", "method", "route"}
	return &usageCollector{
		table: of,
		total: prometheus.NewDesc("wicketway_usage_total", "How many requests a caller has sent to a route.", labels, nil),
		last: prometheus.NewDesc(
			"wicketway_usage_last_seconds", "When a caller has last called a route, since 1970.", labels, nil,
		),
	}
}

type usageCollector struct {
	table       *usage.Table
	total, last *prometheus.Desc
}

func (u *usageCollector) Describe(to chan<- *prometheus.Desc) {
	to <- u.total
	to <- u.last
}

func (u *usageCollector) Collect(to chan<- prometheus.Metric) {
	for _, r := range u.table.Rows() {
		to <- prometheus.MustNewConstMetric(u.total, prometheus.CounterValue, float64(r.Count), r.Caller, r.Version, r.Method, r.Route)
		to <- prometheus.MustNewConstMetric(u.last, prometheus.GaugeValue, float64(r.Last.UnixMilli())/1000, r.Caller, r.Version, r.Method, r.Route)
	}
}
