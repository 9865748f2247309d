package contract

import (
	"fmt"
	"reflect"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// fromThreeZero makes a document of OpenAPI 3.0 one of 3.1: its schemas are those of another dialect.
func (d *Document) fromThreeZero() {
	d.OpenAPI = Version
	d.schemas(func(s Schema) Schema { return s.Rewrite(fromThreeZero) })
}

// schemas has change replace every schema of the document that is not within another one.
func (d *Document) schemas(change func(Schema) Schema) {
	eachValue(reflect.ValueOf(d).Elem(), func(v reflect.Value) bool {
		if s, is := v.Addr().Interface().(*Schema); is {
			if !s.IsZero() {
				*s = change(*s)
			}
			return false
		}
		return true
	})
}

// eachValue visits every value that a document is made of, until visit says that it need not go further in.
func eachValue(v reflect.Value, visit func(reflect.Value) bool) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			eachValue(v.Elem(), visit)
		}
	case reflect.Slice:
		if v.Type() == reflect.TypeFor[jsontext.Value]() || v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		for i := range v.Len() {
			eachValue(v.Index(i), visit)
		}
	case reflect.Struct:
		if !visit(v) {
			return
		}
		if m, is := v.Addr().Interface().(mapping); is {
			m.each(func(_ string, one reflect.Value) { eachValue(one, visit) })
			return
		}
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				eachValue(v.Field(i), visit)
			}
		}
	}
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
	return Schema{out.text()}
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
