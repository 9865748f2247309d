package locks

import (
	"context"
	"math"
	"strconv"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
)

// Level is one reading of a gauge.
type Level struct {
	Reading int64     `json:"reading" note:"Counts up; what came last is sent again as Last-Event-ID"`
	Metres  float64   `json:"metres"`
	Read    time.Time `json:"read"`
}

// EventID lets a listener who lost the connection go on where it was.
func (l Level) EventID() string { return strconv.FormatInt(l.Reading, 10) }

// EventName is what listeners add their functions for.
func (Level) EventName() string { return "level" }

type readLevels struct {
	findLock
	Back  int   `from:"query back" rule:"minimum=0 maximum=3600 default=5" note:"How many seconds before now to begin"`
	Count int   `from:"query count" rule:"minimum=0 maximum=3600" note:"How many readings; 0: as long as the caller listens"`
	After int64 `from:"header Last-Event-ID" rule:"minimum=0" note:"The reading that came last"`
}

// levels sends a reading for each second, those of the past at once. One that is not wanted any
// more ends with the context, or when the server drains.
func (d desk) levels(ctx context.Context, in readLevels) (wicketway.Stream[Level], error) {
	if _, err := d.store.Lock(ctx, in.Lock); err != nil {
		return nil, known(err, in.Lock)
	}
	next := time.Now().Unix() - int64(in.Back)
	if in.After > 0 {
		now := time.Now().Unix()
		next = min(max(in.After+1, now-3600), now+1) // no reading that came last lies ahead
	}
	return func(yield func(Level, error) bool) {
		for sent := 0; in.Count == 0 || sent < in.Count; sent++ {
			select {
			case <-time.After(time.Until(time.Unix(next, 0))):
			case <-ctx.Done():
				return
			case <-exchange.Of(ctx).Draining():
				return
			}
			if !yield(reading(in.Lock, next), nil) {
				return
			}
			next++
		}
	}, nil
}

// reading is what the made-up gauge of a lock shows at a second.
func reading(lock string, second int64) Level {
	swell := math.Sin(float64(second)/90+float64(len(lock))) * 0.12
	return Level{second, math.Round((2.4+swell)*1000) / 1000, time.Unix(second, 0).UTC()}
}
