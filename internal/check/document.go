package check

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"math"
	stdpath "path"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/schema"
)

// Document writes the type as a JSON Schema (draft 2020-12) that accepts the same values as Decode,
// except for rules that no schema can express: types' own Checks, the texts that types with text methods
// take, rules on numbers inside strings, and depth. Named structs and types that contain themselves are in
// $defs and are referred to. It is meant for showing, not for every request.
func (t *Type) Document() jsontext.Value {
	d := NewDocuments("#/$defs/", nil)
	d.Add(t, Direction{})
	d.Name("")
	doc := d.of(t, Direction{})
	doc["$schema"] = schema.Dialect
	if len(d.names) > 0 {
		defs := node{}
		for u, name := range d.names {
			defs[name] = d.define(u.Type, u.Direction)
		}
		doc["$defs"] = defs
	}
	text, err := json.Marshal(doc, json.Deterministic(true), jsontext.WithIndent("  "))
	if err != nil { // nothing in it can fail to be written
		panic(err)
	}
	return text
}

// A node is a JSON object; its members are written in the order of their names.
type node = map[string]any

// A Direction says what a schema is of: values as they are read from callers, which is the zero
// Direction, or as they are sent to them.
type Direction struct {
	// Unknown says that members are read that the type does not have.
	Unknown bool
	// Sent says that values are sent: members that are always there are required, and there may be others.
	Sent bool
	// OmitNull says that members that are null are not sent.
	OmitNull bool
}

// settle leaves only what makes a difference to a schema.
func (d Direction) settle() Direction {
	if d.Sent {
		d.Unknown = false
	} else {
		d.OmitNull = false
	}
	return d
}

type usedType struct {
	*Type
	Direction
}

// Documents writes the schemas of several types that share their definitions. First all types are added,
// then they are named, and then written.
type Documents struct {
	base  string // before the name in a reference
	added []usedType
	known map[usedType]bool
	names map[usedType]string
	calls map[reflect.Type]string
	// hole is a type whose schema is filling.
	hole    reflect.Type
	filling jsontext.Value
}

// NewDocuments makes one whose references begin with a text, such as #/$defs/. Calls has names for types
// that were made of others; it may be nil.
func NewDocuments(base string, calls map[reflect.Type]string) *Documents {
	return &Documents{base: base, known: map[usedType]bool{}, names: map[usedType]string{}, calls: calls}
}

// Add takes a type in with all that is in it.
func (d *Documents) Add(t *Type, of Direction) {
	u := usedType{t, of.settle()}
	if t == nil || d.known[u] {
		return
	}
	d.known[u] = true
	if (t.shape == object || t.shape == oneOf || t.recursive) && d.short(t) != "" {
		d.added = append(d.added, u)
	}
	d.Add(t.elem, of)
	for text := range t.eachText() {
		d.Add(text, of)
	}
	for _, f := range t.fields {
		d.Add(f.typ, of)
	}
}

// Name names the types that were added: by the type's name with a prefix, where two have the same by the
// package's as well, and where both directions of a type differ with Input for what is read.
func (d *Documents) Name(prefix string) {
	types := map[string]map[*Type]bool{} // by short name
	for _, u := range d.added {
		name := d.short(u.Type)
		if u.called != "" {
			continue
		}
		if types[name] == nil {
			types[name] = map[*Type]bool{}
		}
		types[name][u.Type] = true
	}
	taken := map[string]bool{}
	for _, sent := range []bool{true, false} { // so that values that are sent have the plain name
		for _, u := range d.added {
			if u.Sent != sent {
				continue
			}
			name := d.short(u.Type)
			if len(types[name]) > 1 && u.goType.PkgPath() != "" {
				name = stdpath.Base(u.goType.PkgPath()) + "." + name
			}
			if taken[prefix+name] && !u.Sent {
				name += "Input"
			}
			if (taken[prefix+name] || types[name] != nil) && u.shape == object && u.called != "" {
				name += "With" + strings.ToUpper(u.fields[0].name[:1]) + u.fields[0].name[1:]
			}
			unique := prefix + name
			for n := 2; taken[unique]; n++ {
				unique = prefix + name + strconv.Itoa(n)
			}
			taken[unique] = true
			d.names[u] = unique
		}
	}
}

// short is the name of a type as long as no other has it; "" where it has none.
func (d *Documents) short(t *Type) string {
	return cmp.Or(d.calls[t.goType], t.called, readable(t.goType.Name()))
}

// Schema writes the schema of a type that was added, or a reference to it.
func (d *Documents) Schema(t *Type, of Direction) jsontext.Value { return write(d.of(t, of)) }

// Definitions are the schemas of the types that have a name, by it.
func (d *Documents) Definitions() map[string]jsontext.Value {
	all := make(map[string]jsontext.Value, len(d.names))
	for u, name := range d.names {
		all[name] = write(d.define(u.Type, u.Direction))
	}
	return all
}

// Inline writes the schema of a type without references; one that contains itself takes anything.
func (t *Type) Inline(of Direction) jsontext.Value {
	if t.open {
		return jsontext.Value("{}")
	}
	return write(NewDocuments("", nil).of(t, of))
}

// Around writes the schema of a type without references, with another schema in the place of values of a type that
// has JSON methods. It must not contain itself.
func (t *Type) Around(of Direction, hole reflect.Type, filling jsontext.Value) jsontext.Value {
	d := NewDocuments("", nil)
	d.hole, d.filling = hole, filling
	return write(d.of(t, of))
}

func write(doc node) jsontext.Value {
	text, err := json.Marshal(doc, json.Deterministic(true))
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

// ReadableName is the name of a type in definitions: PageOfLock for Page[example.org/canal/locks.Lock].
func ReadableName(t reflect.Type) string { return readable(t.Name()) }

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
func (d *Documents) of(t *Type, as Direction) node {
	if name := d.names[usedType{t, as.settle()}]; name != "" {
		return node{"$ref": d.base + name}
	}
	return d.define(t, as)
}

// define writes the schema of a type in full.
func (d *Documents) define(t *Type, as Direction) node {
	switch t.shape {
	case pointer, either:
		return orNull(d.of(t.elem, as))
	case list:
		doc := node{"type": "array", "items": d.of(t.elem, as)}
		if t.goType.Kind() == reflect.Array {
			doc["minItems"], doc["maxItems"] = t.goType.Len(), t.goType.Len()
		}
		return doc
	case mapping:
		return d.mapping(t, as)
	case object:
		return d.members(t, as)
	case oneOf:
		return d.oneOf(t, as)
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
	case encoded:
		doc := node{"type": t.name()}
		if f, ok := reflect.Zero(t.goType).Interface().(interface{ JSONFormat() string }); ok {
			doc["format"] = f.JSONFormat()
		} else {
			name, _, _ := strings.Cut(t.goType.Name(), "[")
			doc[TextKey] = strings.ToLower(name)
		}
		return doc
	case anything:
		doc, filling := node{}, map[string]jsontext.Value{} // which keeps the digits of numbers
		text := d.filling
		if own, says := reflect.New(t.goType).Interface().(interface{ JSONSchema() jsontext.Value }); says {
			text = own.JSONSchema()
		} else if t.goType != d.hole {
			return doc
		}
		if json.Unmarshal(text, &filling) == nil {
			for name, value := range filling {
				doc[name] = value
			}
		}
		return doc
	}
	return node{"type": t.name()}
}

func (d *Documents) mapping(t *Type, as Direction) node {
	doc := node{"type": "object", "additionalProperties": d.of(t.elem, as)}
	if k := t.goType.Key(); isInteger(k.Kind()) && !implements(k, textInterfaces) {
		doc["propertyNames"] = node{"pattern": integerText(reflect.Zero(k).CanUint())}
	}
	return doc
}

// oneOf writes the schema of one of several types, with the discriminator of OpenAPI 3.1, 4.8.25.
func (d *Documents) oneOf(t *Type, as Direction) node {
	var types []node
	mapping := node{}
	for _, c := range t.cases.set.Cases {
		of := d.of(t.cases.texts[c.Name], as)
		if types = append(types, of); of["$ref"] != nil {
			mapping[c.Name] = of["$ref"]
		}
	}
	discriminator := node{"propertyName": t.cases.set.Member}
	if len(mapping) > 0 {
		discriminator["mapping"] = mapping
	}
	return node{"type": "object", "oneOf": types, "discriminator": discriminator}
}

// integerText is the pattern of a whole number inside a string.
func integerText(unsigned bool) string {
	if unsigned {
		return "^(?:0|[1-9][0-9]*)$"
	}
	return "^-?(?:0|[1-9][0-9]*)$"
}

// orNull allows null in addition to what a schema says.
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
func (d *Documents) members(t *Type, as Direction) node {
	properties, required := node{}, []string{}
	for _, f := range t.fields {
		properties[f.name] = d.member(f, as)
		if f.isRequired(as) {
			required = append(required, f.name)
		}
	}
	doc := node{"type": "object", "properties": properties}
	if !as.Sent && !as.Unknown {
		doc["additionalProperties"] = false
	}
	if len(required) > 0 {
		slices.Sort(required)
		doc["required"] = required
	}
	return doc
}

// isRequired reports whether the member is in every value.
func (f *field) isRequired(as Direction) bool {
	if as.Sent {
		return f.always && !(as.OmitNull && f.typ.null)
	}
	return f.required
}

func (d *Documents) member(f *field, as Direction) node {
	t := f.typ
	if as.OmitNull || as.Sent && !f.always && t.shape == pointer || !as.Sent && !f.null { // null is never there
		t = t.base()
	}
	doc := d.of(t, as)
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
	if f.example.IsValid() {
		doc["examples"] = []any{f.example.Interface()}
	}
	if f.fallback.IsValid() && !as.Sent {
		if v, there := f.typ.reach(f.fallback); there {
			doc["default"] = v.Interface()
		}
	}
	return doc
}

// rules adds what a field's rules say to the schema of its type.
func (d *Documents) rules(doc node, f *field) {
	for _, r := range f.rules {
		if r.against != nil { // minimum is for numbers; this is widely known for texts
			doc["format"+strings.ToUpper(r.keyword[:1])+r.keyword[1:]] = r.want
			continue
		}
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

// quoted is the schema of a number that is in a string.
func (d *Documents) quoted(f *field) node {
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
