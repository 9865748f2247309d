// Package trail keeps what happened inside the last requests, in development: the steps that each passed with their times,
// what the guard decided, the input as it was read, what was logged meanwhile and what the database was asked, and of a failure
// the problem with its causes and places in the code.
//
//	var trails trail.Trails
//
//	api, err := wicketway.Build(info,
//		trails.Parts("/trails"), // first, so that the whole chain is seen
//		wicketway.Chain(requestid.Assign(), accesslog.To(logger, accesslog.Settings{})),
//		...
//
// Outside of development none of that is there. Lines of a log come from handlers that are wrapped by accesslog.InContext,
// statements from a database that was opened with package observe/statements. A package that watches something else calls
// [Add].
//
// What is kept has no credentials in it: values under the names of some, and those that the request had under such names, are
// blanked wherever they are, as in the log.
//
// The handbook (package handbook) shows the trails, and wicketway trail does so in a terminal.
//
// # Files
//
//	trail.go      trails, and what is kept of one
//	recording.go  a trail while its request goes on
//	steps.go      the steps of a request, and its input
//	parts.go      the middleware, and the routes that give the trails
package trail

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// A Trail is what happened to one request. It is plain data, to be copied; what it refers to must not be changed.
type Trail struct {
	// Number counts the requests from 1 on, in the order in which they began.
	Number int64 `json:"number"`
	// Request is the id of the request; "" where it was given none.
	Request string    `json:"request,omitzero"`
	At      time.Time `json:"at"`
	// Took is how long it took, in milliseconds, or has taken so far.
	Took float64 `json:"took"`
	// Done says that the request has ended.
	Done bool `json:"done"`

	Method  string `json:"method"`
	Target  string `json:"target"` // path and query
	Route   string `json:"route,omitzero"`
	Version string `json:"version,omitzero"`
	Caller  string `json:"caller,omitzero"`
	Issuer  string `json:"issuer,omitzero"`
	// Status is that of the answer; 0 where none was sent.
	Status int `json:"status"`
	// Code is that of the problem, or caller-left; "" where nothing failed.
	Code string `json:"code,omitzero"`
	// Notes say what a reader should not overlook: something was committed although the answer is a problem.
	Notes []string `json:"notes,omitempty"`

	// What follows is left out in lists.

	// Served says which function serves the request, and where it is.
	Served string      `json:"served,omitzero"`
	Header http.Header `json:"header,omitempty"`
	// Body is the start of the body, up to 16 KiB, where it is a text; Left is how many bytes more there were.
	Body string `json:"body,omitzero"`
	Left int64  `json:"left,omitzero"`
	// Input is what was read, as JSON.
	Input   string      `json:"input,omitzero"`
	Events  []Event     `json:"events,omitempty"`
	Dropped int         `json:"dropped,omitzero"` // events for which there was no room
	Failure *Failure    `json:"failure,omitempty"`
	Answer  http.Header `json:"answer,omitempty"` // the header fields of the answer
}

// An Event is one of the things that happened.
type Event struct {
	Kind Kind `json:"kind"`
	// Name is that of a middleware or a guard, or the level of a line of the log.
	Name string `json:"name,omitzero"`
	// At is when it began, and Took how long it took, in milliseconds from the start of the request on. What is inside of it
	// has a greater Depth.
	At    float64 `json:"at"`
	Took  float64 `json:"took"`
	Depth int     `json:"depth"`
	// Goes says that it has not ended yet.
	Goes bool `json:"goes,omitzero"`
	// Text says what it was, and Error how it failed.
	Text  string `json:"text,omitzero"`
	Error string `json:"error,omitzero"`
	// Values are those that a statement was given, or the attributes of a line of the log, each as text.
	Values []string `json:"values,omitempty"`
	// Rows is how many rows a statement has read or changed; -1 where that is not known.
	Rows int64 `json:"rows,omitzero"`
	// Writes says that it changes stored data: a statement unless the transaction around it is rolled back.
	Writes bool `json:"writes,omitzero"`
}

// A Kind says what an event is: one of those below, or the name of a step ([exchange.StepKind]).
type Kind string

const (
	Line      Kind = "log"
	Statement Kind = "statement"
	Begin     Kind = "begin" // of a transaction
	Commit    Kind = "commit"
	Rollback  Kind = "rollback"
)

// A Failure is what failed.
type Failure struct {
	Status int    `json:"status"` // of the problem; 0 where nobody was told
	Code   string `json:"code"`
	Title  string `json:"title,omitzero"`
	Detail string `json:"detail,omitzero"`
	// Faults are those of the input.
	Faults []problem.Item `json:"faults,omitempty"`
	// Causes are the errors that it is made of, the outermost first.
	Causes []exchange.Cause `json:"causes,omitempty"`
	// Places are the frames of the user's own code, the innermost first, or the place where the problem was made.
	Places []string `json:"places,omitempty"`
}

// Trails are those of the last requests, in memory. The zero value is empty and ready, and safe for concurrent use.
type Trails struct {
	// Most is how many trails there are at most; 200 where it is 0.
	Most int
	// Bytes is how much memory they may take, with those of requests that go on; 8 MiB where it is 0. The oldest go first;
	// where the requests that go on take all of it, others leave no trail.
	Bytes int

	mu      sync.Mutex
	begun   int64
	open    []*recording
	done    []*recording // in the order in which they ended
	ended   int64        // how many have
	held    int          // bytes
	ofDone  int          // of them, those of requests that have ended
	changed chan struct{}
}

// The bounds of one trail.
const (
	mostEvents  = 400
	forSteps    = 100      // of them, which no others get
	longestText = 4 << 10  // bytes of a text
	longestBody = 16 << 10 // bytes of a body
	largest     = 256 << 10
)

// All are the trails, the newest first, without what lists leave out.
func (t *Trails) All() []Trail {
	t.mu.Lock()
	defer t.mu.Unlock()
	all := make([]Trail, 0, len(t.open)+len(t.done))
	for _, r := range slices.Concat(t.open, t.done) {
		all = append(all, r.now().short())
	}
	slices.SortFunc(all, func(a, b Trail) int { return cmp.Compare(b.Number, a.Number) })
	return all
}

// Find finds a trail by the id of its request, or by its number.
func (t *Trails) Find(id string) (Trail, bool) {
	number, _ := strconv.ParseInt(id, 10, 64)
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, r := range slices.Backward(slices.Concat(t.done, t.open)) {
		if r.trail.Number == number || id != "" && r.id() == id {
			return r.now(), true
		}
	}
	return Trail{}, false
}

// Size is how much memory the trails take, in bytes: what they hold, counted, not what the runtime needs for it.
func (t *Trails) Size() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.held
}

// hasEnded is how many requests have ended.
func (t *Trails) hasEnded() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.ended
}

// after gives the trails of requests that have ended since so many had, and how many have by now. Where there are none yet
// it gives a channel that is closed when one ends.
func (t *Trails) after(ended int64) (found []Trail, now int64, changed <-chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	first := len(t.done) - int(min(t.ended-ended, int64(len(t.done))))
	for _, r := range t.done[first:] {
		found = append(found, r.now())
	}
	if t.changed == nil {
		t.changed = make(chan struct{})
	}
	return found, t.ended, t.changed
}

// short is a trail as lists have it.
func (t Trail) short() Trail {
	t.Served, t.Header, t.Body, t.Left, t.Input, t.Events, t.Dropped, t.Failure, t.Answer = "", nil, "", 0, "", nil, 0, nil, nil
	return t
}

// Keeps reports whether a trail is kept of the request that a context belongs to: a cheap question, to be asked before events
// are made.
func Keeps(ctx context.Context) bool {
	_, is := exchange.Kept[*recording](ctx)
	return is
}

// Add adds an event that began at a time and has just ended to the trail of the request that a context belongs to. Its At,
// Took and Depth are filled in, and texts are cut and blanked. Nothing happens where no trail is kept.
func Add(ctx context.Context, began time.Time, e Event) {
	if r, is := exchange.Kept[*recording](ctx); is {
		r.add(ctx, began, e)
	}
}
