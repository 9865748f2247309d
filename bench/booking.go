package main

import (
	"reflect"
	"runtime"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/internal/check"
)

// booking is the body that is decoded: false, 0 and a pattern are in it.
type booking struct {
	Vessel    string    `json:"vessel" rule:"pattern='^[A-Z]{2}-[0-9]{4}$'"`
	Direction string    `json:"direction" rule:"enum=up|down"`
	Slot      time.Time `json:"slot"`
	Crew      int       `json:"crew" rule:"minimum=1 maximum=40"`
	Deposit   int       `json:"deposit" rule:"minimum=0"`
	Hazardous bool      `json:"hazardous"`
	Cargo     cargo     `json:"cargo"`
	Stops     []string  `json:"stops" rule:"maxItems=8"`
	Remark    string    `json:"remark" rule:"maxLength=200"`
}

type cargo struct {
	Kind   string  `json:"kind" rule:"minLength=1 maxLength=40"`
	Tonnes float64 `json:"tonnes" rule:"minimum=0 maximum=300"`
}

const bookingJSON = `{"vessel":"OB-1001","direction":"up","slot":"2027-05-04T09:30:00Z","crew":3,"deposit":0,` +
	`"hazardous":false,"cargo":{"kind":"roof tiles, stacked on pallets","tonnes":38.5},` +
	`"stops":["bell","heron","foundry","abbot","mill-race"],` +
	`"remark":"We come with the early wind and would like to wait above the lock until the passenger boat has gone ` +
	`through; please telephone the wharf if the level falls below the mark, the draught is deep."}`

func decoders() (ours, theirs func(int)) {
	var set check.Set
	t, err := set.Type(reflect.TypeFor[booking]())
	if err != nil {
		panic(err)
	}
	data := []byte(bookingJSON)
	ours = func(n int) {
		for range n {
			var b booking
			if faults, _ := t.Decode(data, &b, check.Reading{}); faults != nil {
				panic(faults)
			}
			runtime.KeepAlive(b.Crew)
		}
	}
	theirs = func(n int) {
		for range n {
			var b booking
			if err := json.Unmarshal(data, &b, json.RejectUnknownMembers(true)); err != nil {
				panic(err)
			}
			runtime.KeepAlive(b.Crew)
		}
	}
	return ours, theirs
}

func decodeChecked(m meter) result {
	ours, theirs := decoders()
	ratio, a, b := m.compare(ours, theirs)
	return holds("", ratio, 1.3, "%.0f ns to %.0f ns, %d bytes", a, b, len(bookingJSON))
}

func decodeAllocations(meter) result {
	ours, theirs := decoders()
	a, b := allocations(ours), allocations(theirs)
	return holds("", a/b, 1, "%.1f to %.1f", a, b)
}
