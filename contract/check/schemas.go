package check

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
)

// references finds those that lead to nothing, and names of operations and schemes that nothing has.
func (c *checking) references() {
	refers(c, func(p *contract.Parameter) string { return p.Ref })
	refers(c, func(r *contract.Response) string { return r.Ref })
	refers(c, func(h *contract.Header) string { return h.Ref })
	refers(c, func(b *contract.RequestBody) string { return b.Ref })
	refers(c, func(e *contract.Example) string { return e.Ref })
	refers(c, func(l *contract.Link) string { return l.Ref })
	refers(c, func(s *contract.SecurityScheme) string { return s.Ref })
	refers(c, func(i *contract.PathItem) string { return i.Ref })
	contract.Each(c.d, func(pointer string, l *contract.Link) {
		switch {
		case l.OperationID != "" && l.OperationRef != "":
			c.wrong(pointer, "has both operationId and operationRef; it is one of them")
		case l.OperationID != "" && c.ids[l.OperationID] == "":
			c.wrong(pointer+"/operationId", "is %s, and no operation is called that", l.OperationID)
		}
	})
}

func refers[T any](c *checking, refOf func(*T) string) {
	contract.Each(c.d, func(pointer string, part *T) {
		if ref := refOf(part); ref != "" {
			_, err := contract.Resolve[T](c.d, ref)
			c.refers(pointer+"/$ref", ref, err)
		}
	})
}

// refers tells of a reference that cannot be followed. Of other documents nothing is known.
func (c *checking) refers(pointer, ref string, err error) {
	switch {
	case err == nil:
	case !strings.HasPrefix(ref, "#"):
		c.advise(pointer, "leads into another document (%s), which is not read", ref)
	default:
		c.wrong(pointer, "%v", err)
	}
}

// schemas checks every schema: its keywords, its references, and whether anything satisfies it.
func (c *checking) schemas() {
	told := map[string]bool{} // texts that nothing satisfies
	contract.Each(c.d, func(pointer string, s *contract.Schema) {
		if !s.IsZero() {
			c.schema(pointer, *s, told)
		}
	})
}

func (c *checking) schema(pointer string, s contract.Schema, told map[string]bool) {
	before, errs := len(told), c.errors
	for below, one := range s.Below() {
		c.schema(pointer+below, one, told)
	}
	if s.Text().Kind() != jsontext.KindBeginObject {
		return
	}
	c.keywords(pointer, s)
	if ref := s.Reference(); ref != "" {
		_, err := contract.Resolve[contract.Schema](c.d, ref)
		if err == nil && c.circles(s) {
			err = fmt.Errorf("the reference %s leads in a circle", ref)
		}
		c.refers(pointer+"/$ref", ref, err)
	}
	c.discriminator(pointer, s)
	c.fallback(pointer, s)
	if text := string(s.Text()); len(told) == before && c.errors == errs && !told[text] && !isNothing(s) &&
		c.isEmpty(s) {
		told[text] = true
		c.advise(pointer, "accepts no value at all: its rules contradict each other")
	}
}

// isEmpty reports whether no value satisfies a schema, for certain. Of what is only a reference that is told where it
// leads.
func (c *checking) isEmpty(s contract.Schema) bool {
	_, is := s.Get("$ref")
	return !is && c.sets.IsEmpty(s)
}

// isNothing reports whether a schema says in so many words that it accepts nothing.
func isNothing(s contract.Schema) bool {
	not, has := s.Get("not")
	return has && (string(not) == "{}" || string(not) == "true")
}

// circles reports whether a schema is no more than a reference to itself.
func (c *checking) circles(s contract.Schema) bool {
	var seen []string
	for ref := s.Reference(); ref != ""; ref = s.Reference() {
		if slices.Contains(seen, ref) {
			return true
		}
		seen = append(seen, ref)
		to, err := contract.Resolve[contract.Schema](c.d, ref)
		if err != nil {
			return false
		}
		s = *to
	}
	return false
}

var types = []string{"null", "boolean", "object", "array", "number", "string", "integer"}

// counts are keywords whose value is a number of characters, items or members.
var counts = []string{
	"minLength",
	"maxLength",
	"minItems",
	"maxItems",
	"minProperties",
	"maxProperties",
	"minContains",
	"maxContains",
}

// about are the types that keywords say something of.
var about = map[string][]string{
	"minLength": {"string"}, "maxLength": {"string"}, "pattern": {"string"},
	"minimum": {"number", "integer"}, "maximum": {"number", "integer"}, "exclusiveMinimum": {"number", "integer"},
	"exclusiveMaximum": {"number", "integer"}, "multipleOf": {"number", "integer"},
	"items": {
		"array",
	}, "prefixItems": {"array"}, "minItems": {"array"}, "maxItems": {"array"}, "uniqueItems": {"array"}, "contains": {"array"},
	"properties": {
		"object",
	}, "required": {"object"}, "additionalProperties": {"object"}, "patternProperties": {"object"},
	"minProperties": {"object"}, "maxProperties": {"object"}, "propertyNames": {"object"},
}

func (c *checking) keywords(pointer string, s contract.Schema) {
	has := map[string]jsontext.Value{}
	for name, value := range s.Members() {
		has[name] = value
		c.keyword(at(pointer, name), name, value)
	}
	own := s.Types()
	for i, t := range own {
		switch {
		case !slices.Contains(types, t):
			c.wrong(pointer+"/type", "is %q; types are %s", t, strings.Join(types, ", "))
		case slices.Contains(own[:i], t):
			c.wrong(pointer+"/type", "lists %s twice", t)
		}
	}
	for name := range has {
		if of := about[name]; of != nil && len(own) > 0 &&
			!slices.ContainsFunc(own, func(t string) bool { return slices.Contains(of, t) }) {
			c.advise(at(pointer, name), "has no effect on values of the type %s", strings.Join(own, ", "))
		}
	}
	if c.is30 && len(own) == 1 && own[0] == "array" && has["items"] == nil {
		c.wrong(pointer, "is an array without items, which OpenAPI 3.0 demands")
	}
	if string(has["readOnly"]) == "true" && string(has["writeOnly"]) == "true" {
		c.advise(pointer, "is both readOnly and writeOnly: nobody sends it")
	}
	if !c.is30 && has["nullable"] != nil {
		c.advise(
			pointer+"/nullable",
			"is a keyword of OpenAPI 3.0 that has no effect here: write \"type\":[...,\"null\"]",
		)
	}
	if !c.is30 && has["example"] != nil {
		c.advise(pointer+"/example", "is deprecated: write examples, an array")
	}
}

func (c *checking) keyword(pointer, name string, value jsontext.Value) {
	switch {
	case slices.Contains(counts, name) && !isCount(value):
		c.wrong(pointer, "is %s; want a whole number from 0", value)
	case name == "multipleOf" && value.Kind() == jsontext.KindNumber && !isPositive(value):
		c.wrong(pointer, "is %s; want a number above 0", value)
	case (name == "exclusiveMinimum" || name == "exclusiveMaximum") && value.Kind() != jsontext.KindNumber:
		c.wrong(pointer, "is %s; since OpenAPI 3.1 it is the number itself", value)
	case name == "pattern" && value.Kind() == jsontext.KindString:
		var text string
		json.Unmarshal(value, &text)
		if _, err := regexp.Compile(text); err != nil {
			c.advise(
				pointer,
				"is a pattern that is not held: %v",
				strings.TrimPrefix(err.Error(), "error parsing regexp: "),
			)
		}
	case (name == "allOf" || name == "anyOf" || name == "oneOf" || name == "prefixItems") && string(value) == "[]":
		c.wrong(pointer, "is empty; it lists one schema at least")
	case name == "required":
		var names []string
		json.Unmarshal(value, &names)
		if slices.Sort(names); len(slices.Compact(slices.Clone(names))) < len(names) {
			c.wrong(pointer, "lists a member twice")
		}
	case name == "enum":
		c.enum(pointer, value)
	}
}

func isCount(value jsontext.Value) bool {
	var n float64
	return json.Unmarshal(value, &n) == nil && n >= 0 && n == float64(int64(n))
}

func isPositive(value jsontext.Value) bool {
	var n float64
	return json.Unmarshal(value, &n) == nil && n > 0
}

func (c *checking) enum(pointer string, value jsontext.Value) {
	var all []jsontext.Value
	if value.Kind() != jsontext.KindBeginArray || json.Unmarshal(value, &all) != nil {
		c.wrong(pointer, "is no array")
		return
	}
	if len(all) == 0 {
		c.advise(pointer, "is empty, so nothing is accepted")
	}
	seen := map[string]bool{}
	for i, one := range all {
		one = one.Clone()
		if one.Canonicalize(); seen[string(one)] {
			c.advise(fmt.Sprint(pointer, "/", i), "is in the enum twice")
		}
		seen[string(one)] = true
	}
}

// discriminator checks that all alternatives are there (4.8.25).
func (c *checking) discriminator(pointer string, s contract.Schema) {
	value, has := s.Get("discriminator")
	if !has {
		return
	}
	of := contract.SchemaOf(value)
	name := of.String("propertyName")
	if name == "" {
		c.wrong(pointer+"/discriminator", "has no propertyName")
	}
	for key, to := range of.One("mapping").Members() {
		var ref string
		if json.Unmarshal(to, &ref) == nil && strings.HasPrefix(ref, "#") {
			_, err := contract.Resolve[contract.Schema](c.d, ref)
			c.refers(at(pointer, "discriminator", "mapping", key), ref, err)
		}
	}
	for i, one := range slices.Concat(s.List("oneOf"), s.List("anyOf")) {
		if target := c.follow(one); !c.requires(target, name, 0) {
			c.advise(
				fmt.Sprint(pointer, "/", alternatives(s), "/", i),
				"does not require the member %s, by which the alternatives are told apart",
				name,
			)
		}
	}
}

func alternatives(s contract.Schema) string {
	if s.List("oneOf") != nil {
		return "oneOf"
	}
	return "anyOf"
}

// requires reports whether a schema, or one of those that it consists of, requires a member.
func (c *checking) requires(s contract.Schema, name string, depth int) bool {
	value, _ := s.Get("required")
	var names []string
	json.Unmarshal(value, &names)
	if slices.Contains(names, name) {
		return true
	}
	return depth < 8 &&
		slices.ContainsFunc(
			s.List("allOf"),
			func(one contract.Schema) bool { return c.requires(c.follow(one), name, depth+1) },
		)
}

// fallback holds the default of a schema against it: OpenAPI 3.0 demands that it conforms, JSON Schema recommends it.
func (c *checking) fallback(pointer string, s contract.Schema) {
	if value, has := s.Get("default"); has {
		level := Advice
		if c.is30 {
			level = Error
		}
		c.hold(level, pointer+"/default", s, value)
	}
	examples, _ := s.Get("examples")
	var all []jsontext.Value
	if examples.Kind() == jsontext.KindBeginArray && json.Unmarshal(examples, &all) == nil {
		for i, one := range all {
			where := fmt.Sprint(pointer, "/examples/", i)
			if c.is30 {
				where = pointer + "/example"
			}
			c.hold(Advice, where, s, one)
		}
	}
}

// hold holds a value against a schema.
func (c *checking) hold(level Level, pointer string, s contract.Schema, value jsontext.Value) {
	if c.values == nil || s.IsZero() {
		return
	}
	err := c.values.Check(s, value)
	faults, is := errors.AsType[contract.Faults](err)
	if !is {
		return // of a schema that cannot be used that is told
	}
	for _, f := range faults {
		c.add(level, pointer+f.Pointer, "breaks its schema: %s", f.Text)
	}
}

// examples holds all examples against their schemas.
func (c *checking) examples() {
	contract.Each(c.d, func(pointer string, p *contract.Parameter) {
		c.shown(pointer, p.Schema, p.Example, p.Examples)
	})
	contract.Each(c.d, func(pointer string, h *contract.Header) {
		c.shown(pointer, h.Schema, h.Example, h.Examples)
	})
	contract.Each(c.d, func(pointer string, m *contract.MediaType) {
		if isJSON(pointer) {
			c.shown(pointer, m.Schema, m.Example, m.Examples)
		}
	})
}

// isJSON reports whether the pointer to a body ends in a media type of JSON.
func isJSON(pointer string) bool {
	media := pointer[strings.LastIndexByte(pointer, '/')+1:]
	media, _, _ = strings.Cut(strings.NewReplacer("~1", "/", "~0", "~").Replace(media), ";")
	return media == "application/json" || strings.HasSuffix(media, "+json")
}

func (c *checking) shown(pointer string, s contract.Schema, one jsontext.Value, all contract.Map[*contract.Example]) {
	if one != nil {
		c.hold(Advice, pointer+"/example", s, one)
	}
	for name, e := range all.All() {
		where := at(pointer, "examples", name)
		if e.Ref != "" {
			to, err := contract.Resolve[contract.Example](c.d, e.Ref)
			if err != nil {
				continue
			}
			e = to
			if e.Value != nil && c.values != nil && !s.IsZero() && c.values.Check(s, e.Value) != nil {
				c.advise(where, "leads to an example that breaks the schema here")
			}
			continue
		}
		if e.Value != nil {
			c.hold(Advice, where+"/value", s, e.Value)
		}
	}
}
