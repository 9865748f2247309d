// Package trace records a span for each request by OpenTelemetry.
package trace

import (
	"context"
	"fmt"
	"net/http"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/secret"
)

// scope names what records the spans.
const scope = "github.com/wicketway/wicketway/observe/trace"

// Requests records a span for each request, below that of the caller (W3C Trace Context). It is
// named by method and template, has the attributes of OpenTelemetry's HTTP conventions, and the
// steps of the request as events. A request that ends with a 5xx has the status Error, and
// error.type is the code of its problem. What the request had under the name of a secret is blanked.
//
// It owns the ids: exchange.Exchange.Trace gives those of the span, so that logs and
// tracecontext.Transport say the same. It comes before chain/tracecontext, which is not needed
// then.
func Requests(by trace.TracerProvider) exchange.Middleware {
	tracer := by.Tracer(scope)
	return exchange.Middleware{
		Name:     "trace",
		Does:     "records a span for each request",
		Observes: events{},
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w, answer := exchange.WriterOf(w)
				ctx := propagation.TraceContext{}.Extract(r.Context(), propagation.HeaderCarrier(r.Header))
				caller := trace.SpanContextFromContext(ctx)
				x := exchange.Of(ctx)
				method, template := x.Method(), x.Template()
				ctx, span := tracer.Start(ctx, name(r, template), trace.WithSpanKind(trace.SpanKindServer),
					trace.WithAttributes(atStart(r, method, template)...))
				ctx = exchange.Keep(ctx, place(span.SpanContext(), caller))
				ctx = exchange.Keep(ctx, span)
				defer func() {
					atEnd(ctx, span, answer)
					span.End()
				}()
				next.ServeHTTP(w, r.WithContext(ctx))
			})
		},
	}
}

// name is that of a span: a few for each API, whatever callers send.
func name(r *http.Request, template string) string {
	switch {
	case template == "":
		return knownMethod(r.Method)
	}
	return knownMethod(r.Method) + " " + template
}

func knownMethod(method string) string {
	switch method {
	case "GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE", "CONNECT":
		return method
	}
	return "HTTP"
}

func atStart(r *http.Request, _, template string) []attribute.KeyValue {
	client := exchange.ClientOf(r)
	attrs := []attribute.KeyValue{
		attribute.String("http.request.method", knownMethod(r.Method)),
		attribute.String("url.path", clip.Text(secret.InPath(r.Context()).Blank(r.URL.Path), 1024)),
		attribute.String("url.scheme", client.Scheme),
		attribute.String("server.address", clip.Text(client.Host, 256)),
	}
	if knownMethod(r.Method) == "HTTP" {
		attrs[0] = attribute.String("http.request.method", "_OTHER")
		attrs = append(attrs, attribute.String("http.request.method_original", clip.Text(r.Method, 64)))
	}
	if template != "" {
		attrs = append(attrs, attribute.String("http.route", template))
	}
	if client.Addr.IsValid() {
		attrs = append(attrs, attribute.String("client.address", client.Addr.String()))
	}
	if agent := r.UserAgent(); agent != "" {
		attrs = append(attrs, attribute.String("user_agent.original", clip.Text(agent, 256)))
	}
	return attrs
}

func atEnd(ctx context.Context, span trace.Span, answer exchange.Writer) {
	if status := answer.Status(); status != 0 {
		span.SetAttributes(attribute.Int("http.response.status_code", status))
	}
	x := exchange.Of(ctx)
	if id := x.ID(); id != "" {
		span.SetAttributes(attribute.String("wicketway.request", id))
	}
	if version := x.Version(); version != "" {
		span.SetAttributes(attribute.String("wicketway.version", version))
	}
	failure := x.Failure()
	if failure == nil {
		if answer.Status() >= 500 {
			span.SetStatus(codes.Error, "")
		}
		return
	}
	span.SetAttributes(attribute.String("error.type", failure.Code()))
	if p := failure.Problem; p != nil && p.Kind().Status() >= 500 || answer.Status() < 400 && answer.Status() != 0 {
		text := clip.Text(secret.In(ctx).Blank(failure.Err.Error()), 1024)
		// As RecordError does it, which takes the text from the error itself.
		span.AddEvent("exception", trace.WithAttributes(attribute.String("exception.type", fmt.Sprintf("%T", failure.Err)),
			attribute.String("exception.message", text)))
		span.SetStatus(codes.Error, text)
	}
}

// place says where a span is, for logs and outgoing requests.
func place(of, caller trace.SpanContext) exchange.Trace {
	return exchange.Trace{
		ID:     of.TraceID(),
		Span:   of.SpanID(),
		Parent: caller.SpanID(),
		Flags:  byte(of.TraceFlags()),
		State:  of.TraceState().String(),
	}
}

// events are the steps of a request, in its span.
type events struct{}

func (events) StepBegins(context.Context, exchange.Step) {}

func (events) StepEnds(ctx context.Context, step exchange.Step, err error) {
	span, ok := exchange.Kept[trace.Span](ctx)
	if !ok || !span.IsRecording() {
		return
	}
	attrs := []attribute.KeyValue{attribute.String("wicketway.step", step.Kind.String())}
	if step.Name != "" {
		attrs = append(attrs, attribute.String("wicketway.step.name", step.Name))
	}
	if err != nil {
		attrs = append(attrs, attribute.String("wicketway.step.error", clip.Text(secret.In(ctx).Blank(err.Error()), 1024)))
	}
	span.AddEvent("step", trace.WithAttributes(attrs...))
}
