package passages

import (
	"testing"
	"time"

	"github.com/wicketway/wicketway/wicketwaytest"
)

func TestLegacyPassages(t *testing.T) {
	slot := time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC)
	wicketwaytest.Adapts(t, legacyPassage,
		Passage{Passage: 61, Lock: "bell", Vessel: "OB-1001", Direction: "up", Slot: slot, Crew: 3},
		Passage{Passage: 62, Lock: "heron", Vessel: "OB-1002", Direction: "down", Slot: slot.AddDate(1, 2, 3), Crew: 4})
	wicketwaytest.Adapts(t, legacyBooking,
		NewPassage{Lock: "bell", Direction: "up", Slot: slot, Crew: 3},
		NewPassage{Lock: "heron", Direction: "down", Slot: slot.AddDate(1, 2, 3), Crew: 4})
}
