// Package demo puts the canal together.
package demo

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/examples/canal/drill"
	"github.com/wicketway/wicketway/examples/canal/legacy"
	"github.com/wicketway/wicketway/examples/canal/locks"
	"github.com/wicketway/wicketway/examples/canal/notices"
	"github.com/wicketway/wicketway/examples/canal/passages"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/examples/canal/tokens"
	"github.com/wicketway/wicketway/problem"
)

// A Canal is the demo: an API, and the store behind it.
type Canal struct {
	API *wicketway.API
	// Skipper and Keeper are tokens, good for twelve hours.
	Skipper, Keeper string

	store     *store.Store
	temporary string // the folder to remove
}

// Open opens the canal with its data in dir, or in a temporary folder if dir is
// empty, and logs requests to log.
func Open(dir string, log *slog.Logger) (*Canal, error) {
	c := &Canal{}
	if dir == "" {
		var err error
		if c.temporary, err = os.MkdirTemp("", "osterbeck-"); err != nil {
			return nil, err
		}
	}
	if err := c.open(cmp.Or(dir, c.temporary), log); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

func (c *Canal) open(dir string, log *slog.Logger) error {
	var err error
	if c.store, err = store.Open(dir); err != nil {
		return err
	}
	secret, err := c.store.Secret()
	if err != nil {
		return err
	}
	expires := time.Now().Add(tokens.Lifetime)
	if c.Skipper, err = tokens.Sign(secret, store.SamplePlate(0), "passages", expires); err != nil {
		return err
	}
	if c.Keeper, err = tokens.Sign(secret, "keeper-bell", "locks:operate", expires); err != nil {
		return err
	}
	c.API, err = Build(c.store, secret, log)
	return err
}

// Close closes the store, and removes it if it was temporary.
func (c *Canal) Close() {
	if c.store != nil {
		c.store.Close()
	}
	if c.temporary != "" {
		os.RemoveAll(c.temporary)
	}
}

// Build describes the API.
func Build(s *store.Store, secret []byte, log *slog.Logger) (*wicketway.API, error) {
	return wicketway.Build(
		wicketway.Info{Title: "Osterbeck Canal", Version: "2.4.0"},
		wicketway.Log(log),
		wicketway.Translate(store.Translations...),
		wicketway.Chain(requestid.Assign(), accesslog.To(log), compress.Bodies(), compress.Requests()),
		wicketway.At("/api",
			wicketway.Guard(auth.Bearer(auth.HS256(secret))),
			wicketway.Fails(problem.Overloaded), // the storage waits for others to have written, but not for ever
			wicketway.Version("v1", legacy.Parts(s)),
			wicketway.Version("v2", locks.Parts(s), passages.Parts(s), notices.Parts(s), tokens.Parts(s, secret), drill.Parts(s)),
		),
	)
}

// Run serves the canal on an address until ctx ends, and first writes to out how
// to use it.
func Run(ctx context.Context, address, dir string, out io.Writer, log *slog.Logger) error {
	c, err := Open(dir, log)
	if err != nil {
		return err
	}
	defer c.Close()
	err = c.API.Serve(ctx, address, func(at net.Addr) { c.welcome(out, "http://"+at.String()) })
	if err == nil {
		fmt.Fprintln(out, "The canal is closed.")
	}
	return err
}

func (c *Canal) welcome(out io.Writer, base string) {
	fmt.Fprintf(out, `Osterbeck Canal listens on %[1]s (Ctrl-C ends it)

Tokens, good for twelve hours:
SKIPPER=%[2]s
KEEPER=%[3]s

Lines to paste, after the two above:
curl -s %[1]s/api/v2/locks/bell
curl -s %[1]s/api/v1/locks/bell
curl -s '%[1]s/api/v2/passages?limit=2' -H "Authorization: Bearer $SKIPPER"
curl -s %[1]s/api/v2/passages -H "Authorization: Bearer $SKIPPER" -H 'Content-Type: application/json' -d '{"lock":"bell","direction":"up","slot":"2027-05-04T09:30:00Z"}'
curl -s '%[1]s/api/v2/passages?notify=nobody' -H "Authorization: Bearer $SKIPPER" -H 'Content-Type: application/json' -d '{"lock":"","direction":"sideways","crew":99}'
curl -s -X PATCH %[1]s/api/v2/passages/61 -H "Authorization: Bearer $SKIPPER" -H 'Content-Type: application/merge-patch+json' -d '{"crew":4,"remark":"in no hurry"}'
curl -s -X PUT %[1]s/api/v2/locks/tanners/state -H "Authorization: Bearer $KEEPER" -H 'Content-Type: application/json' -d '{"state":"open"}'
curl -si '%[1]s/api/v2/drill?fault=panic'

`, base, c.Skipper, c.Keeper)
}
