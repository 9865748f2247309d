package wicketway

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/negotiate"
	"github.com/wicketway/wicketway/problem"
)

var (
	errLostContext = errors.New("a middleware passed on a request without its context: use r.WithContext on the one it was given")
	errNoError     = errors.New("Fail was called without an error")
)

// A panicError is what a panic becomes.
type panicError struct {
	value any
	stack []byte
}

func (e *panicError) Error() string { return fmt.Sprintf("panic: %v", e.value) }

// Stack is where it happened, as debug.Stack writes it.
func (e *panicError) Stack() []byte { return e.stack }

func (e *panicError) Unwrap() error {
	err, _ := e.value.(error)
	return err
}

// Translate turns foreign errors into problems: a missing row into a 404, a
// conflict of the storage into a 409. Each function is asked about an error that
// is no problem yet, those of the nearest group first and within one list in the
// order written; nil means that it does not know the error. What it returns keeps
// the foreign error as its cause, unless it has one.
func Translate(known ...func(error) error) Setting {
	at := here(0)
	return setting{at, "Translate", false, func(b *builder, t *terms) {
		for i, f := range known {
			if f == nil {
				b.mistake(at, "Translate: function %d is nil", i+1)
			}
		}
		t.translate = append(append(t.translate[:t.nearest:t.nearest], known...), t.translate[t.nearest:]...)
		t.nearest += len(known)
	}}
}

// translated gives the problem for an error. What a panic held is never told, even if
// it was a problem: nobody meant it for the caller.
func (t *target) translated(err error) (p *problem.Problem) {
	defer func() {
		if v := recover(); v != nil {
			p = problem.Hidden(errors.Join(&panicError{v, panicStack()}, fmt.Errorf("while translating: %w", err)))
		}
	}()
	if e, ok := errors.AsType[*panicError](err); ok {
		return problem.Hidden(e)
	}
	if p := problem.In(err); p != nil {
		return proper(p, err)
	}
	if large, ok := errors.AsType[*http.MaxBytesError](err); ok { // from a body that the route reads itself
		return tooLarge(large.Limit, err)
	}
	for _, known := range t.translate {
		found := known(err)
		if found == nil {
			continue
		}
		p := *proper(problem.From(found), err) // a copy: it may be shared
		if cause := p.Unwrap(); cause == nil || cause == found {
			p.Because(err)
		}
		return &p
	}
	return problem.From(err)
}

// proper replaces a problem of a kind that no answer can have.
func proper(p *problem.Problem, err error) *problem.Problem {
	if status := p.Kind().Status(); status < 400 || status > 599 {
		return problem.Hidden(fmt.Errorf("the kind %q has the status %d, which is no error (400 to 599): %w", p.Kind().Code(), status, err))
	}
	return p
}

// Fail answers a request with an error, as a problem (RFC 9457), for middleware
// and plain handlers. What is no problem becomes a 500 that tells nothing, as does
// nil. After the header has gone out nothing more is written, and the connection is
// cut when the request ends, so that callers do not take a part for the whole. Header
// fields that a plain handler has set are taken back; those of middleware stay. A
// caller who has left gets 499, in case only half of the connection is closed. Outside
// of an API's request the problem is written all the same, and a 5xx is logged by
// slog's default logger.
func Fail(w http.ResponseWriter, r *http.Request, err error) {
	if err == nil {
		err = errNoError
	}
	s := stateOf(r.Context())
	if s == nil {
		s = stateBehind(w)
	}
	if s == nil {
		p := nobody.translated(err)
		if p.Kind().Status() >= 500 {
			logFailure(slog.Default(), r, "", p, err)
		}
		if !headerSent(w) {
			tell(w, r, nobody, nil, p)
		}
		return
	}
	t := s.target
	var p *problem.Problem
	if s.callerLeft() && errors.Is(err, context.Canceled) {
		p = problem.CallerLeft.New("").Because(err)
	} else {
		p = t.translated(err)
	}
	switch in := problem.In(err); { // the log is told what the error was taken for
	case in != nil && in.Kind() == p.Kind():
	case p.Kind() == problem.Internal && p.Unwrap() != nil:
		err = p.Unwrap()
	default:
		err = p
	}
	s.noteFailure(err, p)
	if headerSent(w) {
		s.cut.Store(true)
		return
	}
	tell(w, r, t, s, p)
}

// callerLeft reports whether the server has given the request up.
func (s *state) callerLeft() bool { return context.Cause(s.Context) == context.Canceled }

// settle answers where a handler has not, since its context ended: left alone, the
// server would say 200.
func (s *state) settle(r *http.Request) {
	err := s.Context.Err()
	if err == nil || s.sent || s.failure.Load() != nil {
		return
	}
	Fail(&s.response, r, err)
}

// nobody is the target of what is no API's request.
var nobody = &target{terms: terms{manner: &manner{}}, fallback: true}

// tell writes a problem, as a page for callers that prefer one.
func tell(w http.ResponseWriter, r *http.Request, t *target, s *state, p *problem.Problem) {
	h := w.Header()
	if s != nil {
		s.restore(h)
		s.api.raise(p.Kind())
		s.prepareToLinger(r, p)
		s.closeIfOpen(r)
	}
	for _, about := range []string{"Content-Length", "Content-Encoding", "Content-Disposition", "Content-Range", "Etag", "Last-Modified", "Cache-Control"} {
		delete(h, about) // they spoke of the answer that will not come
	}
	for name, values := range p.Header() {
		h[name] = append(h[name], values...)
	}
	how := problem.Telling{Base: t.problemBase()}
	if s != nil {
		how.Instance = instance(s)
	}
	if t.development {
		how.Debug = t.debug(p)
	}
	varyByAccept(h)
	buffer := buffers.Get().(*bytes.Buffer)
	defer recycle(buffer)
	var lost error
	if accept := r.Header["Accept"]; prefersHTML(accept) {
		h["Content-Type"] = []string{"text/html; charset=utf-8"}
		writePage(buffer, p, how)
	} else {
		h["Content-Type"] = contentTypeProblem
		var text []byte
		text, lost = p.Append(buffer.AvailableBuffer(), how)
		if t.development {
			if value := jsontext.Value(text).Clone(); value.Indent(indented) == nil && len(value) < problem.MaxSize {
				text = value
			}
		}
		buffer.Write(append(text, '\n'))
	}
	if s != nil && s.linger {
		h["Content-Length"] = []string{strconv.Itoa(buffer.Len())}
	}
	if lost != nil {
		t.logger().WarnContext(r.Context(), "a problem lacks members", "error", clip.Text(lost.Error(), longestLogged), "request", RequestID(r.Context()))
	}
	w.WriteHeader(p.Kind().Status())
	w.Write(buffer.Bytes())
}

// restore takes back the header fields that a handler had set before it failed.
func (s *state) restore(h http.Header) {
	if s.before == nil {
		return
	}
	for name := range h {
		if old, there := s.before[name]; there {
			h[name] = old
		} else {
			delete(h, name)
		}
	}
	s.before = nil
}

// varyByAccept tells caches that the answer depends on Accept (RFC 9110, 12.5.5).
func varyByAccept(h http.Header) {
	if h["Vary"] == nil {
		h["Vary"] = varyAccept
		return
	}
	h.Add("Vary", "Accept")
}

// prefersHTML reports whether a caller ranks a page above JSON; callers without a
// preference get JSON.
func prefersHTML(accept []string) bool {
	return accept != nil && negotiate.MediaType(accept, "application/json", problem.MediaType, "text/html") == "text/html"
}

// instance names the occurrence of a problem by the request it happened in.
func instance(ctx context.Context) string {
	if id := RequestID(ctx); id != "" {
		return "urn:uuid:" + id
	}
	return ""
}

// headerSent asks a writer, and those that it wraps, whether the header has gone
// out or been promised.
func headerSent(w http.ResponseWriter) bool {
	for w != nil {
		if h, ok := w.(interface{ HeaderSent() bool }); ok && h.HeaderSent() {
			return true
		}
		u, ok := w.(interface{ Unwrap() http.ResponseWriter })
		if !ok {
			return false
		}
		w = u.Unwrap()
	}
	return false
}

// catch turns a panic below into a failure. It stands around every link of a
// chain, so that the middleware further out sees a proper answer.
func (s *state) catch(w http.ResponseWriter, r *http.Request) {
	switch v := recover(); v {
	case nil:
	case http.ErrAbortHandler: // net/http's own way to give up a connection
		panic(v)
	default:
		Fail(w, r, &panicError{v, panicStack()})
	}
}

// panicStack is the stack from the function that panicked on: what stands above
// it is how the panic was caught.
func panicStack() []byte {
	stack := debug.Stack()
	if at := bytes.LastIndex(stack, []byte("\npanic(")); at >= 0 {
		if parts := bytes.SplitN(stack[at+1:], []byte("\n"), 3); len(parts) == 3 {
			return parts[2]
		}
	}
	return stack
}

// longestLogged bounds a text in a line of the log, in bytes.
const longestLogged = 8 << 10

// logFailure writes the line for a failure that no middleware has logged.
func logFailure(to *slog.Logger, r *http.Request, source string, p *problem.Problem, err error) {
	to.LogAttrs(r.Context(), slog.LevelError, "request failed",
		slog.String("method", clip.Text(r.Method, 64)),
		slog.String("path", clip.Text(r.URL.Path, 1024)),
		slog.Int("status", p.Kind().Status()),
		slog.String("served", source),
		slog.String("request", RequestID(r.Context())),
		slog.String("error", clip.Text(err.Error(), longestLogged)))
}

// finish ends a request: what nobody logged is logged, and a broken answer is
// cut off.
func (s *state) finish(r *http.Request) {
	s.end()
	s.receiveRest()
	for _, clean := range s.cleanup {
		clean()
	}
	s.spool.remove()
	if f := s.failure.Load(); f != nil && s.outer() == nil && f.problem.Kind().Status() >= 500 && !f.asked.Load() {
		logFailure(s.target.logger(), r, RouteSource(s), f.problem, f.err)
	}
	if s.cut.Load() {
		panic(http.ErrAbortHandler)
	}
}
