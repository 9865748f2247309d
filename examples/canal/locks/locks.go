// Package locks serves the locks: skippers look at them, keepers open and close
// them.
package locks

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/cache"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/problem"
)

// ErrNoSuchLock is raised for a slug that no lock has.
var ErrNoSuchLock = problem.NotFound.Define(http.StatusNotFound, "no-such-lock", "The canal has no such lock")

// Lock is a lock as the API shows it.
type Lock struct {
	Lock    string  `json:"lock" note:"Slug, as in /locks/bell"`
	Name    string  `json:"name"`
	Chamber Chamber `json:"chamber"`
	State   string  `json:"state" rule:"enum=open|closed|repair"`
}

// Chamber is what a vessel must fit into.
type Chamber struct {
	Length float64 `json:"length" note:"Metres"`
	Width  float64 `json:"width" note:"Metres"`
}

// Parts are the routes of the locks.
func Parts(s *store.Store) wicketway.Part {
	d := desk{s}
	return wicketway.At(
		"/locks",
		wicketway.Without("cache-control"), // that of all others would say it after the answers were kept
		wicketway.Chain( // the list is kept for as long as its policy says
			cache.Responses(cache.Settings{ByCaller: true}), cache.Headers(cache.Control{})),
		wicketway.Route("GET /", d.list, wicketway.Public(), wicketway.Summary("All locks, upstream first"),
			wicketway.Example("two locks", wicketway.None{}, []Lock{bell, tanners}), cache.Policy(cache.Control{MaxAge: 10 * time.Second})),
		wicketway.Route("GET /{lock}", d.find, wicketway.Public(), wicketway.Summary("One lock"),
			wicketway.Example("Bell Lock", findLock{"bell"}, bell),
			wicketway.Fails(ErrNoSuchLock)),
		wicketway.Route(
			"GET /{lock}/levels",
			d.levels,
			wicketway.Public(),
			wicketway.Summary("The water level, as it is read"),
			wicketway.Example("three readings", readLevels{findLock: findLock{"bell"}, Back: 3, Count: 3}, nil),
			wicketway.Fails(ErrNoSuchLock),
		),
		wicketway.Route("GET /{lock}/plan", d.plan, wicketway.Public(), wicketway.Summary("The plan of the chamber"),
			wicketway.Media("image/svg+xml"), wicketway.Conditional(), wicketway.Fails(ErrNoSuchLock)),
		wicketway.Route("PUT /{lock}/state", d.operate, wicketway.Summary("Open or close a lock"),
			wicketway.Scopes("locks:operate"), wicketway.Fails(ErrNoSuchLock),
			wicketway.Example("close for repair", operateLock{findLock{"tanners"}, LockState{"repair"}}, tanners)),
	)
}

// What the contract shows.
var (
	bell    = Lock{"bell", "Bell Lock", Chamber{38.5, 5.2}, "open"}
	tanners = Lock{"tanners", "Tanners Lock", Chamber{30, 5}, "repair"}
)

type desk struct{ store *store.Store }

type findLock struct {
	Lock string `from:"path lock" rule:"pattern='^[a-z]+(-[a-z]+)*$'"`
}

type operateLock struct {
	findLock
	Body LockState `from:"body"`
}

// LockState is what a keeper sets.
type LockState struct {
	State string `json:"state" rule:"enum=open|closed|repair"`
}

func (d desk) list(ctx context.Context, _ wicketway.None) ([]Lock, error) {
	found, err := d.store.Locks(ctx)
	if err != nil {
		return nil, err
	}
	shown := make([]Lock, len(found))
	for i, l := range found {
		shown[i] = show(l)
	}
	return shown, nil
}

func (d desk) find(ctx context.Context, in findLock) (Lock, error) {
	l, err := d.store.Lock(ctx, in.Lock)
	return show(l), known(err, in.Lock)
}

func (d desk) operate(ctx context.Context, in operateLock) (Lock, error) {
	l, err := d.store.SetLockState(ctx, in.Lock, in.Body.State)
	return show(l), known(err, in.Lock)
}

func show(l store.Lock) Lock {
	return Lock{Lock: l.Slug, Name: l.Name, Chamber: Chamber{l.Length, l.Width}, State: l.State}
}

func known(err error, slug string) error {
	if errors.Is(err, store.ErrNotThere) {
		return ErrNoSuchLock.Newf("No lock is called %q.", slug).Because(err)
	}
	return err
}
