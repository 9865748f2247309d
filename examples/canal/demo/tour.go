package demo

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/examples/identity"
	"github.com/wicketway/wicketway/exchange"
)

// notes are a log that is read while the server goes on writing.
type notes struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (n *notes) Write(p []byte) (int, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.text.Write(p)
}

// take gives what was written since it was last asked.
func (n *notes) take() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	text := n.text.String()
	n.text.Reset()
	return text
}

// ErrTour is returned by Tour where an answer was not as expected.
var ErrTour = errors.New("the tour met answers that it did not expect")

// A step is one request of the tour and what must come back.
type step struct {
	title  string
	line   string // method and path; what starts with a version is below /api
	of     string // instead of line and body: the request that is made of a contract, such as "v2 passages.book"
	wrong  string // what is wrong with that, which says what must come back; "": nothing
	as     string // whose token to send: skipper, keeper and others, or a token as it is
	header http.Header
	body   string
	status int
	on     string   // which canal is asked: "" as it is, or another of those that the tour opens
	code   string   // of a problem; of version 1 its error
	items  []string // the faults of an input: place, rule
	holds  []string // pieces that the answer must have, in its header or its body
	lacks  []string // pieces that it must not have
	log    bool     // show what the log said
	repeat int      // how often it is sent; the last answer counts
	// rotates says that the identity service changes its keys meanwhile: it is sent with a new
	// token each time, until three keys have signed, and every answer must be as expected.
	rotates bool
}

var (
	asJSON  = http.Header{"Content-Type": {"application/json"}}
	asLines = http.Header{"Content-Type": {"application/x-ndjson"}, "Accept": {"application/x-ndjson"}}
	asPatch = http.Header{"Content-Type": {"application/merge-patch+json"}}
)

// season2027 is the beginning of a file of passages: line by line, so that a broken one spoils no other.
const season2027 = `{"vessel":"OB-1038","lock":"heron","direction":"up","slot":"2027-06-01T08:00:00Z"}
{"vessel":"OB-1038","lock":"heron","direction":"up","slot":"2027-06-01T08:10:00Z","crew":60}
{"vessel":"OB-1001","lock":"heron","direction":"down","slot":"2027-06-01T09:00:00Z","crew":4}
{"vessel":"OB-1038","lock":"heron","direction":"down","slot":"2027-06-01T09:00:00Z"}
{"vessel":"OB-1001","lock":"heron","direction":"up","slot":"2027-06-01T10:30:00Z"}
`

const newPassage = `{"lock":"bell","direction":"up","slot":"2027-05-04T09:30:00Z","crew":3}`

// steps are in the order in which somebody would try them who meets the API for
// the first time.
var steps = []step{
	{title: "All locks", of: "v2 locks.list", status: 200, holds: []string{`"lock":"bell"`, `"lock":"chapel"`}},
	{title: "One lock", of: "v2 locks.find", status: 200, holds: []string{`"length":38.5`}},
	{title: "An unknown lock", line: "GET /v2/locks/nowhere", status: 404, code: "no-such-lock"},
	{title: "The same lock in version 1, in feet and in the shape of its values", of: "v1 locks.find", status: 200,
		holds: []string{
			`"status":"ok"`, `"result":{`, `"length_ft":126.3`,
			"Deprecation: @1788220800\n",
			"Sunset: Wed, 30 Jun 2027 00:00:00 GMT\n",
			`</api/v2/locks>; rel="successor-version"`,
		}},
	{title: "An unknown version", line: "GET /v3/locks/bell", status: 404, code: "version-unknown",
		holds: []string{`"v1"`, `"v2"`}},
	{title: "An unknown path, and the way to the contract", line: "GET /v2/lochs", status: 404, code: "not-found",
		holds: []string{`Link: </api/contracts/v2>; rel="service-desc"`}},
	{title: "The contract of version 2", line: "GET /api/contracts/v2", status: 200,
		holds: []string{`"openapi":"3.1.1"`, `"operationId":"passages.book"`}},
	{title: "The same as YAML", line: "GET /api/contracts/v2.yaml", status: 200, holds: []string{"openapi: 3.1.1\n"}},
	{title: "A method that does not apply", of: "v2 locks.find", wrong: "the method PATCH, which the path does not have", code: "method-not-allowed",
		holds: []string{"Allow: GET, HEAD, OPTIONS"}},
	{title: "Booking without a token", of: "v2 passages.book", wrong: "no credentials", holds: []string{"Www-Authenticate: Bearer"}},
	{title: "Booking with a malformed token", of: "v2 passages.book", wrong: "malformed credentials"},
	{title: "Booking with a token that has expired", line: "GET /v2/passages", as: "expired", status: 401,
		code: "token-expired", holds: []string{`error="invalid_token"`}},
	{title: "A token that somebody else has signed", line: "GET /v2/passages", as: "foreign", status: 401,
		code: "token-rejected"},
	{title: "A token for another service", line: "GET /v2/passages", as: "elsewhere", status: 401,
		code: "token-rejected", holds: []string{"another service"}},
	{
		title:  "A token of a locked account",
		line:   "GET /v2/passages",
		as:     "locked",
		status: 403,
		code:   "account-unavailable",
	},
	{title: "A token of the identity service", line: "GET /v2/passages?limit=1", as: "visitor", status: 200,
		holds: []string{`"vessel":"OB-1038"`}},
	{
		title:  "A wrong PIN, again and again",
		line:   "POST /v2/tokens",
		header: asJSON,
		body:   `{"vessel":"OB-9999","pin":"0000"}`,
		repeat: 6,
		status: 429,
		code:   "too-many-attempts",
		holds:  []string{"Retry-After: "},
	},
	{title: "A token for plate and PIN", of: "v2 tokens.signIn", status: 201,
		holds: []string{`"token_type":"Bearer"`}},
	{title: "Booking as a skipper", of: "v2 passages.book", as: "skipper", status: 201, holds: []string{"Location: /api/v2/passages/61", `"vessel":"OB-1001"`}},
	{title: "Reading the booking", of: "v2 passages.find", as: "skipper", status: 200,
		holds: []string{`"crew":2`}},
	{title: "Somebody else's booking", line: "GET /v2/passages/61", as: "visitor", status: 404, code: "no-such-passage"},
	{title: "The same booking in version 1", of: "v1 passages.find", as: "skipper", status: 200,
		holds: []string{`"plate":"OB-1001"`, `"at":"2027-05-04 09:30"`}},
	{title: "Booking with a client of version 1", line: "POST /v1/passages", as: "visitor", header: asJSON,
		body: `{"lock":"bell","up":true,"at":"2027-05-04 10:00"}`, status: 201,
		holds: []string{"Location: /api/v1/passages/62", `"at":"2027-05-04 10:00"`, "Sunset: Wed, 30 Jun 2027"}},
	{title: "That booking in version 2", line: "GET /v2/passages/62", as: "visitor", status: 200,
		holds: []string{`"direction":"up"`, `"slot":"2027-05-04T10:00:00Z"`, `"crew":2`}},
	{
		title:  "The same slot again in version 1, with its own errors",
		line:   "POST /v1/passages",
		as:     "visitor",
		header: asJSON,
		body:   `{"lock":"bell","up":true,"at":"2027-05-04 10:00"}`,
		status: 400,
		code:   "refused",
		holds:  []string{"Another vessel has Bell Lock"},
	},
	{title: "A slot between the half hours in version 1", line: "POST /v1/passages", as: "visitor", header: asJSON,
		body: `{"lock":"bell","up":true,"at":"2027-05-04 10:10"}`, status: 422, code: "input-invalid", holds: []string{`"field":"/at"`}},
	{title: "The lock where a header field chooses the version", on: "header", line: "GET /api/locks/bell",
		header: http.Header{
			"Api-Version": {"v1"},
		}, status: 200, holds: []string{`"length_ft":126.3`, "Vary: Accept-Encoding, Origin, Api-Version", `</api/locks>; rel="successor-version"`}},
	{
		title:  "The same by default",
		on:     "header",
		line:   "GET /api/locks/bell",
		status: 200,
		holds:  []string{`"length":38.5`, "Vary: Accept-Encoding, Origin, Api-Version"},
	},
	{
		title:  "A version that no field can name",
		on:     "header",
		line:   "GET /api/locks/bell",
		header: http.Header{"Api-Version": {"v3"}},
		status: 400,
		code:   "version-invalid",
		holds:  []string{`"v1"`, `"v2"`},
	},
	{title: "Version 1, a day after its sunset", on: "later", line: "GET /v1/locks/bell", status: 410, code: "retired",
		holds: []string{"This ended on 2027-06-30.", `</api/v2/locks>; rel="successor-version"`}},
	{title: "Version 2, on the same day", on: "later", line: "GET /v2/locks/bell", status: 200},
	{title: "An id of the wrong kind", of: "v2 passages.find", wrong: "path passage is of another type (integer)", as: "skipper", items: []string{"path passage type"}},
	{title: "Changing the crew, adding a remark", line: "PATCH /v2/passages/61", as: "skipper", header: asPatch,
		body: `{"crew":4,"remark":"in no hurry"}`, status: 200,
		holds: []string{`"crew":4`, `"remark":"in no hurry"`, `"direction":"up"`}},
	{title: "Taking the remark away", line: "PATCH /v2/passages/61", as: "skipper", header: asPatch,
		body: `{"remark":null}`, status: 200, holds: []string{`"crew":4`}, lacks: []string{"remark"}},
	{title: "Taking the crew away", line: "PATCH /v2/passages/61", as: "skipper", header: asPatch,
		body: `{"crew":null}`, status: 400, code: "input-unreadable", items: []string{"body /crew type"}},
	{title: "The booking with its tag", line: "GET /v2/passages/61", as: "skipper", status: 200,
		holds: []string{"Etag: \""}},
	{title: "The booking again, if it has changed", line: "GET /v2/passages/61", as: "skipper",
		header: http.Header{"If-None-Match": {"{tag}"}}, status: 304},
	{title: "A change, with an outdated tag", line: "PATCH /v2/passages/61", as: "skipper",
		header: http.Header{"Content-Type": asPatch["Content-Type"], "If-Match": {`"long-ago"`}}, body: `{"crew":5}`,
		status: 412, code: "precondition-failed"},
	{title: "The same change, of the booking as it is", line: "PATCH /v2/passages/61", as: "skipper",
		header: http.Header{"Content-Type": asPatch["Content-Type"], "If-Match": {"{tag}"}}, body: `{"crew":5}`,
		status: 200, holds: []string{`"crew":5`, "Etag: \""}},
	{title: "The same slot a second time", of: "v2 passages.book", as: "skipper", status: 409, code: "slot-taken"},
	{title: "A lock that is closed", line: "POST /v2/passages", as: "skipper", header: asJSON,
		body: `{"lock":"tanners","direction":"up","slot":"2027-05-04T09:30:00Z"}`, status: 409, code: "lock-closed"},
	{title: "A slot between the half hours", line: "POST /v2/passages", as: "skipper", header: asJSON,
		body: `{"lock":"bell","direction":"up","slot":"2027-05-04T09:40:00Z"}`, status: 422, code: "input-invalid",
		items: []string{"body /slot halfHour"}},
	{title: "Faults in the body and in the query at once", line: "POST /v2/passages?notify=nobody", as: "skipper",
		header: asJSON, body: `{"lock":"","direction":"sideways","crew":99,"colour":"red"}`, status: 422,
		code: "input-invalid",
		items: []string{"query notify enum", "body /lock minLength", "body /direction enum", "body /crew maximum",
			"body /colour additionalProperties", "body /slot required"}},
	{title: "A query parameter that is deprecated, as the log says", line: "POST /v2/passages?notify=keeper", as: "skipper",
		header: asJSON, body: newPassage, status: 409, code: "slot-taken", log: true},
	{title: "Faults, told in German", line: "POST /v2/passages", as: "skipper",
		header: http.Header{"Content-Type": {"application/json"}, "Accept-Language": {"fr, de-AT;q=0.8, en;q=0.5"}},
		body:   `{"lock":"bell","direction":"sideways","crew":99,"slot":"2027-05-04T09:30:00Z"}`, status: 422, code: "input-invalid",
		items: []string{"body /direction enum", "body /crew maximum"}, holds: []string{
			"Content-Language: de\n", "Accept-Language", "Die Eingabe verletzt eine Regel", "muss eines von diesen sein: up, down", "darf höchstens 40 sein"}},
	{title: "Text where a number is due", line: "POST /v2/passages", as: "skipper", header: asJSON,
		body: `{"lock":"bell","direction":"up","slot":"at noon","crew":"many"}`, status: 400, code: "input-unreadable",
		items: []string{"body /slot format", "body /crew type"}},
	{title: "A body that is not JSON", of: "v2 passages.book", wrong: "a body that is not JSON", as: "skipper", items: []string{"body  syntax"}},
	{title: "A body of another type", of: "v2 passages.book", wrong: "the media type text/plain", as: "skipper", holds: []string{"Accept: application/json"}},
	{title: "A body of more than 1 MiB", line: "POST /v2/passages", as: "skipper", header: asJSON, body: `{"lock":"` +
		strings.Repeat("x", 1<<20) + `"}`, status: 413, code: "body-too-large"},
	{title: "A page of passages, with a limit out of bounds", line: "GET /v2/passages?limit=1000&after=last",
		as: "skipper", status: 400, code: "input-unreadable",
		items: []string{"query after format", "query limit maximum"}},
	{title: "The first two passages of a list", line: "GET /v2/passages?limit=2", as: "skipper", status: 200,
		holds: []string{`Link: <?after=MjE&limit=2>; rel="next"`, `"next":"MjE"`}},
	{title: "The two after them", line: "GET /v2/passages?after=MjE&limit=2", as: "skipper", status: 200,
		holds: []string{`"passage":41`, `"passage":61`}, lacks: []string{"next"}},
	{title: "All passages as a table", line: "GET /v2/passages.csv", as: "skipper", status: 200,
		holds: []string{"passage,lock,vessel,direction,slot,crew,remark\r\n", "61,bell,OB-1001,up,2027-05-04T09:30:00Z,5,"}},
	{title: "A format that is not offered", line: "GET /v2/passages", as: "skipper",
		header: http.Header{"Accept": {"image/png"}}, status: 406, code: "not-acceptable", holds: []string{`"text/csv"`}},
	{title: "The level of the water, as events", line: "GET /v2/locks/bell/levels?count=2",
		header: http.Header{
			"Accept": {"text/event-stream"},
		}, status: 200, holds: []string{"event: level\nid: ", `data: {"reading":`}},
	{title: "The level of the water, as a list", line: "GET /v2/locks/bell/levels?count=2", status: 200,
		holds: []string{`[{"reading":`}},
	{title: "The plan of a lock", of: "v2 locks.plan", status: 200,
		holds: []string{"Content-Type: image/svg+xml", `filename=bell.svg`, "Bell Lock, 38.5 by 5.2 m"}},
	{title: "The first bytes of the plan", line: "GET /v2/locks/bell/plan", header: http.Header{"Range": {"bytes=0-3"}},
		status: 206, holds: []string{"Content-Range: bytes 0-3/", "<svg"}, lacks: []string{"Bell"}},
	{title: "A notice as data", line: "GET /v2/notices/tanners-gates", status: 200,
		holds: []string{`"title":"New gates at Tanners Lock"`, `Etag: "tanners-gates-20270319090000"`}},
	{
		title:  "The same notice as a page",
		line:   "GET /v2/notices/tanners-gates",
		header: http.Header{"Accept": {"text/html"}},
		status: 200,
		holds:  []string{"<h1>New gates at Tanners Lock</h1>", "Vary: Accept, Accept-Encoding, Origin\n"},
	},
	{title: "To the newest notice", of: "v2 notices.latest", status: 303,
		holds: []string{"Location: /api/v2/notices/high-water"}},
	{title: "A skipper at the keeper's wheel", of: "v2 locks.operate", wrong: "without the scope locks:operate", as: "skipper", holds: []string{`error="insufficient_scope"`}},
	{title: "The keeper opens the lock", line: "PUT /v2/locks/tanners/state", as: "keeper", header: asJSON,
		body: `{"state":"open"}`, status: 200, holds: []string{`"state":"open"`}},
	{title: "The keeper books a season from a file, of which two items have faults", line: "POST /v2/season", as: "keeper",
		header: asLines, body: season2027, status: 200, holds: []string{
			`{"item":0,"passage":63}`, `{"item":1,"problem":{`, `"code":"input-invalid"`, `"pointer":"/1/crew"`,
			`{"item":2,"passage":64}`, `{"item":3,"problem":{`, `"code":"slot-taken"`, `{"item":4,"passage":65}`,
		}},
	{title: "The same by a skipper", line: "POST /v2/season", as: "skipper", header: asLines, body: season2027, status: 403,
		code: "scope-missing"},
	{title: "A page of another origin asks whether it may", line: "OPTIONS /v2/passages", header: http.Header{
		"Origin": {"http://127.0.0.1:3000"}, "Access-Control-Request-Method": {"POST"},
		"Access-Control-Request-Headers": {"authorization,content-type"}}, status: 204,
		holds: []string{
			"Access-Control-Allow-Methods: GET, HEAD, OPTIONS, POST",
			"Access-Control-Allow-Headers: authorization, content-type",
		}},
	{title: "Whether the canal is ready", line: "GET /health/ready", status: 200, holds: []string{`"storage":"up"`}},
	{title: "A compressed answer", line: "GET /v2/locks", header: http.Header{"Accept-Encoding": {"gzip"}},
		status: 200, holds: []string{"Content-Encoding: gzip", "Vary: Accept-Encoding, Origin", `"lock":"bell"`}},
	{title: "A handler that fails", line: "GET /v2/drill?fault=error", status: 500, code: "internal",
		lacks: []string{"sluice", "gauge"}, log: true},
	{title: "A handler that panics", line: "GET /v2/drill?fault=panic", status: 500, code: "internal",
		lacks: []string{"below the bed", ".go:"}, log: true},
	{title: "A conflict in the storage", line: "GET /v2/drill?fault=unique", status: 409, code: "conflict",
		lacks: []string{"UNIQUE", "locks."}, log: true},
	{title: "A part of the canal that is silent", line: "GET /v2/drill?fault=gauge", status: 502, code: "gauge-silent",
		holds: []string{"Retry-After: 60"}, lacks: []string{"ttyS4"}, log: true},
	{title: "A handler that takes too long", line: "GET /v2/drill?fault=late", status: 503, code: "timeout",
		lacks: []string{"tide"}},
	{title: "The meaning of a kind of problem", line: "GET /problems/slot-taken", status: 200,
		holds: []string{`"code": "slot-taken"`, "POST /api/v2/passages"}},
	{title: "The server still answers", line: "GET /v2/locks/heron", status: 200, holds: []string{`"lock":"heron"`}},
	{title: "Taking a token back", line: "DELETE /v2/tokens/current", as: "departing", status: 204},
	{title: "A revoked token", line: "GET /v2/passages", as: "departing", status: 401, code: "token-rejected",
		holds: []string{"has been revoked"}},
	{title: "Key rotation under load", line: "GET /v2/passages?limit=1", as: "visitor", rotates: true, status: 200,
		holds: []string{`"vessel":"OB-1038"`}},
	{title: "Cancelling with an outdated tag", line: "DELETE /v2/passages/61", as: "skipper",
		header: http.Header{"If-Match": {`"long-ago"`}}, status: 412, code: "precondition-failed"},
	{title: "Cancelling the booking", line: "DELETE /v2/passages/61", as: "skipper", status: 204},
}

// all is the canal as it is, once more with versions that a header field chooses, and as it will be a day
// after version 1 has ended, by name.
func (c *Canal) all() (map[string]*wicketway.API, error) {
	byHeader, err := c.build("/api/locks", wicketway.VersionBy(wicketway.InHeader("Api-Version"), "v2"),
		wicketway.Retirement{Clock: func() time.Time { return season }})
	if err != nil {
		return nil, err
	}
	later, err := c.build("/api/v2/locks", wicketway.Retirement{Clock: func() time.Time { return sunset.AddDate(0, 0, 1) }})
	return map[string]*wicketway.API{"": c.API, "header": byHeader, "later": later}, err
}

// serveAll serves them, and gives their addresses by name.
func (c *Canal) serveAll(ctx context.Context) (bases map[string]string, stop func() error, err error) {
	apis, err := c.all()
	if err != nil {
		return nil, nil, err
	}
	serving, end := context.WithCancel(ctx)
	var running sync.WaitGroup
	var mu sync.Mutex
	var failed error
	stop = func() error {
		end()
		running.Wait()
		return failed
	}
	bases = map[string]string{}
	for name, api := range apis {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, nil, errors.Join(err, stop())
		}
		bases[name] = "http://" + l.Addr().String()
		running.Go(func() {
			err := api.ServeOn(serving, l)
			mu.Lock()
			defer mu.Unlock()
			failed = errors.Join(failed, err)
		})
	}
	return bases, stop, nil
}

// An answer is what came back, as text.
type answer struct {
	status int
	header string // the fields worth showing
	body   string // as it is meant: unpacked
	media  string
	tag    string
	whole  http.Header
}

// plain is the body as it is in production: development indents it, and adds the member debug to problems.
func (a answer) plain() string {
	text := jsontext.Value(a.body)
	if text.Compact() != nil {
		return a.body
	}
	body := string(text)
	if at := strings.LastIndex(body, `,"debug":`); a.status >= 400 && at >= 0 {
		body = body[:at] + "}"
	}
	return body
}

// quick is the pace of the identity service on the tour.
var quick = Pace{Rotate: 300 * time.Millisecond, Lead: 200 * time.Millisecond, Fetch: 40 * time.Millisecond}

// Tour serves the canal on a free port, walks through it and prints what it
// sends and gets. It returns ErrTour if an answer was not as expected.
func Tour(ctx context.Context, out io.Writer) error {
	_, err := walk(ctx, out)
	return err
}

// walk is the tour, with the answer to each step.
func walk(ctx context.Context, out io.Writer) (answers []answer, err error) {
	var log notes
	c, err := OpenAt(quick, "", slog.New(accesslog.Redact(slog.NewTextHandler(&log, nil))))
	if err != nil {
		return nil, err
	}
	defer c.Close()
	bases, stop, err := c.serveAll(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, stop()) }()
	fmt.Fprintf(out, "A tour of the Osterbeck Canal at %s\n", bases[""])
	client := http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableCompression: true,
		DisableKeepAlives: true}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	wrong, tag := 0, ""
	if err := c.signOthers(); err != nil {
		return nil, err
	}
	all, err := c.allSteps()
	if err != nil {
		return nil, err
	}
	for i, s := range all {
		log.take() // what was written at the start, or late
		fmt.Fprintf(out, "\n%2d  %s\n", i+1, s.title)
		s.header = s.header.Clone()
		for name, values := range s.header {
			s.header[name] = []string{strings.ReplaceAll(values[0], "{tag}", tag)}
		}
		base := bases[s.on]
		got, err := s.send(ctx, &client, base, c)
		for n := 1; n < s.repeat && err == nil; n++ {
			got, err = s.send(ctx, &client, base, c)
		}
		if s.rotates && err == nil {
			got, err = s.sendWhileKeysChange(ctx, &client, base, c)
		}
		if err != nil {
			return nil, err
		}
		answers = append(answers, got)
		tag = cmp.Or(got.tag, tag)
		s.print(out, got)
		if s.log {
			printLog(out, log.take())
		}
		if missed := s.missed(got); missed != nil {
			wrong++
			fmt.Fprintf(out, "    NOT AS EXPECTED: %s\n", strings.Join(missed, "; "))
		} else {
			fmt.Fprintf(out, "    as expected: %s\n", s.wanted())
		}
	}
	fmt.Fprintf(out, "\n%d steps, %d as expected, %d not\n", len(steps), len(steps)-wrong, wrong)
	if wrong > 0 {
		return answers, ErrTour
	}
	return answers, nil
}

func (s step) request() (method, path string) {
	method, path, _ = strings.Cut(s.line, " ")
	if strings.HasPrefix(path, "/v") {
		path = "/api" + path
	}
	return method, path
}

func (s step) send(ctx context.Context, client *http.Client, base string, c *Canal) (answer, error) {
	method, path := s.request()
	req, err := http.NewRequestWithContext(ctx, method, base+path, strings.NewReader(s.body))
	if err != nil {
		return answer{}, err
	}
	for name, values := range s.header {
		req.Header[name] = values
	}
	if s.as != "" {
		req.Header.Set("Authorization", "Bearer "+cmp.Or(c.others[s.as], s.as))
	}
	resp, err := client.Do(req)
	if err != nil {
		return answer{}, err
	}
	defer resp.Body.Close()
	return read(resp)
}

// signOthers makes the tokens that the tour shows, good and bad.
func (c *Canal) signOthers() error {
	var errs []error
	sign := func(token string, err error) string {
		errs = append(errs, err)
		return token
	}
	past := func() time.Time { return time.Now().Add(-24 * time.Hour) }
	by := func(secret []byte, clock func() time.Time) exchange.Authenticator {
		return auth.Bearer(auth.HS256(secret).IssuedBy("osterbeck"),
			auth.Settings{Audience: []string{identity.Audience}, Clock: clock})
	}
	one := auth.NewToken{Subject: store.SamplePlate(0), Scopes: []string{"passages"}, Lifetime: time.Hour}
	c.others = map[string]string{
		"skipper":   c.Skipper,
		"keeper":    c.Keeper,
		"visitor":   c.Visitor,
		"expired":   sign(auth.Issue(by(c.secret, past), one)),
		"foreign":   sign(auth.Issue(by(bytes.Repeat([]byte("f"), 32), nil), one)),
		"elsewhere": sign(c.Identity.Token(store.SamplePlate(1), "osterbeck-tolls", "passages")),
		"locked":    sign(c.token(store.SamplePlate(19), "passages")),
		"departing": sign(c.token(store.SamplePlate(2), "passages")),
	}
	return errors.Join(errs...)
}

// sendWhileKeysChange gives the last answer, or the first that is not as expected.
func (s step) sendWhileKeysChange(ctx context.Context, client *http.Client, base string, c *Canal) (answer, error) {
	signed := map[string]bool{}
	for {
		token, err := c.Identity.Token(store.SamplePlate(1), identity.Audience, "passages")
		if err != nil {
			return answer{}, err
		}
		header, _, _ := strings.Cut(token, ".")
		signed[header] = true
		s.as = token
		got, err := s.send(ctx, client, base, c)
		if err != nil || s.missed(got) != nil || len(signed) == 4 {
			return got, err
		}
	}
}

func read(resp *http.Response) (answer, error) {
	body := io.Reader(resp.Body)
	if resp.Header.Get("Content-Encoding") == "gzip" {
		unpacked, err := gzip.NewReader(body)
		if err != nil {
			return answer{}, err
		}
		body = unpacked
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return answer{}, err
	}
	a := answer{status: resp.StatusCode, body: string(text), media: resp.Header.Get("Content-Type"),
		tag: resp.Header.Get("Etag"), whole: resp.Header}
	for _, name := range []string{"Content-Type", "Content-Disposition", "Content-Range", "Location", "Allow", "Accept", "Www-Authenticate", "Content-Encoding", "Etag",
		"Deprecation", "Sunset", "Link", "Retry-After", "Access-Control-Allow-Methods", "Access-Control-Allow-Headers", "Content-Language", "Vary"} {
		if v := resp.Header.Values(name); len(v) > 0 {
			a.header += name + ": " + strings.Join(v, ", ") + "\n"
		}
	}
	return a, nil
}

// wanted says what the step expects.
func (s step) wanted() string {
	text := fmt.Sprint(s.status)
	if s.code != "" {
		text += " " + s.code
	}
	if len(s.items) > 0 {
		text += fmt.Sprintf(", %d fault(s) named", len(s.items))
	}
	if s.status >= 500 {
		text += ", without a word of the cause"
	}
	return text
}

// missed lists how the answer differs from what the step expects.
func (s step) missed(a answer) []string {
	var missed []string
	if a.status != s.status {
		missed = append(missed, fmt.Sprintf("wanted status %d", s.status))
	}
	var p struct {
		Status int    `json:"status"`
		Code   string `json:"code"`
		Error  string `json:"error"` // of version 1
		Errors []struct {
			In      string `json:"in"`
			Name    string `json:"name"`
			Pointer string `json:"pointer"`
			Rule    string `json:"rule"`
		} `json:"errors"`
	}
	if s.status >= 400 {
		old := s.on != "header" && strings.Contains(s.line, " /v1/")
		if err := json.Unmarshal([]byte(a.body), &p); err != nil || a.media != "application/problem+json" && !old {
			missed = append(missed, "wanted a problem in JSON")
		}
		if old && (a.media != "application/json" || p.Error != s.code) {
			missed = append(missed, "wanted the error "+s.code)
		}
		if !old && (p.Status != s.status || p.Code != s.code) {
			missed = append(missed, "wanted the code "+s.code)
		}
	}
	var items []string
	for _, e := range p.Errors {
		items = append(items, e.In+" "+e.Name+e.Pointer+" "+e.Rule)
	}
	if !slices.Equal(items, s.items) {
		missed = append(missed, fmt.Sprintf("wanted the faults %q", s.items))
	}
	said := a.header + a.plain()
	for _, piece := range s.holds {
		if !strings.Contains(said, piece) && !strings.Contains(a.body, piece) {
			missed = append(missed, "wanted "+piece)
		}
	}
	for _, piece := range s.lacks {
		if strings.Contains(said, piece) {
			missed = append(missed, "it must not tell "+piece)
		}
	}
	return missed
}

// Long answers are shown in part.
const (
	shownLines = 44
	shownWidth = 112
	logLines   = 4
	jsonWidth  = 100 // a JSON value of up to this many bytes stays on one line
)

func (s step) print(out io.Writer, a answer) {
	method, path := s.request()
	fmt.Fprintf(out, "    > %s %s\n", method, path)
	if s.as != "" {
		fmt.Fprintf(out, "    > Authorization: Bearer (%s)\n", s.as)
	}
	for _, name := range slices.Sorted(maps.Keys(s.header)) {
		fmt.Fprintf(out, "    > %s: %s\n", name, s.header[name][0])
	}
	for line := range strings.Lines(s.body) {
		fmt.Fprintf(out, "    > %s\n", shorten(line))
	}
	fmt.Fprintf(out, "    < %d %s", a.status, http.StatusText(a.status))
	if a.media != "" {
		fmt.Fprintf(out, "  (%s, %d bytes)", a.media, len(a.body))
	}
	fmt.Fprintln(out)
	lines := strings.Split(strings.TrimSpace(a.header+layout(a.body)), "\n")
	for i, line := range lines {
		if i == shownLines && len(lines) > shownLines+2 {
			fmt.Fprintf(out, "    < ... and %d lines more\n", len(lines)-i)
			break
		}
		if line != "" {
			fmt.Fprintf(out, "    < %s\n", shorten(line))
		}
	}
}

// layout indents JSON, but keeps on one line what fits on one; anything else
// stays as it is.
func layout(text string) string {
	v := jsontext.Value(text)
	if v.Format(jsontext.SpaceAfterComma(true), jsontext.SpaceAfterColon(true)) != nil {
		return text
	}
	if len(v) <= jsonWidth || v.Kind() != '{' && v.Kind() != '[' {
		return string(v)
	}
	var b strings.Builder
	in := jsontext.NewDecoder(bytes.NewReader(v))
	open, _ := in.ReadToken()
	b.WriteString(open.String())
	for n := 0; in.PeekKind() != '}' && in.PeekKind() != ']'; n++ {
		if n > 0 {
			b.WriteString(",")
		}
		b.WriteString("\n  ")
		piece, _ := in.ReadValue()
		if open.Kind() == '{' {
			b.Write(piece)
			b.WriteString(": ")
			piece, _ = in.ReadValue()
		}
		b.WriteString(strings.ReplaceAll(layout(string(piece)), "\n", "\n  "))
	}
	end, _ := in.ReadToken()
	return b.String() + "\n" + end.String()
}

// printLog shows the start of each line of the log, wrapped at its spaces.
func printLog(out io.Writer, text string) {
	for line := range strings.Lines(text) {
		fmt.Fprintln(out, "    the log:")
		piece, shown := "", 0
		for word := range strings.FieldsSeq(line[strings.Index(line, "level="):]) {
			if len(piece)+len(word) > jsonWidth {
				fmt.Fprintf(out, "    |%s\n", shorten(piece))
				piece, shown = "", shown+1
			}
			if shown == logLines {
				piece = " ..."
				break
			}
			piece += " " + word
		}
		fmt.Fprintf(out, "    |%s\n", shorten(piece))
	}
}

func shorten(s string) string {
	s = strings.TrimRight(s, "\n")
	if len(s) > shownWidth {
		return s[:shownWidth] + fmt.Sprintf("... (%d bytes)", len(s))
	}
	return s
}
