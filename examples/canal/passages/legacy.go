package passages

import (
	"errors"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/adapt"
	"github.com/wicketway/wicketway/examples/canal/legacy"
	"github.com/wicketway/wicketway/examples/canal/locks"
	"github.com/wicketway/wicketway/examples/canal/store"
)

// What a passage was in version 1, and what booking one took.
var (
	legacyPassage = adapt.Struct[Passage](
		adapt.Rename("passage", "id"), adapt.Rename("vessel", "plate"), legacyDirection, legacySlot, adapt.Drop("crew"),
		adapt.Drop("remark"),
	)
	legacyBooking = adapt.Struct[NewPassage](legacyDirection, legacySlot, adapt.Drop("crew"), adapt.Drop("remark"))

	legacyDirection = adapt.Compute("direction", "up",
		func(direction string) bool { return direction == "up" },
		func(up bool) (string, error) {
			if up {
				return "up", nil
			}
			return "down", nil
		})
	legacySlot = adapt.Compute("slot", "at",
		func(slot time.Time) string { return slot.UTC().Format(legacyTime) },
		func(at string) (time.Time, error) {
			slot, err := time.Parse(legacyTime, at)
			if err != nil {
				return slot, errors.New("must be a time in UTC such as 2027-04-01 06:00")
			}
			return slot, nil
		}).WithTag(`note:"UTC, as 2027-04-01 06:00"`)
)

const legacyTime = "2006-01-02 15:04"

// LegacyParts are the routes of version 1, which had no pages: a list is the first hundred.
func LegacyParts(s *store.Store) wicketway.Part {
	d := desk{s}
	return wicketway.At(
		"/passages",
		wicketway.Scopes("passages"),
		wicketway.KindAs(ErrCanal, legacy.ErrRefused),
		wicketway.Adapted("GET /", d.list,
			adapt.Struct[listPassages](adapt.Drop("query after"), adapt.Constant("query limit", 100)),
			legacyPassage.AsList(), wicketway.Summary("The passages of the caller"),
			wicketway.Example("one passage", listPassages{Limit: 100}, wicketway.Page[Passage]{Items: []Passage{booked}})),
		wicketway.Adapted(
			"POST /", d.book, legacyBooking, legacyPassage, wicketway.LocatedBy(d.find), wicketway.Summary("Book a passage"),
			wicketway.Example("upstream in the morning", booking, booked),
			wicketway.Fails(locks.ErrNoSuchLock, ErrLockClosed, ErrSlotTaken, ErrVesselTooLarge, ErrNoVessel),
		),
		wicketway.Adapted(
			"GET /{passage}",
			d.find,
			adapt.Same(),
			legacyPassage,
			wicketway.Conditional(),
			wicketway.Summary("One passage"),
			wicketway.Example("a passage", onePassage{61}, booked),
			wicketway.Fails(ErrNoSuchPassage),
		),
	)
}
