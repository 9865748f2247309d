package exchange

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

// Fail answers a request with an error, as a problem (RFC 9457), for middleware and plain handlers. An
// error that is not a problem becomes a 500 that says nothing, as does nil. After the header has gone
// out nothing more is written, and the connection is cut when the request ends, so that callers do not
// take a partial answer for a complete one. Header fields that a plain handler has set are taken back;
// those of middleware stay. Nothing is sent to a caller that has left: the connection is cut, in case
// only half of it is closed. Outside of an API the problem is written as JSON, and a 5xx is logged by slog's default
// logger.
func Fail(w http.ResponseWriter, r *http.Request, err error) {
	if err == nil {
		err = errNoError
	}
	err = failure.Sound(err)
	s := StateOf(r.Context())
	if s == nil {
		s = stateBehind(w)
	}
	if s != nil {
		s.server.Fail(w, r, err)
		return
	}
	p := failure.Problem(err, nil)
	if p.Kind().Status() >= 500 {
		LogFailure(slog.Default(), r, p, err)
	}
	if writer.HeaderSent(w) {
		return
	}
	h := w.Header()
	failure.ForgetContent(h)
	for name, values := range p.Header() {
		h[name] = append(h[name], values...)
	}
	h.Set("Content-Type", problem.MediaType)
	how := problem.Rendering{Base: failure.OwnBase}
	if id := Of(r.Context()).ID(); id != "" {
		how.Instance = "urn:uuid:" + id
	}
	text, _ := p.Append(nil, how) // a member that JSON cannot carry is left out
	w.WriteHeader(p.Kind().Status())
	w.Write(append(text, '\n'))
}

var errNoError = errors.New("Fail was called without an error")

// Failure returns the failure of the request; nil where nothing failed, and outside of an API.
func (x Exchange) Failure() *Failure {
	if x.state == nil {
		return nil
	}
	return x.state.failed.Load()
}

// Code is the code of the problem, for logs and counts: that of its kind, or caller-left.
func (f *Failure) Code() string {
	if f.Problem == nil {
		return "caller-left"
	}
	return f.Problem.Kind().Code()
}

// ErrCallerLeft is among the causes of a failure where the caller left before the answer was complete.
var ErrCallerLeft = errors.New("the caller left before the answer was complete")

// MarkLogged says that the failure is in a log. Wicketway logs a failure by itself only where the answer
// is a 5xx and nobody has said so. On nil it does nothing.
func (f *Failure) MarkLogged() {
	if f != nil {
		f.logged.Store(true)
	}
}

// IsLogged reports whether MarkLogged was called.
func (f *Failure) IsLogged() bool { return f.logged.Load() }

// Failed notes what failed, for the request and for that of an API around this one. The first failure
// counts. The problem is nil where nobody is told.
func (s *State) Failed(err error, p *problem.Problem) {
	f := &Failure{Err: err, Problem: p}
	for ; s != nil; s = s.outer() {
		s.failed.CompareAndSwap(nil, f)
	}
}

// Failure returns the failure that Failed noted first; nil where there was none.
func (s *State) Failure() *Failure { return s.failed.Load() }

// CallerLeft reports whether a server has given a request up since its caller left.
func CallerLeft(ctx context.Context) bool { return context.Cause(ctx) == context.Canceled }

// longestLogged bounds a text in a line of the log, in bytes.
const longestLogged = 8 << 10

// LogFailure writes the line for a failure that no middleware has logged.
func LogFailure(to *slog.Logger, r *http.Request, p *problem.Problem, err error) {
	secrets := secret.In(r.Context())
	if secrets == nil {
		secrets = secret.Of(nil, r)
	}
	x := Of(r.Context())
	to.LogAttrs(r.Context(), slog.LevelError, "request failed",
		slog.String("method", clip.Text(r.Method, 64)),
		slog.String("path", clip.Text(secrets.Blank(r.URL.Path), 1024)),
		slog.Int("status", p.Kind().Status()),
		slog.String("served", x.Source()),
		slog.String("request", x.ID()),
		slog.String("caller", clip.Text(x.Caller().Subject, 256)),
		slog.String("error", clip.Text(secrets.Blank(err.Error()), longestLogged)))
}

// A Cause is one of the errors that a failure is made of.
type Cause struct {
	Type    string `json:"type"` // in Go
	Message string `json:"message"`
}

// Causes lists an error and what it wraps, joined errors one after the other, for people who look for
// the reason: never for callers.
func Causes(err error) []Cause {
	if err == nil {
		return nil
	}
	list := []Cause{{fmt.Sprintf("%T", err), err.Error()}}
	switch e := err.(type) {
	case interface{ Unwrap() error }:
		list = append(list, Causes(e.Unwrap())...)
	case interface{ Unwrap() []error }:
		for _, one := range e.Unwrap() {
			list = append(list, Causes(one)...)
		}
	}
	return list
}

// Frames gives the frames of the stack that an error has kept, each as its function, a space, and
// file:line: those of the user's own code, and those of Go itself and of this module, the innermost first.
// There are none where it has kept no stack; of a problem without one there is the place where it was
// made.
func Frames(err error) (own, others []string) {
	own, others = frames(stackIn(err))
	if p := problem.In(err); own == nil && others == nil && p != nil {
		if place := p.Place(); place != "" && !isOurs(place[strings.LastIndexByte(place, ' ')+1:]) {
			own = []string{place}
		}
	}
	return own, others
}

// stackIn is the innermost stack that an error has kept.
func stackIn(err error) (stack []byte) {
	for err != nil {
		at, ok := errors.AsType[interface {
			error
			Stack() []byte
		}](err)
		if !ok {
			return stack
		}
		if own := at.Stack(); len(own) > 0 {
			stack = own
		}
		err = errors.Unwrap(at)
	}
	return stack
}

// frames gives those of the user's own code, and the others.
func frames(stack []byte) (own, others []string) {
	lines := bytes.Split(bytes.TrimSpace(stack), []byte("\n"))
	for i := 0; i+1 < len(lines); i += 2 {
		function, place := string(lines[i]), strings.TrimSpace(string(lines[i+1]))
		place, _, _ = strings.Cut(place, " +0x")
		if at := strings.LastIndexByte(function, '('); at > 0 && strings.HasSuffix(function, ")") {
			function = function[:at] // without the arguments
		}
		frame := function + " " + place
		if isForeign(function) || isOurs(place) {
			others = append(others, frame)
		} else {
			own = append(own, frame)
		}
	}
	return own, others
}

func isForeign(function string) bool {
	path, _, _ := strings.Cut(function, ".")
	if slash := strings.LastIndexByte(function, '/'); slash >= 0 {
		dot := strings.IndexByte(function[slash:], '.')
		path = function[:slash+max(dot, 0)]
	}
	first, _, _ := strings.Cut(path, "/")
	standard := path != "main" && !strings.Contains(first, ".")
	return standard
}

// sourceFolder is where the sources of this module were compiled.
var sourceFolder = sync.OnceValue(func() string {
	_, file, _, _ := runtime.Caller(0)
	return strings.TrimSuffix(file, "exchange/failure.go")
})

// isOurs reports whether a place is in a package of this module that users link, wherever a compiler
// has put the function into another.
func isOurs(place string) bool {
	file, ours := strings.CutPrefix(place, sourceFolder())
	if !ours || strings.Contains(file, "_test.go:") {
		return false
	}
	folder, _, below := strings.Cut(file, "/")
	return !below || slices.Contains([]string{"chain", "exchange", "format", "internal", "observe"}, folder)
}
