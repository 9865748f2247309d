package schema

import (
	"fmt"
	"reflect"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/oneof"
	"github.com/wicketway/wicketway/internal/peek"
)

// Cases declares a closed set of types that implement the interface I. The method gives the name of the member that
// tells them apart in JSON, and a value of each type by what the member then says; only the types of the values count.
// They are structs or pointers to structs, without a member of that name.
type Cases[I any] interface {
	Cases() (member string, types map[string]I)
}

// OneOf holds a value of one type of a closed set, which S declares. It can be a body, a member, an item and an
// output; its schema has oneOf and, as OpenAPI 3.1 (4.8.25) describes it, a discriminator.
//
//	type Work interface{ lock() string }
//
//	type works struct{}
//
//	func (works) Cases() (string, map[string]Work) {
//		return "kind", map[string]Work{"dredging": Dredging{}, "repair": Repair{}}
//	}
//
//	type AnyWork = schema.OneOf[Work, works]
//
// In JSON a value is the object of its type with the member besides: {"kind":"repair","gate":"upper"}. The member may
// be anywhere in the object. The zero OneOf holds nothing: it is written as null, and null is not read.
type OneOf[I any, S Cases[I]] struct {
	_     [0]S // names the declaration to those who compile the type
	Value I
}

// One is a OneOf that holds a value, of a type that S declares.
func One[S Cases[I], I any](value I) OneOf[I, S] { return OneOf[I, S]{Value: value} }

func (o OneOf[I, S]) set() (*oneof.Set, error) {
	return oneof.Of(reflect.TypeFor[OneOf[I, S]]())
}

// UnmarshalJSONFrom reads an object of the type that its member says.
func (o *OneOf[I, S]) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	set, err := o.set()
	if err != nil {
		return err
	}
	name, how := peek.Member(d.UnreadBuffer(), set.Member)
	var whole jsontext.Value // where the object has not all come
	if how == peek.Partial {
		if whole, err = d.ReadValue(); err != nil {
			return err
		}
		name, how = peek.Member(whole, set.Member)
	}
	c := set.Named(name)
	if c == nil {
		if whole == nil {
			if err := d.SkipValue(); err != nil {
				return err
			}
		}
		known := strings.Join(set.Names(), ", ")
		if how != peek.Found {
			return fmt.Errorf("must be an object with the text member %s (one of %s)", set.Member, known)
		}
		return fmt.Errorf("its %s is %q (known: %s)", set.Member, name, known)
	}
	text := reflect.New(c.Text)
	if whole != nil {
		err = json.Unmarshal(whole, text.Interface(), d.Options())
	} else {
		err = json.UnmarshalDecode(d, text.Interface())
	}
	if err != nil {
		return err
	}
	o.Value = c.Value(text.Elem().Field(1)).(I)
	return nil
}

// MarshalJSONTo writes the value with the member that says its type, which comes first. It fails for a value of a type
// that the set does not have.
func (o OneOf[I, S]) MarshalJSONTo(e *jsontext.Encoder) error {
	set, err := o.set()
	if err != nil {
		return err
	}
	v := reflect.ValueOf(&o.Value).Elem()
	if v.IsNil() {
		return e.WriteToken(jsontext.Null)
	}
	c, of := set.Holding(v)
	if c == nil {
		return fmt.Errorf("a %s is not one of the types of the closed set (%s)", v.Elem().Type(),
			strings.Join(set.Names(), ", "))
	}
	text := reflect.New(c.Text).Elem()
	text.Field(0).SetString(c.Name)
	text.Field(1).Set(of)
	return json.MarshalEncode(e, text.Addr().Interface())
}
