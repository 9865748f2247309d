package limit_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/limit"
	"github.com/wicketway/wicketway/chain/proxy"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/wicketwaytest"
)

type plate struct{}

func (plate) Scheme() exchange.Scheme   { return exchange.Scheme{Name: "plate"} }
func (plate) Challenge([]string) string { return "Plate" }
func (plate) Authenticate(r *http.Request) (*exchange.Identity, error) {
	return &exchange.Identity{Subject: r.Header.Get("Plate")}, nil
}

type broken struct{}

func (broken) Take(context.Context, string, limit.Rate) (limit.Decision, error) {
	return limit.Decision{}, errors.New("the store is wet")
}

var ok = http.HandlerFunc(func(http.ResponseWriter, *http.Request) {})

// Requests from an address or a caller at some second, and what becomes of them.
func TestRequests(t *testing.T) {
	minute := limit.Rate{Requests: 3, Per: 30 * time.Second}
	networks, _ := proxy.Networks("192.0.2.0/24")
	wicketwaytest.Middleware(t, limit.Requests(limit.Rate{Requests: 1000, Per: time.Minute}, limit.ByAddress(), limit.Settings{}))
	synctest.Test(t, func(t *testing.T) {
		api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Guard(plate{}),
			wicketway.Chain(limit.Requests(minute, limit.Except(limit.ByAddress(), networks...), limit.Settings{})),
			wicketway.Group(wicketway.Chain(limit.Requests(limit.Rate{Requests: 2, Per: 10 * time.Second, Name: "callers"}, limit.ByCaller(), limit.Settings{})),
				wicketway.Handle("GET /caller", ok)),
			wicketway.Handle("GET /", ok, wicketway.Public()))
		if err != nil {
			t.Fatal(err)
		}
		start := time.Now()
		for _, c := range []struct {
			at              int // second
			line, from, who string
			status          int
			limits, retry   string
		}{
			{0, "/", "198.51.100.7:1", "", 200, `"default";r=2;t=10`, ""},
			{0, "/", "198.51.100.7:2", "", 200, `"default";r=1;t=20`, ""},
			{0, "/", "198.51.100.7:3", "", 200, `"default";r=0;t=30`, ""},
			{0, "/", "198.51.100.7:4", "", 429, `"default";r=0;t=30`, "10"},
			{0, "/", "198.51.100.8:1", "", 200, `"default";r=2;t=10`, ""},
			{0, "/", "[2001:db8::1]:1", "", 200, `"default";r=2;t=10`, ""},
			{0, "/", "[2001:db8::2:3]:1", "", 200, `"default";r=1;t=20`, ""}, // the same /64
			{0, "/", "[2001:db8:0:1::1]:1", "", 200, `"default";r=2;t=10`, ""},
			{0, "/", "[::ffff:198.51.100.7]:1", "", 429, `"default";r=0;t=30`, "10"},
			{0, "/", "192.0.2.9:1", "", 200, "", ""},
			{9, "/", "198.51.100.7:1", "", 429, `"default";r=0;t=21`, "1"},
			{10, "/", "198.51.100.7:1", "", 200, `"default";r=0;t=30`, ""},
			{100, "/", "198.51.100.7:1", "", 200, `"default";r=2;t=10`, ""},
			{200, "/caller", "203.0.113.1:1", "a", 200, `"default";r=2;t=10, "callers";r=1;t=5`, ""},
			{200, "/caller", "203.0.113.2:1", "a", 200, `"default";r=2;t=10, "callers";r=0;t=10`, ""},
			{200, "/caller", "203.0.113.3:1", "a", 429, `"default";r=2;t=10, "callers";r=0;t=10`, "5"},
			{200, "/caller", "203.0.113.3:1", "b", 200, `"default";r=1;t=20, "callers";r=1;t=5`, ""},
		} {
			time.Sleep(time.Until(start.Add(time.Duration(c.at) * time.Second)))
			r := httptest.NewRequest("GET", c.line, nil)
			r.RemoteAddr = c.from
			r.Header.Set("Plate", c.who)
			w := httptest.NewRecorder()
			api.ServeHTTP(w, r)
			if got := strings.Join(w.Header().Values("Ratelimit"), ", "); w.Code != c.status || got != c.limits || w.Header().Get("Retry-After") != c.retry {
				t.Errorf("%+v: %d %s, Retry-After %s", c, w.Code, got, w.Header().Get("Retry-After"))
			}
		}
	})
	var log strings.Builder
	for closed, want := range map[bool]int{true: 503, false: 200} {
		w := httptest.NewRecorder()
		limit.Requests(minute, limit.ByAddress(), limit.Settings{Store: broken{}, FailClosed: closed, Log: slog.New(slog.NewTextHandler(&log, nil))}).
			Wrap(ok).ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
		if w.Code != want {
			t.Errorf("a store that fails, closed %v: %d", closed, w.Code)
		}
	}
	if !strings.Contains(log.String(), "the store is wet") {
		t.Errorf("the log: %s", log.String())
	}
	hourly := limit.Rate{Requests: 1, Per: time.Hour}
	for what, bad := range map[string]exchange.Middleware{
		"a rate has at least one request":  limit.Requests(limit.Rate{}, limit.ByAddress(), limit.Settings{}),
		"and at most one in a microsecond": limit.Requests(limit.Rate{Requests: 2e9, Per: time.Second}, limit.ByAddress(), limit.Settings{}),
		"Key does not say whose":           limit.Requests(minute, limit.Except(limit.Key{}), limit.Settings{}),
		"Timeout is -1ns":                  limit.Requests(minute, limit.ByAddress(), limit.Settings{Timeout: -1}),
		"the guard plate comes after it":   limit.Requests(minute, limit.ByCaller(), limit.Settings{}),
	} {
		if _, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Guard(plate{}), wicketway.Chain(bad), wicketway.Handle("GET /", ok)); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("wanted %q, got %v", what, err)
		}
		bad.Wrap(ok) // alone it does not panic
	}
	one := limit.NewMemory(0)
	if _, err := one.Take(t.Context(), "x", limit.Rate{Requests: 2e9, Per: time.Second}); err != nil {
		t.Error(err)
	}
	first := limit.Requests(hourly, limit.ByAddress(), limit.Settings{Store: one})
	second := limit.Requests(hourly, limit.ByAddress(), limit.Settings{Store: one})
	for i, c := range []struct {
		by   exchange.Middleware
		want int
	}{{first, 200}, {second, 200}, {first, 429}, {second, 429}} {
		w := httptest.NewRecorder()
		if c.by.Wrap(ok).ServeHTTP(w, httptest.NewRequest("GET", "/", nil)); w.Code != c.want {
			t.Errorf("two over one store, %d: %d, want %d", i, w.Code, c.want)
		}
	}
	synctest.Test(t, func(t *testing.T) {
		stuck := make(hangs)
		h, start := limit.Requests(hourly, limit.ByAddress(), limit.Settings{Store: stuck, FailClosed: true, Timeout: 2 * time.Second}).Wrap(ok), time.Now()
		w := httptest.NewRecorder()
		if h.ServeHTTP(w, httptest.NewRequest("GET", "/", nil)); w.Code != 503 || time.Since(start) != 2*time.Second {
			t.Errorf("a store that hangs: %d after %v", w.Code, time.Since(start))
		}
		close(stuck)
	})
}

// A store that hangs heeds no context.
type hangs chan struct{}

func (h hangs) Take(context.Context, string, limit.Rate) (limit.Decision, error) {
	<-h
	return limit.Decision{}, nil
}

// A flood of new keys does not free those who are held back, nor take more room.
func TestMemoryIsBounded(t *testing.T) {
	m := limit.NewMemory(6400)
	rate := limit.Rate{Requests: 100, Per: time.Hour}
	take := func(key string) bool {
		d, err := m.Take(t.Context(), key, rate)
		if err != nil {
			t.Fatal(err)
		}
		return d.Allowed
	}
	for take("held back") {
	}
	for i := range 50_000 {
		take(fmt.Sprint("new ", i))
	}
	forgotten := 0
	for i := range 100 {
		if d, _ := m.Take(t.Context(), fmt.Sprint("new ", i), rate); d.Remaining == 99 {
			forgotten++
		}
	}
	if forgotten < 50 {
		t.Errorf("of the first hundred of 50,000 keys %d were forgotten, with room for 6,400", forgotten)
	}
	if take("held back") {
		t.Error("a flood has freed who was held back")
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	allowed := 0
	for range 8 {
		all.Go(func() {
			for range 100 {
				if take("shared") {
					mu.Lock()
					allowed++
					mu.Unlock()
				}
			}
		})
	}
	if all.Wait(); allowed != 100 {
		t.Errorf("%d of 100 were allowed", allowed)
	}
}
