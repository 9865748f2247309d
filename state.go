package wicketway

import (
	"context"
	"io"
	"net/http"
	"strconv"
	"sync/atomic"

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
	body     io.Reader     // the server's own
	linger   bool          // what is left of the body is to be received

	caller    atomic.Pointer[Identity]
	requestID atomic.Pointer[string]
	failure   atomic.Pointer[failure]
	cut       atomic.Bool // the answer broke off after its header
}

// A failure is the first thing that went wrong with a request.
type failure struct {
	err   error
	asked atomic.Bool // somebody has taken it for a log
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
	s := &state{Context: r.Context(), api: a, body: r.Body}
	s.response = response{ResponseWriter: w, head: r.Method == http.MethodHead}
	return s
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

// Failure is the first error that the request met, with its cause; nil where all
// is well. Who asks is expected to log it: Wicketway logs a failure of its own
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
func noteFailure(ctx context.Context, err error) {
	f := &failure{err: err}
	for s := stateOf(ctx); s != nil; s = s.outer() {
		s.failure.CompareAndSwap(nil, f)
	}
}

// A response stands around the server's own ResponseWriter. It knows whether the
// header has gone out, and answers HEAD without a body but with its length.
type response struct {
	http.ResponseWriter
	head   bool
	sent   bool // the header has gone out
	status int  // of a HEAD that waits for its length
	length int64
}

// Unwrap serves http.ResponseController.
func (r *response) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// HeaderSent reports whether the header has gone out.
func (r *response) HeaderSent() bool { return r.sent }

func (r *response) WriteHeader(status int) {
	if status < 200 { // an interim answer: the final one is still to come
		r.ResponseWriter.WriteHeader(status)
		return
	}
	if r.head && !r.sent {
		r.sent, r.status = true, status
		return
	}
	r.sent = true
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
	return r.ResponseWriter.Write(p)
}

// Flush sends what was written so far.
func (r *response) Flush() {
	r.close()
	r.sent = true
	http.NewResponseController(r.ResponseWriter).Flush()
}

// close sends the header of a HEAD that has waited, with the length that the
// body would have had (RFC 9110, 9.3.2).
func (r *response) close() {
	if r.status == 0 {
		return
	}
	h := r.Header()
	if h.Get("Content-Length") == "" && r.length > 0 {
		h.Set("Content-Length", strconv.FormatInt(r.length, 10))
	}
	r.ResponseWriter.WriteHeader(r.status)
	r.status = 0
}
