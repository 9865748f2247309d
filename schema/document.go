package schema

import (
	"path"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Dialect is the version of JSON Schema that documents are written in.
const Dialect = "https://json-schema.org/draft/2020-12/schema"

// Document writes the type as a JSON Schema (draft 2020-12). Named structs stand
// in $defs and are referred to, so that types can contain themselves. It is meant
// for showing, not for every request.
func (t *Type) Document() jsontext.Value {
	d := documents{names: map[*Type]string{}, defs: node{}}
	d.collect(t, map[*Type]bool{})
	doc := d.of(t)
	doc["$schema"] = Dialect
	if len(d.names) > 0 {
		for typ, name := range d.names {
			d.defs[name] = d.members(typ)
		}
		doc["$defs"] = d.defs
	}
	text, err := json.Marshal(doc, json.Deterministic(true), jsontext.WithIndent("  "))
	if err != nil { // nothing in it can fail to be written
		panic(err)
	}
	return text
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
	if t.shape == object && t.goType.Name() != "" {
		d.name(t)
	}
	d.collect(t.elem, seen)
	for _, f := range t.fields {
		d.collect(f.typ, seen)
	}
}

func (d *documents) name(t *Type) {
	short, long := readable(t.goType.Name()), path.Base(t.goType.PkgPath())+"."+readable(t.goType.Name())
	d.names[t] = short
	for other, name := range d.names {
		if other != t && (name == short || name == path.Base(other.goType.PkgPath())+"."+short) {
			d.names[other] = path.Base(other.goType.PkgPath()) + "." + readable(other.goType.Name())
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
	switch t.shape {
	case pointer, either:
		return orNull(d.of(t.elem))
	case list:
		return node{"type": "array", "items": d.of(t.elem)}
	case mapping:
		return node{"type": "object", "additionalProperties": d.of(t.elem)}
	case object:
		return d.members(t)
	case moment:
		return node{"type": "string", "format": "date-time"}
	case bytes:
		return node{"type": "string", "contentEncoding": "base64"}
	case integer:
		doc := node{"type": "integer"}
		if low, high, narrow := t.span(); narrow {
			doc["minimum"], doc["maximum"] = low, high
		}
		return doc
	case anything:
		return node{}
	}
	return node{"type": t.name()}
}

// orNull allows null beside what a schema says.
func orNull(doc node) node {
	if kind, ok := doc["type"].(string); ok {
		doc["type"] = []string{kind, "null"}
		return doc
	}
	if len(doc) == 0 {
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
	doc := d.of(f.typ)
	if f.quoted {
		doc = node{"type": "string"}
	}
	for _, r := range f.rules {
		if !f.quoted {
			doc[r.keyword] = r.want
		}
	}
	if items, ok := doc["items"].(node); ok {
		for _, r := range f.items {
			items[r.keyword] = r.want
		}
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
