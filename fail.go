package wicketway

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"runtime/debug"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/negotiate"
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

// Translate turns foreign errors into problems: a missing row into a 404, a
// conflict of the storage into a 409. Each function is asked about an error that
// is no problem yet, those of the nearest group first and within one list in the
// order written; nil means that it does not know the error. What it returns keeps
// the foreign error as its cause, unless it has one.
func Translate(known ...func(error) error) Setting {
	return adding("Translate", func(_ *builder, t *terms) {
		t.translate = append(append(t.translate[:t.nearest:t.nearest], known...), t.translate[t.nearest:]...)
		t.nearest += len(known)
	})
}

// translated gives the problem for an error.
func (t *target) translated(err error) *problem.Problem {
	if p := problem.In(err); p != nil {
		return p
	}
	if large, ok := errors.AsType[*http.MaxBytesError](err); ok { // from a body that the route reads itself
		err = tooLarge(large.Limit, err)
	} else {
		for _, known := range t.translate {
			if found := known(err); found != nil {
				p := *problem.From(found) // a copy: it may be shared
				if p.Unwrap() == nil {
					p.Because(err)
				}
				return &p
			}
		}
	}
	return problem.From(err)
}

// Fail answers a request with an error, as a problem (RFC 9457), for middleware
// and plain handlers. What is no problem becomes a 500 that tells nothing. After
// the header has gone out nothing more is written, and the connection is cut
// when the request ends, so that the caller does not take a part for the whole.
// Nothing is written either to a caller who has left. Outside of an API's request
// the problem is written all the same, and logged by nobody.
func Fail(w http.ResponseWriter, r *http.Request, err error) {
	ctx := r.Context()
	s := stateOf(ctx)
	if s != nil && context.Cause(s.Context) == context.Canceled && errors.Is(err, context.Canceled) {
		noteFailure(ctx, err)
		return
	}
	t := nobody
	if s != nil {
		t = s.target
	}
	p := t.translated(err)
	if problem.In(err) == nil && p.Kind() != problem.Internal {
		err = p // the log is told what the error was taken for
	}
	noteFailure(ctx, err)
	if headerSent(w) {
		if s != nil {
			s.cut.Store(true)
		}
		return
	}
	tell(w, r, t, p)
}

// nobody is the target of what is no API's request.
var nobody = &target{terms: terms{manner: &manner{}}, fallback: true}

// tell writes a problem, as a page for a caller who prefers that.
func tell(w http.ResponseWriter, r *http.Request, t *target, p *problem.Problem) {
	h := w.Header()
	for _, about := range []string{"Content-Length", "Content-Encoding", "Content-Disposition", "Content-Range", "Etag", "Last-Modified", "Cache-Control"} {
		delete(h, about) // they spoke of the answer that will not come
	}
	for name, values := range p.Header() {
		h[name] = append(h[name], values...)
	}
	how := problem.Telling{Base: t.problemBase(), Instance: instance(r.Context())}
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
		if value := jsontext.Value(text); t.development && value.Indent(indented) == nil {
			text = value
		}
		buffer.Write(append(text, '\n'))
	}
	if s := stateOf(r.Context()); s != nil {
		if s.prepareToLinger(r, p); s.linger {
			h["Content-Length"] = []string{strconv.Itoa(buffer.Len())}
		}
	}
	if lost != nil {
		t.logger().WarnContext(r.Context(), "a problem lacks members", "error", lost.Error(), "request", RequestID(r.Context()))
	}
	w.WriteHeader(p.Kind().Status())
	w.Write(buffer.Bytes())
}

// varyByAccept tells caches that the answer depends on Accept (RFC 9110, 12.5.5).
func varyByAccept(h http.Header) {
	if h["Vary"] == nil {
		h["Vary"] = varyAccept
		return
	}
	h.Add("Vary", "Accept")
}

// prefersHTML reports whether a caller ranks a page above JSON; who has no
// preference gets JSON.
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

// finish ends a request: what nobody logged is logged, and a broken answer is
// cut off.
func (s *state) finish(r *http.Request) {
	s.close()
	s.receiveRest()
	for _, clean := range s.cleanup {
		clean()
	}
	f := s.failure.Load()
	if f == nil {
		return
	}
	if problem.From(f.err).Kind().Status() >= 500 && !f.asked.Load() && !errors.Is(f.err, context.Canceled) {
		s.target.logger().ErrorContext(s, "request failed", "method", r.Method, "path", r.URL.Path, "request", RequestID(s), "error", f.err.Error())
	}
	if s.cut.Load() {
		panic(http.ErrAbortHandler)
	}
}
