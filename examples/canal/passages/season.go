package passages

import (
	"context"
	"errors"
	"net/http"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/problem"
)

// ErrNoSuchVessel is what became of an item of an import whose vessel is not registered.
var ErrNoSuchVessel = problem.NotFound.Define(http.StatusNotFound, "no-such-vessel", "No such vessel is registered")

// SeasonPassage is one passage of a file of many: that of any vessel.
type SeasonPassage struct {
	Vessel string `json:"vessel" rule:"pattern='^[A-Z]{2}-[0-9]{4}$'" note:"Registration plate"`
	NewPassage
}

// Outcome is what became of one item: the number of its passage, or its problem.
type Outcome struct {
	Item    int              `json:"item" note:"Its place in the file, from 0"`
	Passage int64            `json:"passage,omitzero"`
	Problem *problem.Problem `json:"problem,omitzero"`
}

type importPassages struct {
	Passages wicketway.Stream[SeasonPassage] `from:"body" rule:"minItems=1 maxItems=5000"`
}

// SeasonParts is the way in for the passages of a whole season.
func SeasonParts(s *store.Store) wicketway.Part {
	return wicketway.Route("POST /season", desk{s}.importAll,
		wicketway.Summary("Book the passages of a season from a file"),
		wicketway.Scopes("passages:import"),
		wicketway.Limits{Body: 4 << 20, Item: 4 << 10})
}

// importAll books item by item, and tells of each while the next ones are still coming. What is booked stays booked.
func (d desk) importAll(ctx context.Context, in importPassages) (wicketway.Stream[Outcome], error) {
	return func(yield func(Outcome, error) bool) {
		item := 0
		for p, err := range in.Passages {
			o := Outcome{Item: item}
			if err == nil {
				o.Passage, err = d.bookFor(ctx, p)
			}
			known := err == nil || errors.As(err, &o.Problem)
			if !known { // the storage has failed, so the rest would as well
				yield(o, err)
				return
			}
			if !yield(o, nil) {
				return
			}
			item++
		}
	}, nil
}

func (d desk) bookFor(ctx context.Context, p SeasonPassage) (int64, error) {
	vessel, err := d.store.Vessel(ctx, p.Vessel)
	if errors.Is(err, store.ErrNotThere) {
		return 0, ErrNoSuchVessel.Newf("No vessel has the plate %s.", p.Vessel)
	}
	if err != nil {
		return 0, err
	}
	booked, err := d.reserve(ctx, vessel, p.NewPassage)
	return booked.ID, err
}
