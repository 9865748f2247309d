package wicketway

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"reflect"
	"runtime/debug"
	"slices"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/secret"
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

// translated gives the problem for an error. What a panic held is never told, even if
// it was a problem: nobody meant it for the caller.
func (t *terms) translated(err error) (p *problem.Problem) {
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
		return bind.TooLarge(large.Limit, err)
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
		return problem.Hidden(fmt.Errorf("the kind %q has the status %d, which is not an error (400 to 599): %w",
			p.Kind().Code(), status, err))
	}
	return p
}

// Fail answers a request with an error, as a problem (RFC 9457), for middleware
// and plain handlers. What is no problem becomes a 500 that says nothing, as does
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
		if !answer.HeaderSent(w) {
			answer.Problem(w, r, p, answer.Rendering{Rendering: problem.Rendering{Base: ownBase}})
		}
		return
	}
	s.fail(w, r, err)
}

// nobody's terms hold for what is no API's request.
var nobody = &terms{groupTerms: &groupTerms{retirement: noRetirement}}

func (s *state) fail(w http.ResponseWriter, r *http.Request, err error) {
	p := s.problemFor(err)
	if s.target.terms().development {
		s.adviseUndeclared(p)
	}
	switch in := problem.In(err); { // the log says what the error was taken for
	case in != nil && in.Kind() == p.Kind():
	case p.Kind() == problem.Internal && p.Unwrap() != nil:
		err = p.Unwrap()
	default:
		err = p
	}
	tooLarge := p.Kind() == problem.BodyTooLarge
	p = s.target.terms().told(p)
	s.noteFailure(err, p)
	if answer.HeaderSent(w) {
		s.cut.Store(true)
		return
	}
	// An answer to a body that is too large must arrive before the connection closes. A
	// caller who waits for 100 Continue sends nothing, and on HTTP/2 a stream ends
	// without the connection.
	if tooLarge && r.ProtoMajor == 1 && r.Header.Get("Expect") == "" && s.body.Open() {
		s.out.LingerAfter()
	}
	s.take(Step{Kind: StepFail}, func() error { s.tell(w, r, p); return p })
}

// callerLeft reports whether the server has given the request up.
func (s *state) callerLeft() bool { return context.Cause(s.Context) == context.Canceled }

// tell writes a problem, in the shape of the request's group.
func (s *state) tell(w http.ResponseWriter, r *http.Request, p *problem.Problem) {
	t := s.target.terms()
	s.restore(w.Header())
	s.api.raise(p.Kind())
	shown := s.showsCauses()
	how := answer.Rendering{NoStore: shown, Rendering: s.rendering(p, shown), Indent: t.development, JSON: t.jsonOnly}
	switch {
	case t.problemsAs != nil:
		how.Offer, how.Chosen = t.problemsAs.offer, true
	case t.formats != nil && !t.jsonOnly:
		if i, _, err := t.formats.Choose(r, s.match.Suffix); err == nil {
			how.Offer = &t.formats.Offers[i]
			how.Chosen = s.match.Suffix != "" || t.formats.Query != "" && r.URL.Query().Has(t.formats.Query)
		}
	}
	how.Length = s.out.WillLinger()
	if lost := answer.Problem(w, r, p, how); lost != nil {
		t.logger().WarnContext(r.Context(), "a problem lacks members", "error", clip.Text(s.secrets().Blank(lost.Error()), longestLogged),
			"request", RequestID(s))
	}
}

// rendering is how a problem of the request is written, with its causes where they are to be shown.
func (s *state) rendering(p *problem.Problem, shown bool) problem.Rendering {
	t := s.target.terms()
	how := problem.Rendering{Base: t.base}
	if id := RequestID(s); id != "" {
		how.Instance = "urn:uuid:" + id
	}
	if t.development || shown {
		how.Debug = s.debug(p)
	}
	return how
}

// A headerBefore is what the chain had set in a header when a plain handler began.
type headerBefore struct {
	of   uintptr // the header; in another goroutine a middleware may use its own
	held []heldField
}

type heldField struct {
	name   string
	values []string
}

// begin notes what the chain has set in the header: what a handler adds goes away if it fails, and
// fields that several write it cannot take away. What it gives is what to call the handler with.
func (s *state) begin(w http.ResponseWriter) http.ResponseWriter {
	h := w.Header()
	before := &headerBefore{of: reflect.ValueOf(h).Pointer()}
	if len(h) > 0 {
		before.held = make([]heldField, 0, len(h))
	}
	for name, values := range h {
		before.held = append(before.held, heldField{name, slices.Clip(values)})
	}
	s.before.Store(before)
	if vary, links := h["Vary"], h["Link"]; vary != nil || links != nil {
		w = BeforeHeader(w, func(_ int, h http.Header) {
			answer.AddVary(h, vary...)
			answer.AddLinks(h, links...)
		})
	}
	return w
}

// restore takes back the header fields that a handler had set before it failed.
func (s *state) restore(h http.Header) {
	before := s.before.Load()
	if before == nil || before.of != reflect.ValueOf(h).Pointer() {
		return
	}
	clear(h)
	for _, f := range before.held {
		h[f.name] = f.values
	}
	s.before.Store(nil)
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
	secrets := secret.In(r.Context())
	if secrets == nil {
		secrets = secret.Of(nil, r)
	}
	to.LogAttrs(r.Context(), slog.LevelError, "request failed",
		slog.String("method", clip.Text(r.Method, 64)),
		slog.String("path", clip.Text(secrets.Blank(r.URL.Path), 1024)),
		slog.Int("status", p.Kind().Status()),
		slog.String("served", source),
		slog.String("request", RequestID(r.Context())),
		slog.String("caller", clip.Text(Caller(r.Context()).Subject, 256)),
		slog.String("error", clip.Text(secrets.Blank(err.Error()), longestLogged)))
}
