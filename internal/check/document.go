package check

import (
	"encoding/base64"
	"fmt"
	"math"
	stdpath "path"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/schema"
)

// Document writes the type as a JSON Schema (draft 2020-12) that accepts what Decode
// accepts, but for what no schema can say: types' own Checks, the texts that types
// with text methods take, rules on numbers inside strings, and depth. Named structs
// and types that contain themselves stand in $defs and are referred to. It is meant
// for showing, not for every request.
func (t *Type) Document() jsontext.Value {
	d := documents{names: map[*Type]string{}, defs: node{}}
	d.collect(t, map[*Type]bool{})
	doc := d.of(t)
	doc["$schema"] = schema.Dialect
	if len(d.names) > 0 {
		for typ, name := range d.names {
			d.defs[name] = d.define(typ)
		}
		doc["$defs"] = d.defs
	}
	text, err := json.Marshal(doc, json.Deterministic(true), jsontext.WithIndent("  "))
	if err != nil { // nothing in it can fail to be written
		panic(err)
	}
	return text
}

// format names the size of a whole number, as OpenAPI's registry of formats does.
func (t *Type) format() string {
	if reflect.Zero(t.goType).CanUint() {
		return fmt.Sprint("uint", t.goType.Bits())
	}
	return fmt.Sprint("int", t.goType.Bits())
}

// A node is a JSON object; its members are written in the order of their names.
type node = map[string]any

// documents writes the schemas of a set of types that share their definitions.
type documents struct {
	names map[*Type]string // of the types that have a definition
	defs  node
}

// collect names the structs at and below t: by the type's name, and where two have
// the same by the package's as well.
func (d *documents) collect(t *Type, seen map[*Type]bool) {
	if t == nil || seen[t] {
		return
	}
	seen[t] = true
	if (t.shape == object || t.recursive) && t.goType.Name() != "" {
		d.name(t)
	}
	d.collect(t.elem, seen)
	for _, f := range t.fields {
		d.collect(f.typ, seen)
	}
}

func (d *documents) name(t *Type) {
	short, long := readable(t.goType.Name()), stdpath.Base(t.goType.PkgPath())+"."+readable(t.goType.Name())
	d.names[t] = short
	for other, name := range d.names {
		if other != t && (name == short || name == stdpath.Base(other.goType.PkgPath())+"."+short) {
			d.names[other] = stdpath.Base(other.goType.PkgPath()) + "." + readable(other.goType.Name())
			d.names[t] = long
		}
	}
}

// readable turns Page[example.org/canal/locks.Lock] into PageOfLock.
func readable(name string) string {
	base, arguments, generic := strings.Cut(strings.TrimSuffix(name, "]"), "[")
	if !generic {
		return name
	}
	var words []string
	for a := range strings.SplitSeq(arguments, ",") {
		a = strings.TrimLeft(a, "*[]")
		words = append(words, readable(a[strings.LastIndexAny(a, "./")+1:]))
	}
	return base + "Of" + strings.Join(words, "And")
}

// of writes the schema of a type where it is used.
func (d *documents) of(t *Type) node {
	if name := d.names[t]; name != "" {
		return node{"$ref": "#/$defs/" + name}
	}
	return d.define(t)
}

// define writes the schema of a type in full.
func (d *documents) define(t *Type) node {
	switch t.shape {
	case pointer, either:
		return orNull(d.of(t.elem))
	case list:
		doc := node{"type": "array", "items": d.of(t.elem)}
		if t.goType.Kind() == reflect.Array {
			doc["minItems"], doc["maxItems"] = t.goType.Len(), t.goType.Len()
		}
		return doc
	case mapping:
		return d.mapping(t)
	case object:
		return d.members(t)
	case moment:
		return node{"type": "string", "format": "date-time"}
	case bytes:
		doc := node{"type": "string", "contentEncoding": "base64",
			"pattern": "^(?:[A-Za-z0-9+/]{4})*(?:[A-Za-z0-9+/]{2}==|[A-Za-z0-9+/]{3}=)?$"}
		if t.goType.Kind() == reflect.Array {
			n := base64.StdEncoding.EncodedLen(t.goType.Len())
			doc["minLength"], doc["maxLength"] = n, n
			if pad := n*3/4 - t.goType.Len(); pad > 0 {
				doc["pattern"] = "[^=]" + strings.Repeat("=", pad) + "$"
			}
		}
		return doc
	case integer:
		low, high := t.span()
		return node{"type": "integer", "format": t.format(), "minimum": low, "maximum": high}
	case number:
		if t.goType.Bits() == 32 {
			return node{"type": "number", "minimum": -math.MaxFloat32, "maximum": math.MaxFloat32}
		}
	case anything:
		return node{}
	}
	return node{"type": t.name()}
}

func (d *documents) mapping(t *Type) node {
	doc := node{"type": "object", "additionalProperties": d.of(t.elem)}
	if k := t.goType.Key(); isInteger(k.Kind()) && !implements(k, textInterfaces) {
		doc["propertyNames"] = node{"pattern": integerText(reflect.Zero(k).CanUint())}
	}
	return doc
}

// integerText is the pattern of a whole number inside a string.
func integerText(unsigned bool) string {
	if unsigned {
		return "^(?:0|[1-9][0-9]*)$"
	}
	return "^-?(?:0|[1-9][0-9]*)$"
}

// orNull allows null beside what a schema says.
func orNull(doc node) node {
	if kind, ok := doc["type"].(string); ok {
		doc["type"] = []string{kind, "null"}
		return doc
	}
	if len(doc) == 0 || doc["anyOf"] != nil {
		return doc
	}
	return node{"anyOf": []node{doc, {"type": "null"}}}
}

// members writes the schema of a struct.
func (d *documents) members(t *Type) node {
	properties, required := node{}, []string{}
	for _, f := range t.fields {
		properties[f.name] = d.member(f)
		if f.required {
			required = append(required, f.name)
		}
	}
	doc := node{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		slices.Sort(required)
		doc["required"] = required
	}
	return doc
}

func (d *documents) member(f *field) node {
	t := f.typ
	if !f.null {
		t = t.base()
	}
	doc := d.of(t)
	if f.quoted {
		doc = d.quoted(f)
	} else {
		d.rules(doc, f)
	}
	for _, word := range f.words {
		doc[word] = true
	}
	if f.note != "" {
		doc["description"] = f.note
	}
	if f.fallback.IsValid() {
		if v, there := f.typ.reach(f.fallback); there {
			doc["default"] = v.Interface()
		}
	}
	return doc
}

// rules adds what a field's rules say to the schema of its type.
func (d *documents) rules(doc node, f *field) {
	for _, r := range f.rules {
		doc[r.keyword] = r.want
		if list, ok := r.want.([]any); ok && r.keyword == "enum" && f.null {
			doc["enum"] = append(slices.Clone(list), nil)
		}
	}
	if len(f.items) == 0 {
		return
	}
	items := doc
	if other, ok := doc["anyOf"].([]node); ok {
		items = other[0]
	}
	if inner, ok := items["items"].(node); ok {
		for _, r := range f.items {
			inner[r.keyword] = r.want
			if list, ok := r.want.([]any); ok && r.keyword == "enum" && f.typ.base().elem.null {
				inner["enum"] = append(slices.Clone(list), nil)
			}
		}
	}
}

// quoted is the schema of a number that stands in a string.
func (d *documents) quoted(f *field) node {
	doc := node{"type": "string"}
	if f.null {
		doc["type"] = []string{"string", "null"}
	}
	switch t := f.typ.base(); t.shape {
	case integer:
		doc["pattern"] = integerText(reflect.Zero(t.goType).CanUint())
	case number:
		doc["pattern"] = "^-?(?:0|[1-9][0-9]*)(?:\\.[0-9]+)?(?:[eE][-+]?[0-9]+)?$"
	}
	return doc
}
