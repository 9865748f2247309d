package wicketway

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"runtime/debug"

	"github.com/wicketway/wicketway/problem"
)

var errLostContext = errors.New("a middleware passed on a request without its context: use r.WithContext on the one it was given")

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

// Fail answers a request with an error, as a problem (RFC 9457), for middleware
// and plain handlers. What is no problem becomes a 500 that tells nothing. After
// the header has gone out nothing more is written, and the connection is cut
// when the request ends, so that the caller does not take a part for the whole.
// Nothing is written either to a caller who has left.
func Fail(w http.ResponseWriter, r *http.Request, err error) {
	ctx := r.Context()
	noteFailure(ctx, err)
	s := stateOf(ctx)
	if errors.Is(err, context.Canceled) && ctx.Err() != nil {
		return
	}
	if headerSent(w) {
		if s != nil {
			s.cut.Store(true)
		}
		return
	}
	if large, ok := errors.AsType[*http.MaxBytesError](err); ok { // from a body that the route reads itself
		err = tooLarge(large.Limit, err)
	}
	p := problem.From(err)
	h := w.Header()
	for _, about := range []string{"Content-Length", "Content-Encoding", "Content-Disposition", "Content-Range", "Etag", "Last-Modified", "Cache-Control"} {
		delete(h, about) // they spoke of the answer that will not come
	}
	for name, values := range p.Header() {
		h[name] = append(h[name], values...)
	}
	h["Content-Type"] = contentTypeProblem
	buffer := buffers.Get().(*bytes.Buffer)
	defer recycle(buffer)
	body := append(p.Append(buffer.AvailableBuffer(), instance(ctx)), '\n')
	buffer.Write(body)
	w.WriteHeader(p.Kind().Status())
	w.Write(buffer.Bytes())
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
	if _, below, ok := bytes.Cut(stack, []byte("\npanic(")); ok {
		if parts := bytes.SplitN(below, []byte("\n"), 3); len(parts) == 3 {
			return parts[2]
		}
	}
	return stack
}

// finish ends a request: what nobody logged is logged, and a broken answer is
// cut off.
func (s *state) finish(r *http.Request) {
	s.close()
	for _, clean := range s.cleanup {
		clean()
	}
	f := s.failure.Load()
	if f == nil {
		return
	}
	p := problem.From(f.err)
	if p.Kind().Status() >= 500 && !f.asked.Load() {
		s.target.logger().ErrorContext(s, "request failed", "method", r.Method, "path", r.URL.Path, "request", RequestID(s), "error", f.err.Error())
	}
	if s.cut.Load() {
		panic(http.ErrAbortHandler)
	}
}
