package main

import (
	"bufio"
	"bytes"
	"context"
	"io"
	"log/slog"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/golang-jwt/jwt/v5"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/adapt"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/requestid"
)

var (
	secret = []byte("a secret of thirty-two bytes, ok")
	logged = slog.New(slog.NewJSONHandler(io.Discard, nil))
)

type bookInput struct {
	Lock  string  `from:"path lock" rule:"maxLength=40"`
	Quiet bool    `from:"query quiet"`
	Body  booking `from:"body"`
}

type booked struct {
	Passage int64     `json:"passage"`
	Lock    string    `json:"lock"`
	Vessel  string    `json:"vessel"`
	Slot    time.Time `json:"slot"`
	Crew    int       `json:"crew"`
	Caller  string    `json:"caller"`
	Quiet   bool      `json:"quiet"`
}

// described is the API as a user of Wicketway writes it.
func described() http.Handler {
	api, err := wicketway.Build(wicketway.Info{Title: "Bench", Version: "1.0.0"},
		wicketway.Chain(requestid.Assign(), accesslog.To(logged, accesslog.Settings{})),
		wicketway.At("/api/v2",
			wicketway.Guard(auth.Bearer(auth.HS256(secret), auth.Settings{})),
			wicketway.Route("GET /locks", func(context.Context, wicketway.None) (string, error) { return "", nil }),
			wicketway.Route("POST /locks/{lock}/passages", func(ctx context.Context, in bookInput) (booked, error) {
				return booked{61, in.Lock, in.Body.Vessel, in.Body.Slot, in.Body.Crew, wicketway.Caller(ctx).Subject,
					in.Quiet}, nil
			}, wicketway.Answers(http.StatusCreated), wicketway.Scopes("passages")),
		),
	)
	if err != nil {
		panic(err)
	}
	return api
}

func token() string {
	text, err := jwt.NewWithClaims(jwt.SigningMethodHS256, jwt.MapClaims{
		"sub": "OB-1001", "scope": "passages", "exp": time.Now().Add(time.Hour).Unix(),
	}).SignedString(secret)
	if err != nil {
		panic(err)
	}
	return text
}

func newRequest(token string) *http.Request {
	r := httptest.NewRequest("POST", "/api/v2/locks/bell/passages?quiet=true", strings.NewReader(bookingJSON))
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/json")
	return r
}

// A page is a ResponseWriter that can be used again.
type page struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (p *page) Header() http.Header         { return p.header }
func (p *page) WriteHeader(status int)      { p.status = status }
func (p *page) Write(b []byte) (int, error) { return p.body.Write(b) }

// inProcess calls a handler n times with a request that is made new only where
// a handler uses it up.
func inProcess(h http.Handler) func(int) { return asking(h, "", bookingJSON, http.StatusCreated) }

// asking is inProcess for another path or body, and the status that must come.
func asking(h http.Handler, path, text string, status int) func(int) {
	r := newRequest(token())
	if path != "" {
		r.URL.Path = path
	}
	body := strings.NewReader(text)
	r.Body, r.ContentLength = io.NopCloser(body), int64(len(text))
	p := &page{header: http.Header{}}
	return func(n int) {
		for range n {
			body.Reset(text)
			clear(p.header)
			p.body.Reset()
			h.ServeHTTP(p, r)
			if p.status != status {
				panic(p.body.String())
			}
		}
	}
}

// threeFaults is the body with a bad plate, direction and crew.
var threeFaults = strings.NewReplacer("OB-1001", "OB-1", `"up"`, `"across"`, `"crew":3`,
	`"crew":99`).Replace(bookingJSON)

func notFound(m meter) result {
	return failing(m, "/api/v2/nothing", bookingJSON, http.StatusNotFound)
}

func invalid(m meter) result {
	return failing(m, "", threeFaults, http.StatusUnprocessableEntity)
}

// failing compares requests that end in a problem, after a check that both sides
// tell the same, except for the request's id.
func failing(m meter, path, body string, status int) result {
	ours, theirs := sides()
	var told [2]string
	for i, h := range []http.Handler{ours, theirs} {
		r := newRequest(token())
		if path != "" {
			r.URL.Path = path
		}
		r.Body = io.NopCloser(strings.NewReader(body))
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		told[i] = strings.TrimSpace(strings.ReplaceAll(w.Body.String(), w.Header().Get("X-Request-Id"), "ID"))
	}
	if told[0] != told[1] {
		panic("the two sides tell different problems:\n" + told[0] + "\n" + told[1])
	}
	a, b := asking(ours, path, body, status), asking(theirs, path, body, status)
	ratio, x, y := m.compare(a, b)
	return holds("", ratio, 1.05, "%.1f µs to %.1f µs, %.0f to %.0f allocations", x/1000, y/1000, allocations(a),
		allocations(b))
}

// sides are both handlers, after a check that they answer alike.
func sides() (ours, theirs http.Handler) {
	ours, theirs = described(), byHand()
	for _, change := range []func(*http.Request){
		func(*http.Request) {},
		func(r *http.Request) { r.Header.Del("Authorization") },
		func(r *http.Request) { r.Body = io.NopCloser(strings.NewReader(`{"vessel":"none"}`)) },
		func(r *http.Request) { r.URL.RawQuery = "quiet=perhaps" },
		func(r *http.Request) { r.URL.Path = "/api/v2/nothing" },
		func(r *http.Request) { r.Method = "DELETE" },
	} {
		a, b := httptest.NewRecorder(), httptest.NewRecorder()
		t := token()
		r1, r2 := newRequest(t), newRequest(t)
		change(r1)
		change(r2)
		ours.ServeHTTP(a, r1)
		theirs.ServeHTTP(b, r2)
		if a.Code != b.Code || a.Code < 300 &&
			strings.TrimSpace(a.Body.String()) != strings.TrimSpace(b.Body.String()) {
			panic("the two sides answer differently:\n" + a.Body.String() + "\n" + b.Body.String())
		}
	}
	return ours, theirs
}

type oneLock struct {
	Lock string `from:"path lock"`
}

type lock struct {
	Lock  string  `json:"lock"`
	Name  string  `json:"name"`
	Width float64 `json:"width"`
	Open  bool    `json:"open"`
}

func bell(slug string) lock { return lock{slug, "Bell Lock", 5.2, true} }

// small are an API with a route with one parameter, with settings, and a handler written by
// hand for the standard library's mux.
func small(settings ...wicketway.Setting) (ours, theirs http.Handler) {
	api, err := wicketway.Build(wicketway.Info{Title: "Bench", Version: "1.0.0"},
		wicketway.Route("GET /locks/{lock}", func(_ context.Context, in oneLock) (lock, error) {
			return bell(in.Lock), nil
		}, settings...),
	)
	if err != nil {
		panic(err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /locks/{lock}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if err := json.MarshalWrite(w, bell(r.PathValue("lock"))); err != nil {
			panic(err)
		}
	})
	return api, mux
}

// getting calls a handler n times for one path.
func getting(h http.Handler) func(int) {
	r := httptest.NewRequest("GET", "/locks/bell", nil)
	r.Body = http.NoBody
	p := &page{header: http.Header{}}
	return func(n int) {
		for range n {
			clear(p.header)
			p.body.Reset()
			h.ServeHTTP(p, r)
			if p.body.Len() < 50 {
				panic(p.body.String())
			}
		}
	}
}

func smallGet(m meter) result {
	ours, theirs := small()
	ratio, a, b := m.compare(getting(ours), getting(theirs))
	return holds("", ratio, 1.05, "%.0f ns to %.0f ns", a, b)
}

func smallGetAllocations(meter) result {
	ours, theirs := small()
	a, b := allocations(getting(ours)), allocations(getting(theirs))
	return holds("", a-b, 1, "%.1f to %.1f", a, b)
}

// adaptedGet has an old shape of which each member is another kind of different.
func adaptedGet(m meter) result {
	api, err := wicketway.Build(
		wicketway.Info{Title: "Bench", Version: "1.0.0"},
		wicketway.Adapted(
			"GET /locks/{lock}",
			func(_ context.Context, in oneLock) (lock, error) { return bell(in.Lock), nil },
			adapt.Same(),
			adapt.Struct[lock](
				adapt.Rename("lock", "id"),
				adapt.Compute("width", "width_ft", func(metres float64) float64 { return math.Round(metres * 3.2808) }, nil),
				adapt.Compute("open", "state", stateOf, nil)),
		),
	)
	if err != nil {
		panic(err)
	}
	present, _ := small()
	ratio, a, b := m.compare(getting(api), getting(present))
	return holds("", ratio, 1.3, "%.0f ns to %.0f ns", a, b)
}

func stateOf(open bool) string {
	if open {
		return "open"
	}
	return "closed"
}

// attachedValues has no limit but the spread of the plain API against itself.
func attachedValues(m meter) result {
	reads := wicketway.Chain(wicketway.Middleware{
		Name:  "reads",
		Wrap:  func(next http.Handler) http.Handler { return next },
		Reads: []reflect.Type{reflect.TypeFor[int](), reflect.TypeFor[string](), reflect.TypeFor[bool]()},
	})
	plain, _ := small(reads)
	attached, _ := small(reads, wicketway.Attach(1), wicketway.Attach("two"), wicketway.Attach(true))
	ratio, a, b := m.compare(getting(attached), getting(plain))
	return holds("", ratio, 1+max(*m.spread, 0.01), "%.0f ns to %.0f ns", a, b)
}

func requestInProcess(m meter) result {
	ours, theirs := sides()
	ratio, a, b := m.compare(inProcess(ours), inProcess(theirs))
	return holds("", ratio, 0.75, "%.1f µs to %.1f µs", a/1000, b/1000)
}

func requestAllocations(meter) result {
	ours, theirs := sides()
	a, b := allocations(inProcess(ours)), allocations(inProcess(theirs))
	return holds("", a/b, 1, "%.1f to %.1f", a, b)
}

func requestOverWire(m meter) result {
	ours, theirs := sides()
	a, closeA := overWire(ours)
	defer closeA()
	b, closeB := overWire(theirs)
	defer closeB()
	ratio, x, y := m.compare(a, b)
	return holds("", ratio, 0.9, "%.1f µs to %.1f µs, client included", x/1000, y/1000)
}

// A pipe is a listener whose connections never leave the process.
type pipe chan net.Conn

func (p pipe) Accept() (net.Conn, error) {
	c, ok := <-p
	if !ok {
		return nil, net.ErrClosed
	}
	return c, nil
}
func (p pipe) Close() error   { close(p); return nil }
func (p pipe) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)} }

// overWire serves a handler by the real server, and calls it n times.
func overWire(h http.Handler) (work func(int), done func()) {
	accept := make(pipe, 1)
	server := http.Server{Handler: h}
	go server.Serve(accept)
	client, far := net.Pipe()
	accept <- far
	var request bytes.Buffer
	r := newRequest(token())
	r.Host = "canal.example"
	if err := r.Write(&request); err != nil {
		panic(err)
	}
	in := bufio.NewReader(client)
	return func(n int) {
			for range n {
				if _, err := client.Write(request.Bytes()); err != nil {
					panic(err)
				}
				resp, err := http.ReadResponse(in, r)
				if err != nil || resp.StatusCode != http.StatusCreated {
					panic(err)
				}
				io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
			}
		}, func() {
			client.Close()
			server.Close() // closes the pipe, once
		}
}
