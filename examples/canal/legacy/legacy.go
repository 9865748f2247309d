// Package legacy serves version 1, as it was before the canal went metric: feet,
// flat objects, whole lists.
package legacy

import (
	"context"
	"errors"
	"math"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/canal/locks"
	"github.com/wicketway/wicketway/examples/canal/passages"
	"github.com/wicketway/wicketway/examples/canal/store"
)

// Lock is a lock in the old shape.
type Lock struct {
	ID       string  `json:"id"`
	Name     string  `json:"name"`
	LengthFt float64 `json:"length_ft"`
	WidthFt  float64 `json:"width_ft"`
	Open     bool    `json:"open"`
}

// Passage is a booking in the old shape.
type Passage struct {
	ID    int64  `json:"id"`
	Lock  string `json:"lock"`
	Plate string `json:"plate"`
	Up    bool   `json:"up"`
	At    string `json:"at" note:"UTC, as 2027-04-01 06:00"`
}

// Parts are the routes of version 1.
func Parts(s *store.Store) wicketway.Part {
	d := desk{s}
	return wicketway.Group(
		wicketway.Route("GET /locks", d.locks, wicketway.Public(), wicketway.Summary("All locks")),
		wicketway.Route("GET /locks/{lock}", d.lock, wicketway.Public(), wicketway.Summary("One lock"),
			wicketway.Fails(locks.ErrNoSuchLock)),
		wicketway.Route("GET /passages", d.passages, wicketway.Scopes("passages"),
			wicketway.Summary("All passages of the caller")),
		wicketway.Route("GET /passages/{passage}", d.passage, wicketway.Scopes("passages"),
			wicketway.Summary("One passage"),
			wicketway.Fails(passages.ErrNoSuchPassage)),
	)
}

type desk struct{ store *store.Store }

func (d desk) locks(ctx context.Context, _ wicketway.None) ([]Lock, error) {
	found, err := d.store.Locks(ctx)
	return each(found, oldLock), err
}

func (d desk) lock(ctx context.Context, in struct {
	Lock string `from:"path lock"`
}) (Lock, error) {
	l, err := d.store.Lock(ctx, in.Lock)
	if errors.Is(err, store.ErrNotThere) {
		return Lock{}, locks.ErrNoSuchLock.Newf("No lock is called %q.", in.Lock)
	}
	return oldLock(l), err
}

func (d desk) passages(ctx context.Context, _ wicketway.None) ([]Passage, error) {
	found, err := d.store.Passages(ctx, wicketway.Caller(ctx).Subject, 0, math.MaxInt32)
	return each(found, oldPassage), err
}

func (d desk) passage(ctx context.Context, in struct {
	Passage int64 `from:"path passage"`
}) (Passage, error) {
	p, err := d.store.Passage(ctx, wicketway.Caller(ctx).Subject, in.Passage)
	if errors.Is(err, store.ErrNotThere) {
		return Passage{}, passages.ErrNoSuchPassage.Newf("You have no passage %d.", in.Passage)
	}
	return oldPassage(p), err
}

func oldLock(l store.Lock) Lock {
	return Lock{ID: l.Slug, Name: l.Name, LengthFt: feet(l.Length), WidthFt: feet(l.Width), Open: l.State == "open"}
}

func oldPassage(p store.Passage) Passage {
	return Passage{ID: p.ID, Lock: p.Lock, Plate: p.Vessel, Up: p.Direction == "up",
		At: p.Slot.UTC().Format("2006-01-02 15:04")}
}

// feet rounds to a tenth.
func feet(metres float64) float64 { return math.Round(metres/0.3048*10) / 10 }

func each[A, B any](from []A, f func(A) B) []B {
	to := make([]B, len(from))
	for i, a := range from {
		to[i] = f(a)
	}
	return to
}
