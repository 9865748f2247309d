// Package lost knows what a request has lost on purpose, in development: those that watch it fail in its place.
package lost

import (
	"context"
	"errors"
	"net"
	"sync/atomic"
	"syscall"

	"github.com/wicketway/wicketway/exchange"
)

// Names are what a request can lose.
var Names = []string{"database"}

// A Thing is what a request has lost. It is safe for concurrent use.
type Thing struct {
	name  string
	asked atomic.Bool
}

// Lose has a request lose something.
func Lose(ctx context.Context, name string) {
	exchange.Keep(ctx, &Thing{name: name})
}

// Asked reports whether somebody has missed it.
func (t *Thing) Asked() bool { return t.asked.Load() }

// Err is the error that the loss of something is, as of a connection that breaks; nil where it is not lost. It is none that
// has database/sql give up a connection, since that is as good as before.
func Err(ctx context.Context, name string) error {
	t, is := exchange.Kept[*Thing](ctx)
	if !is || t.name != name {
		return nil
	}
	t.asked.Store(true)
	return &net.OpError{Op: "read", Net: "tcp", Err: errors.Join(errOnPurpose, syscall.ECONNRESET)}
}

var errOnPurpose = errors.New("lost on purpose")
