package wicketway

import (
	"errors"
	"net/http"
	"reflect"
	"slices"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

var (
	errLostContext = errors.New("a middleware passed on a request without its context: use r.WithContext on the one it was given")
)

// Fail answers a request with an error, as [exchange.Fail] does.
func Fail(w http.ResponseWriter, r *http.Request, err error) { exchange.Fail(w, r, err) }

// Fail is what [exchange.Fail] does in an API.
func (s *state) Fail(w http.ResponseWriter, r *http.Request, err error) {
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
	s.Failed(err, p)
	if writer.HeaderSent(w) {
		s.cut.Store(true)
		return
	}
	// An answer to a body that is too large must arrive before the connection closes. A
	// caller who waits for 100 Continue sends nothing, and on HTTP/2 a stream ends
	// without the connection.
	if tooLarge && r.ProtoMajor == 1 && r.Header.Get("Expect") == "" && s.body.Open() {
		s.out.LingerAfter()
	}
	s.take(exchange.Step{Kind: exchange.StepFail}, func() error { s.tell(w, r, p); return p })
}

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
		t.logger().WarnContext(r.Context(), "a problem lacks members", "error", clip.Text(s.secrets().Blank(lost.Error()), 8<<10),
			"request", exchange.Of(s).ID())
	}
}

// rendering is how a problem of the request is written, with its causes where they are to be shown.
func (s *state) rendering(p *problem.Problem, shown bool) problem.Rendering {
	t := s.target.terms()
	how := problem.Rendering{Base: t.base}
	if id := exchange.Of(s).ID(); id != "" {
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
		w = exchange.BeforeHeader(w, func(_ int, h http.Header) {
			writer.AddVary(h, vary...)
			writer.AddLinks(h, links...)
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
		Fail(w, r, failure.Caught(v))
	}
}
