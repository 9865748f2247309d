package contract

import (
	"fmt"
	"iter"
	"reflect"

	"github.com/go-json-experiment/json/jsontext"
)

// Each visits every part of one type in a document, such as Schema or Operation, with the pointer to it, in the order of
// the document. The part can be changed. A schema is visited as a whole: [Schema.Rewrite] visits those in it.
func Each[T any](d *Document, visit func(pointer string, part *T)) {
	eachPart(reflect.ValueOf(d).Elem(), "", func(pointer string, v reflect.Value) {
		if part, is := v.Addr().Interface().(*T); is {
			visit(pointer, part)
		}
	})
}

// eachPart visits every value that a document is made of.
func eachPart(v reflect.Value, pointer string, visit func(string, reflect.Value)) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			eachPart(v.Elem(), pointer, visit)
		}
	case reflect.Slice:
		if v.Type() == reflect.TypeFor[jsontext.Value]() {
			return
		}
		for i := range v.Len() {
			eachPart(v.Index(i), fmt.Sprint(pointer, "/", i), visit)
		}
	case reflect.Struct:
		visit(pointer, v)
		switch one := v.Addr().Interface().(type) {
		case *Schema:
		case mapping:
			one.each(func(name string, value reflect.Value) { eachPart(value, pointer+"/"+escaper.Replace(name), visit) })
		default:
			membersOf(v, func(name string, value reflect.Value) { eachPart(value, pointer+"/"+escaper.Replace(name), visit) })
		}
	}
}

// An ObjectAt is an object of the specification in a document, by the names of its members.
type ObjectAt struct {
	Pointer string
	Known   []string // that it can have
	Has     []string // those of them that it has
	Unknown []string // others that it has
}

// Objects gives all objects of the specification in a document, except those whose members have names of anybody's choice.
func Objects(d *Document) iter.Seq[ObjectAt] {
	return func(yield func(ObjectAt) bool) {
		done := false
		eachPart(reflect.ValueOf(d).Elem(), "", func(pointer string, v reflect.Value) {
			_, isMap := v.Addr().Interface().(mapping)
			_, isSchema := v.Addr().Interface().(*Schema)
			if done || isMap || isSchema {
				return
			}
			t := objectOf(v.Type())
			o := ObjectAt{Pointer: pointer, Known: t.names}
			membersOf(v, func(name string, _ reflect.Value) {
				if _, known := t.members[name]; known {
					o.Has = append(o.Has, name)
				} else {
					o.Unknown = append(o.Unknown, name)
				}
			})
			done = !yield(o)
		})
	}
}

// readPart reads a part of a document by itself.
func readPart(text jsontext.Value, part any) error {
	in := newReading(text)
	if err := in.value(reflect.ValueOf(part).Elem(), 0); err != nil {
		return err
	}
	if in.faults != nil {
		return in.faults
	}
	return nil
}
