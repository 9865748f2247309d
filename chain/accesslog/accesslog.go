// Package accesslog writes one line for each request.
package accesslog

import (
	"errors"
	"log/slog"
	"net/http"
	"time"

	"github.com/wicketway/wicketway"
)

// StatusClientLeft is logged, never sent, where the caller left before the
// answer. No standard has a number for it; this one is widely used in logs.
const StatusClientLeft = 499

// To logs each request when it has been answered: method, path, route, status,
// bytes of the body as this middleware saw them, duration, request id, caller,
// and the error with its cause where there was one. The level is Error for a
// 5xx, else Info. A nil logger is slog's default at that moment.
func To(logger *slog.Logger) wicketway.Middleware {
	return wicketway.Wrap("accesslog", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			c := counter{ResponseWriter: w}
			start := time.Now()
			defer func() { // a connection that is given up is logged as well
				log := logger
				if log == nil {
					log = slog.Default()
				}
				c.log(log, r, time.Since(start))
			}()
			next.ServeHTTP(&c, r)
		})
	})
}

// A counter notes the status and counts the bytes that pass.
type counter struct {
	http.ResponseWriter
	status int
	bytes  int64
}

func (c *counter) log(to *slog.Logger, r *http.Request, took time.Duration) {
	ctx := r.Context()
	failure := wicketway.Failure(ctx)
	status := c.status
	if status == 0 {
		status = http.StatusOK
		if failure != nil || ctx.Err() != nil {
			status = StatusClientLeft
		}
	}
	level := slog.LevelInfo
	if status >= 500 || failure != nil && status < 400 { // the latter broke after its header
		level = slog.LevelError
	}
	if !to.Enabled(ctx, level) {
		return
	}
	_, route := wicketway.RoutePattern(ctx)
	var some [10]slog.Attr
	attrs := append(some[:0],
		slog.String("method", r.Method),
		slog.String("path", r.URL.Path),
		slog.String("route", route),
		slog.Int("status", status),
		slog.Int64("bytes", c.bytes),
		slog.Duration("duration", took),
		slog.String("request", wicketway.RequestID(ctx)),
		slog.String("caller", wicketway.Caller(ctx).Subject),
	)
	if failure != nil {
		attrs = append(attrs, slog.String("error", failure.Error()))
		if at, ok := errors.AsType[interface {
			error
			Stack() []byte
		}](failure); ok {
			attrs = append(attrs, slog.String("stack", string(at.Stack())))
		}
	}
	to.LogAttrs(ctx, level, "request", attrs...)
}

// Unwrap serves http.ResponseController.
func (c *counter) Unwrap() http.ResponseWriter { return c.ResponseWriter }

// Flush sends what was written so far.
func (c *counter) Flush() {
	if c.status == 0 {
		c.status = http.StatusOK
	}
	http.NewResponseController(c.ResponseWriter).Flush()
}

func (c *counter) WriteHeader(status int) {
	if c.status == 0 && status >= 200 {
		c.status = status
	}
	c.ResponseWriter.WriteHeader(status)
}

func (c *counter) Write(p []byte) (int, error) {
	if c.status == 0 {
		c.status = http.StatusOK
	}
	n, err := c.ResponseWriter.Write(p)
	c.bytes += int64(n)
	return n, err
}
