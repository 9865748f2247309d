package contract

import (
	"bytes"
	"reflect"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Text writes the document as JSON, indented, with a newline at its end. The same document gives the same bytes.
func (d *Document) Text() []byte {
	var b bytes.Buffer
	e := jsontext.NewEncoder(&b, jsontext.WithIndent("  "))
	if err := d.MarshalJSONTo(e); err != nil {
		return nil // of values that are no JSON, which neither reading nor making gives
	}
	return b.Bytes()
}

// MarshalJSONTo writes the document.
func (d *Document) MarshalJSONTo(e *jsontext.Encoder) error {
	return writeValue(e, reflect.ValueOf(d).Elem())
}

// UnmarshalJSONFrom reads a document, as Read does.
func (d *Document) UnmarshalJSONFrom(in *jsontext.Decoder) error {
	text, err := in.ReadValue()
	if err != nil {
		return err
	}
	read, err := Read(text)
	if err == nil {
		*d = *read
	}
	return err
}

// A writable is a part of a document that is written by itself.
type writable struct{ of any } // a pointer

func (w writable) MarshalJSONTo(e *jsontext.Encoder) error {
	return writeValue(e, reflect.ValueOf(w.of).Elem())
}

func writeValue(e *jsontext.Encoder, v reflect.Value) error {
	if v.Kind() == reflect.Pointer {
		if v.IsNil() {
			return e.WriteToken(jsontext.Null)
		}
		v = v.Elem()
	}
	switch one := v.Addr().Interface().(type) {
	case *Schema:
		if one.IsZero() {
			return e.WriteToken(jsontext.True)
		}
		return e.WriteValue(one.text)
	case *jsontext.Value:
		return e.WriteValue(*one)
	case mapping:
		return writeMembers(e, one.each)
	}
	switch v.Kind() {
	case reflect.String:
		return e.WriteToken(jsontext.String(v.String()))
	case reflect.Bool:
		return e.WriteToken(jsontext.Bool(v.Bool()))
	case reflect.Slice:
		if err := e.WriteToken(jsontext.BeginArray); err != nil {
			return err
		}
		for i := range v.Len() {
			if err := writeValue(e, v.Index(i)); err != nil {
				return err
			}
		}
		return e.WriteToken(jsontext.EndArray)
	case reflect.Struct:
		return writeMembers(e, func(visit func(string, reflect.Value)) { membersOf(v, visit) })
	}
	return json.MarshalEncode(e, v.Interface())
}

func writeMembers(e *jsontext.Encoder, each func(func(string, reflect.Value))) error {
	err := e.WriteToken(jsontext.BeginObject)
	each(func(name string, value reflect.Value) {
		if err == nil {
			err = e.WriteToken(jsontext.String(name))
		}
		if err == nil {
			err = writeValue(e, value)
		}
	})
	if err != nil {
		return err
	}
	return e.WriteToken(jsontext.EndObject)
}

// membersOf visits the members of an object: those that were read in their order, then the others that are not empty.
func membersOf(v reflect.Value, visit func(string, reflect.Value)) {
	t := objectOf(v.Type())
	of := v.Field(t.object).Addr().Interface().(*Object)
	seen := make(map[string]bool, len(of.order))
	one := func(name string) {
		if i, known := t.members[name]; known {
			if f := v.Field(i); seen[name] || !isEmpty(f) || slices.Contains(t.required, name) {
				visit(name, f)
			}
		} else if i := of.More.index(name); i >= 0 {
			visit(name, reflect.ValueOf(&of.More.values[i]).Elem())
		}
	}
	for _, name := range of.order {
		seen[name] = true
		one(name)
	}
	for _, name := range t.names {
		if !seen[name] {
			one(name)
		}
	}
	for name := range of.More.All() {
		if !seen[name] {
			one(name)
		}
	}
}

// isEmpty reports whether a member has no value, so that it is left out unless it was read so.
func isEmpty(v reflect.Value) bool {
	if z, is := v.Interface().(interface{ IsZero() bool }); is {
		return z.IsZero()
	}
	return v.IsZero() || v.Kind() == reflect.Slice && v.Len() == 0
}
