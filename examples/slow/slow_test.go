package slow_test

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/slow"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// The same middleware around a plain handler and in an API, where it knows more.
func ExampleReport() {
	to := slog.New(slog.NewTextHandler(os.Stdout, &slog.HandlerOptions{ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		if a.Key == slog.TimeKey {
			return slog.Attr{}
		}
		return a
	}}))
	now := time.Date(2027, 5, 4, 8, 0, 0, 0, time.UTC)
	clock := func() time.Time { now = now.Add(70 * time.Millisecond); return now }
	report := slow.Report(to, 50*time.Millisecond, clock)
	ask := func(h http.Handler) {
		h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/locks/bell", nil))
	}

	ask(report.Wrap(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		exchange.Fail(w, r, problem.NotFound.New("No such lock."))
	})))

	api, err := wicketway.Build(wicketway.Info{Title: "Locks", Version: "1"},
		wicketway.Chain(report),
		wicketway.Route("GET /locks/{lock}", func(_ context.Context, in struct {
			Lock string `from:"path lock"`
		}) (string, error) {
			return "", problem.NotFound.Newf("No lock is called %s.", in.Lock)
		}))
	if err != nil {
		panic(err)
	}
	ask(api)
	// Output:
	// level=WARN msg=slow route="" caller="" status=404 took_ms=70
	// level=WARN msg=slow route=/locks/{lock} caller="" status=404 took_ms=70 code=not-found
}
