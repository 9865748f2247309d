package locks

import (
	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/canal/legacy"
	"github.com/wicketway/wicketway/examples/canal/store"
)

// legacyLock is a lock as version 1 showed it: flat, and in feet.
var legacyLock = wicketway.Shaped[Lock](
	wicketway.Renamed("lock", "id"),
	wicketway.Dropped("chamber"),
	wicketway.Computed("chamber/length", "length_ft", legacy.Feet, legacy.Metres),
	wicketway.Computed("chamber/width", "width_ft", legacy.Feet, legacy.Metres),
	wicketway.Computed("state", "open", isOpen, stateOf),
).Loses("chamber/length", "chamber/width", "state") // a tenth of a foot is three centimetres, and repair is closed

func isOpen(state string) bool { return state == "open" }

func stateOf(open bool) (string, error) {
	if open {
		return "open", nil
	}
	return "closed", nil
}

// LegacyParts are the routes of version 1.
func LegacyParts(s *store.Store) wicketway.Part {
	d := desk{s}
	return wicketway.At("/locks", wicketway.Public(),
		wicketway.Adapted("GET /", d.list, wicketway.Same(), legacyLock, wicketway.Summary("All locks")),
		wicketway.Adapted("GET /{lock}", d.find, wicketway.Same(), legacyLock, wicketway.Summary("One lock"),
			wicketway.Fails(ErrNoSuchLock)),
	)
}
