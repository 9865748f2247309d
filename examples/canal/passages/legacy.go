package passages

import (
	"errors"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/canal/legacy"
	"github.com/wicketway/wicketway/examples/canal/locks"
	"github.com/wicketway/wicketway/examples/canal/store"
)

// What a passage was in version 1, and what booking one took.
var (
	legacyPassage = wicketway.Shaped[Passage](
		wicketway.Renamed("passage", "id"),
		wicketway.Renamed("vessel", "plate"),
		legacyDirection,
		legacySlot,
		wicketway.Dropped("crew"),
		wicketway.Dropped("remark"),
	)
	legacyBooking = wicketway.Shaped[NewPassage](legacyDirection, legacySlot, wicketway.Dropped("crew"), wicketway.Dropped("remark"))

	legacyDirection = wicketway.Computed("direction", "up",
		func(direction string) bool { return direction == "up" },
		func(up bool) (string, error) {
			if up {
				return "up", nil
			}
			return "down", nil
		})
	legacySlot = wicketway.Computed("slot", "at",
		func(slot time.Time) string { return slot.UTC().Format(legacyTime) },
		func(at string) (time.Time, error) {
			slot, err := time.Parse(legacyTime, at)
			if err != nil {
				return slot, errors.New("must be a time in UTC such as 2027-04-01 06:00")
			}
			return slot, nil
		}).Tagged(`note:"UTC, as 2027-04-01 06:00"`)
)

const legacyTime = "2006-01-02 15:04"

// LegacyParts are the routes of version 1, which had no pages: a list is the first hundred.
func LegacyParts(s *store.Store) wicketway.Part {
	d := desk{s}
	return wicketway.At("/passages",
		wicketway.Scopes("passages"),
		wicketway.RaisedAs(ErrCanal, legacy.ErrRefused),
		wicketway.Adapted("GET /", d.list,
			wicketway.Shaped[listPassages](wicketway.Dropped("query after"), wicketway.Fixed("query limit", 100)),
			legacyPassage.Unpaged(), wicketway.Summary("The passages of the caller")),
		wicketway.Adapted("POST /", d.book, legacyBooking, legacyPassage, wicketway.LocatedBy(d.find), wicketway.Summary("Book a passage"),
			wicketway.Fails(locks.ErrNoSuchLock, ErrLockClosed, ErrSlotTaken, ErrVesselTooLarge, ErrNoVessel)),
		wicketway.Adapted("GET /{passage}", d.find, wicketway.Same(), legacyPassage, wicketway.Conditional(), wicketway.Summary("One passage"),
			wicketway.Fails(ErrNoSuchPassage)),
	)
}
