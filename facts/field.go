package facts

import (
	"net/textproto"

	"github.com/go-json-experiment/json/jsontext"
)

// Field is a header field of an answer.
type Field struct {
	Name string `json:"name"`
	// Note explains the field in a line.
	Note string `json:"note,omitzero"`
	// Schema is that of its value, as text.
	Schema jsontext.Value `json:"schema,omitzero"`
}

// Fields are header fields by their names; those of the standards below have a note and a schema.
func Fields(names ...string) []Field {
	all := make([]Field, len(names))
	for i, name := range names {
		name = textproto.CanonicalMIMEHeaderKey(name)
		all[i] = Field{Name: name, Schema: textSchema}
		if known, ok := standard[name]; ok {
			all[i].Note, all[i].Schema = known.note, cmpSchema(known.schema)
		}
	}
	return all
}

// FieldNames are the names of fields.
func FieldNames(fields []Field) []string {
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	return names
}

var textSchema = jsontext.Value(`{"type":"string"}`)

func cmpSchema(own string) jsontext.Value {
	if own == "" {
		return textSchema
	}
	return jsontext.Value(own)
}

const (
	seconds = `{"type":"integer","minimum":0}`
	address = `{"type":"string","format":"uri-reference"}`
)

// standard are the fields that a standard defines, by their canonical names.
var standard = map[string]struct{ note, schema string }{
	"Accept":                      {"The media types that the route reads (RFC 9110, 12.5.1)", ""},
	"Accept-Encoding":             {"The codings that bodies of requests may have (RFC 9110, 12.5.3)", ""},
	"Accept-Query":                {"The media types of queries (draft-ietf-httpbis-safe-method-w-body)", ""},
	"Accept-Patch":                {"The media types of patches (RFC 5789, 3.1)", ""},
	"Access-Control-Allow-Origin": {"The origin whose pages may read the answer (the Fetch standard, 3.3.3)", ""},
	"Age":                         {"For how many seconds the answer has been kept (RFC 9111, 5.1)", seconds},
	"Allow":                       {"The methods of the path (RFC 9110, 10.2.1)", ""},
	"Cache-Control":               {"How the answer may be kept (RFC 9111, 5.2)", ""},
	"Content-Disposition":         {"The name of the file, and whether it is to be saved (RFC 6266)", ""},
	"Content-Encoding":            {"The coding of the body (RFC 9110, 8.4)", ""},
	"Content-Language":            {"The language of its texts (RFC 9110, 8.5)", ""},
	"Content-Range":               {"Which part of the content this is (RFC 9110, 14.4)", ""},
	"Content-Security-Policy":     {"What browsers may load for a page", ""},
	"Cross-Origin-Opener-Policy":  {"Whether pages of other origins share its browsing context", ""},
	"Deprecation": {
		"Since when the route is deprecated, as @ and Unix seconds (RFC 9745)",
		`{"type":"string","pattern":"^@-?[0-9]+$"}`,
	},
	"Etag": {
		"The entity tag of the value (RFC 9110, 8.8.3)",
		`{"type":"string","pattern":"^(?:W/)?\"[!#-~\\x80-\\xff]*\"$"}`,
	},
	"Last-Modified":                {"When the value changed last (RFC 9110, 8.8.2)", ""},
	"Link":                         {"Related resources (RFC 8288)", ""},
	"Location":                     {"The address of the resource (RFC 9110, 10.2.2)", address},
	"Ratelimit":                    {"What is left of the limit", ""},
	"Ratelimit-Policy":             {"The limit", ""},
	"Referrer-Policy":              {"What browsers tell other sites about the page", ""},
	"Retry-After":                  {"In how many seconds to try again (RFC 9110, 10.2.3)", seconds},
	"Strict-Transport-Security":    {"For how long browsers use HTTPS alone (RFC 6797)", ""},
	"Sunset":                       {"When the route ends (RFC 8594)", ""},
	"Vary":                         {"Which fields of the request the answer depends on (RFC 9110, 12.5.5)", ""},
	"Www-Authenticate":             {"How callers can prove who they are (RFC 9110, 11.6.1)", ""},
	"X-Content-Type-Options":       {"That browsers must believe Content-Type", `{"const":"nosniff"}`},
	"Access-Control-Allow-Methods": {"The methods that pages of the origin may use (the Fetch standard, 3.3.3)", ""},
}
