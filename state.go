package wicketway

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// A state is what is known of one request. It is made when the request comes in,
// carried as its context, and never used for another: something may have kept
// the context. What changes after the start is atomic, since middleware may go
// on in another goroutine.
type state struct {
	context.Context // the server's
	response

	api      *API
	target   *target
	match    route.Match
	outcome  route.Outcome // why there is no match, where there is none
	location string        // where the caller is to be sent instead
	cleanup  []func()      // run when the request has ended
	spool    *spool        // where the files of a form are kept
	in       intake        // the body as it comes in
	linger   bool          // what is left of the body is to be received
	before   http.Header   // what the chain had set when a plain handler began

	caller    atomic.Pointer[Identity]
	requestID atomic.Pointer[string]
	failure   atomic.Pointer[failure]
	cut       atomic.Bool // the answer broke off after its header
}

// A failure is the first thing that went wrong with a request.
type failure struct {
	err     error
	problem *problem.Problem // what the caller was told
	asked   atomic.Bool      // somebody has taken it for a log
}

type stateKey struct{}

func (s *state) Value(key any) any {
	if key == (stateKey{}) {
		return s
	}
	return s.Context.Value(key)
}

func stateOf(ctx context.Context) *state {
	if s, ok := ctx.(*state); ok {
		return s
	}
	s, _ := ctx.Value(stateKey{}).(*state)
	return s
}

// outer is the state of the API that this one is mounted in, if it is.
func (s *state) outer() *state { return stateOf(s.Context) }

func newState(a *API, w http.ResponseWriter, r *http.Request) *state {
	s := &state{Context: r.Context(), api: a}
	s.response = response{ResponseWriter: w, state: s, head: r.Method == http.MethodHead}
	return s
}

// stateBehind finds the state of a request whose context a middleware has lost, by
// the writer that the middleware passed on.
func stateBehind(w http.ResponseWriter) *state {
	for w != nil {
		if r, ok := w.(*response); ok {
			return r.state
		}
		u, ok := w.(interface{ Unwrap() http.ResponseWriter })
		if !ok {
			return nil
		}
		w = u.Unwrap()
	}
	return nil
}

// RequestID is the id that the request was given, "" where none was.
func RequestID(ctx context.Context) string {
	for s := stateOf(ctx); s != nil; s = s.outer() {
		if id := s.requestID.Load(); id != nil {
			return *id
		}
	}
	return ""
}

// SetRequestID gives the request an id: a UUID (RFC 9562), so that a problem can
// name it as its instance. It does nothing outside of an API's request.
func SetRequestID(ctx context.Context, id string) {
	if s := stateOf(ctx); s != nil {
		s.requestID.Store(&id)
	}
}

// RoutePattern is the method and the path template of the route that the request
// is for: GET and /locks/{lock}; "" and "" where no route takes it. The method of
// what is mounted is "".
func RoutePattern(ctx context.Context) (method, template string) {
	if s := stateOf(ctx); s != nil && !s.target.fallback {
		return s.target.method, s.target.path
	}
	return "", ""
}

// BodyLimit is how many bytes of a body the route reads at the most, as its Limits
// say; 0 where it does not read a body itself. It is for middleware that unpacks.
func BodyLimit(ctx context.Context) int64 {
	if s := stateOf(ctx); s != nil && s.target.reads {
		return s.target.limits.Body
	}
	return 0
}

// RouteSource says which function serves the request and where it stands, for logs:
// passages.find (passages.go:211); for methods and for other handlers where the route
// was declared; "" where no route takes the request.
func RouteSource(ctx context.Context) string {
	if s := stateOf(ctx); s != nil && !s.target.fallback {
		return s.target.source()
	}
	return ""
}

func (t *target) source() string {
	if t.function == nil {
		return "declared at " + t.at.String()
	}
	file, line := t.function.FileLine(t.function.Entry())
	name := t.function.Name()
	name, isMethod := strings.CutSuffix(name[strings.LastIndexByte(name, '/')+1:], "-fm")
	if isMethod { // a method value: Go knows the place of its wrapper only
		return fmt.Sprintf("%s (declared at %s)", name, t.at)
	}
	return fmt.Sprintf("%s (%s:%d)", name, filepath.Base(file), line)
}

// Failure is the first error that the request met, with its cause; nil where all
// is well. Those who ask are expected to log it: Wicketway logs a failure of its own
// accord only where the answer is a 5xx and nobody asked.
func Failure(ctx context.Context) error {
	if s := stateOf(ctx); s != nil {
		if f := s.failure.Load(); f != nil {
			f.asked.Store(true)
			return f.err
		}
	}
	return nil
}

// noteFailure tells the request, and that of an API around this one, what failed.
func (s *state) noteFailure(err error, p *problem.Problem) {
	f := &failure{err: err, problem: p}
	for ; s != nil; s = s.outer() {
		s.failure.CompareAndSwap(nil, f)
	}
}

// A response stands around the server's own ResponseWriter. It knows whether the
// header has gone out, answers HEAD without a body but with its length, and bounds the
// time that writing takes.
type response struct {
	http.ResponseWriter
	state    *state
	head     bool
	sent     bool // the header has gone out
	flushed  bool // before the end, so that the length was not known
	hijacked bool
	status   int // of a HEAD that waits for its length
	length   int64
	limit    time.Duration // of writing an answer, or a piece of a stream; 0: none
	bounded  bool          // a deadline is set
}

// Unwrap serves http.ResponseController.
func (r *response) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// HeaderSent reports whether the header has gone out.
func (r *response) HeaderSent() bool { return r.sent }

func (r *response) WriteHeader(status int) {
	if status < 100 || status > 999 {
		panic(fmt.Sprintf("the status %d is none (RFC 9110, 15)", status))
	}
	if status < 200 && status != http.StatusSwitchingProtocols { // an interim answer: the final one is still to come
		r.ResponseWriter.WriteHeader(status)
		return
	}
	if r.head && !r.sent {
		r.sent, r.status = true, status
		return
	}
	r.sent = true
	r.bound()
	r.ResponseWriter.WriteHeader(status)
}

func (r *response) Write(p []byte) (int, error) {
	if r.head {
		if !r.sent {
			r.WriteHeader(http.StatusOK)
		}
		r.length += int64(len(p))
		return len(p), nil
	}
	r.sent = true
	r.bound()
	return r.ResponseWriter.Write(p)
}

// bound sets the deadline of the answer, or of the piece of a stream, that begins.
func (r *response) bound() {
	if r.limit > 0 && !r.bounded && !r.hijacked {
		r.bounded = true
		http.NewResponseController(r.ResponseWriter).SetWriteDeadline(time.Now().Add(r.limit))
	}
}

// Flush sends what was written so far. It says nothing of an error, as http.Flusher
// has it; [http.ResponseController] asks FlushError.
func (r *response) Flush() { r.FlushError() }

// FlushError sends what was written so far. What comes after it has a time of its own.
func (r *response) FlushError() error {
	r.flushed = true
	if r.head && !r.sent {
		r.WriteHeader(http.StatusOK)
	}
	r.close()
	r.sent = true
	r.bound()
	err := http.NewResponseController(r.ResponseWriter).Flush()
	r.bounded = false
	return err
}

// Hijack gives the connection away, without a deadline: the server clears its own.
func (r *response) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, rw, err := http.NewResponseController(r.ResponseWriter).Hijack()
	if err == nil {
		r.sent, r.hijacked = true, true
	}
	return conn, rw, err
}

// close sends the header of a HEAD that has waited, with the length that the
// body would have had (RFC 9110, 9.3.2), unless a GET would not have told it.
func (r *response) close() {
	if r.status == 0 {
		return
	}
	h := r.Header()
	if h.Get("Content-Length") == "" && r.length > 0 && !r.flushed {
		h.Set("Content-Length", strconv.FormatInt(r.length, 10))
	}
	r.bound()
	r.ResponseWriter.WriteHeader(r.status)
	r.status = 0
}

// end takes the deadline back: the connection is used again. What the server still
// keeps is sent before that, so that its sending is bounded as well.
func (r *response) end() {
	r.close()
	if r.limit > 0 && r.sent && !r.hijacked {
		control := http.NewResponseController(r.ResponseWriter)
		if r.bounded {
			control.Flush()
		}
		control.SetWriteDeadline(time.Time{})
	}
}
