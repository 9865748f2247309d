// Package drill fails on purpose, so that everyone can see what callers and the
// log are told.
package drill

import (
	"context"
	"errors"
	"fmt"

	"github.com/wicketway/wicketway"
)

// Parts is the one route.
func Parts() wicketway.Part {
	return wicketway.Route("GET /drill", run, wicketway.Public(), wicketway.Summary("Fails on purpose"))
}

type order struct {
	Fault string `from:"query fault" rule:"required enum=error|panic"`
}

func run(_ context.Context, in order) (string, error) {
	if in.Fault == "panic" {
		panic("drill: gauge 7 answered with a level below the bed")
	}
	return "", fmt.Errorf("drill: reading gauge 7: %w", errors.New("the sluice file /var/canal/7.dat is locked"))
}
