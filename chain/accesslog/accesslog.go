// Package accesslog writes one record for each request, and makes the records of others say which
// request they are about.
package accesslog

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"sync/atomic"
	"time"

	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/sent"
	"github.com/wicketway/wicketway/problem"
)

// Settings add to the record of a request.
type Settings struct {
	// AtStart logs a request when it begins as well, so that one that hangs is seen.
	AtStart bool
	// Slow flags requests that take longer, with the step that took most of the time: slow=true and
	// slowest="call 1.2s". None are where it is 0.
	Slow time.Duration
	// Sample logs one of so many requests that are healthy: those that are neither answered with a problem
	// nor slow. The record says so: sampled=n. All are logged where it is 0.
	Sample int
}

func (s *Settings) check() error {
	var wrong []error
	fault := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	if s.Slow < 0 {
		fault("Slow: %v is not a positive duration", s.Slow)
	}
	if s.Sample < 0 {
		fault("Sample: one of %d requests: the number is positive", s.Sample)
	}
	return errors.Join(wrong...)
}

// Add adds attributes to the record of a request, from a handler or a middleware.
func Add(ctx context.Context, attrs ...slog.Attr) { exchange.Keep(ctx, added{attrs}) }

// added are attributes of a user's.
type added struct{ attrs []slog.Attr }

// To logs each request when it has been answered, as one record "request":
//
//   - method, path, route (the template), version, status, duration_ms, remote (see chain/proxy)
//   - sent and received, in bytes of bodies as they were on the connection; written and unpacked
//     where those before and after coding were others
//   - request, trace, caller and issuer, and caller_request where a caller sent an id that was not taken over
//   - deprecated: the parameters and members that were sent and are ([exchange.Deprecated])
//   - of a failure: code (of the problem), error with its cause, private with the values that the problem keeps
//     from callers, for a 5xx served (the function with file and line), and the stack of a panic
//   - the attributes of [Add]
//
// A record is written for streams, for panics, for connections that were given away (101) and for callers who left
// as well, with the code caller-left. Where nothing was sent the status is 0: the caller left before, or the handler
// gave the connection up. The level is Error for a 5xx and for an answer that broke off, Warn for a 4xx, Info for
// callers that left and for all else. No text is longer than 16 KiB: longer texts of callers and errors are cut, and
// end in an ellipsis.
//
// A nil logger writes to the standard error stream: JSON, and where the route is in development
// the lines of a [Console]. The API's own lines go to the same logger.
func To(logger *slog.Logger, s Settings) exchange.Middleware {
	out := chooser(logger)
	m := exchange.Middleware{
		Name:  "accesslog",
		Does:  "logs each request when it has been answered",
		Check: s.check,
		Log:   out,
	}
	if s.Slow > 0 {
		m.Observes = stopwatch{}
	}
	m.Wrap = func(next http.Handler) http.Handler {
		var healthy atomic.Uint64
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w, answer := exchange.WriterOf(w)
			e := entry{
				Settings: &s,
				out:      out(exchange.Of(r.Context()).Development()).Handler(),
				start:    time.Now(),
				r:        r,
				answer:   answer,
				healthy:  &healthy,
			}
			if s.AtStart {
				e.begins()
			}
			if s.Slow > 0 {
				ctx := exchange.Keep(r.Context(), &laps{})
				if ctx != r.Context() {
					r = r.WithContext(ctx)
					e.r = r
				}
			}
			defer func() {
				gaveUp := recover() // only http.ErrAbortHandler comes this far
				e.end(gaveUp != nil)
				if gaveUp != nil {
					panic(gaveUp)
				}
			}()
			next.ServeHTTP(w, r)
		})
	}
	return m
}

// chooser finds the logger for a mode.
func chooser(logger *slog.Logger) func(development bool) *slog.Logger {
	if logger != nil {
		return func(bool) *slog.Logger { return logger }
	}
	production, console := slog.New(Redact(slog.NewJSONHandler(os.Stderr, nil))), slog.New(InContext(Console(os.Stderr)))
	return func(development bool) *slog.Logger {
		if development {
			return console
		}
		return production
	}
}

// An entry is the record of one request, while it goes on.
type entry struct {
	*Settings
	out     slog.Handler
	start   time.Time
	r       *http.Request
	answer  exchange.Writer
	healthy *atomic.Uint64
}

var errGaveUp = errors.New("the handler gave up the connection (http.ErrAbortHandler)")

func (e *entry) begins() {
	ctx := e.r.Context()
	if !e.out.Enabled(ctx, slog.LevelInfo) {
		return
	}
	record := slog.NewRecord(e.start, slog.LevelInfo, "request begins", 0)
	record.AddAttrs(slog.String("method", clip.Text(e.r.Method, 64)),
		slog.String("path", clip.Text(secret.InPath(ctx).Blank(e.r.URL.Path), 1024)),
		slog.String("request", exchange.Of(ctx).ID()))
	e.out.Handle(ctx, record) // an error of the log has nowhere to go
}

func (e *entry) end(gaveUp bool) {
	ctx, now := e.r.Context(), time.Now()
	took := now.Sub(e.start)
	x := exchange.Of(ctx)
	var failure error
	code := ""
	if f := x.Failure(); f != nil {
		failure, code = f.Err, f.Code()
		f.MarkLogged()
	}
	status := e.answer.Status()
	if gaveUp && failure == nil {
		failure = errGaveUp
	}
	if status == 0 && failure == nil {
		switch {
		case ctx.Err() != nil && exchange.CallerLeft(ctx):
			failure, code = exchange.ErrCallerLeft, "caller-left"
		default:
			status = http.StatusOK
		}
	}
	level := levelOf(status, failure)
	slow := e.Slow > 0 && took > e.Slow
	if e.Sample > 1 && level == slog.LevelInfo && failure == nil && !slow && e.healthy.Add(1)%uint64(e.Sample) != 1 {
		return
	}
	if !e.out.Enabled(ctx, level) {
		return
	}
	forPeople := isForPeople(e.out) && x.Development()
	var secrets *secret.Values // of what failed
	if failure != nil {
		secrets = secret.InFailure(ctx)
	}
	var some [24]slog.Attr
	attrs := append(some[:0],
		slog.String("method", clip.Text(e.r.Method, 64)),
		slog.String("path", clip.Text(secret.InPath(ctx).Blank(e.r.URL.Path), 1024)),
		slog.String("route", x.Template()),
		slog.Int("status", status),
		slog.Float64("duration_ms", float64(took.Round(time.Microsecond))/1e6),
	)
	add := func(name, value string) {
		if value != "" {
			attrs = append(attrs, slog.String(name, value))
		}
	}
	add("version", x.Version())
	attrs = e.addBytes(attrs)
	add("request", x.ID())
	if t, ok := x.Trace(); ok {
		add("trace", hex.EncodeToString(t.ID[:]))
	}
	if caller := x.Caller(); caller.Subject != "" {
		add("caller", clip.Text(caller.Subject, 256))
		add("issuer", clip.Text(caller.Issuer, 256))
	}
	if sent, ok := exchange.Kept[requestid.CallerRequest](ctx); ok {
		add("caller_request", string(sent))
	}
	if sent, ok := exchange.Kept[exchange.Deprecated](ctx); ok {
		attrs = append(attrs, slog.Any("deprecated", []string(sent)))
	}
	add("remote", remote(e.r))
	add("code", code)
	if status >= 500 {
		add("served", x.Source())
	}
	if failure != nil {
		attrs = addFailure(attrs, failure, level, secrets)
	}
	if slow {
		attrs = append(attrs, slog.Bool("slow", true))
		if l, ok := exchange.Kept[*laps](ctx); ok {
			add("slowest", l.slowest())
		}
	}
	if e.Sample > 1 && level == slog.LevelInfo && failure == nil && !slow {
		attrs = append(attrs, slog.Int("sampled", e.Sample))
	}
	for a := range exchange.AllKept[added](ctx) {
		own := slices.Clone(a.attrs)
		withValues(secret.In(ctx), own)
		attrs = append(attrs, own...)
	}
	if forPeople {
		attrs = addDevelopment(ctx, attrs, failure, secrets)
	}
	record := slog.NewRecord(now, level, "request", 0) // without a place: it would be this one
	record.AddAttrs(attrs...)
	if clean, ok := e.out.(cleanHandler); ok {
		clean.handleClean(ctx, record)
		return
	}
	e.out.Handle(ctx, record) // an error of the log has nowhere to go
}

// A cleanHandler takes records in which the values of the request have been blanked.
type cleanHandler interface {
	handleClean(context.Context, slog.Record) error
}

// remote is the client's address; "" where it is not known. That of the connection is a text already,
// mostly as netip would write it.
func remote(r *http.Request) string {
	if _, ok := exchange.Kept[exchange.Client](r.Context()); !ok {
		host, _, _ := net.SplitHostPort(r.RemoteAddr)
		if a, err := netip.ParseAddr(host); err == nil && a.Is4() {
			return host
		}
	}
	if a := exchange.ClientOf(r).Addr; a.IsValid() {
		return a.String()
	}
	return ""
}

// levelOf is the level by status; an answer of a good status that failed broke after its header, unless
// it was a stream that its caller has left.
func levelOf(status int, failure error) slog.Level {
	switch {
	case errors.Is(failure, exchange.ErrCallerLeft):
		return slog.LevelInfo
	case status >= 500, failure != nil && status < 400:
		return slog.LevelError
	case status >= 400:
		return slog.LevelWarn
	}
	return slog.LevelInfo
}

// addBytes adds the sizes of bodies; those that coding has not changed are said once.
func (e *entry) addBytes(attrs []slog.Attr) []slog.Attr {
	attrs = append(attrs, slog.Int64("sent", e.answer.Sent()))
	if written := e.answer.Written(); written != e.answer.Sent() {
		attrs = append(attrs, slog.Int64("written", written))
	}
	received, unpacked := exchange.Of(e.r.Context()).BytesRead()
	if received > 0 {
		attrs = append(attrs, slog.Int64("received", received))
	}
	if unpacked != received {
		attrs = append(attrs, slog.Int64("unpacked", unpacked))
	}
	return attrs
}

// longestError bounds what is logged of an error, in bytes.
const longestError = 8 << 10

func addFailure(attrs []slog.Attr, failure error, level slog.Level, secrets *secret.Values) []slog.Attr {
	attrs = append(attrs, slog.String("error", clip.Text(secrets.Blank(failure.Error()), longestError)))
	if p, ok := errors.AsType[*problem.Problem](failure); ok && len(p.LogAttrs()) > 0 {
		private := slices.Clone(p.LogAttrs())
		withValues(secrets, private)
		attrs = append(attrs, slog.GroupAttrs("private", private...))
	}
	if level == slog.LevelError {
		if own, others := exchange.Frames(failure); len(own)+len(others) > 0 {
			attrs = append(attrs, slog.Any(stackAttr, append(own, others...)[:min(len(own)+len(others), mostFrames)]))
		}
	}
	return attrs
}

// stackAttr is the stack of a failure, the frames of the user's own code first, and mostFrames bounds it.
const (
	stackAttr  = "stack"
	mostFrames = 64
)

// isForPeople reports whether records end on a Console, which blanks what is secret in an input.
func isForPeople(h slog.Handler) bool {
	p, ok := h.(interface{ isForPeople() bool })
	return ok && p.isForPeople()
}

// The attributes that only a Console shows.
const (
	sentAttr   = "arrived"
	faultsAttr = "faults"
	causesAttr = "causes"
	framesAttr = "frames"
)

func addDevelopment(ctx context.Context, attrs []slog.Attr, failure error, secrets *secret.Values) []slog.Attr {
	if q, ok := exchange.Kept[*sent.Request](ctx); ok {
		attrs = append(attrs, slog.Any(sentAttr, []string{q.Query(), q.Body(), q.Fields()}))
	}
	if failure == nil {
		return attrs
	}
	if p := problem.In(failure); p != nil && p.Items() != nil {
		attrs = append(attrs, slog.Any(faultsAttr, p.Items()))
	}
	causes := exchange.Causes(failure)
	for i := range causes {
		causes[i].Message = clip.Text(secrets.Blank(causes[i].Message), longestError)
	}
	attrs = append(attrs, slog.Any(causesAttr, causes))
	if own, _ := exchange.Frames(failure); own != nil {
		attrs = append(attrs, slog.Any(framesAttr, own))
	}
	return attrs
}
