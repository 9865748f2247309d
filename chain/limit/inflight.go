package limit

import (
	"fmt"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// AtOnce serves at most so many requests at a time. So many more wait for a place, for the longest
// time that is given, in the order in which they came as far as possible; others are refused with
// 503 and Retry-After at once.
func AtOnce(serve, wait int, longest time.Duration) exchange.Middleware {
	return exchange.Middleware{
		Name:    "at once",
		Does:    fmt.Sprintf("serves %d requests at a time, lets %d wait for %v", serve, wait, longest),
		Raises:  []*problem.Kind{problem.Overloaded},
		Repeats: true,
		Check: func() error {
			if serve <= 0 || wait < 0 || wait > 0 && longest <= 0 {
				return fmt.Errorf(
					"AtOnce: %d at a time, %d waiting for %v: one must be served at least, and who waits needs a time", serve,
					wait, longest,
				)
			}
			return nil
		},
		Wrap: func(next http.Handler) http.Handler {
			places := make(chan struct{}, max(serve, 0))
			var waiting atomic.Int64
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if err := take(r, places, &waiting, int64(wait), longest); err != nil {
					exchange.Fail(w, r, err)
					return
				}
				defer func() { <-places }()
				next.ServeHTTP(w, r)
			})
		},
	}
}

func take(r *http.Request, places chan struct{}, waiting *atomic.Int64, most int64, longest time.Duration) error {
	select {
	case places <- struct{}{}:
		return nil
	default:
	}
	refused := func(detail string) error { return problem.Overloaded.New(detail).RetryAfter(max(longest, time.Second)) }
	if waiting.Add(1) > most {
		waiting.Add(-1)
		return refused("Too many requests are waiting.")
	}
	defer waiting.Add(-1)
	t := time.NewTimer(longest)
	defer t.Stop()
	select {
	case places <- struct{}{}:
		return nil
	case <-t.C:
		return refused("The server is busy; no slot became free in time.")
	case <-r.Context().Done():
		return r.Context().Err()
	}
}
