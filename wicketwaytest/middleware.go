package wicketwaytest

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
)

// Middleware holds a middleware to its duties, under plain net/http and in the chain of an
// API, and reports each that it does not keep. Each of changes makes a request one that the
// middleware lets through, where it does not let any. Run it with the race detector.
func Middleware(t testing.TB, m wicketway.Middleware, changes ...func(*http.Request)) {
	t.Helper()
	if err := CheckMiddleware(m, changes...); err != nil {
		t.Error(err)
	}
}

// CheckMiddleware is [Middleware] without a test: its error joins one for each duty that is
// not kept, which says what to do.
func CheckMiddleware(m wicketway.Middleware, changes ...func(*http.Request)) error {
	var errs []error
	for _, d := range duties {
		for _, place := range places {
			if err := d.hold(setting{m, place.serve, changes}); err != nil {
				errs = append(errs, fmt.Errorf("%s, %s: %s: %w", m.Name, place.name, d.name, err))
				break
			}
		}
	}
	return errors.Join(errs...)
}

// places are where a middleware must work.
var places = []struct {
	name  string
	serve func(wicketway.Middleware, http.Handler) (http.Handler, error)
}{
	{"under net/http", func(m wicketway.Middleware, h http.Handler) (http.Handler, error) { return m.Wrap(h), nil }},
	{"in an API", func(m wicketway.Middleware, h http.Handler) (http.Handler, error) {
		return wicketway.Build(wicketway.Info{Title: "Duties", Version: "1.0.0"},
			wicketway.Log(slog.New(slog.DiscardHandler)), // what goes wrong is said by the duty
			wicketway.Chain(m),
			wicketway.Handle("GET /duty", h),
			wicketway.Handle("POST /duty", h),
		)
	}},
}

// A duty is one thing that a middleware owes to the others.
type duty struct {
	name string
	hold func(setting) error
}

var duties = []duty{
	{"it must pass requests on, each at most once", passesOnce},
	{"it must be safe for concurrent use", runsInParallel},
	{"it must pass the context on", passesContext},
	{"it must leave status and body as they are", keepsAnswers},
	{"it must keep http.Flusher working", keepsFlush},
	{"it must keep http.Hijacker working", keepsHijack},
	{"it must keep deadlines and full duplex working", keepsControl},
	{"it must not write after it has returned", staysQuiet},
	{"it must leave no goroutine behind", leavesNothing},
}

// A setting is a middleware in one place.
type setting struct {
	middleware wicketway.Middleware
	place      func(wicketway.Middleware, http.Handler) (http.Handler, error)
	changes    []func(*http.Request)
}

// patience is how long a duty may take.
const patience = 2 * time.Second

// unwrap is what most wrong writers lack.
const unwrap = "give the writer that wraps w a method Unwrap() http.ResponseWriter, and w's own methods Flush and Hijack where it has them"

// serve runs a handler behind the middleware on a real connection, and gives the answer to
// one request with its body, which may be empty.
func (s setting) serve(method, body string, h http.HandlerFunc, read func(*http.Response) error) error {
	behind, err := s.place(s.middleware, h)
	if err != nil {
		return err
	}
	server := httptest.NewUnstartedServer(behind)
	server.Config.ErrorLog = log.New(io.Discard, "", 0) // what goes wrong is said by the duty
	server.Start()
	defer server.Close()
	defer server.CloseClientConnections()
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, server.URL+"/duty", strings.NewReader(body))
	if err != nil {
		return err
	}
	for _, change := range s.changes {
		change(r)
	}
	transport := &http.Transport{DisableCompression: true}
	defer transport.CloseIdleConnections()
	resp, err := transport.RoundTrip(r)
	if err != nil {
		return fmt.Errorf("the request gets no answer (%w): call next.ServeHTTP, and return when it has returned", err)
	}
	defer resp.Body.Close()
	return read(resp)
}

func passesOnce(s setting) error {
	var calls atomic.Int32
	err := s.serve("GET", "", func(w http.ResponseWriter, r *http.Request) { calls.Add(1) },
		func(*http.Response) error { return nil })
	switch n := calls.Load(); {
	case err != nil:
		return err
	case n == 0:
		return errors.New(
			"next was not called: if the middleware refuses this request, give a change that makes it one that passes",
		)
	case n > 1:
		return fmt.Errorf("next was called %d times for one request: call it once, and keep what it answered", n)
	}
	return nil
}

func runsInParallel(s setting) error {
	behind, err := s.place(s.middleware, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, r.Header.Get("Duty"))
	}))
	if err != nil {
		return err
	}
	var group sync.WaitGroup
	var wrong atomic.Pointer[string]
	for i := range 32 {
		group.Go(func() {
			r := httptest.NewRequest("GET", "/duty", nil)
			for _, change := range s.changes {
				change(r)
			}
			want := fmt.Sprintf("request %d", i)
			r.Header.Set("Duty", want)
			w := httptest.NewRecorder()
			behind.ServeHTTP(w, r)
			if got := w.Body.String(); got != want {
				wrong.Store(&got)
			}
		})
	}
	group.Wait()
	if got := wrong.Load(); got != nil {
		return fmt.Errorf(
			"one of 32 requests at a time got %.100q, the answer of another: keep what belongs to a request in variables of the handler that Wrap returns",
			*got,
		)
	}
	return nil
}

type passedKey struct{}

func passesContext(s setting) error {
	m := s.middleware
	inner := m.Wrap
	m.Wrap = func(next http.Handler) http.Handler {
		h := inner(next)
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			h.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), passedKey{}, true)))
		})
	}
	s.middleware = m
	var passed atomic.Bool
	err := s.serve("GET", "", func(w http.ResponseWriter, r *http.Request) {
		passed.Store(r.Context().Value(passedKey{}) != nil)
	}, func(*http.Response) error { return nil })
	if err == nil && !passed.Load() {
		return errors.New(
			"values of the context are gone: pass on r, or r.WithContext(...) with a context made from r.Context()",
		)
	}
	return err
}

func keepsAnswers(s setting) error {
	return s.serve("POST", "what is sent", func(w http.ResponseWriter, r *http.Request) {
		sent, _ := io.ReadAll(r.Body)
		w.WriteHeader(http.StatusTeapot)
		fmt.Fprintf(w, "%s, and read", sent)
	}, func(resp *http.Response) error {
		body, err := io.ReadAll(resp.Body)
		if err != nil || resp.StatusCode != http.StatusTeapot || string(body) != "what is sent, and read" {
			return fmt.Errorf(
				"a short text with the status 418 came as %d %.100q (%v): write what next has written, no more and no less",
				resp.StatusCode, body, err,
			)
		}
		return nil
	})
}

func keepsFlush(s setting) error {
	goOn := make(chan struct{})
	var can atomic.Bool
	return s.serve("GET", "", func(w http.ResponseWriter, r *http.Request) {
		_, asserted := w.(http.Flusher)
		can.Store(asserted)
		io.WriteString(w, "first ")
		http.NewResponseController(w).Flush() // whether it did is seen by what arrives
		select {
		case <-goOn:
		case <-r.Context().Done():
		}
		io.WriteString(w, "second")
	}, func(resp *http.Response) error {
		start := make([]byte, len("first "))
		_, err := io.ReadFull(resp.Body, start)
		if err != nil || !can.Load() {
			close(goOn)
			return errors.New("flushed bytes did not arrive before the handler had returned: " + unwrap)
		}
		close(goOn)
		_, err = io.ReadAll(resp.Body)
		return err
	})
}

func keepsHijack(s setting) error {
	var can atomic.Bool
	err := s.serve("GET", "", func(w http.ResponseWriter, r *http.Request) {
		if _, asserted := w.(http.Hijacker); !asserted {
			return
		}
		conn, rw, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		can.Store(true)
		rw.WriteString("HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: duty\r\n\r\nover to you")
		rw.Flush()
	}, func(resp *http.Response) error {
		if !can.Load() {
			return nil
		}
		rest, err := bufio.NewReader(resp.Body).ReadString('u')
		if resp.StatusCode != http.StatusSwitchingProtocols || rest != "over to you" {
			return fmt.Errorf(
				"after the connection was given away %d %q came (%v): write nothing once next has hijacked it", resp.StatusCode,
				rest, err,
			)
		}
		return nil
	})
	if err == nil && !can.Load() {
		return errors.New("a connection cannot be given away: " + unwrap)
	}
	return err
}

func keepsControl(s setting) error {
	var failed atomic.Pointer[error]
	err := s.serve("POST", "what is sent", func(w http.ResponseWriter, r *http.Request) {
		control := http.NewResponseController(w)
		soon := time.Now().Add(patience)
		if err := errors.Join(control.SetReadDeadline(soon), control.SetWriteDeadline(soon),
			control.EnableFullDuplex()); err != nil {
			failed.Store(&err)
		}
		io.Copy(w, r.Body)
	}, func(*http.Response) error { return nil })
	if wrong := failed.Load(); wrong != nil {
		return fmt.Errorf("http.ResponseController says %q: %s", *wrong, unwrap)
	}
	return err
}

// A closedWriter notes what is written once it is closed.
type closedWriter struct {
	http.ResponseWriter
	mu     sync.Mutex
	closed bool
	late   bool
}

func (c *closedWriter) note() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.late = c.late || c.closed
}

func (c *closedWriter) Unwrap() http.ResponseWriter { return c.ResponseWriter }
func (c *closedWriter) WriteHeader(status int)      { c.note(); c.ResponseWriter.WriteHeader(status) }

func (c *closedWriter) Write(p []byte) (int, error) {
	c.note()
	return c.ResponseWriter.Write(p)
}

// settling is how long is waited for what goes on after a middleware has returned.
const settling = 50 * time.Millisecond

func staysQuiet(s setting) error {
	behind, err := s.place(s.middleware, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, "done")
	}))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	r := httptest.NewRequest("GET", "/duty", nil).WithContext(ctx)
	for _, change := range s.changes {
		change(r)
	}
	w := &closedWriter{ResponseWriter: httptest.NewRecorder()}
	behind.ServeHTTP(w, r)
	w.mu.Lock()
	w.closed = true
	w.mu.Unlock()
	cancel() // as a server does
	time.Sleep(settling)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.late {
		return errors.New(
			"something was written after ServeHTTP had returned: wait for everything that was started before you return",
		)
	}
	return nil
}

func leavesNothing(s setting) error {
	behind, err := s.place(s.middleware, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {}))
	if err != nil {
		return err
	}
	ask := func() {
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		r := httptest.NewRequest("GET", "/duty", nil).WithContext(ctx)
		for _, change := range s.changes {
			change(r)
		}
		behind.ServeHTTP(httptest.NewRecorder(), r)
	}
	ask() // what is started once for all requests may stay
	before := runtime.NumGoroutine()
	const many = 20
	for range many {
		ask()
	}
	for waited := time.Duration(0); waited < patience; waited += settling {
		if runtime.NumGoroutine() < before+many/2 {
			return nil
		}
		time.Sleep(settling)
	}
	return fmt.Errorf(
		"after %d requests there are %d goroutines more: end everything that a request has started when it is over", many,
		runtime.NumGoroutine()-before,
	)
}
