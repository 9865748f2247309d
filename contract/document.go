// Package contract has OpenAPI documents: it reads and writes them, and makes them of descriptions (package facts).
//
// The types are those of OpenAPI 3.1. Documents of 3.0 and 3.2 are read into them as well. What a type does not know
// is kept in its member More, so that a document that is read and written again has all that it had, as it was written:
// unknown members, empty ones, numbers, and the order of all.
//
// A [Schema] is JSON Schema (draft 2020-12), kept as it is written. Nothing is ever fetched: references lead to the same
// document, or nowhere ([Resolve]). Documents are not safe for concurrent changes; what only reads them is.
package contract

import "github.com/go-json-experiment/json/jsontext"

// Version is the version of OpenAPI that documents are written in, unless they are asked for in another one.
const Version = "3.1.1"

// A Document is a whole contract (OpenAPI 3.1.1, 4.8.1).
type Document struct {
	OpenAPI      string                `json:"openapi" contract:"required"`
	Self         string                `json:"$self,omitzero"` // since 3.2
	Info         Info                  `json:"info" contract:"required"`
	Dialect      string                `json:"jsonSchemaDialect,omitzero"`
	Servers      []Server              `json:"servers,omitempty"`
	Paths        Extensible[*PathItem] `json:"paths,omitzero"`
	Webhooks     Map[*PathItem]        `json:"webhooks,omitzero"`
	Components   *Components           `json:"components,omitzero"`
	Security     []Requirement         `json:"security,omitempty"`
	Tags         []Tag                 `json:"tags,omitempty"`
	ExternalDocs *ExternalDocs         `json:"externalDocs,omitzero"`
	Object

	was string // the version that it was read in
}

// Was is the version of OpenAPI that the document was read in.
func (d *Document) Was() string { return d.was }

// Info says what the API is (4.8.2).
type Info struct {
	Title          string         `json:"title" contract:"required"`
	Summary        string         `json:"summary,omitzero"`
	Description    string         `json:"description,omitzero"`
	TermsOfService string         `json:"termsOfService,omitzero"`
	Contact        jsontext.Value `json:"contact,omitzero"`
	License        jsontext.Value `json:"license,omitzero"`
	Version        string         `json:"version" contract:"required"`
	Object
}

// Server is where an API is (4.8.5).
type Server struct {
	URL         string              `json:"url" contract:"required"`
	Name        string              `json:"name,omitzero"` // since 3.2
	Description string              `json:"description,omitzero"`
	Variables   Map[ServerVariable] `json:"variables,omitzero"`
	Object
}

// ServerVariable is a part of a server's URL (4.8.6).
type ServerVariable struct {
	Enum        []string `json:"enum,omitempty"`
	Default     string   `json:"default" contract:"required"`
	Description string   `json:"description,omitzero"`
	Object
}

// Tag groups operations (4.8.22).
type Tag struct {
	Name         string        `json:"name" contract:"required"`
	Summary      string        `json:"summary,omitzero"` // since 3.2, as are Parent and Kind
	Description  string        `json:"description,omitzero"`
	ExternalDocs *ExternalDocs `json:"externalDocs,omitzero"`
	Parent       string        `json:"parent,omitzero"`
	Kind         string        `json:"kind,omitzero"`
	Object
}

// ExternalDocs lead to more words (4.8.11).
type ExternalDocs struct {
	Description string `json:"description,omitzero"`
	URL         string `json:"url" contract:"required"`
	Object
}

// PathItem has the operations of a path template (4.8.9).
type PathItem struct {
	Ref         string       `json:"$ref,omitzero"`
	Summary     string       `json:"summary,omitzero"`
	Description string       `json:"description,omitzero"`
	Get         *Operation   `json:"get,omitzero"`
	Put         *Operation   `json:"put,omitzero"`
	Post        *Operation   `json:"post,omitzero"`
	Delete      *Operation   `json:"delete,omitzero"`
	Options     *Operation   `json:"options,omitzero"`
	Head        *Operation   `json:"head,omitzero"`
	Patch       *Operation   `json:"patch,omitzero"`
	Trace       *Operation   `json:"trace,omitzero"`
	Query       *Operation   `json:"query,omitzero"` // since 3.2
	Servers     []Server     `json:"servers,omitempty"`
	Parameters  []*Parameter `json:"parameters,omitempty"`
	// Additional are the operations of other methods, since 3.2.
	Additional Map[*Operation] `json:"additionalOperations,omitzero"`
	Object
}

// Operation is what a method does on a path (4.8.10).
type Operation struct {
	Tags         []string              `json:"tags,omitempty"`
	Summary      string                `json:"summary,omitzero"`
	Description  string                `json:"description,omitzero"`
	ExternalDocs *ExternalDocs         `json:"externalDocs,omitzero"`
	ID           string                `json:"operationId,omitzero"`
	Parameters   []*Parameter          `json:"parameters,omitempty"`
	RequestBody  *RequestBody          `json:"requestBody,omitzero"`
	Responses    Extensible[*Response] `json:"responses,omitzero"`
	Callbacks    Map[Callback]         `json:"callbacks,omitzero"`
	Deprecated   bool                  `json:"deprecated,omitzero"`
	Security     *[]Requirement        `json:"security,omitzero"` // nil: that of the document; empty: nobody is asked
	Servers      []Server              `json:"servers,omitempty"`
	Object
}

// A Callback has requests that the server sends, by the runtime expression of their address (4.8.18). One that is a
// reference has $ref among its extensions.
type Callback = Extensible[*PathItem]

// Requirement names security schemes, all of which are needed, with the scopes of each (4.8.30).
type Requirement = Map[[]string]

// Parameter is a value in the path, the query, a header field or a cookie (4.8.12), or a reference to one.
type Parameter struct {
	Ref             string         `json:"$ref,omitzero"`
	Name            string         `json:"name,omitzero"`
	In              string         `json:"in,omitzero"` // path, query, header, cookie; since 3.2 querystring
	Summary         string         `json:"summary,omitzero"`
	Description     string         `json:"description,omitzero"`
	Required        bool           `json:"required,omitzero"`
	Deprecated      bool           `json:"deprecated,omitzero"`
	AllowEmptyValue bool           `json:"allowEmptyValue,omitzero"`
	Style           string         `json:"style,omitzero"`
	Explode         *bool          `json:"explode,omitzero"`
	AllowReserved   bool           `json:"allowReserved,omitzero"`
	Schema          Schema         `json:"schema,omitzero"`
	Content         Map[MediaType] `json:"content,omitzero"`
	Example         jsontext.Value `json:"example,omitzero"`
	Examples        Map[*Example]  `json:"examples,omitzero"`
	Object
}

// Header is a header field of an answer (4.8.21), or a reference to one.
type Header struct {
	Ref         string         `json:"$ref,omitzero"`
	Summary     string         `json:"summary,omitzero"`
	Description string         `json:"description,omitzero"`
	Required    bool           `json:"required,omitzero"`
	Deprecated  bool           `json:"deprecated,omitzero"`
	Style       string         `json:"style,omitzero"`
	Explode     *bool          `json:"explode,omitzero"`
	Schema      Schema         `json:"schema,omitzero"`
	Content     Map[MediaType] `json:"content,omitzero"`
	Example     jsontext.Value `json:"example,omitzero"`
	Examples    Map[*Example]  `json:"examples,omitzero"`
	Object
}

// RequestBody is what a request carries (4.8.13), or a reference to one.
type RequestBody struct {
	Ref         string         `json:"$ref,omitzero"`
	Summary     string         `json:"summary,omitzero"`
	Description string         `json:"description,omitzero"`
	Content     Map[MediaType] `json:"content,omitzero"`
	Required    bool           `json:"required,omitzero"`
	Object
}

// MediaType is a body in one media type (4.8.14).
type MediaType struct {
	Ref      string         `json:"$ref,omitzero"` // since 3.2
	Schema   Schema         `json:"schema,omitzero"`
	Item     Schema         `json:"itemSchema,omitzero"` // of each item of a stream, since 3.2
	Example  jsontext.Value `json:"example,omitzero"`
	Examples Map[*Example]  `json:"examples,omitzero"`
	Encoding Map[Encoding]  `json:"encoding,omitzero"`
	Object
}

// Encoding says how a field of a form is sent (4.8.15).
type Encoding struct {
	ContentType   string       `json:"contentType,omitzero"`
	Headers       Map[*Header] `json:"headers,omitzero"`
	Style         string       `json:"style,omitzero"`
	Explode       *bool        `json:"explode,omitzero"`
	AllowReserved bool         `json:"allowReserved,omitzero"`
	Object
}

// Response is an answer (4.8.17), or a reference to one.
type Response struct {
	Ref         string         `json:"$ref,omitzero"`
	Summary     string         `json:"summary,omitzero"`
	Description string         `json:"description,omitzero"`
	Headers     Map[*Header]   `json:"headers,omitzero"`
	Content     Map[MediaType] `json:"content,omitzero"`
	Links       Map[*Link]     `json:"links,omitzero"`
	Object
}

// Example is a value as it can be (4.8.19), or a reference to one.
type Example struct {
	Ref           string         `json:"$ref,omitzero"`
	Summary       string         `json:"summary,omitzero"`
	Description   string         `json:"description,omitzero"`
	Value         jsontext.Value `json:"value,omitzero"`
	ExternalValue string         `json:"externalValue,omitzero"`
	Object
}

// Link says what can be called with what an answer has (4.8.20), or is a reference to one.
type Link struct {
	Ref          string              `json:"$ref,omitzero"`
	OperationRef string              `json:"operationRef,omitzero"`
	OperationID  string              `json:"operationId,omitzero"`
	Parameters   Map[jsontext.Value] `json:"parameters,omitzero"`
	RequestBody  jsontext.Value      `json:"requestBody,omitzero"`
	Summary      string              `json:"summary,omitzero"`
	Description  string              `json:"description,omitzero"`
	Server       *Server             `json:"server,omitzero"`
	Object
}

// Components are what others refer to by name (4.8.7).
type Components struct {
	Schemas         Map[Schema]          `json:"schemas,omitzero"`
	Responses       Map[*Response]       `json:"responses,omitzero"`
	Parameters      Map[*Parameter]      `json:"parameters,omitzero"`
	Examples        Map[*Example]        `json:"examples,omitzero"`
	RequestBodies   Map[*RequestBody]    `json:"requestBodies,omitzero"`
	Headers         Map[*Header]         `json:"headers,omitzero"`
	SecuritySchemes Map[*SecurityScheme] `json:"securitySchemes,omitzero"`
	Links           Map[*Link]           `json:"links,omitzero"`
	Callbacks       Map[Callback]        `json:"callbacks,omitzero"`
	PathItems       Map[*PathItem]       `json:"pathItems,omitzero"`
	MediaTypes      Map[MediaType]       `json:"mediaTypes,omitzero"` // since 3.2
	Object
}

// SecurityScheme is a way to say who calls (4.8.27), or a reference to one.
type SecurityScheme struct {
	Ref              string    `json:"$ref,omitzero"`
	Type             string    `json:"type,omitzero"` // apiKey, http, mutualTLS, oauth2, openIdConnect
	Summary          string    `json:"summary,omitzero"`
	Description      string    `json:"description,omitzero"`
	Name             string    `json:"name,omitzero"`
	In               string    `json:"in,omitzero"`
	Scheme           string    `json:"scheme,omitzero"`
	BearerFormat     string    `json:"bearerFormat,omitzero"`
	Flows            Map[Flow] `json:"flows,omitzero"`
	OpenIDConnectURL string    `json:"openIdConnectUrl,omitzero"`
	Object
}

// Flow is a way of OAuth 2.0 to get a token (4.8.29).
type Flow struct {
	AuthorizationURL string      `json:"authorizationUrl,omitzero"`
	TokenURL         string      `json:"tokenUrl,omitzero"`
	RefreshURL       string      `json:"refreshUrl,omitzero"`
	Scopes           Map[string] `json:"scopes"`
	Object
}
