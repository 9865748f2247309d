package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"reflect"
	"runtime"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/schema"
)

// hundredThousand bookings are a body that is read item by item.
const hundredThousand = 100_000

// manyBookings gives the body, which is made as it is read.
func manyBookings() io.Reader {
	thousand := strings.Repeat(bookingJSON+",", 1000)
	pieces := []io.Reader{strings.NewReader("[")}
	for range hundredThousand/1000 - 1 {
		pieces = append(pieces, strings.NewReader(thousand))
	}
	pieces = append(pieces, strings.NewReader(strings.TrimSuffix(thousand, ",")), strings.NewReader("]"))
	return io.MultiReader(pieces...)
}

// bookingsByStream takes the body as a stream; each is called at every thousandth item.
func bookingsByStream(each func()) func(n int) {
	h := answering(wicketway.Route("POST /bookings", func(_ context.Context, in wicketway.Stream[booking]) (int, error) {
		items := 0
		for b, err := range in {
			if err != nil {
				return 0, err
			}
			if items += b.Crew / 3; items%1000 == 0 {
				each()
			}
		}
		return items, nil
	}, wicketway.Limits{Body: 1 << 30}))
	return func(n int) {
		for range n {
			r := httptest.NewRequest("POST", "/bookings", manyBookings())
			r.Header.Set("Content-Type", "application/json")
			w := httptest.NewRecorder()
			if h.ServeHTTP(w, r); w.Code != http.StatusOK || strings.TrimSpace(w.Body.String()) != fmt.Sprint(hundredThousand) {
				panic(w.Body.String())
			}
		}
	}
}

func streamedBody(m meter) result {
	theirs := func(n int) {
		for range n {
			d := jsontext.NewDecoder(manyBookings())
			if _, err := d.ReadToken(); err != nil {
				panic(err)
			}
			items := 0
			for d.PeekKind() != jsontext.KindEndArray {
				var b booking
				if err := json.UnmarshalDecode(d, &b, json.RejectUnknownMembers(true)); err != nil {
					panic(err)
				}
				items += b.Crew / 3
			}
			if items != hundredThousand {
				panic(items)
			}
		}
	}
	ratio, a, b := m.compare(bookingsByStream(func() {}), theirs)
	return holds("", ratio, 1.2, "%.0f ns to %.0f ns an item", a/hundredThousand, b/hundredThousand)
}

// bodyHeap is how much the heap grows while such a body comes in, in MiB.
func bodyHeap(meter) result {
	most, before := uint64(0), heap()
	bookingsByStream(func() {
		if now := heap(); now > before {
			most = max(most, now-before)
		}
	})(1)
	return holds("", float64(most)/(1<<20), 1, "%d KiB", most>>10)
}

// A charge is one of several types, by its member kind.
type charge interface{ cents() int }

type (
	lockage struct {
		Lock   string  `json:"lock"`
		Vessel string  `json:"vessel" rule:"pattern='^[A-Z]{2}-[0-9]{4}$'"`
		Tonnes float64 `json:"tonnes" rule:"minimum=0 maximum=300"`
		Cents  int     `json:"cents" rule:"minimum=1"`
		Remark string  `json:"remark" rule:"maxLength=200"`
	}
	mooring struct {
		Nights int `json:"nights"`
	}
	knownCharge struct {
		Kind string `json:"kind" rule:"enum=lockage|mooring"`
		lockage
	}
	charges struct{}
)

func (l lockage) cents() int { return l.Cents }
func (m mooring) cents() int { return m.Nights }

func (charges) Cases() (string, map[string]charge) {
	return "kind", map[string]charge{"lockage": lockage{}, "mooring": mooring{}}
}

func oneOfSeveral(m meter) result {
	data := bytes.TrimSpace([]byte(`{"kind":"lockage","lock":"foundry","vessel":"OB-1001","tonnes":38.5,"cents":1250,` +
		`"remark":"We come with the early wind and would like to wait above the lock until the boat has gone through."}`))
	var set check.Set
	several, err := set.Type(reflect.TypeFor[schema.OneOf[charge, charges]]())
	if err != nil {
		panic(err)
	}
	known, err := set.Type(reflect.TypeFor[knownCharge]())
	if err != nil {
		panic(err)
	}
	ours := func(n int) {
		for range n {
			var c schema.OneOf[charge, charges]
			if faults, _ := several.Decode(data, &c, check.Reading{}); faults != nil {
				panic(faults)
			}
			runtime.KeepAlive(c.Value)
		}
	}
	theirs := func(n int) {
		for range n {
			var c knownCharge
			if faults, _ := known.Decode(data, &c, check.Reading{}); faults != nil {
				panic(faults)
			}
			runtime.KeepAlive(c.Cents)
		}
	}
	ratio, a, b := m.compare(ours, theirs)
	return holds("", ratio, 1.3, "%.0f ns to %.0f ns, %d bytes", a, b, len(data))
}
