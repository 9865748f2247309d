package wicketway_test

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/format/csv"
	"github.com/wicketway/wicketway/problem"
)

// A tally is a state that says its own tag and when it changed last.
type tally struct {
	Count int       `json:"count"`
	Own   string    `json:"-"`
	At    time.Time `json:"-"`
}

func (c tally) ETag() string            { return c.Own }
func (c tally) LastModified() time.Time { return c.At }

type setTally struct {
	If   wicketway.Conditions[tally]
	Body tally `from:"body"`
}

// A resource is served by GET, PUT, PATCH and DELETE; a negative count is nothing.
type resource struct {
	mu    sync.Mutex
	state tally
	sent  bool // the last change had conditions
}

var errGone = problem.NotFound.Define(404, "no-tally", "There is no tally")

func (s *resource) get(context.Context, wicketway.None) (tally, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state.Count < 0 {
		return tally{}, errGone
	}
	return s.state, nil
}

func (s *resource) set(_ context.Context, in setTally) (tally, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sent = in.If.Sent()
	err := in.If.HoldNone()
	if s.state.Count >= 0 {
		err = in.If.Hold(s.state)
	}
	if err != nil {
		return tally{}, err
	}
	s.state.Count = in.Body.Count
	if s.state.Own != "" {
		s.state.Own = fmt.Sprint("v", in.Body.Count)
	}
	return s.state, nil
}

func (s *resource) drop(_ context.Context, in struct {
	If wicketway.Conditions[tally] `rule:"required"`
}) (wicketway.None, error) {
	return wicketway.None{}, in.If.Hold(s.state)
}

func (s *resource) parts() wicketway.Part {
	return wicketway.At("/tally", wicketway.Conditional(),
		wicketway.Route("GET /", s.get, wicketway.Fails(errGone)),
		wicketway.Route("PUT /", s.set),
		wicketway.Route("PATCH /", func(ctx context.Context, in setTally) (tally, error) { return s.set(ctx, in) }),
		wicketway.Route("DELETE /", s.drop))
}

// RFC 9110, 13, section by section: what is there, the request, and what becomes of it.
func TestConditionalRequests(t *testing.T) {
	const may = "Tue, 04 May 2027 09:30:00 GMT"
	day := time.Date(2027, 5, 4, 9, 30, 0, 500, time.UTC)
	strong, weak, undated := tally{1, `"v,1"`, day}, tally{1, `W/"v1"`, day}, tally{1, "v1", time.Time{}}
	none := tally{Count: -1}
	for _, c := range []struct {
		section string
		state   tally
		line    string
		header  string
		status  int
	}{
		{"13.1.1 the tag is the one", strong, "PUT", `If-Match: "v,1"`, 200},
		{"13.1.1 one of a list, over two lines", strong, "PUT", "If-Match: \"x\", W/\"v,1\"\nIf-Match: \"y\",\"v,1\"", 200},
		{"13.1.1 another tag", strong, "PUT", `If-Match: "v", "1"`, 412},
		{"13.1.1 a weak tag in the list never matches", strong, "PUT", `If-Match: W/"v,1"`, 412},
		{"13.1.1 a tag that the route calls weak never matches", weak, "PUT", `If-Match: W/"v1"`, 412},
		{"13.1.1 * where something is", strong, "PUT", "If-Match: *", 200},
		{"13.1.1 * where nothing is", none, "PUT", "If-Match: *", 412},
		{"13.1.1 what is no tag", strong, "PUT", "If-Match: v,1", 412},
		{"13.1.1 an unfinished tag", strong, "PUT", `If-Match: "v,1`, 412},
		{"13.1.1 for GET too", strong, "GET", `If-Match: "x"`, 412},
		{"13.1.1 for GET, and it holds", strong, "GET", `If-Match: "v,1"`, 200},
		{"13.1.2 * creates", none, "PUT", "If-None-Match: *", 200},
		{"13.1.2 * where something is", strong, "PUT", "If-None-Match: *", 412},
		{"13.1.2 weak comparison", weak, "PUT", `If-None-Match: "v1"`, 412},
		{"13.1.2 another tag", strong, "PUT", `If-None-Match: "x"`, 200},
		{"13.1.2 GET has it", strong, "GET", `If-None-Match: "x", W/"v,1"`, 304},
		{"13.1.2 HEAD has it", strong, "HEAD", `If-None-Match: "v,1"`, 304},
		{"13.1.2 GET and *", strong, "GET", "If-None-Match: *", 304},
		{"13.1.2 GET has another", strong, "GET", `If-None-Match: "v"`, 200},
		{"13.1.3 not since", strong, "GET", "If-Modified-Since: " + may, 304},
		{"13.1.3 since", strong, "GET", "If-Modified-Since: Tue, 04 May 2027 09:29:59 GMT", 200},
		{"13.1.3 no date", strong, "GET", "If-Modified-Since: yesterday", 200},
		{"13.1.3 only for GET and HEAD", strong, "PUT", "If-Modified-Since: " + may, 200},
		{"13.1.3 where there is not a date", undated, "GET", "If-Modified-Since: " + may, 200},
		{"13.1.4 since", strong, "PUT", "If-Unmodified-Since: Tue, 04 May 2027 09:29:59 GMT", 412},
		{"13.1.4 not since", strong, "PUT", "If-Unmodified-Since: " + may, 200},
		{"13.1.4 since, for GET", strong, "GET", "If-Unmodified-Since: Tue, 04 May 2027 09:29:59 GMT", 412},
		{"13.1.4 where there is not a date", undated, "PUT", "If-Unmodified-Since: Tue, 04 May 1999 09:29:59 GMT", 200},
		{"13.2.2 If-Match before If-Unmodified-Since", strong, "PUT", "If-Match: \"v,1\"\nIf-Unmodified-Since: Tue, 04 May 1999 09:30:00 GMT", 200},
		{"13.2.2 If-None-Match before If-Modified-Since", strong, "GET", "If-None-Match: \"x\"\nIf-Modified-Since: " + may, 200},
		{"13.2.2 If-Match before If-None-Match", strong, "GET", "If-Match: \"x\"\nIf-None-Match: \"v,1\"", 412},
		{"13.2.2 both hold", strong, "GET", "If-Match: *\nIf-None-Match: \"v,1\"", 304},
		{"13.2.1 nothing is there for GET", none, "GET", "If-None-Match: *", 404},
		{"6585, 3: a condition is required", strong, "DELETE", "", 428},
		{"13.1.4: a date that is none is ignored, and so not sent", strong, "DELETE", "If-Unmodified-Since: yesterday", 428},
		{"13.1.4: two dates are none", strong, "DELETE", "If-Unmodified-Since: Tue, 04 May 2027 09:30:00 GMT\nIf-Unmodified-Since: Tue, 04 May 2027 09:31:00 GMT", 428},
		{"13.1.3: If-Modified-Since is for reading", strong, "DELETE", "If-Modified-Since: Tue, 04 May 2027 09:30:00 GMT", 428},
		{"6585, 3: and sent", strong, "DELETE", `If-Match: "v,1"`, 204},
	} {
		s := &resource{state: c.state}
		w := ask(build(t, s.parts()), c.line+" /tally", asJSON+"\n"+c.header, map[string]string{"PUT": `{"count":2}`}[c.line])
		if c.line == "PUT" && s.sent == strings.Contains(c.header, "If-Modified-Since") { // which is for reading
			t.Errorf("%s: conditions were sent: %t", c.section, s.sent)
		}
		if w.Code != c.status {
			t.Errorf("%s: %s (%s): %d %s, want %d", c.section, c.line, c.header, w.Code, w.Body, c.status)
		}
		if tag := w.Header().Get("Etag"); (w.Code == 200 || w.Code == 304) && c.line != "PUT" && tag != c.state.Own && tag != `"`+c.state.Own+`"` {
			t.Errorf("%s: the tag is %s", c.section, tag)
		}
		if c.status >= 400 {
			checkProblem(t, c.section, w, c.status, map[int]string{404: "no-tally", 412: "precondition-failed", 428: "precondition-required"}[c.status])
		}
	}
}

// The tag of the new state comes with the answer: of a PATCH, and of a PUT that is stored as it
// was sent (RFC 9110, 9.3.4).
func TestTagsOfNewStates(t *testing.T) {
	s := &resource{state: tally{Count: 1, Own: "v1"}}
	created := func(context.Context, wicketway.None) (*wicketway.Created[tally, wicketway.None], error) {
		return &wicketway.Created[tally, wicketway.None]{Value: s.state}, nil
	}
	clipped := func(ctx context.Context, in setTally) (tally, error) {
		in.Body.Count = min(in.Body.Count, 5)
		return s.set(ctx, in)
	}
	api := build(t, s.parts(), wicketway.Route("POST /tallies", created, wicketway.LocatedBy(s.get)),
		wicketway.Version("v2", wicketway.Envelope("data"), s.parts()),
		wicketway.Version("v3", wicketway.Conditional(), wicketway.Route("GET /tally", s.get), wicketway.Route("PUT /tally", clipped)))
	for _, c := range []struct{ line, body, want string }{
		{"PATCH /tally", `{"count":2}`, `"v2"`},
		{"PUT /tally", ` { "count": 3 } `, `"v3"`}, // as JSON it is the same
		{"POST /tallies", "", `"v3"`},
		{"PUT /v3/tally", `{"count":4}`, `"v4"`},
		{"PUT /v3/tally", `{"count":9}`, ""},      // something else was stored
		{"PUT /v2/tally", `{"count":5}`, ""},      // what a GET answers is not what was sent
		{"PATCH /v2/tally", `{"count":6}`, "own"}, // the envelope is part of what the tag is for
	} {
		w := ask(api, c.line, asJSON, c.body)
		tag := w.Header().Get("Etag")
		if path := strings.Fields(c.line)[1]; c.want == "own" {
			c.want = ask(api, "GET "+path, "", "").Header().Get("Etag")
			if c.want == ask(api, "GET /tally", "", "").Header().Get("Etag") {
				t.Errorf("%s: the envelope does not change the tag %s", c.line, tag)
			}
		}
		if w.Code > 201 || tag != c.want {
			t.Errorf("%s %s: %d %s, tag %s, want %s", c.line, c.body, w.Code, w.Body, tag, c.want)
		}
	}
}

// Whatever a caller has read, by whichever format and coding, its tag is good for a condition.
func TestTagsCoverFormatAndCoding(t *testing.T) {
	list := []tally{{Count: 1}, {Count: 2}}
	type lists struct {
		If wicketway.Conditions[[]tally]
	}
	replace := func(_ context.Context, in lists) (wicketway.None, error) { return wicketway.None{}, in.If.Hold(list) }
	parts := func(settings ...wicketway.Setting) wicketway.Part {
		return wicketway.Group(wicketway.Conditional(), wicketway.Formats(csv.Lists()),
			wicketway.Route("GET /list", func(context.Context, wicketway.None) ([]tally, error) { return list, nil }, settings...),
			wicketway.Route("POST /list", replace))
	}
	api, indented := build(t, wicketway.Chain(compress.Bodies(compress.Settings{})), parts()), build(t, parts(wicketway.Development()))
	tags := map[string]string{}
	for range 600 { // large enough to be compressed
		list = append(list, tally{Count: 3})
	}
	for _, header := range []string{"", "Accept: text/csv", "Accept-Encoding: gzip", "Accept: text/csv\nAccept-Encoding: gzip"} {
		w := ask(api, "GET /list", header, "")
		tag := w.Header().Get("Etag")
		if other, there := tags[tag]; there || strings.HasPrefix(tag, "W/") || strings.Contains(tag, "gzip") != strings.Contains(header, "gzip") {
			t.Errorf("%q: the tag %s, which %q has", header, tag, other)
		}
		tags[tag] = header
		if w := ask(api, "GET /list", header+"\nIf-None-Match: \"x\", "+tag, ""); w.Code != 304 || w.Header().Get("Etag") != tag {
			t.Errorf("%q: %d %s, want 304 and the tag %s", header, w.Code, w.Header().Get("Etag"), tag)
		}
		if w := ask(api, "POST /list", "If-Match: "+tag, ""); w.Code != 204 {
			t.Errorf("%q: the tag is not good for a change: %d %s", header, w.Code, w.Body)
		}
		if strings.Contains(header, "gzip") {
			if w := ask(api, "GET /list", strings.Replace(header, "gzip", "identity", 1)+"\nIf-None-Match: "+tag, ""); w.Code != 200 {
				t.Errorf("the tag of a coded body stands for one that is not: %d", w.Code)
			}
		}
	}
	if a, b := ask(api, "GET /list", "", "").Header(), ask(indented, "GET /list", "", "").Header(); a.Get("Etag") != b.Get("Etag") {
		t.Errorf("indentation changes the tag from %s to %s", a.Get("Etag"), b.Get("Etag"))
	}
	if w := ask(api, "POST /list", "If-Match: \"old\"", ""); w.Code != 412 {
		t.Errorf("an old tag: %d", w.Code)
	}
}

// Of two changes with the same condition one wins, every time.
func TestChangesRace(t *testing.T) {
	s := &resource{state: tally{Count: 0}}
	api := build(t, wicketway.At("/tally", wicketway.Conditional(), wicketway.Route("GET /", s.get),
		wicketway.Route("PATCH /", s.set)))
	for round := range 1000 {
		tag := ask(api, "GET /tally", "", "").Header().Get("Etag")
		var codes [2]int
		var both sync.WaitGroup
		for i := range codes {
			both.Go(func() {
				codes[i] = ask(api, "PATCH /tally", asJSON+"\nIf-Match: "+tag, fmt.Sprintf(`{"count":%d}`, 2*round+i+1)).Code
			})
		}
		both.Wait()
		if codes != [2]int{200, 412} && codes != [2]int{412, 200} {
			t.Fatalf("round %d: %v", round, codes)
		}
	}
}

// A condition that was sent and never held is no secret.
func TestConditionsMustBeHeld(t *testing.T) {
	s := &resource{}
	forgetful := func(context.Context, setTally) (wicketway.None, error) { return wicketway.None{}, nil }
	refusing := func(context.Context, setTally) (wicketway.None, error) { return wicketway.None{}, errCanal }
	var log strings.Builder
	routes := func(settings ...wicketway.Part) *wicketway.API {
		return build(t, append(settings, wicketway.Log(slog.New(slog.NewTextHandler(&log, nil))), wicketway.Conditional(), wicketway.Route("GET /tally", s.get),
			wicketway.Route("PUT /tally", forgetful), wicketway.Route("PATCH /tally", refusing, wicketway.Fails(errCanal)))...)
	}
	for _, c := range []struct {
		api    *wicketway.API
		line   string
		header string
		status int
		logs   string
	}{
		{routes(), "PUT /tally", `If-Match: "x"`, 204, "did not hold them"},
		{routes(), "PUT /tally", "", 204, ""},
		{routes(), "PATCH /tally", `If-Match: "x"`, 409, ""},
		{routes(wicketway.Development()), "PUT /tally", `If-Match: "x"`, 204, "did not hold them"},
		{routes(wicketway.Development()), "PATCH /tally", `If-Match: "x"`, 409, ""},
	} {
		log.Reset()
		w := ask(c.api, c.line, asJSON+"\n"+c.header, `{"count":1}`)
		if w.Code != c.status || strings.Contains(log.String(), "did not hold") != (c.logs != "") {
			t.Errorf("%s (%s): %d %s, logged %s", c.line, c.header, w.Code, w.Body, log.String())
		}
	}
	route := func(line string, settings ...wicketway.Setting) wicketway.Part {
		return wicketway.Route(line, s.set, settings...)
	}
	get, conditional := wicketway.Route("GET /x", s.get, wicketway.Conditional()), wicketway.Conditional()
	for want, parts := range map[string][]wicketway.Part{
		"no GET has its path":                {route("PUT /x", conditional)},
		"is not under Conditional(): add it": {get, route("PUT /x")},
		"so callers get no tag":              {wicketway.Route("GET /x", s.get), route("PUT /x", conditional)},
		"answers string":                     {wicketway.Route("GET /x", func(context.Context, wicketway.None) (string, error) { return "", nil }, wicketway.Conditional()), route("PUT /x", conditional)},
		"holds those of a route that reads":  {wicketway.Route("GET /x", func(context.Context, struct{ If wicketway.Conditions[tally] }) (tally, error) { return tally{}, nil }, conditional)},
		`is not a rule for conditions`: {get, wicketway.Route("PUT /x", func(context.Context, struct {
			If wicketway.Conditions[tally] `rule:"minimum=1"`
		}) (tally, error) {
			return tally{}, nil
		}, conditional)},
		"conditions come from header fields": {get, wicketway.Route("PUT /x", func(context.Context, struct {
			If wicketway.Conditions[tally] `from:"header If-Match"`
		}) (tally, error) {
			return tally{}, nil
		}, conditional)},
		"is not exported, so it cannot be": {get, wicketway.Route("PUT /x", func(context.Context, struct{ in wicketway.Conditions[tally] }) (tally, error) { return tally{}, nil }, conditional)},
	} {
		if _, err := wicketway.Build(about, parts...); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}

// QUERY is safe: under Conditional it needs no conditions, and takes none, and OPTIONS says which content it takes.
func TestQuery(t *testing.T) {
	search := func(_ context.Context, in struct {
		Name string `json:"name"`
	}) ([]string, error) {
		return []string{in.Name}, nil
	}
	api := build(t, wicketway.Conditional(), wicketway.Route("QUERY /locks", search), wicketway.Route("GET /locks", findNothing))
	if w := ask(api, "QUERY /locks", asJSON, `{"name":"bell"}`); w.Code != 200 || w.Body.String() != "[\"bell\"]\n" {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	if w := ask(api, "OPTIONS /locks", "", ""); w.Header().Get("Allow") != "GET, HEAD, OPTIONS, QUERY" || w.Header().Get("Accept-Query") != "application/json" {
		t.Errorf("%v", w.Header())
	}
	if w := ask(api, "QUERY /locks", "Content-Type: text/csv", "bell"); w.Code != 415 || w.Header().Get("Accept-Query") != "application/json" {
		t.Errorf("of another type: %d %v", w.Code, w.Header())
	}
	type conditional struct {
		If   wicketway.Conditions[int]
		Name string `from:"query name"`
	}
	_, err := wicketway.Build(about, wicketway.Conditional(), wicketway.Route("GET /x", findNothing),
		wicketway.Route("QUERY /x", func(context.Context, conditional) (int, error) { return 1, nil }))
	if err == nil || !strings.Contains(err.Error(), "Conditional() holds those of a route that reads") {
		t.Errorf("%v", err)
	}
}
