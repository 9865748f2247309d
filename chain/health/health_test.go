package health_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/health"
)

// What checks say, when they are asked, and what callers see of it.
func TestReadiness(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var storage atomic.Value
		storage.Store(errors.New(""))
		var asked, atOnce, most atomic.Int32
		enter := func() func() {
			if n := atOnce.Add(1); n > most.Load() {
				most.Store(n)
			}
			return func() { atOnce.Add(-1) }
		}
		var log strings.Builder
		ready := health.NewReadiness(
			health.Check{Name: "storage", Every: 10 * time.Second, Ask: func(context.Context) error {
				defer enter()()
				asked.Add(1)
				time.Sleep(time.Second)
				if err := storage.Load().(error); err.Error() != "" {
					return err
				}
				return nil
			}},
			health.Check{Name: "gauge", Within: 3 * time.Second, Ask: func(ctx context.Context) error {
				defer enter()()
				if storage.Load().(error).Error() == "hang" {
					<-ctx.Done()
				}
				if storage.Load().(error).Error() == "panic" {
					panic("no water")
				}
				return nil
			}},
		)
		ready.Log = slog.New(slog.NewTextHandler(&log, nil))
		api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Log(ready.Log), health.Routes(ready))
		if err != nil {
			t.Fatal(err)
		}
		get := func(path string) string {
			w := httptest.NewRecorder()
			api.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
			if h := w.Header(); h.Get("Cache-Control") != "no-store" || h.Get("Content-Type") != "application/json" && w.Code == 200 {
				t.Errorf("%s may be kept, or is no JSON: %v", path, h)
			}
			return fmt.Sprint(w.Code, " ", w.Body)
		}
		if got := get("/health/live"); got != `200 {"status":"live"}` {
			t.Errorf("live: %s", got)
		}
		for _, c := range []struct{ state, want string }{
			{"", `200 {"checks":{"gauge":"up","storage":"up"},"status":"ready"}`},
			{"wet", `"checks":{"gauge":"up","storage":"down"}`},
			{"hang", `"checks":{"gauge":"down","storage":"down"}`},
			{"panic", `"checks":{"gauge":"down","storage":"down"}`},
			{"", `200 {`},
		} {
			storage.Store(errors.New(c.state))
			time.Sleep(20 * time.Second)
			before := asked.Load()
			var all sync.WaitGroup
			for range 20 {
				all.Go(func() {
					if got := get("/health/ready"); !strings.Contains(got, c.want) || c.state != "" && !strings.HasPrefix(got, "503 ") || strings.Contains(got, `"`+c.state+`"`) && c.state != "" {
						t.Errorf("%q: %s, want %s", c.state, got, c.want)
					}
				})
			}
			all.Wait()
			if n := asked.Load() - before; n != 1 {
				t.Errorf("%q: 20 callers had the check asked %d times", c.state, n)
			}
		}
		if most.Load() != 1 {
			t.Errorf("%d checks were asked at once", most.Load())
		}
		for _, want := range []string{"check=storage error=wet", "deadline exceeded", "no water", "readiness check recovered"} {
			if !strings.Contains(log.String(), want) {
				t.Errorf("the log lacks %q: %s", want, log.String())
			}
		}
	})
}
