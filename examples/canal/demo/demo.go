// Package demo puts the canal together.
package demo

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"sync"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/cache"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/cors"
	"github.com/wicketway/wicketway/chain/health"
	"github.com/wicketway/wicketway/chain/limit"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/chain/secure"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/examples/canal/drill"
	"github.com/wicketway/wicketway/examples/canal/legacy"
	"github.com/wicketway/wicketway/examples/canal/locks"
	"github.com/wicketway/wicketway/examples/canal/notices"
	"github.com/wicketway/wicketway/examples/canal/passages"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/examples/canal/tokens"
	"github.com/wicketway/wicketway/examples/identity"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/handbook"
	"github.com/wicketway/wicketway/observe/trail"
	"github.com/wicketway/wicketway/problem"
)

// A Canal is the demo: an API, and the store behind it.
type Canal struct {
	API *wicketway.API
	// Skipper and Keeper are tokens, good for twelve hours; Visitor is one that the identity
	// service has signed for another skipper.
	Skipper, Keeper, Visitor string
	// Identity is the service whose tokens are taken as well.
	Identity *identity.Service

	pace      Pace
	log       *slog.Logger
	guard     exchange.Authenticator
	revoked   auth.MemoryRevocations
	ready     *health.Readiness
	observed  *observed
	trails    trail.Trails // in development
	secret    []byte
	keys      *auth.KeySet
	others    map[string]string // tokens of the tour, by name
	store     *store.Store
	temporary string // the folder to remove
	stop      context.CancelFunc
	running   sync.WaitGroup
}

// A Pace says how often the identity service changes its key, how long before that it shows it,
// and how often the canal asks for the keys; and how often tokens may be asked for, where that is not as tokens.Desk has
// it.
type Pace struct {
	Rotate, Lead, Fetch time.Duration
	Tokens              limit.Rate
}

// Unlimited is the pace of the demo, where tokens may be asked for as often as one likes.
var Unlimited = Pace{Rotate: slow.Rotate, Lead: slow.Lead, Fetch: slow.Fetch, Tokens: limit.Rate{Requests: 1 << 20, Per: time.Minute}}

// slow is the pace of the demo.
var slow = Pace{Rotate: 2 * time.Minute, Lead: 45 * time.Second, Fetch: 15 * time.Second}

// Open opens the canal with its data in dir, or in a temporary folder if dir is
// empty, and logs requests to log.
func Open(dir string, log *slog.Logger) (*Canal, error) { return OpenAt(slow, dir, log) }

// OpenAt is Open with another pace.
func OpenAt(pace Pace, dir string, log *slog.Logger) (*Canal, error) {
	c := &Canal{log: log, pace: pace}
	if dir == "" {
		var err error
		if c.temporary, err = os.MkdirTemp("", "osterbeck-"); err != nil {
			return nil, err
		}
	}
	if err := c.open(cmp.Or(dir, c.temporary)); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

func (c *Canal) open(dir string) error {
	var err error
	if c.store, err = store.Open(dir); err != nil {
		return err
	}
	if c.secret, err = c.store.Secret(); err != nil {
		return err
	}
	keys, err := c.identify(c.pace)
	if err != nil {
		return err
	}
	c.guard = auth.Bearer(auth.Join(auth.HS256(c.secret).IssuedBy("osterbeck"), keys), auth.Settings{
		Audience:    []string{identity.Audience},
		Realm:       "Osterbeck Canal",
		Account:     c.account,
		Revocations: &c.revoked,
	})
	if c.Skipper, err = c.token(store.SamplePlate(0), "passages"); err != nil {
		return err
	}
	if c.Keeper, err = c.token("keeper-bell", "locks:operate", "passages:import"); err != nil {
		return err
	}
	if c.Visitor, err = c.Identity.Token(store.SamplePlate(1), identity.Audience, "passages"); err != nil {
		return err
	}
	if c.observed, err = observe(); err != nil {
		return err
	}
	c.ready = health.NewReadiness(health.Check{Name: "storage", Ask: c.store.Ping},
		health.Check{Name: "identity", Ask: c.keys.Ready})
	c.API, err = c.build("/api/v2/locks", wicketway.Retirement{Clock: func() time.Time { return season }})
	return err
}

// season is when the demo plays, so that version 1 does not end under its readers' hands.
var season = time.Date(2027, time.April, 1, 6, 0, 0, 0, time.UTC)

// The last days of version 1: it is deprecated, and then it ends.
var (
	deprecated = time.Date(2026, time.September, 1, 0, 0, 0, 0, time.UTC)
	sunset     = time.Date(2027, time.June, 30, 0, 0, 0, 0, time.UTC)
)

// identify starts the identity service, and fetches its keys.
func (c *Canal) identify(pace Pace) (auth.Keys, error) {
	var err error
	if c.Identity, err = identity.New(tokens.Lifetime); err != nil {
		return auth.Keys{}, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return auth.Keys{}, err
	}
	var ctx context.Context
	ctx, c.stop = context.WithCancel(context.Background())
	server := &http.Server{Handler: c.Identity, ReadHeaderTimeout: 10 * time.Second}
	c.running.Go(func() { server.Serve(l) }) // ends with the context
	c.running.Go(func() {
		if err := c.Identity.Run(ctx, pace.Rotate, pace.Lead); err != nil {
			c.log.Error("the identity service has stopped", "error", err)
		}
	})
	c.keys = auth.Fetch(ctx, auth.Source{
		Address:    "http://" + l.Addr().String(),
		Algorithms: []string{"ES256"},
		Issuer:     identity.Issuer,
		Every:      pace.Fetch,
		AtMost:     pace.Fetch / 4,
		Log:        c.log,
	})
	c.running.Go(func() {
		<-c.keys.Done()
		server.Close()
	})
	return c.keys.Keys(), nil
}

// account finds the account of a caller for the guard.
func (c *Canal) account(ctx context.Context, caller wicketway.Identity) (any, error) {
	a, err := c.store.Account(ctx, caller.Subject)
	if errors.Is(err, store.ErrNotThere) || errors.Is(err, store.ErrLocked) {
		return nil, auth.ErrAccountUnavailable.New("Ask the harbour office about it.").Because(err)
	}
	return a, err
}

// token makes a token of the canal's own.
func (c *Canal) token(subject string, scopes ...string) (string, error) {
	return auth.Issue(c.guard, auth.NewToken{Subject: subject, Scopes: scopes, Lifetime: tokens.Lifetime})
}

// Close closes the store, and removes it if it was temporary.
func (c *Canal) Close() {
	if c.stop != nil {
		c.stop()
		c.running.Wait()
	}
	if c.observed != nil {
		c.observed.close(c.log)
	}
	if c.store != nil {
		c.store.Close()
	}
	if c.temporary != "" {
		os.RemoveAll(c.temporary)
	}
}

// consoles are the origins whose pages may read the API.
var consoles = []string{"https://console.osterbeck.example", "http://127.0.0.1:3000"}

// build describes the API. The successor is where version 1 leads to, and more is in the list of
// /api.
func (c *Canal) build(successor string, more ...wicketway.Part) (*wicketway.API, error) {
	s := c.store
	desk := &tokens.Desk{Store: s, Guard: c.guard, Revoked: &c.revoked, Rate: c.pace.Tokens,
		Wrong: limit.Throttle{Account: c.pace.Tokens, Address: c.pace.Tokens}}
	return wicketway.Build(
		wicketway.Info{
			Title: "Osterbeck Canal", Version: "2.4.0",
			Description: "The locks of a small canal, and who passes them. A skipper gets a token for a plate and a PIN by `POST /api/v2/tokens`.",
			Tags: map[string]string{
				"locks":    "Locks and their levels",
				"passages": "A vessel goes through a lock, in a slot of half an hour that nobody else has",
				"notices":  "What the authority tells skippers",
				"tokens":   "Tokens for callers",
			},
			Scopes: map[string]string{
				"passages":        "Book passages, and change those of one's own",
				"passages:import": "Import the passages of a season",
				"locks:operate":   "Open and close locks",
			},
			Status: "/health/ready",
		},
		wicketway.Log(c.log),
		wicketway.Translate(store.Translations...),
		c.trails.Parts("/trails"),
		wicketway.Chain(requestid.Assign(), c.observed.trace, accesslog.To(c.log, accesslog.Settings{Slow: time.Second})),
		wicketway.Chain(c.observed.count...),
		wicketway.Chain(secure.Headers(secure.Settings{}), cors.Allow(cors.From(consoles...), cors.Settings{}),
			compress.Bodies(compress.Settings{}), compress.Requests(compress.Unpacking{}), cache.Headers(cache.Control{})),
		wicketway.Group(wicketway.Unlisted(), health.Routes(c.ready)), // for those who watch over it
		wicketway.At("/handbook", handbook.Pages()),
		wicketway.Handle("GET /", http.RedirectHandler("/handbook", http.StatusSeeOther), wicketway.Unlisted(), wicketway.Summary("To the handbook")),
		wicketway.At("/api", append(more,
			wicketway.Guard(c.guard),
			wicketway.Group(wicketway.Public(), wicketway.Contracts("/contracts", yaml.Format())),
			wicketway.Fails(problem.Overloaded), // the storage waits for others to have written, but not for ever
			wicketway.Version("v1",
				wicketway.Retirement{Deprecated: deprecated, Sunset: sunset, Ends: true, Successor: successor},
				legacy.Errors(), legacy.Values(), locks.LegacyParts(s), passages.LegacyParts(s)),
			wicketway.Version("v2", wicketway.Languages("en", German),
				locks.Parts(s), passages.Parts(s), passages.SeasonParts(s), notices.Parts(s), desk.Parts(), wicketway.Group(wicketway.Unlisted(), drill.Parts(s))),
		)...),
	)
}

// Logger writes what happens: as JSON, and in development for people to read. Either way the
// records say which request they are about, and secrets are blanked.
func Logger(w io.Writer) *slog.Logger {
	if os.Getenv("WICKETWAY_DEVELOPMENT") != "" {
		return slog.New(accesslog.InContext(accesslog.Console(w)))
	}
	return slog.New(accesslog.InContext(accesslog.Redact(slog.NewJSONHandler(w, nil))))
}

// Settings say where the canal is served, and where its data is.
type Settings struct {
	Listen  string // the address of the API
	Metrics string // that of its numbers, which is not for everyone
	Data    string // a folder; "": a temporary one
}

// Run serves the canal until ctx ends, and first writes to out how to use it.
func Run(ctx context.Context, s Settings, out io.Writer, log *slog.Logger) error {
	c, err := Open(s.Data, log)
	if err != nil {
		return err
	}
	defer c.Close()
	numbers, err := c.Numbers()
	if err != nil {
		return err
	}
	ctx, end := context.WithCancel(ctx)
	var running sync.WaitGroup
	var failed error // to serve the numbers
	err = c.API.Serve(ctx, s.Listen, func(api net.Addr) {
		running.Go(func() {
			defer end()
			failed = numbers.Serve(ctx, s.Metrics, func(at net.Addr) { c.welcome(out, "http://"+api.String(), "http://"+at.String()) })
		})
	})
	end()
	running.Wait()
	err = errors.Join(err, failed)
	if err == nil {
		fmt.Fprintln(out, "The canal is closed.")
	}
	return err
}

func (c *Canal) welcome(out io.Writer, base, numbers string) {
	fmt.Fprintf(out, `Osterbeck Canal listens on %s (Ctrl-C ends it)
Its numbers, for Prometheus: %s/metrics

Tokens, good for twelve hours: of a skipper, of a keeper, and of another skipper, signed by an identity service that
changes its keys every two minutes.
export WICKETWAY_TOKEN=%s
export WICKETWAY_KEEPER_TOKEN=%s
export WICKETWAY_OTHER_TOKEN=%s

Lines to paste, after the three above:
`, base, numbers, c.Skipper, c.Keeper, c.Visitor)
	lines, err := c.lines(base)
	if err != nil {
		c.log.Error("no requests can be made of the contract", "error", err)
	}
	for _, line := range lines {
		fmt.Fprintln(out, line)
	}
	fmt.Fprintf(out, `curl -s %[1]s/api/v2/passages.csv -H "Authorization: Bearer $WICKETWAY_OTHER_TOKEN"
curl -si '%[1]s/api/v2/drill?fault=panic' # in no contract: what a panic is answered with

`, base)
}
