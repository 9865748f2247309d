package facts

import (
	"reflect"
	"time"

	"github.com/go-json-experiment/json/jsontext"
)

// Route is all that is known of a route.
type Route struct {
	Version string    `json:"version,omitzero"`
	Chosen  *Versions `json:"chosen,omitzero"` // how requests choose the version; nil where there is none
	Method  string    `json:"method"`          // "" for a mounted handler: every method
	Path    string    `json:"path"`            // the template
	Name    string    `json:"name,omitzero"`
	// Function is the one that serves the route, as Go's runtime names it, such as example.org/canal/locks.desk.find.
	Function string `json:"function,omitzero"`
	Template string `json:"template,omitzero"` // that pages are made by, where it is not that of the name
	Summary  string `json:"summary,omitzero"`
	// Description says more, as CommonMark.
	Description string       `json:"description,omitzero"`
	Tags        []string     `json:"tags,omitempty"`
	Guard       *Guard       `json:"guard,omitzero"` // nil where everyone may call
	Open        []string     `json:"open,omitempty"` // methods of a mounted handler for which the guard is not asked
	Scopes      []string     `json:"scopes,omitempty"`
	AnyScope    [][]string   `json:"anyScope,omitempty"` // of each list one
	Rules       int          `json:"rules,omitzero"`     // how many Allow settings decide
	Slashes     string       `json:"slashes"`            // redirect, strict, same
	Formats     *Formats     `json:"formats,omitzero"`   // nil where there is no choice
	Files       bool         `json:"files,omitzero"`
	Handler     bool         `json:"handler,omitzero"` // a plain handler serves it, so only its Describes is known
	Chain       []Middleware `json:"chain,omitempty"`
	// Asked is the place in the Chain of the middleware whose CheckRoute is asked; -1 for all others that are asked.
	Asked    int        `json:"-"`
	Attached []Attached `json:"attached,omitempty"`
	// Settings hold for the route, nearest first. Checks are not given them.
	Settings []Setting `json:"settings,omitempty"`
	Inputs   []Input   `json:"inputs,omitempty"`
	Bodies   []Body    `json:"bodies,omitempty"` // one for each media type
	// OwnRules says that a type of the input has a Check of its own, or that the input is adapted to another type: no
	// schema has these rules.
	OwnRules bool `json:"ownRules,omitzero"`
	// Deprecated are the inputs that callers should no longer send.
	Deprecated []Deprecated `json:"deprecated,omitempty"`
	Answers    []Answer     `json:"answers,omitempty"`
	// Envelope is the JSON Pointer to the place of values in the shape of the group; "": they are sent as they are.
	Envelope string    `json:"envelope,omitzero"`
	Raises   []Problem `json:"raises,omitempty"` // by status and code
	// Except are prefixes below which a mounted handler, or files, take no path, since a guard there asks more of
	// callers.
	Except []Prefix `json:"except,omitempty"`
	// Inherited is nil for a route that has nothing to do with an earlier version.
	Inherited  *Inheritance `json:"inherited,omitzero"`
	Retirement *Retirement  `json:"retirement,omitzero"`
	Withdrawn  bool         `json:"withdrawn,omitzero"` // it answers 410
	Own        bool         `json:"own,omitzero"`       // it is Wicketway's own, which describes the kinds of problem
	Adapted    bool         `json:"adapted,omitzero"`   // it has older types than its function
	Examples   []Example    `json:"examples,omitempty"`
	// Unlisted routes are in no contract.
	Unlisted bool `json:"unlisted,omitzero"`
	// Languages are the tags of those that problems are told in, the original one first; then they have
	// Content-Language. None: there is no choice.
	Languages []string `json:"languages,omitempty"`
	// Problems is nil where they are sent as RFC 9457 describes.
	Problems *ProblemShape `json:"problems,omitzero"`
	At       Place         `json:"at"`
}

// Example is a request for a route, and its answer.
type Example struct {
	Name       string         `json:"name"`
	Parameters []ExampleValue `json:"parameters,omitempty"`
	Body       jsontext.Value `json:"body,omitzero"` // JSON
	// Status is that of the answer; 0 where none is shown.
	Status int            `json:"status,omitzero"`
	Answer jsontext.Value `json:"answer,omitzero"`
}

// ExampleValue is a parameter as it is sent: in the path, the query or a header field.
type ExampleValue struct {
	In    string `json:"in"`
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Prefix is the start of paths, as a template.
type Prefix struct {
	Path string `json:"path"`
	// Version is set where only requests for it are meant, and Chosen says how they choose it.
	Version string    `json:"version,omitzero"`
	Chosen  *Versions `json:"chosen,omitzero"`
}

// Inheritance says how a route goes back to an earlier version.
type Inheritance struct {
	From     string `json:"from"`
	Override bool   `json:"override,omitzero"` // it replaces that version's route
	At       Place  `json:"at"`                // of Inherit
}

// Guard decides about callers.
type Guard struct {
	Name   string `json:"name"`
	Type   string `json:"type,omitzero"`
	Scheme string `json:"scheme,omitzero"`
	Format string `json:"format,omitzero"`
	In     string `json:"in,omitzero"`
	Field  string `json:"field,omitzero"`
	// Address is that of the discovery document of OpenID Connect.
	Address string `json:"address,omitzero"`
	Flows   []Flow `json:"flows,omitempty"` // of OAuth 2.0 (RFC 6749)
	Note    string `json:"note,omitzero"`
	// SignIn is the path of the page to which people without credentials are led, by a 303.
	SignIn string `json:"signIn,omitzero"`
	// Any are the guards of which one is enough, where there are several.
	Any []Guard `json:"any,omitempty"`
	// After is how many of the chain come before the guard.
	After int   `json:"after,omitzero"`
	At    Place `json:"at"`
}

// Flow is a way to get a token (RFC 6749, 1.3), in the terms of OpenAPI 3.1 (4.8.29).
type Flow struct {
	// Name is implicit, password, clientCredentials or authorizationCode.
	Name          string `json:"name"`
	Authorization string `json:"authorization,omitzero"` // the addresses
	Token         string `json:"token,omitzero"`
	Refresh       string `json:"refresh,omitzero"`
	// Scopes have a text for people.
	Scopes map[string]string `json:"scopes,omitempty"`
}

// Formats are the formats between which callers choose.
type Formats struct {
	Offers   []Format `json:"offers"` // the first where nothing is asked for
	By       []Way    `json:"by"`
	Suffixes []string `json:"suffixes,omitempty"` // that the path may have
}

// Way is one in which callers choose a format.
type Way struct {
	By   string `json:"by"`            // accept, suffix, query, field
	Name string `json:"name,omitzero"` // of the query parameter, or the header field
}

// Format is a format of values.
type Format struct {
	Name  string `json:"name"`
	Media string `json:"media"`
}

// Attached is a value that was attached for middleware to read.
type Attached struct {
	Type  string         `json:"type"`
	Value jsontext.Value `json:"value,omitzero"` // where JSON can carry it
	At    Place          `json:"at"`
}

// Setting is a setting that holds for a route, and the list that it is in.
type Setting struct {
	Name string `json:"name"`
	At   Place  `json:"at"`
	// List is route, or the function of the group: Build, At, Group, Version; Under is the path template of
	// At, or the name of Version.
	List   string `json:"list"`
	Under  string `json:"under,omitzero"`
	ListAt Place  `json:"listAt"`
	// Inherited says that it is the list of an earlier version.
	Inherited bool `json:"inherited,omitzero"`
}

// Input is one value that a route reads.
type Input struct {
	In       string         `json:"in"`   // path, query, header, cookie, form, file, body
	Name     string         `json:"name"` // of a member of the body, as a JSON Pointer
	Type     string         `json:"type"`
	Required bool           `json:"required,omitzero"`
	Rule     string         `json:"rule,omitzero"`
	Note     string         `json:"note,omitzero"`
	Schema   jsontext.Value `json:"schema,omitzero"` // of a value that is not in a body
}

// Deprecated is a parameter or a member that callers should no longer send.
type Deprecated struct {
	In string `json:"in"` // path, query, header, cookie, form, body
	// Name is that of a parameter; of a member its JSON Pointer, with * for the items of lists and the members of maps.
	Name  string `json:"name"`
	Since string `json:"since,omitzero"` // a date (RFC 3339, 5.6)
}

// Body is the body that a route reads.
type Body struct {
	Media    string `json:"media"`
	Required bool   `json:"required,omitzero"`
	// Schema is that of JSON, or of a form as an object of its fields. Where Stream is set it is that of each
	// item, which the media type separates.
	Schema jsontext.Value `json:"schema,omitzero"`
	Stream bool           `json:"stream,omitzero"`
}

// Answer is a success of a route.
type Answer struct {
	Status int      `json:"status"`
	Media  string   `json:"media,omitzero"`
	Fields []string `json:"fields,omitempty"` // names of header fields
	Type   string   `json:"type,omitzero"`    // in Go
	List   bool     `json:"list,omitzero"`    // the value is a list, or a page of one
	// Schema is that of the whole body; none for formats that are not JSON. Where Stream is set it is that
	// of each item, which the media type separates.
	Schema jsontext.Value `json:"schema,omitzero"`
	Stream bool           `json:"stream,omitzero"`
	// Locates is the route that the field Location leads to, as METHOD PATH; "" where that is not known.
	Locates string `json:"locates,omitzero"`
	// Open says that the function chooses: status, media type and header fields can be others.
	Open bool         `json:"open,omitzero"`
	Of   reflect.Type `json:"-"` // the type itself; nil where it is not known
}

// Problem is a kind of problem that a route can answer with, and its origin: the route, the
// guard, the input, the output, the limits, a rule, or a middleware by its name.
type Problem struct {
	Status int    `json:"status"`
	Code   string `json:"code"`
	Title  string `json:"title"`
	By     string `json:"by"`
}

// ProblemShape says how the problems of a route are sent, where that is not as RFC 9457 describes.
type ProblemShape struct {
	Media  string         `json:"media"`
	Type   string         `json:"type"` // in Go
	Schema jsontext.Value `json:"schema,omitzero"`
}

// Retirement says how a route ends.
type Retirement struct {
	Deprecated time.Time `json:"deprecated,omitzero"` // from when
	Sunset     time.Time `json:"sunset,omitzero"`
	Ends       bool      `json:"ends,omitzero"` // it is not served after that
	Rehearsals []Window  `json:"rehearsals,omitempty"`
	Links      []string  `json:"links,omitempty"` // as in the field Link
}

// HasEnded reports whether a route is not served at a time: for good, or until the end of a rehearsal. A nil Retirement
// never has.
func (r *Retirement) HasEnded(at time.Time) (ended bool, until time.Time) {
	if r == nil || !r.Ends {
		return false, time.Time{}
	}
	if !at.Before(r.Sunset) {
		return true, time.Time{}
	}
	for _, w := range r.Rehearsals {
		if !at.Before(w.From) && at.Before(w.Until) {
			return true, w.Until
		}
	}
	return false, time.Time{}
}

// Window is the time from From until before Until.
type Window struct {
	From  time.Time `json:"from"`
	Until time.Time `json:"until"`
}
