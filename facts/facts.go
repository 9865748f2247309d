// Package facts describes an API as plain data: its routes, groups, versions,
// guards, chains and problems, the inputs and answers of each route, and where all of that was
// declared.
//
// Listings, the command-line tool, links, contracts, and the checks of middleware and of
// attached values read the same facts. They are filled in by package wicketway and are not
// changed after that, so they are safe to share. As JSON they are the description that
// API.Described writes and that the command-line tool reads back.
//
// A schema is JSON Schema (draft 2020-12). Schemas describe what is really read and sent, so those of
// answers leave further members open and those of inputs do not where such members are refused.
// A named type is a reference to a definition of the whole API ([API.Defs]).
package facts

import "github.com/go-json-experiment/json/jsontext"

// API describes an API.
type API struct {
	Title   string `json:"title"`
	Version string `json:"version"`
	// Description says more, as CommonMark; Servers are URLs that paths are relative to, and Tags and Scopes are
	// texts about those.
	Description string            `json:"description,omitzero"`
	Servers     []string          `json:"servers,omitempty"`
	Tags        map[string]string `json:"tags,omitempty"`
	Scopes      map[string]string `json:"scopes,omitempty"`
	// Routes are sorted by version, path and method.
	Routes []Route `json:"routes"`
	// Groups are the path prefixes; the first is the whole API.
	Groups []Group `json:"groups"`
	// Problems are all kinds that the API can raise, by status and code.
	Problems []Kind `json:"problems"`
	// Guards are those of the routes, each once, by their names.
	Guards []Guard `json:"guards,omitempty"`
	// Fields are the header fields of all answers, chains and problems, by their names.
	Fields []Field `json:"fields,omitempty"`
	// Defs are the schemas of named types. A reference to one is #/$defs/Lock, or #/$defs/v2.Lock for the
	// routes of a version.
	Defs map[string]jsontext.Value `json:"$defs,omitempty"`
}

// Group is a path prefix, or a version.
type Group struct {
	Path    string `json:"path"`
	Version string `json:"version,omitzero"` // that it is in, or is
	// Chosen says how requests choose between the versions right below, or between its own and others.
	Chosen *Versions `json:"chosen,omitzero"`
	// Chain is passed by requests that find no route here.
	Chain []Middleware `json:"chain,omitempty"`
	At    Place        `json:"at"`
}

// Versions says how requests choose between the versions under one prefix.
type Versions struct {
	Under     string   `json:"under"`          // the prefix, as a template
	By        string   `json:"by"`             // path, header, media type
	Field     string   `json:"field,omitzero"` // the header field that they read; "" for the path
	Unknown   int      `json:"unknown"`        // the status for a version that is not served
	Default   string   `json:"default,omitzero"`
	Served    []string `json:"served"`
	Withdrawn []string `json:"withdrawn,omitempty"`
}

// Middleware is one middleware of a chain.
type Middleware struct {
	Name string   `json:"name"`
	Does string   `json:"does,omitzero"`
	Sets []string `json:"sets,omitempty"` // names of header fields of answers
	// HidesFlush says that a handler behind it cannot send a part of an answer before its end.
	HidesFlush bool `json:"hidesFlush,omitzero"`
	// FindsClient says that the client and the requested host are known only behind it.
	FindsClient bool  `json:"findsClient,omitzero"`
	At          Place `json:"at"`
}

// Kind is a kind of problem.
type Kind struct {
	Status  int    `json:"status"`
	Code    string `json:"code"`
	Title   string `json:"title"`
	Type    string `json:"type"` // the URI that a problem of the kind has
	Meaning string `json:"meaning,omitzero"`
	// Family are the codes of the kinds that it was defined from, the nearest first.
	Family []string `json:"family,omitempty"`
	// Fields are the names of the header fields that answers with it can have.
	Fields []string `json:"fields,omitempty"`
	// Schema is that of a problem of the kind as RFC 9457 describes it, with its own members.
	Schema jsontext.Value `json:"schema"`
	// Routes can raise it, each as method and path; none where every request can.
	Routes []string `json:"routes,omitempty"`
	// Example is a problem of the kind as callers get it.
	Example jsontext.Value `json:"example"`
}

// Place is where something was declared.
type Place struct {
	File string `json:"file"`
	Line int    `json:"line"`
}
