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
//	trail.go   what is kept of a request
//	trails.go  the trails, and one while its request goes on
//	steps.go   the steps of a request, its input, its end
//	parts.go   the middleware, and the routes that give the trails
package trail

import (
	"fmt"
	"net/http"
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

// The bounds of one trail.
const (
	mostEvents  = 400
	forSteps    = 100      // of them, which no others get
	longestText = 4 << 10  // bytes of a text
	longestBody = 16 << 10 // bytes of a body
	largest     = 256 << 10
)

// short is a trail as lists have it.
func (t Trail) short() Trail {
	t.Served, t.Header, t.Body, t.Left, t.Input, t.Events, t.Dropped, t.Failure, t.Answer = "", nil, "", 0, "", nil, 0, nil, nil
	return t
}

// notes are what a reader should not overlook.
func (t *Trail) notes() (notes []string) {
	open, stays := 0, ""
	for _, e := range t.Events {
		switch {
		case e.Kind == Begin && e.Error == "":
			open++
		case e.Kind == Commit, e.Kind == Rollback:
			open--
		}
		switch {
		case !e.Writes || stays != "":
		case e.Kind == Commit:
			stays = "committed"
		case open <= 0:
			stays = "stored data changed outside of a transaction"
		}
	}
	if failed := t.Failure; failed != nil && stays != "" {
		answer := "nobody was told"
		if failed.Status != 0 {
			answer = fmt.Sprintf("the answer is a problem: %d %s", failed.Status, failed.Code)
		}
		notes = append(notes, stays+", although "+answer)
	}
	if open > 0 {
		notes = append(notes, "a transaction was still open when the request ended")
	}
	return notes
}

// weight is about how many bytes what is known at the end takes.
func (t *Trail) weight() int {
	n := len(t.Body) + len(t.Served) + len(t.Caller) + len(t.Issuer)
	for _, h := range []http.Header{t.Header, t.Answer} {
		for name, values := range h {
			n += 64 + len(name)
			for _, v := range values {
				n += 16 + len(v)
			}
		}
	}
	if f := t.Failure; f != nil {
		n += 200 + len(f.Detail)
		for _, c := range f.Causes {
			n += 32 + len(c.Type) + len(c.Message)
		}
		for _, p := range f.Places {
			n += 16 + len(p)
		}
		for _, i := range f.Faults {
			n += 120 + len(i.Name) + len(i.Detail)
			if i.Pointer != nil {
				n += len(*i.Pointer)
			}
		}
	}
	for _, note := range t.Notes {
		n += 16 + len(note)
	}
	return n
}
