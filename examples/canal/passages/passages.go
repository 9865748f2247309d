// Package passages serves the bookings of skippers: a vessel goes through a lock
// in a slot of half an hour.
package passages

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/canal/locks"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/problem"
)

// What can stand in the way of a passage.
var (
	ErrNoSuchPassage  = problem.NotFound.Define(http.StatusNotFound, "no-such-passage", "The caller has no such passage")
	ErrCanal          = problem.Define(http.StatusConflict, "canal", "The canal cannot do that now")
	ErrLockClosed     = ErrCanal.Define(http.StatusConflict, "lock-closed", "The lock is closed")
	ErrSlotTaken      = ErrCanal.Define(http.StatusConflict, "slot-taken", "The slot is taken")
	ErrVesselTooLarge = ErrCanal.Define(http.StatusConflict, "vessel-too-large", "The vessel does not fit the chamber")
)

// Passage is a booking as the API shows it.
type Passage struct {
	Passage   int64     `json:"passage"`
	Lock      string    `json:"lock"`
	Vessel    string    `json:"vessel" note:"Registration plate"`
	Direction string    `json:"direction" rule:"enum=up|down"`
	Slot      time.Time `json:"slot" note:"Start of the half hour"`
	Crew      int       `json:"crew"`
}

// NewPassage is what a skipper asks for. The vessel is the caller's own.
type NewPassage struct {
	Lock      string    `json:"lock" rule:"minLength=1 maxLength=40"`
	Direction string    `json:"direction" rule:"enum=up|down"`
	Slot      time.Time `json:"slot"`
	Crew      int       `json:"crew" rule:"minimum=1 maximum=40 default=2"`
}

// Parts are the routes of the passages.
func Parts(s *store.Store) wicketway.Part {
	d := desk{s}
	return wicketway.At("/passages",
		wicketway.Scopes("passages"),
		wicketway.Route("GET /", d.list, wicketway.Summary("Passages booked by the caller")),
		wicketway.Route("POST /", d.book, wicketway.Summary("Book a passage"),
			wicketway.Answers(http.StatusCreated),
			wicketway.Fails(locks.ErrNoSuchLock, ErrLockClosed, ErrSlotTaken, ErrVesselTooLarge)),
		wicketway.Route("GET /{passage}", d.find, wicketway.Summary("One passage of the caller"),
			wicketway.Fails(ErrNoSuchPassage)),
		wicketway.Route("DELETE /{passage}", d.cancel, wicketway.Summary("Cancel a passage"),
			wicketway.Fails(ErrNoSuchPassage)),
	)
}

type desk struct{ store *store.Store }

type listPassages struct {
	After int64 `from:"query after" rule:"minimum=0" note:"The last passage already seen"`
	Limit int   `from:"query limit" rule:"minimum=1 maximum=100 default=20"`
}

type onePassage struct {
	Passage int64 `from:"path passage"`
}

func (d desk) list(ctx context.Context, in listPassages) ([]Passage, error) {
	found, err := d.store.Passages(ctx, wicketway.Caller(ctx).Subject, in.After, in.Limit)
	shown := make([]Passage, len(found))
	for i, p := range found {
		shown[i] = Passage{p.ID, p.Lock, p.Vessel, p.Direction, p.Slot, p.Crew}
	}
	return shown, err
}

func (d desk) find(ctx context.Context, in onePassage) (Passage, error) {
	p, err := d.store.Passage(ctx, wicketway.Caller(ctx).Subject, in.Passage)
	return Passage{p.ID, p.Lock, p.Vessel, p.Direction, p.Slot, p.Crew}, known(err, in.Passage)
}

func (d desk) cancel(ctx context.Context, in onePassage) (wicketway.None, error) {
	err := d.store.Cancel(ctx, wicketway.Caller(ctx).Subject, in.Passage)
	return wicketway.None{}, known(err, in.Passage)
}

func (d desk) book(ctx context.Context, in NewPassage) (wicketway.Reply[Passage], error) {
	var none wicketway.Reply[Passage]
	lock, err := d.store.Lock(ctx, in.Lock)
	if errors.Is(err, store.ErrNotThere) {
		return none, locks.ErrNoSuchLock.New("No lock is called %q.", in.Lock)
	}
	if err != nil {
		return none, err
	}
	vessel, err := d.store.Vessel(ctx, wicketway.Caller(ctx).Subject)
	if err != nil {
		return none, err
	}
	if lock.State != "open" {
		return none, ErrLockClosed.New("%s is not open (%s).", lock.Name, lock.State).With("state", lock.State)
	}
	if vessel.Length > lock.Length || vessel.Beam > lock.Width {
		return none, ErrVesselTooLarge.New("%s is %.1f by %.1f m, the chamber of %s is %.1f by %.1f m.",
			vessel.Name, vessel.Length, vessel.Beam, lock.Name, lock.Length, lock.Width)
	}
	slot := in.Slot.UTC().Truncate(30 * time.Minute)
	p, err := d.store.Book(ctx, store.Passage{
		Lock: lock.Slug, Vessel: vessel.Plate, Direction: in.Direction, Slot: slot, Crew: in.Crew,
	})
	if errors.Is(err, store.ErrTaken) {
		return none, ErrSlotTaken.New("Another vessel has %s at %s.", lock.Name, slot.Format("15:04 on 2 January 2006")).Because(err)
	}
	if err != nil {
		return none, err
	}
	location, err := wicketway.LinkFrom(ctx, "passages.find", onePassage{p.ID})
	return wicketway.Reply[Passage]{
		Header: http.Header{"Location": {location}},
		Value:  Passage{p.ID, p.Lock, p.Vessel, p.Direction, p.Slot, p.Crew},
	}, err
}

func known(err error, id int64) error {
	if errors.Is(err, store.ErrNotThere) {
		return ErrNoSuchPassage.New("You have no passage %d.", id).Because(err)
	}
	return err
}
