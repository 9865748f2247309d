package locks

import (
	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/adapt"
	"github.com/wicketway/wicketway/examples/canal/legacy"
	"github.com/wicketway/wicketway/examples/canal/store"
)

// legacyLock is a lock as version 1 showed it: flat, and in feet.
var legacyLock = adapt.Struct[Lock](
	adapt.Rename("lock", "id"),
	adapt.Drop("chamber"),
	adapt.Compute("chamber/length", "length_ft", legacy.Feet, legacy.Metres),
	adapt.Compute("chamber/width", "width_ft", legacy.Feet, legacy.Metres),
	adapt.Compute("state", "open", isOpen, stateOf),
).Ignore("chamber/length", "chamber/width", "state") // a tenth of a foot is three centimetres, and repair is closed

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
		wicketway.Adapted("GET /", d.list, adapt.Same(), legacyLock, wicketway.Summary("All locks"),
			wicketway.Example("two locks", wicketway.None{}, []Lock{bell, tanners})),
		wicketway.Adapted("GET /{lock}", d.find, adapt.Same(), legacyLock, wicketway.Summary("One lock"),
			wicketway.Example("Bell Lock", findLock{"bell"}, bell),
			wicketway.Fails(ErrNoSuchLock)),
	)
}
