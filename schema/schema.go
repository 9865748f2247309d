// Package schema documents the rules that values of Go types can keep, and has the types for those
// to take part: [Optional] members, [OneOf] several types, [Date] and [TimeOfDay], and a [Report] for checks of their own.
//
// Rules are the keywords of JSON Schema (draft 2020-12), written in the struct
// tag rule and separated by spaces; a value with spaces is in single quotes:
//
//	Vessel string `json:"vessel" rule:"pattern='^[A-Z]{2}-[0-9]{4}$'" note:"Registration plate"`
//	Crew   int    `json:"crew" rule:"minimum=1 maximum=40 default=2"`
//
// # Required members
//
// A member of a JSON object is required unless it is a pointer, an [Optional], has
// omitzero or omitempty, or has a default. A parameter (path, query, header, cookie,
// form) is optional unless it is in the path or has the keyword required; a file
// unless it has required. Null is refused where the Go type has no place for it: a
// pointer, an Optional and an interface have one.
//
// # Keywords
//
// Those of JSON Schema validation, section 6, with its meanings:
//
//	minimum=1  maximum=40  exclusiveMinimum=0  exclusiveMaximum=9.5                    numbers, compared as decimals; and types with
//	                                                                                   text methods and Compare(T) int: minimum=2026-04-01
//	multipleOf=0.01                                                                    numbers
//	minLength=1  maxLength=200                                                         text, in characters
//	pattern='^[A-Z]{2}-[0-9]{4}$'                                                      text; not anchored by itself
//	format=date-time                                                                   text, and types with text methods; see below
//	enum=up|down                                                                       text and numbers
//	minItems=1  maxItems=8  uniqueItems                                                lists
//	items.minimum=1  items.pattern=^a                                                  each item of a list, any keyword for its type
//	minProperties=1  maxProperties=9                                                   maps
//	required                                                                           must be there, whatever the Go type says
//	default=2                                                                          what stands for an absent value
//	type=string                                                                        on a pointer or an Optional: may be absent, never null
//	readOnly                                                                           set by the server: refused in bodies, never required
//	writeOnly                                                                          sent by callers only: a mistake in an output
//	deprecated  deprecated=2027-06-30                                                  for readers of the schema and of logs; with a date since when
//
// A pattern is one that ECMA-262 (with the flag u) and Go's regexp read alike; any
// other is a mistake, as is a limit that the type cannot reach or hold exactly.
//
// The formats that are checked: date-time, date, time (RFC 3339, 5.6), duration
// (appendix A), email (RFC 5321, 4.1.2), hostname (RFC 1123, 2.1), ipv4, ipv6, uri
// (RFC 3986), uuid, regex.
//
// Files have rules of their own: required, maxLength in bytes (JSON Schema counts
// characters, of which a file has none), and contentMediaType with the media types that are
// accepted, separated by bars (image/png|image/*).
//
// A person who reads of a fault is told a sentence of the rule. The tag says has sentences of the field's own, by rule,
// and for a value that is missing (required) or of another type (type):
//
//	Crew int `json:"crew" rule:"minimum=1" says:"minimum='needs somebody on board' required='says nothing of the crew'"`
//
// A type with a method Check(*[Report]) adds rules across members. JSON itself is read
// by github.com/go-json-experiment/json, strictly: names must match exactly and stand
// once, text must be UTF-8. Of the options of a json tag omitzero, omitempty, string
// and embed are known.
package schema

// Dialect is the version of JSON Schema that documents are written in.
const Dialect = "https://json-schema.org/draft/2020-12/schema"
