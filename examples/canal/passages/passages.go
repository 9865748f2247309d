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
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/format/csv"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// What can prevent a passage.
var (
	ErrNoSuchPassage = problem.NotFound.Define(http.StatusNotFound, "no-such-passage", "The caller has no such passage")
	ErrCanal         = problem.Define(http.StatusConflict, "canal", "The canal cannot do that now").
				Means("The request is well, but not at this time or in this place.")
	ErrLockClosed = ErrCanal.Define(http.StatusConflict, "lock-closed",
		"The lock is closed").
		Means("The member state says why; another lock may be open.").
		Carries("state", "repair")
	ErrSlotTaken = ErrCanal.Define(http.StatusConflict, "slot-taken",
		"The slot is taken").
		Means("Choose another half hour.")
	ErrNoVessel       = ErrCanal.Define(http.StatusConflict, "no-vessel", "The caller has no vessel")
	ErrVesselTooLarge = ErrCanal.Define(http.StatusConflict, "vessel-too-large",
		"The vessel does not fit the chamber").
		Means("The detail gives the sizes in metres.")
)

// Passage is a booking as the API shows it.
type Passage struct {
	Passage   int64     `json:"passage"`
	Lock      string    `json:"lock"`
	Vessel    string    `json:"vessel" note:"Registration plate"`
	Direction string    `json:"direction" rule:"enum=up|down"`
	Slot      time.Time `json:"slot" note:"Start of the half hour"`
	Crew      int       `json:"crew" rule:"minimum=1 maximum=40"`
	Remark    *string   `json:"remark,omitzero" rule:"maxLength=200"`
}

// NewPassage is what a skipper asks for. The vessel is the caller's own.
type NewPassage struct {
	Lock      string    `json:"lock" rule:"minLength=1 maxLength=40"`
	Direction string    `json:"direction" rule:"enum=up|down"`
	Slot      time.Time `json:"slot" note:"Start of a half hour"`
	Crew      int       `json:"crew" rule:"minimum=1 maximum=40 default=2"`
	Remark    *string   `json:"remark,omitzero" rule:"maxLength=200"`
}

// Check holds the slot against the canal's clock.
func (p NewPassage) Check(r *schema.Report) { checkSlot(r, p.Slot) }

// PassagePatch is a merge patch: what is absent stays as it is, and a remark that
// is null goes away; nothing else may be null.
type PassagePatch struct {
	Direction schema.Optional[string]    `json:"direction,omitzero" rule:"type=string enum=up|down"`
	Slot      schema.Optional[time.Time] `json:"slot,omitzero" rule:"type=string"`
	Crew      schema.Optional[int]       `json:"crew,omitzero" rule:"type=integer minimum=1 maximum=40"`
	Remark    schema.Optional[string]    `json:"remark,omitzero" rule:"maxLength=200"`
}

// Check holds the slot against the canal's clock, if there is a new one.
func (p PassagePatch) Check(r *schema.Report) {
	if p.Slot.State == schema.Given {
		checkSlot(r, p.Slot.Value)
	}
}

// lastSeason is the year after which nobody books: it keeps slots where every clock
// and every store can write them, whatever their offset.
const lastSeason = 2100

func checkSlot(r *schema.Report, slot time.Time) {
	if year := slot.UTC().Year(); year < 2000 || year > lastSeason {
		r.Fault("/slot", "season", "must lie between the years 2000 and %d", lastSeason)
	}
	if slot.Minute()%30 != 0 || slot.Second() != 0 || slot.Nanosecond() != 0 {
		r.Fault("/slot", "halfHour", "must be the start of a half hour, such as 09:30:00")
	}
}

// Parts are the routes of the passages.
func Parts(s *store.Store) wicketway.Part {
	d := desk{s}
	return wicketway.At("/passages",
		wicketway.Scopes("passages"),
		wicketway.Route("GET /", d.list, wicketway.Summary("Passages booked by the caller"),
			wicketway.Formats(csv.Lists()), wicketway.FormatChoice{By: []format.Way{format.BySuffix(), format.ByAccept()}},
			wicketway.Conditional(),
			wicketway.Example("the first page", listPassages{Limit: 1}, wicketway.Page[Passage]{Items: []Passage{booked}, Next: wicketway.CursorAt[int64](61).String()})),
		wicketway.Route("POST /", d.book, wicketway.Summary("Book a passage"),
			wicketway.LocatedBy(d.find), wicketway.Example("upstream in the morning", booking, booked),
			wicketway.Example("while the lock is closed", booking, ErrLockClosed.New("Bell Lock is not open (repair).").With("state", "repair")),
			wicketway.Fails(locks.ErrNoSuchLock, ErrLockClosed, ErrSlotTaken, ErrVesselTooLarge, ErrNoVessel)),
		wicketway.At("/{passage}",
			wicketway.Conditional(),
			wicketway.Fails(ErrNoSuchPassage),
			wicketway.Route("GET /", d.find, wicketway.Summary("One passage of the caller"),
				wicketway.Example("a passage", onePassage{61}, booked)),
			wicketway.Route("PATCH /", d.change, wicketway.Summary("Change a passage"), wicketway.Fails(ErrSlotTaken),
				wicketway.Example("half an hour later", changePassage{onePassage: onePassage{61}, Body: PassagePatch{Slot: schema.Some(later.Slot)}}, later)),
			wicketway.Route("DELETE /", d.cancel, wicketway.Summary("Cancel a passage")),
		),
	)
}

// What the contract shows: a booking, and what comes of it.
var (
	morning = time.Date(2027, time.May, 4, 9, 30, 0, 0, time.UTC)
	booking = bookPassage{Notify: "none", Body: NewPassage{Lock: "bell", Direction: "up", Slot: morning, Crew: 2}}
	booked  = Passage{Passage: 61, Lock: "bell", Vessel: "OB-1001", Direction: "up", Slot: morning, Crew: 2}
	later   = Passage{Passage: 61, Lock: "bell", Vessel: "OB-1001", Direction: "up", Slot: morning.Add(30 * time.Minute), Crew: 2}
)

type desk struct{ store *store.Store }

type listPassages struct {
	After wicketway.Cursor[int64] `from:"query after" note:"From the page before"`
	Limit int                     `from:"query limit" rule:"minimum=1 maximum=100 default=20"`
}

type onePassage struct {
	Passage int64 `from:"path passage"`
}

type bookPassage struct {
	Notify string     `from:"query notify" rule:"enum=none|skipper|keeper default=none deprecated=2027-03-01" note:"Who is notified"`
	Body   NewPassage `from:"body"`
}

type changePassage struct {
	onePassage
	If   wicketway.Conditions[Passage]
	Body PassagePatch `from:"body"`
}

type cancelPassage struct {
	onePassage
	If wicketway.Conditions[Passage]
}

func (d desk) list(ctx context.Context, in listPassages) (wicketway.Page[Passage], error) {
	page := wicketway.Page[Passage]{Items: []Passage{}}
	found, err := d.store.Passages(ctx, wicketway.Caller(ctx).Subject, in.After.Key, in.Limit+1)
	if err != nil {
		return page, err
	}
	for i, p := range found {
		if i == in.Limit { // one more than asked for: there is another page
			page.Next = wicketway.CursorAt(found[i-1].ID).String()
			break
		}
		page.Items = append(page.Items, show(p))
	}
	return page, nil
}

func (d desk) find(ctx context.Context, in onePassage) (Passage, error) {
	p, err := d.store.Passage(ctx, wicketway.Caller(ctx).Subject, in.Passage)
	return show(p), known(err, in.Passage)
}

func (d desk) cancel(ctx context.Context, in cancelPassage) (wicketway.None, error) {
	err := d.store.Cancel(ctx, wicketway.Caller(ctx).Subject, in.Passage, func(p store.Passage) error {
		return in.If.Hold(show(p))
	})
	return wicketway.None{}, known(err, in.Passage)
}

func (d desk) change(ctx context.Context, in changePassage) (Passage, error) {
	changed, err := d.store.Change(ctx, wicketway.Caller(ctx).Subject, in.Passage, func(p *store.Passage) error {
		if err := in.If.Hold(show(*p)); err != nil {
			return err
		}
		in.Body.apply(p)
		return nil
	})
	if errors.Is(err, store.ErrTaken) {
		return Passage{}, ErrSlotTaken.New("Another vessel is in the lock then.").Because(err)
	}
	return show(changed), known(err, in.Passage)
}

func (b PassagePatch) apply(p *store.Passage) {
	b.Direction.Apply(&p.Direction)
	b.Slot.Apply(&p.Slot)
	b.Crew.Apply(&p.Crew)
	switch b.Remark.State {
	case schema.Null:
		p.Remark = nil
	case schema.Given:
		p.Remark = &b.Remark.Value
	}
}

func (d desk) book(ctx context.Context, in bookPassage) (*wicketway.Created[Passage, onePassage], error) {
	account, ok := exchange.AccountOf[*store.Account](ctx) // the guard has loaded it
	if !ok || account.Keeper {
		return nil, ErrNoVessel.New("Keepers book by telephone.")
	}
	p, err := d.reserve(ctx, account.Vessel, in.Body)
	if err != nil {
		return nil, err
	}
	return &wicketway.Created[Passage, onePassage]{Value: show(p), At: onePassage{p.ID}}, nil
}

// reserve books a passage for a vessel that fits a lock that is open.
func (d desk) reserve(ctx context.Context, vessel store.Vessel, wanted NewPassage) (store.Passage, error) {
	var name string // of the lock
	p, err := d.store.Book(ctx, store.Passage{
		Lock: wanted.Lock, Vessel: vessel.Plate, Direction: wanted.Direction, Slot: wanted.Slot, Crew: wanted.Crew,
		Remark: wanted.Remark,
	}, func(lock store.Lock) error {
		name = lock.Name
		if lock.State != "open" {
			return ErrLockClosed.Newf("%s is not open (%s).", lock.Name, lock.State).With("state", lock.State)
		}
		if vessel.Length > lock.Length || vessel.Beam > lock.Width {
			return ErrVesselTooLarge.Newf("%s is %.1f by %.1f m, the chamber of %s is %.1f by %.1f m.",
				vessel.Name, vessel.Length, vessel.Beam, lock.Name, lock.Length, lock.Width)
		}
		return nil
	})
	switch {
	case errors.Is(err, store.ErrNotThere):
		return p, locks.ErrNoSuchLock.Newf("No lock is called %q.", wanted.Lock)
	case errors.Is(err, store.ErrTaken):
		return p, ErrSlotTaken.Newf("Another vessel has %s at %s.", name, wanted.Slot.UTC().Format("15:04 on 2 January 2006")).Because(err)
	}
	return p, err
}

func show(p store.Passage) Passage {
	return Passage{p.ID, p.Lock, p.Vessel, p.Direction, p.Slot, p.Crew, p.Remark}
}

func known(err error, id int64) error {
	if errors.Is(err, store.ErrNotThere) {
		return ErrNoSuchPassage.Newf("You have no passage %d.", id).Because(err)
	}
	return err
}
