// Package format defines formats of values, for the setting wicketway.Formats: a format writes what routes
// return, and problems where it can. Package format/csv has one for lists, and format/html one for pages.
package format

import (
	"io"
	"net/http"
	"net/url"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// A Format writes the values that routes return. It must be safe for concurrent use. Where it has a
// method Version() string, that counts for entity tags of values that name their own state: it covers
// everything else that the output depends on, such as templates. Where it has a method Check() error,
// Build calls it once, and where it has a method CheckRoutes([]facts.Route) error
// about all the routes together that offer it.
type Format interface {
	// Name is used in suffixes and query parameters: csv. It has letters and digits alone.
	Name() string
	// MediaType is the Content-Type that is sent: text/csv; charset=utf-8.
	MediaType() string
	// Write writes a value. Nothing is sent where it returns an error.
	Write(to io.Writer, v Value) error
	// CheckRoute returns an error about a route that offers the format; nil where it can write the
	// route's values. Build asks it, and reports the error.
	CheckRoute(facts.Route) error
}

// A ProblemFormat is a Format that writes problems as well, where callers have chosen it. Others leave
// that to JSON.
type ProblemFormat interface {
	Format
	WriteProblem(to io.Writer, p Problem) error
}

// A Value is an output to be written, with the name and the summary of the route that returned it.
type Value struct {
	Route   string // its name, or that of its Template
	Summary string
	Value   any
}

// A Problem has those parts of a problem that callers may see (RFC 9457, 3). Its cause, which they must not, cannot be
// reached from it.
type Problem struct {
	Type, Title, Detail, Instance, Code string
	Status                              int
	Errors                              []problem.Item
	Members                             map[string]any // that were added by With
	Debug                               string         // JSON, in development
	NewerCode                           string         // in development, why newer code does not serve yet
	Trail                               string         // in development, the path where it is shown what happened inside
	// Near are routes that may have been meant where nothing was found, each with its method: in production those that are
	// open to everyone.
	Near []string
	// Of the request: its method and path, the template of its route, the version that serves it, and the subject of its
	// caller; "" where there is none.
	Method, Path, Route, Version, Caller string
	// Language is the language tag of the title and the detail, where the API names its languages.
	Language string
	// Values are those of the form and of the query that the route reads, by name, so that a form can be shown again with
	// them and with its Faults. What is a secret by its name, such as a PIN, is not among them.
	Values url.Values
}

// Faults are the details of the faults of one field, such as vessel: a field of a form, a parameter, or the member of a
// body at the pointer /vessel.
func (p Problem) Faults(field string) (details []string) {
	for _, i := range p.Errors {
		if i.In != "body" && i.Name == field || i.In == "body" && i.Pointer != nil && *i.Pointer == "/"+field {
			details = append(details, i.Detail)
		}
	}
	return details
}

// JSON is the format of all values, unless wicketway.Formats says otherwise. In Formats it says at which
// place JSON is among others. Every call gives the same value.
func JSON() Format { return json{} }

type json struct{}

func (json) Name() string                 { return "json" }
func (json) MediaType() string            { return "application/json" }
func (json) Write(io.Writer, Value) error { return nil } // the API writes it, with its envelope
func (json) CheckRoute(facts.Route) error { return nil }

// A Way is one in which callers choose a format: [ByAccept], [BySuffix], [ByQuery] and [ByField] make one.
type Way struct {
	By   string // accept, suffix, query, field
	Name string // of the query parameter, or the header field
}

// ByAccept lets the field Accept choose (RFC 9110, 12.5.1); answers vary by it.
func ByAccept() Way { return Way{By: "accept"} }

// BySuffix lets the end of the path choose, behind its last dot, where it is the name of a format that the
// route offers: /passages.csv is /passages as CSV. A template that has such a path as its own text comes
// first.
func BySuffix() Way { return Way{By: "suffix"} }

// ByQuery lets a query parameter choose: /passages?format=csv.
func ByQuery(name string) Way { return Way{By: "query", Name: name} }

// ByField lets a header field choose, such as one that a proxy sets which has taken a suffix from the path; answers vary
// by it. Where a middleware finds out the client behind proxies (chain/proxy), the field is believed from these alone.
func ByField(name string) Way { return Way{By: "field", Name: http.CanonicalHeaderKey(name)} }

// String gives the way in words: accept, suffix, query format.
func (w Way) String() string {
	if w.Name == "" {
		return w.By
	}
	return w.By + " " + w.Name
}
