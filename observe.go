package wicketway

import (
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/here"
)

// Observe adds an observer of the requests of a group. Without one the steps cost nothing.
func Observe(by exchange.Observer) Setting {
	return setting{at: here.Here(0), name: "Observe", slot: slotObserve, mode: ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if isNil(by) {
				b.mistake(at, "Observe: the observer is nil")
				return
			}
			askWrong(b, at, "Observe", by)
			t.observers = append(t.observers[:len(t.observers):len(t.observers)], by)
		}}
}
