package contract

import (
	"bytes"
	"fmt"
	"iter"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A Schema is a JSON Schema (draft 2020-12) as it is written: an object, or a boolean. The zero Schema is none. It is
// immutable.
type Schema struct {
	text  jsontext.Value
	known *[]member // where they have been read already
}

// A member of an object.
type member struct {
	name  string
	value jsontext.Value
}

// SchemaOf is the schema with a text, which must be valid JSON.
func SchemaOf(text jsontext.Value) Schema { return Schema{text: text} }

// IsZero reports whether there is no schema.
func (s Schema) IsZero() bool { return len(s.text) == 0 }

// Text is the schema as JSON. It is not to be changed.
func (s Schema) Text() jsontext.Value { return s.text }

// Members gives the keywords with their values, in their order; none of a boolean schema.
func (s Schema) Members() iter.Seq2[string, jsontext.Value] {
	return func(yield func(string, jsontext.Value) bool) {
		switch {
		case s.known != nil:
			for _, m := range *s.known {
				if !yield(m.name, m.value) {
					return
				}
			}
		case s.text.Kind() == jsontext.KindBeginObject:
			members(s.text, yield)
		}
	}
}

// members gives those of an object.
func members(object jsontext.Value, yield func(string, jsontext.Value) bool) {
	d := jsontext.NewDecoder(bytes.NewReader(object), jsontext.AllowDuplicateNames(true))
	if _, err := d.ReadToken(); err != nil {
		return
	}
	for d.PeekKind() == jsontext.KindString {
		name, err := d.ReadToken()
		if err != nil {
			return
		}
		text := name.String()
		value, err := d.ReadValue()
		if err != nil || !yield(text, value.Clone()) {
			return
		}
	}
}

// Get gives the value of a keyword.
func (s Schema) Get(keyword string) (value jsontext.Value, has bool) {
	for name, v := range s.Members() {
		if name == keyword {
			return v, true
		}
	}
	return nil, false
}

// Reference is the value of $ref; "" where there is none. Other keywords can be beside it (8.2.3.1).
func (s Schema) Reference() string {
	return s.String("$ref")
}

// String is a keyword's value that is a string; "" for any other.
func (s Schema) String(keyword string) (text string) {
	if v, has := s.Get(keyword); has && v.Kind() == jsontext.KindString {
		json.Unmarshal(v, &text)
	}
	return text
}

// Types are those of the keyword type; none where every type is allowed.
func (s Schema) Types() (all []string) {
	v, _ := s.Get("type")
	switch v.Kind() {
	case jsontext.KindString:
		return []string{s.String("type")}
	case jsontext.KindBeginArray:
		json.Unmarshal(v, &all)
	}
	return all
}

// Schemas are those of a keyword whose value is an object of schemas: properties, $defs, patternProperties.
func (s Schema) Schemas(keyword string) (all Map[Schema]) {
	if v, has := s.Get(keyword); has && v.Kind() == jsontext.KindBeginObject {
		members(v, func(name string, one jsontext.Value) bool { all.Set(name, SchemaOf(one)); return true })
	}
	return all
}

// List are the schemas of a keyword whose value is an array of them: allOf, oneOf, anyOf, prefixItems.
func (s Schema) List(keyword string) (all []Schema) {
	v, _ := s.Get(keyword)
	return listOf(v)
}

func listOf(array jsontext.Value) (all []Schema) {
	var texts []jsontext.Value
	if array.Kind() == jsontext.KindBeginArray && json.Unmarshal(array, &texts) == nil {
		for _, text := range texts {
			all = append(all, SchemaOf(text))
		}
	}
	return all
}

// Below gives the schemas right below this one, each with the pointer to it from here.
func (s Schema) Below() iter.Seq2[string, Schema] {
	return func(yield func(string, Schema) bool) {
		for keyword, value := range s.Members() {
			at := "/" + escaper.Replace(keyword)
			switch kind := keywords[keyword]; {
			case kind == holdsSchema:
				if !yield(at, SchemaOf(value)) {
					return
				}
			case kind == holdsSchemas:
				all := s.Schemas(keyword)
				for name, one := range all.All() {
					if !yield(at+"/"+escaper.Replace(name), one) {
						return
					}
				}
			case kind == holdsList:
				for i, one := range listOf(value) {
					if !yield(fmt.Sprint(at, "/", i), one) {
						return
					}
				}
			}
		}
	}
}

// One is the schema of a keyword whose value is one: items, not, additionalProperties.
func (s Schema) One(keyword string) Schema {
	v, _ := s.Get(keyword)
	return SchemaOf(v)
}

// holds says what the value of a keyword is.
type holds uint8

const (
	holdsAny     holds = iota
	holdsSchema        // one
	holdsSchemas       // an object of them
	holdsList          // an array of them
	holdsString
	holdsStrings
	holdsNumber
	holdsBool
	holdsTypes
)

// keywords are those of draft 2020-12 and of OpenAPI's own vocabulary.
var keywords = map[string]holds{
	"$id": holdsString, "$schema": holdsString, "$ref": holdsString, "$anchor": holdsString, "$dynamicRef": holdsString,
	"$dynamicAnchor": holdsString, "$comment": holdsString, "$defs": holdsSchemas, "definitions": holdsSchemas,
	"allOf": holdsList, "anyOf": holdsList, "oneOf": holdsList, "not": holdsSchema, "if": holdsSchema, "then": holdsSchema,
	"else": holdsSchema, "dependentSchemas": holdsSchemas, "prefixItems": holdsList, "items": holdsSchema,
	"contains": holdsSchema, "properties": holdsSchemas, "patternProperties": holdsSchemas,
	"additionalProperties": holdsSchema, "propertyNames": holdsSchema, "unevaluatedItems": holdsSchema,
	"unevaluatedProperties": holdsSchema, "contentSchema": holdsSchema,
	"type": holdsTypes, "multipleOf": holdsNumber, "maximum": holdsNumber, "exclusiveMaximum": holdsNumber,
	"minimum": holdsNumber, "exclusiveMinimum": holdsNumber, "maxLength": holdsNumber, "minLength": holdsNumber,
	"pattern": holdsString, "maxItems": holdsNumber, "minItems": holdsNumber, "uniqueItems": holdsBool,
	"maxContains": holdsNumber, "minContains": holdsNumber, "maxProperties": holdsNumber, "minProperties": holdsNumber,
	"required": holdsStrings, "format": holdsString, "contentEncoding": holdsString, "contentMediaType": holdsString,
	"title": holdsString, "description": holdsString, "deprecated": holdsBool, "readOnly": holdsBool, "writeOnly": holdsBool,
}

// With gives the schema with another value of a keyword, which is written as JSON.
func (s Schema) With(keyword string, value any) Schema {
	var out jsonObject
	for name, v := range s.Members() {
		if name != keyword {
			out.add(name, v)
		}
	}
	out.say(keyword, value)
	return out.schema()
}

// Without gives the schema without a keyword.
func (s Schema) Without(keyword string) Schema {
	if s.text.Kind() != jsontext.KindBeginObject {
		return s
	}
	var out jsonObject
	for name, v := range s.Members() {
		if name != keyword {
			out.add(name, v)
		}
	}
	return out.schema()
}

// Rewrite gives the schema with every schema in it, itself last, replaced by what change makes of it. The text is read
// once, however deep it is.
func (s Schema) Rewrite(change func(Schema) Schema) Schema {
	r := rewriting{jsontext.NewDecoder(bytes.NewReader(s.text), jsontext.AllowDuplicateNames(true)), change}
	return r.schema()
}

// A rewriting reads a schema, and makes another one of it.
type rewriting struct {
	d      *jsontext.Decoder
	change func(Schema) Schema
}

func (r rewriting) schema() Schema {
	switch r.d.PeekKind() {
	case jsontext.KindBeginObject:
		var out jsonObject
		r.object(func(name string) { out.add(name, r.keyword(name)) })
		return r.change(out.schema())
	case jsontext.KindTrue, jsontext.KindFalse:
		return r.change(SchemaOf(r.value()))
	}
	return SchemaOf(r.value()) // it is none
}

func (r rewriting) value() jsontext.Value {
	v, err := r.d.ReadValue()
	if err != nil {
		return nil
	}
	return v.Clone()
}

func (r rewriting) object(member func(name string)) {
	r.d.ReadToken()
	for r.d.PeekKind() == jsontext.KindString {
		name, err := r.d.ReadToken()
		if err != nil {
			return
		}
		member(name.String())
	}
	r.d.ReadToken()
}

func (r rewriting) keyword(name string) jsontext.Value {
	kind := r.d.PeekKind()
	switch holds := keywords[name]; {
	case holds == holdsSchema:
		return r.schema().text
	case holds == holdsSchemas && kind == jsontext.KindBeginObject:
		var out jsonObject
		r.object(func(name string) { out.add(name, r.schema().text) })
		return out.text()
	case holds == holdsList && kind == jsontext.KindBeginArray:
		out := []byte{'['}
		r.d.ReadToken()
		for r.d.PeekKind() != jsontext.KindEndArray && r.d.PeekKind() != jsontext.KindInvalid {
			if len(out) > 1 {
				out = append(out, ',')
			}
			out = append(out, r.schema().text...)
		}
		r.d.ReadToken()
		return append(out, ']')
	}
	return r.value()
}

// A jsonObject is written member by member.
type jsonObject struct {
	b     bytes.Buffer
	known []member
}

func (o *jsonObject) add(name string, value jsontext.Value) {
	if o.b.Len() == 0 {
		o.b.WriteByte('{')
	} else {
		o.b.WriteByte(',')
	}
	text, _ := jsontext.AppendQuote(o.b.AvailableBuffer(), name)
	o.b.Write(text)
	o.b.WriteByte(':')
	o.b.Write(value)
	o.known = append(o.known, member{name, value})
}

// schema is the object as a schema.
func (o *jsonObject) schema() Schema {
	known := o.known
	return Schema{o.text(), &known}
}

// say adds a member with a value of Go.
func (o *jsonObject) say(name string, value any) {
	if text, err := json.Marshal(value, json.Deterministic(true)); err == nil {
		o.add(name, text)
	}
}

func (o *jsonObject) text() jsontext.Value {
	if o.b.Len() == 0 {
		return jsontext.Value("{}")
	}
	o.b.WriteByte('}')
	return o.b.Bytes()
}

var unescaper = strings.NewReplacer("~1", "/", "~0", "~")

func unescape(token string) string { return unescaper.Replace(token) }

var escaper = strings.NewReplacer("~", "~0", "/", "~1")
