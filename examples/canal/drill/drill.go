// Package drill fails on purpose, so that everyone can see what callers and the
// log are told.
package drill

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/problem"
)

// Parts is the one route.
func Parts(s *store.Store) wicketway.Part {
	return wicketway.Route("GET /drill", desk{s}.run, wicketway.Public(), wicketway.Summary("Fails on purpose"),
		wicketway.Limits{Time: 100 * time.Millisecond}, wicketway.Fails(store.ErrConflict, store.ErrRefused, ErrGauge))
}

// ErrGauge is a failure of the canal's own machinery.
var ErrGauge = problem.Define(http.StatusBadGateway, "gauge-silent",
	"A gauge does not answer").
	Means("Try again in a minute.").
	Sends("Retry-After")

type desk struct{ store *store.Store }

type order struct {
	Fault string `from:"query fault" rule:"required enum=error|panic|gauge|late|norows|unique|notnull|check|foreignkey"`
}

func (d desk) run(ctx context.Context, in order) (string, error) {
	switch in.Fault {
	case "panic":
		panic("drill: gauge 7 answered with a level below the bed")
	case "gauge":
		return "", ErrGauge.New("Gauge 7 has been silent for an hour.").RetryAfter(time.Minute).Private("line", "ttyS4")
	case "late":
		<-ctx.Done()
		return "", fmt.Errorf("drill: waiting for the tide: %w", ctx.Err())
	case "error":
		return "", fmt.Errorf("drill: reading gauge 7: %w", errors.New("the sluice file /var/canal/7.dat is locked"))
	}
	return "", d.store.Drill(ctx, in.Fault)
}
