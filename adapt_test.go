package wicketway_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/adapt"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/format/csv"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

var (
	errFull     = problem.Define(http.StatusConflict, "slot-full", "The slot is full")
	errFuller   = errFull.Define(http.StatusConflict, "slot-fuller", "The slot is more than full")
	errFullest  = problem.Define(http.StatusConflict, "fullest", "The slot is as full as can be")
	errOccupied = problem.Define(http.StatusBadRequest, "occupied", "The lock is occupied")
)

// trip is the present shape; its tag is its own.
type trip struct {
	ID      int64   `json:"trip"`
	Lock    string  `json:"lock" rule:"minLength=2 maxLength=8" note:"Slug"`
	Up      bool    `json:"up"`
	Size    chamber `json:"size"`
	Crew    int     `json:"crew" rule:"minimum=1 maximum=40 default=2"`
	Remarks []note  `json:"remarks,omitempty"`
}

type branch struct {
	Name     string             `json:"name"`
	Branches map[string]*branch `json:"branches"`
}

type chamber struct {
	Length float64 `json:"length" rule:"maximum=100"`
}

type note struct {
	Text string    `json:"text"`
	At   time.Time `json:"at"`
}

func (t trip) ETag() string    { return fmt.Sprintf("trip-%d", t.ID) }
func (t trip) EventID() string { return fmt.Sprint(t.ID) }

// Check is asked of what an old input becomes, too.
func (t trip) Check(r *schema.Report) {
	if t.Lock == "bell" && t.Crew > 9 {
		r.Fault("/crew", "crowd", "is too many for this lock")
	}
	if t.Lock == "heron" && t.Size.Length > 20 {
		r.Fault("/size/length", "fit", "is too long for this lock")
	}
}

type oneTrip struct {
	Trip int64 `from:"path trip"`
}

type newTrip struct {
	Quiet string `from:"query notify" rule:"enum=none|all default=none"`
	Body  trip   `from:"body"`
}

type changeTrip struct {
	oneTrip
	If   wicketway.Conditions[trip]
	Body trip `from:"body"`
}

func tripOf(id int64) trip {
	return trip{ID: id, Lock: "bell", Up: id%2 == 1, Size: chamber{Length: 10}, Crew: 3, Remarks: []note{{"wet", time.Unix(0, 0).UTC()}}}
}

func findTrip(_ context.Context, in oneTrip) (trip, error) {
	switch in.Trip {
	case 9:
		return trip{}, errFuller.New("Nine is too many.").WithHeader("Retry-After", "5")
	case 8:
		return trip{}, errors.New("the pump has failed")
	}
	return tripOf(in.Trip), nil
}

func specialTrip(ctx context.Context, in oneTrip) (trip, error) { return findTrip(ctx, in) }

func firstTrip(ctx context.Context, in oneTrip) (trip, error) { return findTrip(ctx, in) }

func listTrips(_ context.Context, in struct {
	After wicketway.Cursor[int64] `from:"query after"`
	Limit int                     `from:"query limit" rule:"minimum=1 maximum=50 default=2"`
}) (wicketway.Page[trip], error) {
	p := wicketway.Page[trip]{Next: wicketway.CursorAt(int64(2)).String()}
	for i := range in.Limit {
		p.Items = append(p.Items, tripOf(int64(i+1)))
	}
	return p, nil
}

func bookTrip(_ context.Context, in newTrip) (*wicketway.Created[trip, oneTrip], error) {
	in.Body.ID = 61
	if in.Quiet == "all" {
		in.Body.Lock = "loud"
	}
	return &wicketway.Created[trip, oneTrip]{Value: in.Body, At: oneTrip{61}}, nil
}

func patchTrip(_ context.Context, in changeTrip) (trip, error) {
	now := tripOf(in.Trip)
	if err := in.If.Hold(now); err != nil {
		return trip{}, err
	}
	now.Crew = in.Body.Crew
	return now, nil
}

func streamTrips(context.Context, wicketway.None) (wicketway.Stream[trip], error) {
	return func(yield func(trip, error) bool) {
		_ = yield(tripOf(1), nil) && yield(tripOf(2), nil) && yield(trip{}, errFull.New("It is over."))
	}, nil
}

var oldTrip = adapt.Struct[trip](
	adapt.Rename("trip", "id"),
	adapt.Compute("up", "direction", direction, ofDirection),
	adapt.Drop("size"),
	adapt.Compute("size/length", "length_ft", func(m float64) float64 { return m * 4 }, func(ft float64) (float64, error) { return ft / 4, nil }).
		WithTag(`rule:"minimum=1" note:"In feet"`),
	adapt.Drop("crew"),
	adapt.Extra("label", func(t trip) string { return strings.ToUpper(t.Lock) }, nil).WithTag(`json:",omitzero"`),
	adapt.In("remarks", adapt.Rename("text", "says"), adapt.Drop("at")),
)

func direction(up bool) string { return map[bool]string{true: "up", false: "down"}[up] }

func ofDirection(text string) (bool, error) {
	if text != "up" && text != "down" {
		return false, errors.New("must be up or down")
	}
	return text == "up", nil
}

type oldError struct {
	Error string `json:"error"`
	Field string `json:"field,omitzero"`
}

func asOldError(p format.Problem) oldError {
	e := oldError{Error: p.Code + ": " + p.Detail}
	if len(p.Errors) > 0 {
		if e.Field = p.Errors[0].Name; p.Errors[0].Pointer != nil {
			e.Field += *p.Errors[0].Pointer
		}
		e.Error += " " + p.Errors[0].Detail
	}
	return e
}

func adaptedAPI(t *testing.T) *wicketway.API {
	same := adapt.Same()
	present := func() wicketway.Part {
		return wicketway.Group(
			wicketway.Route("GET /trips", listTrips, wicketway.Formats(csv.Lists())),
			wicketway.Route("POST /trips", bookTrip, wicketway.LocatedBy(findTrip)),
			wicketway.Route("GET /trips/{trip}", findTrip, wicketway.Conditional(), wicketway.Fails(errFull)),
			wicketway.Route("GET /live", streamTrips))
	}
	return build(t,
		wicketway.Version("v2", present()),
		wicketway.Version("v1", wicketway.KindAs(errFull, errOccupied), wicketway.Group(wicketway.KindAs(errFuller, errFullest),
			wicketway.Route("GET /special/{trip}", specialTrip, wicketway.Fails(errFull))), wicketway.ProblemShape("", asOldError),
			wicketway.Adapted("GET /trips", listTrips, adapt.Struct[struct {
				After wicketway.Cursor[int64] `from:"query after"`
				Limit int                     `from:"query limit" rule:"minimum=1 maximum=50 default=2"`
			}](adapt.Drop("query after"), adapt.Constant("query limit", 3)), oldTrip.AsList(), wicketway.Formats(csv.Lists())),
			wicketway.Adapted("GET /pages", listTrips, adapt.Struct[struct {
				After wicketway.Cursor[int64] `from:"query after"`
				Limit int                     `from:"query limit" rule:"minimum=1 maximum=50 default=2"`
			}](adapt.Rename("query limit", "query max")), oldTrip),
			wicketway.Adapted("POST /trips", bookTrip, adapt.Struct[newTrip](adapt.Rename("query notify", "header Tell"),
				adapt.In("body", adapt.Rename("trip", "id"), adapt.Compute("up", "direction", direction, ofDirection), adapt.Drop("crew"),
					adapt.Drop("remarks"), adapt.In("size", adapt.Rename("length", "long")))), oldTrip, wicketway.LocatedBy(findTrip)),
			wicketway.Adapted("PUT /trips", bookTrip, oldTrip, oldTrip, wicketway.LocatedBy(findTrip)),
			wicketway.Adapted("GET /trips/{trip}", findTrip, same, oldTrip, wicketway.Conditional(), wicketway.Fails(errFull)),
			wicketway.Adapted("PATCH /trips/{trip}", patchTrip, adapt.Struct[changeTrip](adapt.In("body", adapt.Rename("crew", "hands"))), oldTrip, wicketway.Conditional()),
			wicketway.Adapted("GET /live", streamTrips, same, oldTrip),
			wicketway.Adapted("PUT /all", func(_ context.Context, in []*trip) (int, error) { return len(in), nil }, oldTrip, same, wicketway.Limits{Faults: 3}),
			wicketway.Adapted("GET /first", firstTrip, adapt.Func(nil, func(in struct {
				N int `from:"query n" rule:"maximum=9"`
			}) (oneTrip, error) {
				if in.N == 0 {
					return oneTrip{}, errors.New("must be more than nothing")
				}
				return oneTrip{int64(in.N)}, nil
			}), adapt.Func(func(t trip) string { return t.Lock }, nil), wicketway.Fails(errFull))))
}

// An old version over the functions of the new one: each row is a request and what an old caller
// gets.
func TestAdapted(t *testing.T) {
	api := adaptedAPI(t)
	old := func(id, direction, more string) string {
		return `{"id":` + id + `,"lock":"bell","direction":"` + direction + `","remarks":[{"says":"wet"}],"length_ft":40,"label":"BELL"` + more + `}`
	}
	const body = `{"id":1,"lock":"bell","direction":"up","size":{"long":9}}`
	for _, c := range []struct {
		line, header, body string
		status             int
		want               string // the whole body of a success; a part of a failure's
		field              string // of the answer's header
	}{
		{"GET /v1/trips/1", "", "", 200, old("1", "up", ""), "Content-Type: application/json"},
		{"GET /v1/trips/2", "", "", 200, old("2", "down", ""), `Etag: "trip-2-`}, // its own, with the shape
		{"GET /v2/trips/2", "", "", 200, `{"trip":2,"lock":"bell","up":false,"size":{"length":10},"crew":3,"remarks":[{"text":"wet","at":"1970-01-01T00:00:00Z"}]}`, `Etag: "trip-2"`},
		{"GET /v1/trips", "", "", 200, "[" + old("1", "up", "") + "," + old("2", "down", "") + "," + old("3", "up", "") + "]", ""},
		{"GET /v1/trips?limit=1", "", "", 200, "[" + old("1", "up", "") + "," + old("2", "down", "") + "," + old("3", "up", "") + "]", ""},
		{"GET /v1/trips", "Accept: text/csv", "", 200, "id,lock,direction,remarks,length_ft,label", ""},
		{"GET /v1/pages?max=1", "", "", 200, `{"items":[` + old("1", "up", "") + `],"next":"Mg"}`, `Link: <?after=Mg&max=1>; rel="next"`},
		{"GET /v1/pages?max=51", "", "", 422, `{"error":"input-invalid: One value breaks a rule. must be at most 50","field":"max"}`, ""},
		{"GET /v1/live", "Accept: text/event-stream", "", 200, "id: 1\ndata: " + old("1", "up", ""), ""},
		{"GET /v1/live", "Accept: text/event-stream", "", 200, "event: problem\ndata: {\"error\":\"occupied: It is over.\"}", ""},
		{"GET /v1/first?n=3", "", "", 200, `"bell"`, ""},
		{"GET /v1/first", "", "", 422, `must be more than nothing`, ""},
		{"POST /v1/trips", "", body, 201, `{"id":61,"lock":"bell","direction":"up","length_ft":36,"label":"BELL"}`, "Location: /v1/trips/61"},
		{"POST /v1/trips", "Tell: all", body, 201, `"loud"`, ""},
		{"POST /v1/trips", "Tell: some", body, 422, `"field":"Tell"`, ""},
		{"POST /v1/trips", "", `{"id":1,"lock":"b","direction":"up","size":{"long":9}}`, 422, `"field":"/lock"`, ""},
		{"POST /v1/trips", "", `{"id":1,"lock":"bell","direction":"left","size":{"long":9}}`, 422, `"field":"/direction"`, ""},
		{"POST /v1/trips", "", `{"id":1,"lock":"bell","direction":"up","size":{"long":101}}`, 422, `"field":"/size/long"`, ""},
		{"POST /v1/trips", "", `{"id":1,"lock":"heron","direction":"up","size":{"long":21}}`, 422, `"field":"/size/long"`, ""}, // of the function's type
		{"POST /v1/trips", "", `{"id":1,"lock":"bell","direction":"up","size":{"long":9},"crew":3}`, 422, `"field":"/crew"`, ""},
		{"PUT /v1/trips", "", `{"id":1,"lock":"heron","direction":"up","length_ft":84,"label":"x"}`, 422, `"field":"/length_ft"`, ""},
		{"PUT /v1/trips", "", `{"id":1,"lock":"heron","direction":"up","length_ft":401}`, 422, `"field":"/length_ft"`, ""}, // 100.25 m break the function's rule
		{"PUT /v1/trips", "", `{"id":1,"lock":"heron","direction":"up","length_ft":0.5}`, 422, `"field":"/length_ft"`, ""}, // the old type's
		{"PUT /v1/trips", "", `{"id":1,"lock":"heron","direction":"down","length_ft":8,"remarks":[{"says":"dry"}]}`, 201,
			`{"id":61,"lock":"heron","direction":"down","remarks":[{"says":"dry"}],"length_ft":8,"label":"HERON"}`, "Location: /v1/trips/61"},
		{"PATCH /v1/trips/2", `If-Match: "trip-2"`, `{"trip":2,"lock":"bell","up":true,"size":{"length":1},"hands":5}`, 412, `precondition-failed`, ""}, // that is v2's tag
		{"PATCH /v1/trips/2", `If-Match: {tag}`, `{"trip":2,"lock":"bell","up":true,"size":{"length":1},"hands":5}`, 200, old("2", "down", ""), `Etag: "trip-2-`},
		{"PATCH /v1/trips/2", `If-Match: {tag}`, `{"trip":2,"lock":"bell","up":true,"size":{"length":1},"hands":11}`, 422, `"field":"/hands"`, ""},
		{"GET /v1/trips/9", "", "", 400, `{"error":"occupied: Nine is too many."}`, "Retry-After: 5"},
		{"PUT /v1/all", "", "[" + strings.Repeat(old("1", "up", "")+",", 9) + old("2", "up", "") + "]", 200, "10", ""},
		{"PUT /v1/all", "", "[" + strings.Repeat(old("1", "up", "")+",", 9) + old("2", "off", "") + "]", 422, `"field":"/9/direction"`, ""},
		{"PUT /v1/all", "", "[" + strings.Repeat(old("1", "off", "")+",", 9999) + old("2", "up", "") + "]", 422, "More than 3 values are invalid", ""},
		{"PUT /v1/all", "", "[" + strings.Repeat(strings.Replace(old("1", "up", ""), "40", "900", 1)+",", 9999) + old("2", "up", "") + "]", 422, "More than 3 values are invalid", ""},
		{"GET /v1/special/9", "", "", 409, `{"error":"fullest: Nine is too many."}`, ""}, // the special kind counts
		{"GET /v1/trips/8", "Accept: text/html", "", 500, `{"error":"internal: The failure has been recorded."}`, "Content-Type: application/json"},
		{"GET /v1/nowhere", "", "", 404, `{"error":"not-found: Nothing is at /v1/nowhere."}`, ""},
		{"GET /v2/trips/9", "", "", 409, `"code":"slot-fuller"`, ""},
	} {
		header := c.header
		header = strings.Replace(header, "{tag}", ask(api, "GET /v1/trips/2", "", "").Header().Get("Etag"), 1)
		if c.body != "" {
			header = strings.TrimPrefix(header+"\nContent-Type: application/json", "\n")
		}
		w := ask(api, c.line, header, c.body)
		got := strings.ReplaceAll(strings.TrimSuffix(w.Body.String(), "\n"), ",\n{", ",{")
		name, value, _ := strings.Cut(c.field, ": ")
		whole := w.Code < 300 && strings.HasPrefix(got, "{") && strings.HasPrefix(c.want, "{")
		if w.Code != c.status || !strings.Contains(got, c.want) || whole && got != c.want || !strings.HasPrefix(w.Header().Get(name), value) {
			t.Errorf("%s (%s) %s: %d %v %s\nwant %d %s %s", c.line, c.header, c.body, w.Code, w.Header(), got, c.status, c.field, c.want)
		}
	}
	for _, f := range api.Routes() {
		if f.Version == "v1" && (!f.Adapted && f.Path != "/v1/special/{trip}" || f.Problems.Type != "wicketway_test.oldError") || f.Version == "v2" && f.Adapted {
			t.Errorf("the facts of %s %s: %v %+v", f.Method, f.Path, f.Adapted, f.Problems)
		}
		if f.Method+f.Path == "GET/v1/trips/{trip}" {
			if f.Name != "wicketway_test.findTrip" || f.Answers[0].Type != "old wicketway_test.trip" || string(f.Answers[0].Schema) != `{"$ref":"#/$defs/v1.trip"}` || !strings.Contains(string(api.Describe().Defs["v1.trip"]), `"In feet"`) ||
				!strings.Contains(fmt.Sprint(f.Raises), "occupied") || strings.Contains(fmt.Sprint(f.Raises), "slot-full") {
				t.Errorf("the facts of the adapted route: %+v %s", f, f.Answers[0].Schema)
			}
		}
	}
	if r, err := api.NewRequest(t.Context(), findTrip, oneTrip{4}); err != nil || r.URL.Path != "/v2/trips/4" {
		t.Errorf("a request by the function: %v %v", r, err)
	}
	if r, err := api.NewRequest(context.Background(), "v1/wicketway_test.patchTrip", changeTrip{oneTrip: oneTrip{4}, Body: trip{Crew: 4}}); err != nil || r.URL.Path != "/v1/trips/4" {
		t.Errorf("a request for an adapted route: %v %v", r, err)
	}
}

// What does not fit is a mistake, with the place of the adapter.
func TestAdaptedMistakes(t *testing.T) {
	same, shaped := adapt.Same(), adapt.Struct[trip]
	find := func(out adapt.Adapter) wicketway.Part {
		return wicketway.Adapted("GET /trips/{trip}", findTrip, same, out, wicketway.Fails(errFull))
	}
	book := func(in adapt.Adapter) wicketway.Part {
		return wicketway.Adapted("PUT /trips", bookTrip, in, same, wicketway.LocatedBy(findTrip))
	}
	half := func(n int) int { return n / 2 }
	for _, c := range []struct {
		part wicketway.Part
		want string
	}{
		{find(shaped(adapt.Rename("tripp", "id"))), `Rename("tripp", "id"): wicketway_test.trip has no member "tripp"; it has trip, lock, up, size, crew, remarks`},
		{find(shaped(adapt.Rename("trip", "lock"))), `wicketway_test.trip has two members "lock" before`},
		{find(shaped(adapt.Rename("trip", "a"), adapt.Drop("trip"))), `Drop("trip"): another one speaks of trip already`},
		{find(shaped(adapt.Compute("lock", "size", half, nil))), `Compute("lock", "size"): the member is string, and the function takes int`},
		{find(shaped(adapt.Compute("size/width", "w", half, nil))), `wicketway_test.chamber has no member "width"; it has length`},
		{find(shaped(adapt.Compute("lock/width", "w", half, nil))), `string has no member "width"; it has none`},
		{find(shaped(adapt.In("lock", adapt.Drop("x")))), `In("lock"): string has no members`},
		{find(shaped(adapt.In("size", adapt.Drop("x")))), `wicketway_test.chamber has no member "x"`},
		{find(shaped(adapt.Drop("size/length"))), `only members of wicketway_test.trip itself can be dropped`},
		{find(shaped(adapt.Extra("x", half, nil))), `Extra("x"): the member is wicketway_test.trip, and the function takes int`},
		{find(shaped(adapt.Constant("crew", "two"))), `Constant("crew"): the member is int, and the value string`},
		{find(shaped(adapt.Compute("crew", "crew", func(n int) int { return n }, nil).WithTag(`rule:"maximum=x"`))), `GET /trips/{trip}: output old wicketway_test.trip.Crew: rule maximum`},
		{wicketway.Adapted("GET /trips/{trip}", findTrip, adapt.Struct[oneTrip](adapt.Rename("path trip", "path id")), same), "GET /trips/{trip}: old wicketway_test.oneTrip.Trip: the template has no parameter {id}"},
		{find(adapt.Struct[branch](adapt.Rename("name", "id"))), "wicketway_test.branch holds values of its own type"},
		{find(adapt.Struct[time.Time](adapt.Drop("x"))), "time.Time writes or reads itself, so its members cannot be told apart: use Func"},
		{find(adapt.Struct[chamber](adapt.Rename("length", "long"))), "GET /trips/{trip}: the adapter of its output, at adapt_test.go:"},
		{find(adapt.Struct[chamber](adapt.Rename("length", "l"))), "the adapter is for wicketway_test.chamber, which is not in wicketway_test.trip"},
		{find(adapt.Func[trip, string](nil, nil)), "the adapter has no function for this way"},
		{find(same.AsList()), "AsList: the function sends no Page"},
		{book(same.AsList()), "AsList is for outputs"},
		{book(shaped(adapt.Compute("up", "up", direction, nil))), "PUT /trips: the adapter of its input, at adapt_test.go:"},
		{book(shaped(adapt.Drop("lock"))), "drops body/lock, which the function needs: use Constant, or give it a default"},
		{book(adapt.Struct[newTrip](adapt.Drop("body"))), "drops body, which the function needs"},
		{wicketway.Adapted("DELETE /x", func(context.Context, *oneTrip) (wicketway.None, error) { return wicketway.None{}, nil }, adapt.Struct[oneTrip](adapt.Rename("path trip", "path id")), same), "the function takes a pointer"},
		{wicketway.Adapted("DELETE /x", func(context.Context, wicketway.None) (wicketway.None, error) { return wicketway.None{}, nil }, same, adapt.Struct[oneTrip](adapt.Rename("path trip", "path id"))), "the function sends no value: use Same"},
		{wicketway.Adapted[oneTrip, trip]("GET /x/{trip}", nil, same, same), "the function is nil"},
		{find(same), "Adapted adapts nothing"},
		{find(shaped()), "Struct names no member that was different: use Same"},
		{find(shaped(adapt.Rename("crew", "crew"))), `Rename("crew", "crew"): changes nothing`},
		{wicketway.Adapted("PUT /limited", listTrips, adapt.Struct[struct {
			After wicketway.Cursor[int64] `from:"query after"`
			Limit int                     `from:"query limit" rule:"minimum=1 maximum=50 default=2"`
		}](adapt.Constant("query limit", 99)), same), `Constant("query limit"): the value must be at most 50`},
		{book(shaped(adapt.Constant("crew", -1))), `Constant("body/crew"): the value must be at least`},
		{wicketway.Group(find(shaped(adapt.Rename("trip", "id"))), wicketway.Route("PATCH /trips/{trip}", patchTrip)),
			"PATCH /trips/{trip}: reads what GET /trips/{trip}, at adapt_test.go:"},
		{wicketway.Group(find(same), wicketway.ProblemShape("text", asOldError)), `ProblemShape: "text" is not a media type`},
		{wicketway.Group(find(same), wicketway.ProblemShape[oldError]("", nil)), "ProblemShape: the function is nil"},
		{wicketway.Group(find(same), wicketway.ProblemShape("", func(format.Problem) chan int { return nil })), "ProblemShape: chan int: the type chan int has no JSON form"},
		{wicketway.Group(find(same), wicketway.KindAs(errFull, problem.Define(200, "fine", "Fine"))), "KindAs: "},
	} {
		if _, err := wicketway.Build(about, c.part); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("the mistakes are %v, want %s", err, c.want)
		}
	}
	panics := build(t, wicketway.ProblemShape("", func(format.Problem) oldError { panic("no shape") }), wicketway.Route("GET /live", streamTrips))
	if w := ask(panics, "GET /x", "", ""); w.Code != 404 || !strings.Contains(w.Body.String(), `"code":"not-found"`) || strings.Contains(w.Body.String(), "no shape") {
		t.Errorf("a shape that panics: %d %s", w.Code, w.Body)
	}
}
