package wicketwaytest_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/wicketwaytest"
)

func TestOurMiddlewareKeepsItsDuties(t *testing.T) {
	quiet := slog.New(slog.DiscardHandler)
	for _, m := range []wicketway.Middleware{requestid.Assign(), accesslog.To(quiet, accesslog.Settings{}), accesslog.To(quiet, accesslog.Settings{Slow: 1, AtStart: true}), compress.Bodies(compress.Settings{}), compress.Requests(compress.Unpacking{})} {
		wicketwaytest.Middleware(t, m)
		wicketwaytest.Middleware(t, m, wicketwaytest.Header("Accept-Encoding", "gzip"))
	}
}

// bare hides everything but the three methods.
type bare struct{ http.ResponseWriter }

// Middlewares that each look right, and what is said of them.
func TestWrongMiddlewareIsCaught(t *testing.T) {
	var shared atomic.Value
	wrap := func(f func(next http.Handler, w http.ResponseWriter, r *http.Request)) wicketway.Middleware {
		return wicketway.Wrap("wrong", func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { f(next, w, r) })
		})
	}
	for _, c := range []struct {
		name  string
		m     wicketway.Middleware
		wants []string
	}{
		{"hides the writer's abilities", wrap(func(next http.Handler, w http.ResponseWriter, r *http.Request) {
			next.ServeHTTP(bare{w}, r)
		}), []string{"keep http.Flusher", "keep http.Hijacker", "deadlines and full duplex", "a method Unwrap"}},
		{"tries again", wrap(func(next http.Handler, w http.ResponseWriter, r *http.Request) {
			next.ServeHTTP(httptest.NewRecorder(), r)
			next.ServeHTTP(w, r)
		}), []string{"next was called 2 times"}},
		{"loses the context", wrap(func(next http.Handler, w http.ResponseWriter, r *http.Request) {
			next.ServeHTTP(w, r.WithContext(context.Background()))
		}), []string{"values of the context are gone"}},
		{"keeps what belongs to a request", wrap(func(next http.Handler, w http.ResponseWriter, r *http.Request) {
			shared.Store(r.Header.Get("Duty"))
			time.Sleep(time.Millisecond)
			r.Header.Set("Duty", shared.Load().(string))
			next.ServeHTTP(w, r)
		}), []string{"the answer of another"}},
		{"writes when it should be over", wrap(func(next http.Handler, w http.ResponseWriter, r *http.Request) {
			next.ServeHTTP(w, r)
			if r.RemoteAddr == httptest.NewRequest("GET", "/", nil).RemoteAddr { // over a connection it is a race as well
				go func() { <-r.Context().Done(); io.WriteString(w, "late") }()
			}
		}), []string{"after ServeHTTP had returned"}},
		{"never ends what it has begun", wrap(func(next http.Handler, w http.ResponseWriter, r *http.Request) {
			go func() { <-make(chan int) }()
			next.ServeHTTP(w, r)
		}), []string{"goroutines more"}},
	} {
		err := wicketwaytest.CheckMiddleware(c.m)
		for _, want := range c.wants {
			if err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("a middleware that %s: wanted %q, got %v", c.name, want, err)
			}
		}
	}
}

var errClosed = problem.Define(http.StatusConflict, "closed", "The lock is closed").Carries("reopens", "2027-05-04")

type booking struct {
	Lock string `from:"path lock"`
	Days []int  `from:"query days"`
	Key  string `from:"header Idempotency-Key"`
	Seat string `from:"cookie seat"`
	Body struct {
		ID    int `json:"id" rule:"readOnly"`
		Crew  int `json:"crew" rule:"maximum=40"`
		Stops []struct {
			At string `json:"at" rule:"readOnly"`
			To string `json:"to"`
		} `json:"stops,omitzero"`
	} `from:"body"`
}

type booked struct {
	Said string `json:"said"`
}

func book(_ context.Context, in booking) (*wicketway.Reply[booked], error) {
	if in.Lock == "closed" {
		return nil, errClosed.New("It is Sunday.").With("reopens", "2027-05-04")
	}
	said := strings.Join([]string{in.Lock, in.Key, in.Seat}, " ")
	return &wicketway.Reply[booked]{Status: http.StatusCreated, Header: http.Header{"Location": {"/x"}}, Value: booked{said}}, nil
}

func rest(context.Context, wicketway.None) (wicketway.None, error) { return wicketway.None{}, nil }

func unknown(context.Context, wicketway.None) (int, error) { return 0, nil }

func TestCall(t *testing.T) {
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"},
		wicketway.Envelope("data"),
		wicketway.Route("POST /locks/{lock}", book, wicketway.Fails(errClosed)),
		wicketway.Route("DELETE /locks", rest),
	)
	if err != nil {
		t.Fatal(err)
	}
	in := booking{Lock: "a/b", Days: []int{1, 2}, Key: "k", Seat: "s"}
	got, p := wicketwaytest.Call(t, api, book, in)
	if p != nil || got.Status != http.StatusCreated || got.Header.Get("Location") != "/x" || got.Value.Said != "a/b k s" {
		t.Errorf("%+v, %v", got, p)
	}
	in.Body.Stops = append(in.Body.Stops, struct {
		At string `json:"at" rule:"readOnly"`
		To string `json:"to"`
	}{"noon", "bell"})
	if _, p := wicketwaytest.Call(t, api, book, in); p != nil { // what only the server sets is not sent
		t.Error(p)
	}
	in.Body.Crew = 99
	if got, p := wicketwaytest.Call(t, api, book, in); got != nil || !errors.Is(p, problem.Invalid) || len(p.Items()) != 1 {
		t.Errorf("a wrong input: %+v, %v", got, p)
	}
	_, p = wicketwaytest.Call(t, api, book, booking{Lock: "closed"})
	if reopens, _ := p.Member("reopens"); !errors.Is(p, errClosed) || p.Detail() != "It is Sunday." || reopens == nil {
		t.Errorf("a problem: %v", p)
	}
	if _, p := wicketwaytest.Call(t, api, rest, wicketway.None{}); p != nil {
		t.Error(p)
	}
	if _, err := api.NewRequest(t.Context(), unknown, wicketway.None{}); err == nil || !strings.Contains(err.Error(), "no route is served by") {
		t.Errorf("a function that serves nothing: %v", err)
	}
}

// A call of a route in one of several versions that share their paths is read with its envelope.
func TestCallAmongVersions(t *testing.T) {
	say := func(ctx context.Context, _ wicketway.None) (string, error) { return exchange.Of(ctx).Version(), nil }
	tell := func(ctx context.Context, in wicketway.None) (string, error) { return say(ctx, in) }
	for _, by := range []wicketway.VersionScheme{wicketway.InPath(), wicketway.InHeader("Edition"), wicketway.InMediaType()} {
		api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.VersionBy(by, ""),
			wicketway.Version("v1", wicketway.Envelope("data"), wicketway.Route("GET /locks", say)), wicketway.Version("v2", wicketway.Route("GET /locks", tell)))
		if err != nil {
			t.Fatal(err)
		}
		one, p := wicketwaytest.Call(t, api, say, wicketway.None{})
		two, q := wicketwaytest.Call(t, api, tell, wicketway.None{})
		if one != "v1" || two != "v2" || p != nil || q != nil {
			t.Errorf("by %s: %q %v, %q %v", by, one, p, two, q)
		}
	}
}
