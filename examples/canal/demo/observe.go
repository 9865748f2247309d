package demo

import (
	"context"
	"log/slog"
	"os"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	sdk "go.opentelemetry.io/otel/sdk/trace"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/tracecontext"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/observe/metrics"
	"github.com/wicketway/wicketway/observe/trace"
	"github.com/wicketway/wicketway/observe/usage"
)

// collector is the environment variable that says where traces go, as OpenTelemetry's exporters read it.
const collector = "OTEL_EXPORTER_OTLP_ENDPOINT"

// traceMost is for how long the last spans may take on their way to the collector.
const traceMost = 3 * time.Second

// observed is what is known of the canal's requests: their numbers, and who calls what.
type observed struct {
	registry *prometheus.Registry
	trace    exchange.Middleware // continues traces, and records spans where a collector is named
	count    []exchange.Middleware
	spans    *sdk.TracerProvider // nil where nobody collects them
}

func observe() (*observed, error) {
	o := &observed{registry: prometheus.NewRegistry(), trace: tracecontext.Keep()}
	requests, err := metrics.Requests(o.registry)
	if err != nil {
		return nil, err
	}
	callers := new(usage.Table)
	if err := o.registry.Register(metrics.Usage(callers)); err != nil {
		return nil, err
	}
	o.count = []exchange.Middleware{requests, callers.Count()}
	if os.Getenv(collector) == "" {
		return o, nil
	}
	exporter, err := otlptracehttp.New(context.Background())
	if err != nil {
		return nil, err
	}
	o.spans = sdk.NewTracerProvider(sdk.WithBatcher(exporter))
	o.trace = trace.Requests(o.spans)
	return o, nil
}

// close sends the last spans.
func (o *observed) close(log *slog.Logger) {
	if o.spans == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), traceMost)
	defer cancel()
	if err := o.spans.Shutdown(ctx); err != nil {
		log.Warn("the last spans have not reached the collector", "error", err)
	}
}

// Numbers is an API of its own that serves the numbers to Prometheus, for an address that only those who watch over
// the canal can reach.
func (c *Canal) Numbers() (*wicketway.API, error) {
	return wicketway.Build(wicketway.Info{Title: "Osterbeck Canal, numbers", Version: "2.4.0"},
		wicketway.Log(c.log),
		wicketway.Handle("GET /metrics", metrics.Handler(c.observed.registry), wicketway.Name("metrics"),
			wicketway.Summary("Requests and callers, for Prometheus")))
}
