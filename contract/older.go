package contract

import (
	"fmt"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// fromThreeZero makes a document of OpenAPI 3.0 one of 3.1: its schemas are those of another dialect.
func (d *Document) fromThreeZero() {
	d.OpenAPI = Version
	d.scopesBack()
	Each(d, func(_ string, s *Schema) {
		if !s.IsZero() {
			*s = s.Rewrite(fromThreeZero)
		}
	})
}

// fromThreeZero makes one schema of OpenAPI 3.0 one of draft 2020-12 (OpenAPI 3.0.4, 4.7.24).
func fromThreeZero(s Schema) Schema {
	if s.text.Kind() != jsontext.KindBeginObject {
		return s
	}
	keep := map[string]jsontext.Value{}
	for name, value := range s.Members() {
		keep[name] = value
	}
	var out jsonObject
	isTrue := func(name string) bool { return keep[name].Kind() == jsontext.KindTrue }
	for name, value := range s.Members() {
		switch {
		case name == "nullable":
		case keep["$ref"] != nil && name != "$ref": // the others have no meaning there
		case name == "type" && isTrue("nullable") && value.Kind() == jsontext.KindString:
			out.add("type", jsontext.Value(fmt.Sprintf(`[%s,"null"]`, value)))
		case name == "enum" && isTrue("nullable") && value.Kind() == jsontext.KindBeginArray:
			out.add("enum", withNull(value))
		case name == "exclusiveMinimum" && isTrue(name):
			out.add(name, keep["minimum"])
		case name == "exclusiveMaximum" && isTrue(name):
			out.add(name, keep["maximum"])
		case name == "exclusiveMinimum" && value.Kind() == jsontext.KindFalse, name == "exclusiveMaximum" && value.Kind() == jsontext.KindFalse,
			name == "minimum" && isTrue("exclusiveMinimum"), name == "maximum" && isTrue("exclusiveMaximum"):
		case name == "example":
			out.add("examples", jsontext.Value("["+string(value)+"]"))
		case name == "format" && string(value) == `"binary"`:
			out.say("contentMediaType", "application/octet-stream")
		case name == "format" && string(value) == `"byte"`:
			out.say("contentEncoding", "base64")
		default:
			out.add(name, value)
		}
	}
	return out.schema()
}

func withNull(enum jsontext.Value) jsontext.Value {
	var all []jsontext.Value
	if json.Unmarshal(enum, &all) != nil || slices.ContainsFunc(all, func(v jsontext.Value) bool { return v.Kind() == jsontext.KindNull }) {
		return enum
	}
	text, err := json.Marshal(append(all, jsontext.Value("null")))
	if err != nil {
		return enum
	}
	return text
}
