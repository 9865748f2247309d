package contract

import (
	"bytes"
	"maps"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// defs is where the schemas of a description refer to.
const defs = "#/$defs/"

// refer gives a schema whose references lead to the components.
func (m *making) refer(schema jsontext.Value) Schema {
	if schema == nil {
		return Schema{}
	}
	return SchemaOf(schema).Rewrite(func(s Schema) Schema {
		name, is := strings.CutPrefix(s.Reference(), defs)
		if !is {
			return s
		}
		var out jsonObject
		for keyword, value := range s.Members() {
			if keyword == "$ref" {
				value = text("#/components/schemas/" + escaper.Replace(m.called(unescape(name))))
			}
			out.add(keyword, value)
		}
		return out.schema()
	})
}

// called is the name of a definition among the components: without its version, unless a type outside of all versions
// has that name.
func (m *making) called(name string) string {
	short := strings.TrimPrefix(name, m.version+".")
	if short == name || m.api.Defs[short] != nil {
		short = name
	}
	return notInID.ReplaceAllString(short, ".")
}

// schemas adds the definitions that the routes use, by name, with all that those use.
func (m *making) schemas() {
	added := map[string]Schema{}
	var add func(text jsontext.Value)
	add = func(text jsontext.Value) {
		for _, name := range referred(text) {
			component := m.called(name)
			if _, has := added[component]; has || m.api.Defs[name] == nil {
				continue
			}
			added[component] = m.refer(m.api.Defs[name])
			add(m.api.Defs[name])
		}
	}
	for _, r := range m.routes {
		for _, in := range r.Inputs {
			add(in.Schema)
		}
		for _, b := range r.Bodies {
			add(b.Schema)
		}
		for _, a := range r.Answers {
			add(a.Schema)
		}
		if r.Problems != nil {
			add(r.Problems.Schema)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(added)) {
		m.parts.Schemas.Set(name, added[name])
	}
	m.parts.Headers = m.parts.Headers.sorted()
	m.parts.Responses = m.parts.Responses.sorted()
}

// sorted are the members by their names.
func (m *Map[T]) sorted() (all Map[T]) {
	for _, name := range slices.Sorted(slices.Values(m.names)) {
		value, _ := m.Get(name)
		all.Set(name, value)
	}
	return all
}

// referred are the names of the definitions that a schema refers to.
func referred(schema jsontext.Value) (names []string) {
	for _, piece := range bytes.Split(schema, []byte(`"`+defs))[1:] {
		name, _, _ := bytes.Cut(piece, []byte(`"`))
		names = append(names, unescape(string(name)))
	}
	return names
}

// problemSchema is what all problems have (RFC 9457, 3.1).
const problemSchema = `{"type":"object","required":["type","title","status","code"],"properties":{` +
	`"type":{"type":"string","format":"uri-reference"},"title":{"type":"string"},"status":{"type":"integer"},` +
	`"detail":{"type":"string"},"instance":{"type":"string","format":"uri-reference"},"code":{"type":"string"}}}`

// problems adds the kinds that the routes raise, and the answer that stands for all others.
func (m *making) problems() {
	m.parts.Schemas.Set("Problem", SchemaOf(jsontext.Value(problemSchema)))
	for _, code := range slices.Sorted(maps.Keys(m.raised)) {
		k := m.kinds[code]
		m.parts.Schemas.Set(problemName(code), kindSchema(k))
		m.parts.Examples.Set(problemName(code), &Example{Summary: k.Title, Value: k.Example})
	}
	any := &Response{Description: "Any other problem"}
	var s jsonObject
	s.say("$ref", "#/components/schemas/Problem")
	any.Content.Set(problem.MediaType, MediaType{Schema: SchemaOf(s.text())})
	m.parts.Responses.Set("Problem", any)
}

// kindSchema is a kind of problem as what it has in addition to all problems.
func kindSchema(k facts.Kind) Schema {
	all := SchemaOf(jsontext.Value(problemSchema)).Schemas("properties")
	var own, s jsonObject
	properties := SchemaOf(k.Schema).Schemas("properties")
	for name, property := range properties.All() {
		if common, has := all.Get(name); !has || !bytes.Equal(canonical(common.text), canonical(property.text)) {
			own.add(name, property.text)
		}
	}
	s.add("allOf", jsontext.Value(`[{"$ref":"#/components/schemas/Problem"}]`))
	if k.Meaning != "" {
		s.say("description", k.Meaning)
	}
	s.add("properties", own.text())
	return SchemaOf(s.text())
}

func canonical(value jsontext.Value) jsontext.Value {
	value = value.Clone()
	value.Canonicalize()
	return value
}

// scheme adds a guard as a security scheme; of several of which one is enough each.
func (m *making) scheme(g facts.Guard) {
	if g.Any != nil {
		for _, one := range g.Any {
			m.scheme(one)
		}
		return
	}
	s := &SecurityScheme{Type: g.Type, Description: g.Note, BearerFormat: g.Format, In: g.In, Name: g.Field,
		Scheme: strings.ToLower(g.Scheme), OpenIDConnectURL: g.Address}
	switch g.Type {
	case "http":
		s.In, s.Name = "", ""
	case "apiKey":
		s.Scheme, s.BearerFormat = "", ""
	case "":
		s.Type, s.In, s.Name = "apiKey", "header", "Authorization"
	}
	for _, f := range g.Flows {
		flow := Flow{AuthorizationURL: f.Authorization, TokenURL: f.Token, RefreshURL: f.Refresh}
		for _, scope := range slices.Sorted(maps.Keys(f.Scopes)) {
			flow.Scopes.Set(scope, f.Scopes[scope])
		}
		s.Flows.Set(f.Name, flow)
	}
	m.parts.SecuritySchemes.Set(schemeName(g), s)
}

func schemeName(g facts.Guard) string { return notInID.ReplaceAllString(g.Name, "-") }

// security says who may call.
func (m *making) security(o *Operation, r facts.Route) {
	all := []Requirement{}
	o.Security = &all
	if r.Guard == nil {
		return
	}
	guards := r.Guard.Any
	if guards == nil {
		guards = []facts.Guard{*r.Guard}
	}
	needs := [][]string{r.Scopes}
	for _, oneOf := range r.AnyScope { // one of each list
		var more [][]string
		for _, scopes := range needs {
			for _, scope := range oneOf {
				more = append(more, append(slices.Clone(scopes), scope))
			}
		}
		if len(more) <= mostAlternatives {
			needs = more
		}
	}
	for _, g := range guards {
		for _, scopes := range needs {
			var one Requirement
			one.Set(schemeName(g), append([]string{}, scopes...))
			all = append(all, one)
		}
	}
}

// scopes says what the scopes of the operations mean, with the schemes that have no member for it: all but oauth2.
func (m *making) scopes() {
	used := map[string]map[string]bool{}
	for _, item := range m.doc.Paths.All() {
		for _, o := range item.Operations() {
			if o.Security == nil {
				continue
			}
			for _, one := range *o.Security {
				for scheme, scopes := range one.All() {
					if used[scheme] == nil {
						used[scheme] = map[string]bool{}
					}
					for _, scope := range scopes {
						used[scheme][scope] = true
					}
				}
			}
		}
	}
	for name, s := range m.parts.SecuritySchemes.All() {
		var texts jsonObject
		for _, scope := range slices.Sorted(maps.Keys(used[name])) {
			if says := m.api.Scopes[scope]; says != "" && s.Type != "oauth2" {
				texts.say(scope, says)
			}
		}
		if texts.b.Len() > 0 {
			s.More.Set("x-wicketway-scopes", texts.text())
		}
	}
}

// mostAlternatives bounds the combinations of scopes of which one each is needed.
const mostAlternatives = 32

// text writes an operation by itself.
func (o *Operation) text() jsontext.Value {
	text, err := json.Marshal(writable{o})
	if err != nil {
		return jsontext.Value("{}") // of values that are no JSON
	}
	return text
}
