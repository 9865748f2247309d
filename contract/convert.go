package contract

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A Loss is something that a document in another version of OpenAPI cannot say.
type Loss struct {
	Pointer string // to what is left out or changed; of a schema where in the document it begins
	Text    string
}

func (l Loss) String() string { return l.Pointer + ": " + l.Text }

// As gives the document in another version of OpenAPI: 3.0, 3.1 or 3.2, and what it cannot say there. The document
// itself stays as it is.
func (d *Document) As(version string) (*Document, []Loss, error) {
	copied, err := Read(d.Text())
	if err != nil {
		return nil, nil, err
	}
	switch version {
	case "3.1":
		return copied, nil, nil
	case "3.2":
		copied.OpenAPI = "3.2.0"
		copied.toThreeTwo()
		return copied, nil, nil
	case "3.0":
		copied.OpenAPI = "3.0.4"
		return copied, copied.toThreeZero(), nil
	}
	return nil, nil, fmt.Errorf("OpenAPI %s is not written; known: 3.0, 3.1, 3.2", version)
}

// toThreeTwo says by the words of 3.2 what 3.1 has none for: the items of streams, and other methods.
func (d *Document) toThreeTwo() {
	Each(d, func(_ string, m *MediaType) {
		if item, has := m.More.Get(ItemKey); has {
			m.Item, m.Schema = SchemaOf(item), Schema{}
			m.remove(ItemKey)
			m.Forget("schema")
		}
	})
	Each(d, func(_ string, p *PathItem) {
		others, _ := p.More.Get(othersKey)
		var left jsonObject
		for method, text := range (SchemaOf(others)).Members() {
			var o Operation
			if method == "*" || readPart(text, &o) != nil {
				left.add(method, text)
				continue
			}
			if method == "QUERY" {
				p.Query = &o
			} else {
				p.Additional.Set(method, &o)
			}
		}
		p.remove(othersKey)
		if left.b.Len() > 0 {
			p.More.Set(othersKey, left.text())
		}
	})
}

// remove takes a member away that the type does not know.
func (o *Object) remove(name string) {
	o.Forget(name)
	o.More.Delete(name)
}

// notInThreeZero are keywords of draft 2020-12 that the dialect of 3.0 lacks, and that nothing stands for.
var notInThreeZero = []string{
	"$id", "$schema", "$anchor", "$dynamicRef", "$dynamicAnchor", "$comment", "$defs", "if", "then", "else", "dependentSchemas",
	"dependentRequired", "prefixItems", "contains", "minContains", "maxContains", "patternProperties", "propertyNames",
	"unevaluatedItems", "unevaluatedProperties", "contentSchema",
}

func (d *Document) toThreeZero() (lost []Loss) {
	lose := func(pointer, format string, args ...any) {
		lost = append(lost, Loss{pointer, fmt.Sprintf(format, args...)})
	}
	if d.Webhooks.Len() > 0 {
		lose("/webhooks", "3.0 has no webhooks")
		d.Webhooks = Map[*PathItem]{}
		d.Forget("webhooks")
	}
	d.Dialect, d.Info.Summary = "", ""
	d.Forget("jsonSchemaDialect")
	d.Info.Forget("summary")
	if d.Components != nil && d.Components.PathItems.Len() > 0 {
		lose("/components/pathItems", "3.0 has no path items among the components")
		d.Components.PathItems = Map[*PathItem]{}
		d.Components.Forget("pathItems")
	}
	Each(d, func(pointer string, s *SecurityScheme) {
		if s.Type == "mutualTLS" {
			lose(pointer, "3.0 has no mutualTLS: it is an API key here")
			s.Type, s.In, s.Name = "apiKey", "header", "Authorization"
		}
	})
	d.scopesAside(lose)
	Each(d, func(_ string, o *Operation) {
		if o.Responses.Len() == 0 {
			o.Responses.Set("default", &Response{Description: "An answer"})
		}
	})
	Each(d, func(pointer string, s *Schema) {
		if !s.IsZero() {
			*s = s.Rewrite(func(s Schema) Schema {
				return toThreeZero(s, func(format string, args ...any) { lose(pointer, format, args...) })
			})
		}
	})
	Each(d, func(pointer string, p *PathItem) {
		if others, has := p.More.Get(othersKey); has {
			for method := range (SchemaOf(others)).Members() {
				lose(pointer, "%s is a method that 3.0 has no member for: its schemas are those of 3.1", method)
			}
		}
	})
	return lost
}

// securityKey is in an operation of 3.0, with requirements whose scopes only later versions have. A document that is read
// has them in the operation itself as well.
const securityKey = "x-wicketway-security"

// scopesAside takes the scopes of other schemes than oauth2 and openIdConnect away, since 3.0 has none there (4.7.30), and
// keeps them where a reader of ours finds them.
func (d *Document) scopesAside(lose func(pointer, format string, args ...any)) {
	Each(d, func(pointer string, o *Operation) {
		if o.Security == nil {
			return
		}
		lost := false
		all := make([]Requirement, len(*o.Security))
		for i, r := range *o.Security {
			for name, scopes := range r.All() {
				s, err := Resolve[SecurityScheme](d, "#/components/securitySchemes/"+escaper.Replace(name))
				if err == nil && s.Type != "oauth2" && s.Type != "openIdConnect" && len(scopes) > 0 {
					lost, scopes = true, []string{}
				}
				all[i].Set(name, scopes)
			}
		}
		if lost {
			only := writable{&Operation{Security: o.Security}}
			if text, err := json.Marshal(only); err == nil {
				value, _ := SchemaOf(text).Get("security")
				o.More.Set(securityKey, value)
			}
			o.Security = &all
			lose(pointer+"/security", "the scopes of schemes other than oauth2: "+securityKey)
		}
	})
}

// scopesBack is the way back.
func (d *Document) scopesBack() {
	Each(d, func(_ string, o *Operation) {
		value, has := o.More.Get(securityKey)
		var only Operation
		if has && readPart(jsontext.Value(`{"security":`+string(value)+`}`), &only) == nil {
			o.Security = only.Security
		}
	})
}

// toThreeZero makes one schema of draft 2020-12 one of OpenAPI 3.0.
func toThreeZero(s Schema, lose func(format string, args ...any)) Schema {
	switch s.text.Kind() {
	case jsontext.KindTrue:
		return SchemaOf(jsontext.Value("{}"))
	case jsontext.KindFalse:
		return SchemaOf(jsontext.Value(`{"not":{}}`))
	}
	keep := map[string]jsontext.Value{}
	for name, value := range s.Members() {
		keep[name] = value
	}
	var out jsonObject
	if ref := keep["$ref"]; ref != nil && len(keep) > 1 { // beside a reference nothing has a meaning
		out.add("allOf", jsontext.Value(`[{"$ref":`+string(ref)+`}]`))
		delete(keep, "$ref")
	}
	for name, value := range s.Members() {
		switch {
		case keep[name] == nil:
		case slices.Contains(notInThreeZero, name):
			lose("the keyword %s", name)
		case name == "type" && value.Kind() == jsontext.KindBeginArray:
			types := slices.DeleteFunc(s.Types(), func(t string) bool { return t == "null" })
			if len(types) < len(s.Types()) {
				out.say("nullable", true)
			}
			if len(types) == 1 {
				out.say("type", types[0])
			} else if len(types) > 1 {
				lose("several types: %s", strings.Join(types, ", "))
			}
		case name == "type" && string(value) == `"null"`:
			out.say("nullable", true)
			out.add("enum", jsontext.Value("[null]"))
		case name == "additionalProperties" && string(value) == `{"not":{}}`: // here it can be a boolean
			out.say(name, false)
		case name == "const":
			out.add("enum", jsontext.Value("["+string(value)+"]"))
		case name == "exclusiveMinimum" || name == "exclusiveMaximum":
			bound := "minimum"
			if name == "exclusiveMaximum" {
				bound = "maximum"
			}
			out.add(bound, value)
			out.say(name, true)
		case name == "minimum" && keep["exclusiveMinimum"] != nil, name == "maximum" && keep["exclusiveMaximum"] != nil:
		case name == "examples":
			if all := listOf(value); len(all) > 0 {
				out.add("example", all[0].text)
			}
		case name == "contentMediaType":
			if string(value) == `"application/octet-stream"` {
				out.say("format", "binary")
			}
		case name == "contentEncoding":
			if string(value) == `"base64"` {
				out.say("format", "byte")
			}
		case name == "allOf" && keep["$ref"] == nil && out.b.Len() > 0 && bytes.HasPrefix(out.b.Bytes(), []byte(`{"allOf"`)):
			lose("allOf beside a reference")
		default:
			out.add(name, value)
		}
	}
	if string(keep["type"]) == `"array"` && keep["items"] == nil {
		out.add("items", jsontext.Value("{}"))
	}
	return out.schema()
}
