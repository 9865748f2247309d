package main

import (
	"context"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"runtime"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/schema"
)

const megabyte = 1 << 20

// A weir contains itself, and has rules and a Check of its own.
type weir struct {
	Name  string `json:"name"`
	Kind  string `json:"kind,omitzero" rule:"pattern='^[a-z]+$'"`
	Gates []weir `json:"gates,omitzero" rule:"maxItems=2000000"`
}

func (w weir) Check(r *schema.Report) {
	if w.Kind == "broken" {
		r.Fault("/kind", "broken", "must not be broken")
	}
}

// Readings are many small values.
type readings struct {
	Marks []int              `json:"marks,omitzero" rule:"uniqueItems items.maximum=1000000000"`
	Level map[string]float64 `json:"level,omitzero"`
	By    map[string]weir    `json:"by,omitzero"`
}

type manyLevels struct {
	Levels []int `from:"query level"`
}

// hostile are requests of a megabyte each that were made to be dear.
func hostile() map[string]*http.Request {
	fill := func(start, piece, end string) string {
		return start + strings.Repeat(piece, (megabyte-len(start)-len(end))/len(piece)) + end
	}
	nested := func(open, shut string, n int) string { return strings.Repeat(open, n) + strings.Repeat(shut, n) }
	requests := map[string]*http.Request{}
	for name, body := range map[string]string{
		"deep": fill(`{"name":"x","gates":[`, nested(`{"name":"x","gates":[`, `]}`, 28)+",",
			`{"name":7}]}`),
		"brackets":           nested("[", "]", megabyte/2),
		"wide":               fill(`{"name":"x","gates":[`, `{"name":""},`, `7]}`),
		"all faults":         fill(`{"gates":[`, `{"kind":"A1"},`, `{}]}`),
		"checks":             fill(`{"name":"x","gates":[`, `{"name":"x","kind":"broken"},`, `{"name":"x"}]}`),
		"a long name":        `{"by":{"` + strings.Repeat("k", megabyte-100) + `":{}}}`,
		"names below names":  fill(`{"by":{"`+strings.Repeat("k", 60_000)+`":{"by":{`, `"":{},`, `"x":1}}}}`),
		"escapes":            fill(`{"name":"`, `\u00e9\n`, `"`),
		"escaped names":      fill(`{"level":{`, `"\u0061":1,`, `"x":1}}`),
		"small numbers":      fill(`{"marks":[`, `1,`, `1]}`),
		"numbers and a tail": fill(`{"marks":[`, `1,`, `1]} x`),
		"wrong numbers":      fill(`{"marks":[`, `1.0,`, `1]}`),
		"a long number":      fill(`{"level":{"a":`, `9`, `}}`),
		"duplicate names":    fill(`{"name":"x",`, `"name":"x",`, `"name":"x"}`),
		"unknown names":      fill(`{`, `"a":1,`, `"name":"x"}`),
		"a cut body":         fill(`{"name":"x","gates":[`, `{"name":"x"},`, ``),
	} {
		path := "/weirs"
		if !strings.Contains(body[:min(len(body), 10)], "name") &&
			!strings.Contains(body[:min(len(body), 10)], "gates") {
			path = "/readings"
		}
		r := httptest.NewRequest("POST", path, strings.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		requests[name] = r
	}
	requests["a query of bad values"] = httptest.NewRequest("GET", "/levels?"+fill("", "level=x&", ""), nil)
	requests["a query of good values"] = httptest.NewRequest("GET", "/levels?"+fill("", "level=1&", ""), nil)
	return requests
}

// hostileMegabyte compares the dearest of them with plain decoding of a megabyte of
// good bookings.
func hostileMegabyte(m meter) result {
	api, err := wicketway.Build(wicketway.Info{Title: "Bench", Version: "1.0.0"},
		wicketway.Chain(accesslog.To(logged, accesslog.Settings{})), wicketway.Limits{Body: 2 * megabyte},
		wicketway.Route("POST /weirs", func(context.Context, weir) (wicketway.None, error) {
			return wicketway.None{}, nil
		}),
		wicketway.Route("POST /readings", func(context.Context, readings) (wicketway.None, error) {
			return wicketway.None{}, nil
		}),
		wicketway.Route("GET /levels", func(context.Context, manyLevels) (wicketway.None, error) {
			return wicketway.None{}, nil
		}),
	)
	if err != nil {
		panic(err)
	}
	good := []byte("[" + strings.Repeat(bookingJSON+",", megabyte/len(bookingJSON)) + bookingJSON + "]")
	theirs := func(n int) {
		for range n {
			var all []booking
			if err := json.Unmarshal(good, &all); err != nil {
				panic(err)
			}
			runtime.KeepAlive(all)
		}
	}
	brief := m
	brief.pairs, brief.milliseconds = max(3, m.pairs/4), 1
	worst, which, dear, fair := 0.0, "", 0.0, 0.0
	requests := hostile()
	for _, name := range slices.Sorted(maps.Keys(requests)) {
		r := requests[name]
		body, _ := io.ReadAll(r.Body)
		p := &page{header: http.Header{}}
		ratio, a, b := brief.compare(func(n int) {
			for range n {
				r.Body = io.NopCloser(strings.NewReader(string(body)))
				clear(p.header)
				p.body.Reset()
				api.ServeHTTP(p, r)
			}
		}, theirs)
		if ratio > worst {
			worst, which, dear, fair = ratio, name, a, b
		}
	}
	return holds("", worst, 10, "%s: %.0f ms to %.0f ms", which, dear/1e6, fair/1e6)
}
