package contract

import (
	"fmt"
	"net/url"
	"reflect"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/sets"
)

// Resolve gives the part of a document that a reference leads to: a JSON Pointer in a fragment (RFC 6901, 6), or for
// schemas an $anchor too. Where a reference leads to another one that is followed; of a path item too, though it may have
// other members. It returns an error for references that lead to nothing, to a part of another type, in a circle, or into
// another document.
//
//	answer, err := contract.Resolve[contract.Response](d, "#/components/responses/Problem")
func Resolve[T any](d *Document, ref string) (*T, error) {
	seen := map[string]bool{}
	for first := ref; ; {
		if seen[ref] {
			return nil, fmt.Errorf("the reference %s leads in a circle", first)
		}
		seen[ref] = true
		part, err := resolve[T](d, ref)
		if err != nil {
			return nil, err
		}
		if ref = referenceOf(part); ref == "" {
			return part, nil
		}
	}
}

// Referred is a part of a document, or the one that it refers to. A part whose reference leads nowhere is given as it is.
func Referred[T any](d *Document, part *T) *T {
	if ref := referenceOf(part); ref != "" {
		if to, err := Resolve[T](d, ref); err == nil {
			return to
		}
	}
	return part
}

// Follow is a schema, or the one that it refers to, through several references. Keywords beside a reference are left out; one
// that leads nowhere, or far in a circle, is given as it is.
func (d *Document) Follow(s Schema) Schema {
	for range mostReferences {
		to, err := Resolve[Schema](d, s.Reference())
		if s.Reference() == "" || err != nil {
			break
		}
		s = *to
	}
	return s
}

// mostReferences is how many references in a row are followed.
const mostReferences = 8

// referenceOf is the reference that a part is; "" for others. A schema that has one is a schema.
func referenceOf(part any) string {
	v := reflect.ValueOf(part).Elem()
	if v.Kind() != reflect.Struct {
		return ""
	}
	if ref := v.FieldByName("Ref"); ref.IsValid() && ref.Kind() == reflect.String {
		return ref.String()
	}
	return ""
}

func resolve[T any](d *Document, ref string) (*T, error) {
	fragment, is := strings.CutPrefix(ref, "#")
	if !is {
		return nil, fmt.Errorf("the reference %s leads into another document, which is not read", ref)
	}
	pointer, err := url.PathUnescape(fragment)
	if err != nil {
		return nil, fmt.Errorf("the reference %s is not percent-encoded as a fragment is (RFC 6901, 6)", ref)
	}
	if pointer != "" && pointer[0] != '/' {
		if s, has := d.anchors()[pointer]; has {
			if part, is := any(&s).(*T); is {
				return part, nil
			}
		}
		return nil, fmt.Errorf("the reference %s leads to nothing: no schema has that $anchor", ref)
	}
	at := reflect.ValueOf(d).Elem()
	for token := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		if pointer != "" {
			at = step(at, unescape(token))
		}
		if !at.IsValid() {
			return nil, fmt.Errorf("the reference %s leads to nothing", ref)
		}
	}
	if part, is := at.Addr().Interface().(*T); is {
		return part, nil
	}
	return nil, fmt.Errorf(
		"the reference %s leads to a part that is no %s",
		ref,
		strings.ToLower(reflect.TypeFor[T]().Name()),
	)
}

// step is a member of a part, or an item; the zero Value where there is none.
func step(at reflect.Value, token string) (to reflect.Value) {
	switch part := at.Addr().Interface().(type) {
	case *Schema:
		to = stepInto(part.text, token)
		return to
	case *jsontext.Value:
		return reflect.Value{}
	case mapping:
		to = part.member(token)
	default:
		switch at.Kind() {
		case reflect.Slice:
			if i, err := strconv.Atoi(token); err == nil && i >= 0 && i < at.Len() && strconv.Itoa(i) == token {
				to = at.Index(i)
			}
		case reflect.Struct:
			if i, known := objectOf(at.Type()).members[token]; known && !isEmpty(at.Field(i)) {
				to = at.Field(i)
			}
		}
	}
	for to.IsValid() && to.Kind() == reflect.Pointer {
		to = to.Elem()
	}
	return to
}

// stepInto is a schema in another one, or the value of one of its keywords, as a schema.
func stepInto(text jsontext.Value, token string) reflect.Value {
	var in Schema
	if text.Kind() == jsontext.KindBeginArray {
		all := listOf(text)
		i, err := strconv.Atoi(token)
		if err != nil || i < 0 || i >= len(all) {
			return reflect.Value{}
		}
		in = all[i]
	} else if in = SchemaOf(text).One(token); in.IsZero() {
		return reflect.Value{}
	}
	return reflect.ValueOf(&in).Elem()
}

// anchors are the schemas that have a name of their own.
func (d *Document) anchors() map[string]Schema {
	all := map[string]Schema{}
	Each(d, func(_ string, s *Schema) {
		if !strings.Contains(string(s.text), `"$anchor"`) {
			return
		}
		s.Rewrite(func(s Schema) Schema {
			if name := s.String("$anchor"); name != "" {
				all[name] = s
			}
			return s
		})
	})
	return all
}

// followed is how a document's references are followed by those who compute with its schemas.
func (d *Document) followed() func(ref string) (jsontext.Value, bool) {
	var anchors map[string]Schema
	return func(ref string) (jsontext.Value, bool) {
		if name, is := strings.CutPrefix(ref, "#/components/schemas/"); is && d.Components != nil &&
			!strings.ContainsAny(name, "/%") {
			s, has := d.Components.Schemas.Get(unescape(name))
			return s.text, has
		}
		if name, is := strings.CutPrefix(ref, "#"); is && name != "" && name[0] != '/' {
			if anchors == nil {
				anchors = d.anchors()
			}
			s, has := anchors[name]
			return s.text, has
		}
		s, err := resolve[Schema](d, ref)
		if err != nil {
			return nil, false
		}
		return s.text, true
	}
}

// Values computes with the schemas of a document. It is not safe for concurrent use.
type Values struct{ of *sets.Schemas }

// Values prepares that. The document must not be changed meanwhile.
func (d *Document) Values() *Values { return d.valuesOf(sets.Either) }

func (d *Document) valuesOf(direction sets.Direction) *Values {
	return &Values{sets.New(d.followed(), nil, direction)}
}

// Sample gives a value that a schema accepts, as JSON: an example or the default where it has one, and else one that is made
// by its rules, the same each time. It reports false where none is found: no value is accepted, or a rule is beyond what is
// computed with, such as a pattern that Go cannot read.
func (v *Values) Sample(s Schema) (jsontext.Value, bool) {
	one, has := v.of.Of(s.text).Sample()
	if !has {
		return nil, false
	}
	return sets.Text(one), true
}

// Has reports whether it is certain that a schema accepts a value.
func (v *Values) Has(s Schema, value jsontext.Value) bool {
	one, is := sets.ValueOf(value)
	return is && v.of.Of(s.text).Has(one) == sets.Yes
}

// Refuses reports whether it is certain that a schema does not accept a value.
func (v *Values) Refuses(s Schema, value jsontext.Value) bool {
	one, is := sets.ValueOf(value)
	return is && v.of.Of(s.text).Has(one) == sets.No
}

// Difference gives a value that one schema accepts and another one does not. It reports false where none is found.
func (v *Values) Difference(s, without Schema) (jsontext.Value, bool) {
	known, one := v.of.Of(s.text).Within(v.of.Of(without.text))
	if known != sets.No {
		return nil, false
	}
	return sets.Text(one), true
}

// Constant is the one text that a member has in every object that a schema accepts; "" where there are several, or none.
func (v *Values) Constant(s Schema, member string) string { return v.of.Of(s.text).Constant(member) }

// Costs is how many schemas have to be asked about a value, up to a limit. Schemas that refer to each other can make that a
// large number for a small document.
func (v *Values) Costs(s Schema, value jsontext.Value, limit int) int {
	one, _ := sets.ValueOf(value)
	return v.of.Of(s.text).Costs(one, limit)
}

// IsEmpty reports whether it is certain that a schema accepts no value.
func (v *Values) IsEmpty(s Schema) bool { return v.of.Of(s.text).IsEmpty() == sets.Yes }
