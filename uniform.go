package wicketway

import (
	"errors"
	"net/http"
	"strings"

	"github.com/wicketway/wicketway/problem"
)

// Uniform turns the plain error answers (400 to 599) of the handlers in a group
// into problems. Their header fields are kept; what is JSON already is left
// alone. What the handler wrote goes to the log.
func Uniform() Setting {
	return replacing("Uniform", func(t *terms) { t.uniform = true })
}

// reshaped makes a handler's errors uniform.
func reshaped(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s := reshaper{ResponseWriter: w}
		h.ServeHTTP(&s, r)
		if s.held == 0 {
			return
		}
		if own := stateOf(r.Context()); own != nil {
			own.before = nil // the handler has answered: its fields are part of that
		}
		p := problem.OfStatus(s.held).New("").Because(errors.New(strings.TrimSpace(string(s.said))))
		if part := w.Header().Get("Content-Range"); part != "" { // what a 416 can offer (RFC 9110, 14.4)
			p.WithHeader("Content-Range", part)
		}
		Fail(w, r, p)
	})
}

// A reshaper holds back an answer that is an error without being JSON.
type reshaper struct {
	http.ResponseWriter
	held int    // the status of the answer that is held back
	said []byte // the start of its body
	sent bool
}

// Unwrap serves http.ResponseController.
func (s *reshaper) Unwrap() http.ResponseWriter { return s.ResponseWriter }

func (s *reshaper) WriteHeader(status int) {
	if status >= 400 && !s.sent && !strings.Contains(s.Header().Get("Content-Type"), "json") {
		s.held = status
		return
	}
	s.sent = s.sent || status >= 200
	s.ResponseWriter.WriteHeader(status)
}

func (s *reshaper) Write(p []byte) (int, error) {
	if s.held != 0 {
		s.said = append(s.said, p[:min(len(p), 512-len(s.said))]...)
		return len(p), nil
	}
	s.sent = true
	return s.ResponseWriter.Write(p)
}
