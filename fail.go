package wicketway

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/internal/handover"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

var (
	errLostContext = errors.New(
		"a middleware passed on a request without its context: use r.WithContext on the one it was given",
	)
)

// Fail answers a request with an error, as [exchange.Fail] does.
func Fail(w http.ResponseWriter, r *http.Request, err error) { exchange.Fail(w, r, err) }

// take takes a step, and notifies the observers.
func (s *state) take(step exchange.Step, do func() error) error {
	if observers := s.target.steps.observers; observers != nil {
		return s.takeObserved(observers, step, do)
	}
	return do()
}

var errPanicked = errors.New("the step panicked")

func (s *state) takeObserved(observers []exchange.Observer, step exchange.Step, do func() error) error {
	for _, o := range observers {
		o.StepBegins(s, step)
	}
	err := errPanicked
	defer func() {
		for _, o := range observers {
			o.StepEnds(s, step, err)
		}
	}()
	err = do()
	return err
}

// Fail is what [exchange.Fail] does in an API.
func (s *state) Fail(w http.ResponseWriter, r *http.Request, err error) {
	if s.hasLeft(err) {
		s.Failed(leftBy(err), nil)
		s.cut.Store(true) // left alone, the server would say 200
		return
	}
	p := s.problemFor(err)
	if s.developing {
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

// hasLeft reports whether an error comes from that the caller has left.
func (s *state) hasLeft(err error) bool {
	return exchange.CallerLeft(s.Context) && errors.Is(err, context.Canceled)
}

// problemFor is the problem that an error is.
func (s *state) problemFor(err error) *problem.Problem {
	return failure.Problem(s.ended(err), s.target.terms().translate)
}

// leftBy is the failure of a request whose caller has left.
func leftBy(err error) error { return fmt.Errorf("%w: %w", exchange.ErrCallerLeft, err) }

// ended says why a context has ended: that of a stream is cancelled when its time is over.
func (s *state) ended(err error) error {
	if cause := context.Cause(s.Context); errors.Is(err, context.Canceled) && errors.Is(cause, context.DeadlineExceeded) {
		return fmt.Errorf("%w (%v)", cause, err)
	}
	return err
}

// tell writes a problem, in the shape of the request's group.
func (s *state) tell(w http.ResponseWriter, r *http.Request, p *problem.Problem) {
	t := s.target.terms()
	s.restore(w.Header())
	s.api.raise(p.Kind())
	shown := s.showsCauses()
	how := answer.Rendering{NoStore: shown, Rendering: s.rendering(p, shown), Indent: t.development, JSON: t.jsonOnly,
		Of: s}
	if near, ok := errors.AsType[*nearError](p.Unwrap()); ok && t.development {
		how.Near = near.routes
	}
	page := 0
	if t.pages != nil && s.match.Suffix == "" {
		writer.AddVary(w.Header(), "Accept")
		page, _, _ = t.pages.Choose(r, "", false) // its first offer is for all who accept neither
	}
	switch {
	case page > 0:
		how.Offer = &t.pages.Offers[page]
	case t.problemsAs != nil:
		how.Offer, how.Chosen = t.problemsAs.offer, true
	case t.formats != nil && !t.jsonOnly:
		if i, _, err := t.formats.Choose(r, s.match.Suffix, s.believes(r, t.formats)); err == nil {
			how.Offer = &t.formats.Offers[i]
			how.Chosen = s.match.Suffix != "" || t.formats.Query != "" && r.URL.Query().Has(t.formats.Query)
		}
	}
	how.Length = s.out.WillLinger()
	t.languages.announce(w.Header(), how.Texts, p)
	if lost := answer.Problem(w, r, p, how); lost != nil {
		t.logger().
			WarnContext(r.Context(), "a problem lacks members", "error", clip.Text(s.secrets().Blank(lost.Error()), 8<<10),
				"request", exchange.Of(s).ID())
	}
}

// Show fills in what pages and shapes of problems show of the request.
func (s *state) Show(p *format.Problem) {
	p.Method, p.Path, p.Route, p.Version = s.request.Method, s.request.URL.Path, s.target.path, s.target.terms().version
	if s.target.isFallback() {
		p.Route = ""
	}
	p.Caller, p.NewerCode, p.Trail = exchange.Of(s).Caller().Subject, s.target.terms().newerCode(), s.trail()
	if l := s.target.terms().languages; l != nil && p.Language == "" {
		p.Language = l.tags[0]
	}
	if in := s.target.input; in != nil {
		p.Values = in.Sent(s.body, s.request.URL.Query())
	}
}

// newerCode says in development why newer code does not serve; "" where there is none.
func (t *terms) newerCode() string {
	if !t.development {
		return ""
	}
	return clip.Text(handover.Inherited().Behind(), 200)
}

// rendering is how a problem of the request is written, with its causes where they are to be shown.
func (s *state) rendering(p *problem.Problem, shown bool) problem.Rendering {
	t := s.target.terms()
	how := problem.Rendering{Base: t.base, Texts: t.languages.choose(s.request.Header["Accept-Language"])}
	if id := exchange.Of(s).ID(); id != "" {
		how.Instance = "urn:uuid:" + id
	}
	if t.development || shown {
		how.Debug = s.debug(p)
	}
	return how
}

// A nearError names the routes that may have been meant where nothing was found.
type nearError struct{ routes []string }

func (e *nearError) Error() string { return "near are " + strings.Join(e.routes, ", ") }

// trail is the path where it is shown what happened to the request; "" where nobody keeps that.
func (s *state) trail() string {
	id := exchange.Of(s).ID()
	_, about := exchange.Attached[facts.About](s)
	switch {
	case s.api.trails == "" || id == "" || about:
		return ""
	case s.api.doc.trails != "":
		return s.api.doc.trails + id
	}
	return strings.TrimSuffix(s.api.trails, "/") + "/" + id
}

// debugInfo is the member debug of a problem in development.
type debugInfo struct {
	Trail  string           `json:"trail,omitzero"`
	Route  string           `json:"route,omitzero"` // where it was declared
	Near   []string         `json:"near,omitempty"` // routes that may have been meant
	Caller string           `json:"caller,omitzero"`
	Causes []exchange.Cause `json:"causes,omitempty"`
	Stack  []string         `json:"stack,omitempty"`
}

// debug says all about a problem: where the route was declared, the chain of its causes
// with their Go types, the stack where there is one, the frames of the user's own code
// first, and the routes that are near where nothing was found.
func (s *state) debug(p *problem.Problem) jsontext.Value {
	info := debugInfo{Trail: s.trail(), Causes: exchange.Causes(p.Unwrap())}
	secrets := s.secrets()
	for i := range info.Causes {
		info.Causes[i].Message = secrets.Blank(info.Causes[i].Message)
	}
	if t := s.target; !t.isFallback() {
		info.Route = t.line() + " at " + t.at.String()
	}
	if near, ok := errors.AsType[*nearError](p.Unwrap()); ok {
		info.Near, info.Causes = near.routes, nil
	}
	info.Caller = Caller(s).Subject
	info.Stack = slices.Concat(exchange.Frames(p))
	text, _ := json.Marshal(info, jsontext.AllowInvalidUTF8(true)) // messages can be anything
	return text
}

// showsCauses reports whether the request asks for the causes of its problem, and may see them.
func (s *state) showsCauses() bool {
	t := s.target.terms()
	if t.causes == nil {
		return false
	}
	r := &s.request
	_, asks := r.Header[http.CanonicalHeaderKey(t.causes.Field)]
	if !asks && t.causes.Query != "" {
		asks = r.URL.Query().Has(t.causes.Query)
	}
	caller := s.State.Caller()
	if !asks || caller == nil && !s.target.isFallback() && s.target.guarded() {
		return false
	}
	if caller == nil {
		caller = &Identity{}
	}
	return t.causes.To(s, *caller)
}

// mostRaised bounds the kinds that are remembered: a program could make them anew for
// every request.
const mostRaised = 256

// raise remembers a kind that was not declared.
func (a *API) raise(k *problem.Kind) {
	if a.codes[k.Code()] != nil {
		return
	}
	a.raised.mu.Lock()
	defer a.raised.mu.Unlock()
	if a.raised.kinds == nil {
		a.raised.kinds = map[string]*problem.Kind{}
	}
	if len(a.raised.kinds) < mostRaised {
		a.raised.kinds[k.Code()] = k
	}
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

// catch turns a panic below into a failure. It is around every link of a
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

// believes reports whether the field by which a format can be chosen counts: of requests that came from a proxy, where
// a middleware knows proxies.
func (s *state) believes(r *http.Request, c *answer.Choice) bool {
	if c.Field == "" {
		return false
	}
	_, behind := exchange.Kept[exchange.Client](r.Context())
	return behind || !slices.ContainsFunc(s.target.terms().active(), func(l *chained) bool { return l.FindsClient })
}
