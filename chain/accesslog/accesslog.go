// Package accesslog writes one line for each request.
package accesslog

import (
	"errors"
	"log/slog"
	"net/http"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/problem"
)

// StatusClientLeft is logged where the caller left before the answer. No standard has
// a number for it; this one is widely used in logs.
const StatusClientLeft = 499

// To logs each request when it has been answered: method, path, route, status,
// bytes of the body as they were sent, duration, request id, caller,
// and the error with its cause where there was one, with what its problem keeps
// private, for a 5xx the function that served it with file and line, and the stack of
// a panic. A connection that a handler gave up before its answer has the status 0. The
// level is Error for a 5xx, else Info. No text is longer than 16 KiB: what callers
// choose and what fails is cut, and ends in an ellipsis. A nil logger is slog's default
// at that moment.
func To(logger *slog.Logger) wicketway.Middleware {
	return wicketway.Middleware{
		Name: "accesslog",
		Does: "logs each request when it has been answered",
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w, answer := wicketway.WriterOf(w)
				start := time.Now()
				defer func() {
					log := logger
					if log == nil {
						log = slog.Default()
					}
					gaveUp := recover() // only http.ErrAbortHandler comes this far
					record(log, r, answer, time.Since(start), gaveUp != nil)
					if gaveUp != nil {
						panic(gaveUp)
					}
				}()
				next.ServeHTTP(w, r)
			})
		},
	}
}

var errGaveUp = errors.New("the handler gave up the connection (http.ErrAbortHandler)")

func record(to *slog.Logger, r *http.Request, answer wicketway.Writer, took time.Duration, gaveUp bool) {
	ctx := r.Context()
	failure := wicketway.Failure(ctx)
	wicketway.MarkLogged(ctx)
	status := answer.Status()
	if gaveUp && failure == nil {
		failure = errGaveUp
	}
	if status == 0 && !gaveUp {
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
	var some [12]slog.Attr
	attrs := append(some[:0],
		slog.String("method", clip.Text(r.Method, 64)),
		slog.String("path", clip.Text(r.URL.Path, 1024)),
		slog.String("route", route),
		slog.Int("status", status),
		slog.Int64("bytes", answer.Sent()),
		slog.Duration("duration", took),
		slog.String("request", wicketway.RequestID(ctx)),
		slog.String("caller", clip.Text(wicketway.Caller(ctx).Subject, 256)),
	)
	if status >= 500 {
		attrs = append(attrs, slog.String("served", wicketway.RouteSource(ctx)))
	}
	if failure != nil {
		attrs = append(attrs, slog.String("error", clip.Text(failure.Error(), 8<<10)))
		if p, ok := errors.AsType[*problem.Problem](failure); ok && len(p.LogAttrs()) > 0 {
			attrs = append(attrs, slog.GroupAttrs("private", p.LogAttrs()...))
		}
		if stack := stackOf(failure); len(stack) > 0 && level == slog.LevelError {
			attrs = append(attrs, slog.String("stack", clip.Text(string(stack), 16<<10)))
		}
	}
	to.LogAttrs(ctx, level, "request", attrs...)
}

// stackOf is where a panic or a problem of status 500 and above came from.
func stackOf(err error) []byte {
	for err != nil {
		at, ok := errors.AsType[interface {
			error
			Stack() []byte
		}](err)
		if !ok {
			return nil
		}
		if stack := at.Stack(); len(stack) > 0 {
			return stack
		}
		err = errors.Unwrap(at)
	}
	return nil
}
