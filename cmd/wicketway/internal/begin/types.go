package begin

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/internal/check"
)

// A goType is how values of a schema are written in Go: a type, the rules that its field needs, and whether null is
// accepted.
type goType struct {
	expr   string
	rules  []string
	null   bool
	isList bool
	scalar bool
}

// deepest is how far schemas are followed that have no name.
const deepest = 24

// typeOf finds the Go type of a schema. What a Go type cannot say becomes a type that carries the schema.
func (g *generator) typeOf(pointer string, s contract.Schema, hint string, depth int) goType {
	if t, ok := g.plain(pointer, s, hint, depth); ok {
		return t
	}
	g.note(
		pointer,
		"the Go type says less than the schema: values are kept as JSON, and the function has to check them",
	)
	return goType{expr: g.carrier(s, hint)}
}

func (g *generator) plain(pointer string, s contract.Schema, hint string, depth int) (goType, bool) {
	if depth > deepest || string(s.Text()) == "false" || len(guess(s))+len(s.Types()) > 0 && !g.isObject(s, 0) && g.values.IsEmpty(s) {
		return goType{}, false
	}
	if s.IsZero() || string(s.Text()) == "true" || meansNothing(s) {
		return goType{expr: "jsontext.Value", null: true}, true
	}
	if ref := s.Reference(); ref != "" && only(s, "$ref") {
		return g.referred(pointer, ref, hint, depth)
	}
	if inner, ok := orNull(s); ok {
		t, ok := g.plain(pointer, inner, hint, depth+1)
		t.null = true
		return t, ok
	}
	if all := s.List("allOf"); len(all) == 1 && only(s, "allOf") {
		return g.plain(pointer, all[0], hint, depth+1)
	}
	for name := range s.Members() {
		if slices.Contains(beyond, name) && !(name == "allOf") {
			return goType{}, false
		}
	}
	types := s.Types()
	null := slices.Contains(types, "null")
	types = slices.DeleteFunc(slices.Clone(types), func(t string) bool { return t == "null" })
	if len(types) == 0 {
		types = guess(s)
	}
	if len(types) != 1 {
		return goType{}, false
	}
	t, ok := g.ofKind(types[0], pointer, s, hint, depth)
	t.null = t.null || null
	return t, ok
}

// beyond are keywords that no Go type and no rule says.
var beyond = []string{
	"oneOf",
	"anyOf",
	"not",
	"if",
	"dependentSchemas",
	"dependentRequired",
	"patternProperties",
	"propertyNames",
	"prefixItems",
	"contains",
	"unevaluatedProperties",
	"unevaluatedItems",
	"$dynamicRef",
	"$id",
}

// texts are keywords that say nothing of values.
var texts = []string{
	"title",
	"description",
	"examples",
	"example",
	"deprecated",
	"readOnly",
	"writeOnly",
	"$comment",
	"externalDocs",
	"xml",
	"default",
}

func only(s contract.Schema, keyword string) bool {
	for name := range s.Members() {
		if name != keyword && !slices.Contains(texts, name) && !strings.HasPrefix(name, "x-") {
			return false
		}
	}
	return true
}

func meansNothing(s contract.Schema) bool { return s.Text().Kind() == '{' && only(s, "") }

// orNull gives the other alternative of a schema that accepts it or null.
func orNull(s contract.Schema) (contract.Schema, bool) {
	for _, keyword := range []string{"anyOf", "oneOf"} {
		all := s.List(keyword)
		if len(all) != 2 || !only(s, keyword) {
			continue
		}
		for i, one := range all {
			if slices.Equal(one.Types(), []string{"null"}) {
				return all[1-i], true
			}
		}
	}
	return s, false
}

// guess is the type that the keywords of a schema without one speak of.
func guess(s contract.Schema) []string {
	has := func(names ...string) bool {
		for name := range s.Members() {
			if slices.Contains(names, name) {
				return true
			}
		}
		return false
	}
	switch value, isConst := s.Get("const"); {
	case has("allOf"):
		return []string{"object"}
	case isConst && value.Kind() == '"':
		return []string{"string"}
	case has("enum"):
		var all []string
		value, _ := s.Get("enum")
		if json.Unmarshal(value, &all) == nil {
			return []string{"string"}
		}
	}
	return nil
}

// referred is the type of a component. Objects have a name; all others are written where they are used.
func (g *generator) referred(pointer, ref, hint string, depth int) (goType, bool) {
	if name := g.types[ref]; name != "" {
		return goType{expr: name}, true
	}
	to, err := contract.Resolve[contract.Schema](g.d, ref)
	if err != nil {
		return goType{}, false
	}
	at := strings.TrimPrefix(ref, "#")
	if !g.isObject(*to, 0) {
		return g.plain(at, *to, hint, depth+1)
	}
	if _, isMap := mapOf(*to); isMap {
		return g.plain(at, *to, hint, depth+1)
	}
	name := g.unique(camel(ref[strings.LastIndexByte(ref, '/')+1:]))
	g.types[ref] = name
	decl, ok := g.structOf(at, *to, name, depth+1)
	if !ok {
		g.note(at, "the Go type says less than the schema: values are kept as JSON, and the function has to check them")
		decl = g.carrying(*to, name)
	}
	g.decls = append(g.decls, decl)
	return goType{expr: name}, true
}

// isObject reports whether a schema is one of an object with members of its own.
func (g *generator) isObject(s contract.Schema, depth int) bool {
	if depth > 8 {
		return false
	}
	if slices.Equal(s.Types(), []string{"object"}) {
		return true
	}
	if len(s.Types()) > 0 {
		return false
	}
	if _, has := s.Get("properties"); has {
		return true
	}
	return slices.ContainsFunc(s.List("allOf"), func(one contract.Schema) bool {
		if ref := one.Reference(); ref != "" {
			to, err := contract.Resolve[contract.Schema](g.d, ref)
			return err == nil && g.isObject(*to, depth+1)
		}
		return g.isObject(one, depth+1)
	})
}

func mapOf(s contract.Schema) (contract.Schema, bool) {
	more, has := s.Get("additionalProperties")
	_, named := s.Get("properties")
	return contract.SchemaOf(more), has && !named && more.Kind() == '{' && len(s.List("allOf")) == 0
}

func (g *generator) ofKind(kind, pointer string, s contract.Schema, hint string, depth int) (goType, bool) {
	switch kind {
	case "boolean":
		_, isEnum := s.Get("enum")
		_, isConst := s.Get("const")
		return goType{expr: "bool", scalar: true}, !isEnum && !isConst
	case "string":
		return g.text(pointer, s)
	case "integer", "number":
		return g.number(kind, pointer, s)
	case "array":
		item := g.typeOf(pointer+"/items", s.One("items"), hint+"Item", depth+1)
		if item.null && item.expr != "jsontext.Value" {
			item.expr = "*" + item.expr
		}
		t := goType{expr: "[]" + item.expr, isList: true, rules: rulesOf(s, "minItems", "maxItems")}
		if value, _ := s.Get("uniqueItems"); string(value) == "true" {
			t.rules = append(t.rules, "uniqueItems")
		}
		for _, rule := range item.rules {
			t.rules = append(t.rules, "items."+rule)
		}
		return t, !strings.Contains(strings.Join(item.rules, " "), "items.")
	case "object":
		if of, isMap := mapOf(s); isMap {
			member := g.typeOf(pointer+"/additionalProperties", of, hint+"Member", depth+1)
			if member.rules != nil {
				return goType{}, false
			}
			if member.null && member.expr != "jsontext.Value" {
				member.expr = "*" + member.expr
			}
			return goType{expr: "map[string]" + member.expr, rules: rulesOf(s, "minProperties", "maxProperties")}, true
		}
		name := g.unique(hint)
		decl, ok := g.structOf(pointer, s, name, depth+1)
		if ok {
			g.decls = append(g.decls, decl)
		}
		return goType{expr: name}, ok
	}
	return goType{}, false
}

// rulesOf are keywords as rules.
func rulesOf(s contract.Schema, keywords ...string) (rules []string) {
	for _, keyword := range keywords {
		if value, has := s.Get(keyword); has && value.Kind() == '0' {
			rules = append(rules, keyword+"="+string(value))
		}
	}
	return rules
}

func (g *generator) text(pointer string, s contract.Schema) (goType, bool) {
	t := goType{expr: "string", scalar: true, rules: rulesOf(s, "minLength", "maxLength")}
	enum, ok := enumOf(s)
	if !ok {
		return t, false
	}
	pattern, format := s.String("pattern"), s.String("format")
	if s.String("contentEncoding") == "base64" && len(t.rules) == 0 && enum == nil {
		return goType{expr: "[]byte"}, true
	}
	switch {
	case format == "" || enum != nil:
	case format == "date-time" && pattern == "" && len(t.rules) == 0:
		return goType{expr: "time.Time", scalar: true}, true
	case format == "date" && pattern == "" && len(t.rules) == 0:
		return goType{expr: "schema.Date", scalar: true}, true
	default:
		if _, known := check.Format(format); known {
			t.rules = append(t.rules, "format="+format)
		} else {
			g.note(pointer, "the format %s is not checked", format)
		}
	}
	if pattern != "" {
		if _, err := check.CompilePattern(pattern); err != nil {
			return t, false
		}
		t.rules = append(t.rules, "pattern="+quoted(pattern))
	}
	if enum != nil {
		t.rules = append(t.rules, "enum="+quoted(strings.Join(enum, "|")))
	}
	return t, true
}

// enumOf are the texts of an enumeration, or of a const; it reports false where a rule cannot list them.
func enumOf(s contract.Schema) (all []string, ok bool) {
	values := []jsontext.Value{}
	if value, has := s.Get("const"); has {
		values = append(values, value)
	} else if value, has := s.Get("enum"); has {
		json.Unmarshal(value, &values)
	} else {
		return nil, true
	}
	for _, value := range values {
		if value.Kind() == 'n' { // the Go type has a place for it
			continue
		}
		text := strings.TrimSpace(string(value))
		if value.Kind() == '"' {
			json.Unmarshal(value, &text)
		}
		if text == "" || strings.Contains(text, "|") || value.Kind() != '"' && value.Kind() != '0' {
			return nil, false
		}
		all = append(all, text)
	}
	return all, all != nil
}

func (g *generator) number(kind, pointer string, s contract.Schema) (goType, bool) {
	t := goType{expr: "float64", scalar: true}
	if kind == "integer" {
		t.expr = "int64"
		switch format := s.String("format"); format {
		case "int32", "int16", "int8", "uint8", "uint16", "uint32", "uint64":
			t.expr = format
		}
	}
	t.rules = rulesOf(s, "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf")
	enum, ok := enumOf(s)
	if enum != nil {
		t.rules = append(t.rules, "enum="+strings.Join(enum, "|"))
	}
	return t, ok
}

// quoted is a value of a rule, in single quotes where it needs them.
func quoted(value string) string {
	if !strings.ContainsAny(value, " '") && value != "" {
		return value
	}
	return "'" + strings.ReplaceAll(value, "'", "''") + "'"
}

// A member of a struct.
type member struct {
	name   string
	at     string
	schema contract.Schema
}

// members gathers those of an object, and of all that it consists of. It reports false where they contradict each other,
// or where there is more to it.
func (g *generator) members(pointer string, s contract.Schema, to *[]member, required map[string]bool, depth int) bool {
	if depth > 8 {
		return false
	}
	if ref := s.Reference(); ref != "" {
		target, err := contract.Resolve[contract.Schema](g.d, ref)
		if err != nil || !g.members(strings.TrimPrefix(ref, "#"), *target, to, required, depth+1) {
			return false
		}
	}
	for name := range s.Members() {
		if slices.Contains(beyond, name) || name == "minProperties" || name == "maxProperties" || name == "enum" ||
			name == "const" {
			return false
		}
	}
	for i, one := range s.List("allOf") {
		if !g.members(fmt.Sprint(pointer, "/allOf/", i), one, to, required, depth+1) {
			return false
		}
	}
	properties := s.Schemas("properties")
	for name, one := range properties.All() {
		i := slices.IndexFunc(*to, func(m member) bool { return m.name == name })
		switch {
		case i < 0:
			*to = append(*to, member{name: name, at: pointer + "/properties/" + escape(name), schema: one})
		case meansNothing(one) || string(one.Text()) == "true":
		case meansNothing((*to)[i].schema):
			(*to)[i].schema = one
		case string((*to)[i].schema.Text()) != string(one.Text()):
			return false
		}
	}
	value, _ := s.Get("required")
	var names []string
	json.Unmarshal(value, &names)
	for _, name := range names {
		required[name] = true
	}
	if more, has := s.Get("additionalProperties"); has && more.Kind() == '{' && properties.Len() > 0 {
		g.note(pointer, "members that are not named are not kept")
	}
	return true
}

func escape(name string) string { return strings.NewReplacer("~", "~0", "/", "~1").Replace(name) }

var memberName = regexp.MustCompile(`^[A-Za-z0-9_.$@-]+$`)

// structOf writes an object as a struct.
func (g *generator) structOf(pointer string, s contract.Schema, name string, depth int) (string, bool) {
	var all []member
	required := map[string]bool{}
	if !g.members(pointer, s, &all, required, 0) {
		return "", false
	}
	for missing := range required {
		if !slices.ContainsFunc(all, func(m member) bool { return m.name == missing }) {
			all = append(all, member{name: missing, at: pointer, schema: contract.SchemaOf(jsontext.Value("true"))})
		}
	}
	slices.SortStableFunc(all, func(a, b member) int { return strings.Compare(a.name, b.name) })
	var b strings.Builder
	b.WriteString(
		comment(
			strings.TrimSuffix(
				name+": "+nonEmpty(oneLine(s.String("description")), "an object of the contract"),
				".",
			) + ".",
		),
	)
	fmt.Fprintf(&b, "type %s struct {\n", name)
	fields := map[string]bool{}
	for _, m := range all {
		if !memberName.MatchString(m.name) {
			return "", false
		}
		field := camel(m.name)
		for n := 2; fields[field]; n++ {
			field = fmt.Sprint(camel(m.name), n)
		}
		fields[field] = true
		b.WriteString(g.field(field, name, m, required[m.name], depth))
	}
	b.WriteString("}\n")
	return b.String(), true
}

// field writes a member of a struct.
func (g *generator) field(field, of string, m member, required bool, depth int) string {
	t := g.typeOf(m.at, m.schema, of+field, depth)
	tag := "json:" + strconv.Quote(m.name)
	rules := t.rules
	expr := t.expr
	switch {
	case t.expr == "jsontext.Value":
		if required {
			rules = append(rules, "required")
		}
	case t.null:
		expr = "*" + expr
		if required {
			rules = append(rules, "required")
		}
	case !required && g.recurs(t.expr, of):
		expr, rules = "*"+expr, append(rules, "type=object")
	}
	if !required {
		tag = "json:" + strconv.Quote(m.name+",omitzero")
	}
	if t.scalar && !t.null && !required {
		if text, ok := g.fallback(m.at, m.schema); ok {
			rules = append(rules, "default="+quoted(text))
		}
	}
	for _, word := range []string{"readOnly", "writeOnly", "deprecated"} {
		if word == "writeOnly" && g.isAnswered(m.at) {
			continue // a value that is sent must not have it
		}
		if value, _ := m.schema.Get(word); string(value) == "true" && !(word == "readOnly" && required) {
			rules = append(rules, word)
		}
	}
	return line(field, expr, tag, rules, m.schema.String("description"))
}

// findAnswered finds the components that answers have.
func (g *generator) findAnswered() {
	g.answered = map[string]bool{}
	var walk func(s contract.Schema)
	walk = func(s contract.Schema) {
		if ref := s.Reference(); ref != "" && !g.answered[ref] {
			g.answered[ref] = true
			if to, err := contract.Resolve[contract.Schema](g.d, ref); err == nil {
				walk(*to)
			}
		}
		for _, one := range s.Below() {
			walk(one)
		}
	}
	contract.Each(g.d, func(pointer string, s *contract.Schema) {
		if strings.Contains(pointer, "/responses/") {
			walk(*s)
		}
	})
}

// isAnswered reports whether a place in the contract is in what is answered.
func (g *generator) isAnswered(pointer string) bool {
	if rest, is := strings.CutPrefix(pointer, "/components/schemas/"); is {
		name, _, _ := strings.Cut(rest, "/")
		return g.answered["#/components/schemas/"+name]
	}
	return strings.Contains(pointer, "/responses/")
}

// recurs reports whether a type may contain another one: both are structs, and one is not complete yet.
func (g *generator) recurs(expr, of string) bool {
	if strings.ContainsAny(expr, "[.") {
		return false
	}
	for _, name := range g.types {
		if name == expr {
			return !slices.ContainsFunc(
				g.decls,
				func(decl string) bool { return strings.Contains(decl, "type "+expr+" struct") },
			) ||
				expr == of
		}
	}
	return false
}

// fallback is a default as a rule has it; it reports false where the schema has none, or one that it does not accept.
func (g *generator) fallback(pointer string, s contract.Schema) (string, bool) {
	value, has := s.Get("default")
	if !has {
		return "", false
	}
	if g.held.Check(s, value) != nil {
		g.note(pointer, "the default %s breaks its schema, and is left out", value)
		return "", false
	}
	text := string(value)
	if value.Kind() == '"' {
		json.Unmarshal(value, &text)
	}
	return text, value.Kind() != '{' && value.Kind() != '[' && value.Kind() != 'n' && text != ""
}

// line writes a field with its tags.
func line(field, expr, tag string, rules []string, note string) string {
	if len(rules) > 0 {
		tag += " rule:" + strconv.Quote(strings.Join(rules, " "))
	}
	if note = oneLine(note); note != "" {
		tag += " note:" + strconv.Quote(note)
	}
	literal := "`" + tag + "`"
	if strings.Contains(tag, "`") {
		literal = strconv.Quote(tag)
	}
	return field + " " + expr + " " + literal + "\n"
}

// carrier declares a type that keeps values as JSON, and shows their schema.
func (g *generator) carrier(s contract.Schema, hint string) string {
	name := g.unique(hint)
	g.decls = append(g.decls, g.carrying(s, name))
	return name
}

func (g *generator) carrying(s contract.Schema, name string) string {
	return fmt.Sprintf(
		"// %s is kept as JSON: no Go type says what its schema does.\ntype %s struct{ jsontext.Value }\n\n"+
			"// JSONSchema shows what is accepted; nothing is held against it.\nfunc (%s) JSONSchema() jsontext.Value {\nreturn jsontext.Value(%q)\n}\n",
		name,
		name,
		name,
		string(g.inline(s, nil).Text()),
	)
}

// inline writes a schema with what it refers to in the place of the references; what contains itself is left open.
func (g *generator) inline(s contract.Schema, above []string) contract.Schema {
	return s.Rewrite(func(s contract.Schema) contract.Schema {
		ref := s.Reference()
		if ref == "" {
			return s
		}
		to, err := contract.Resolve[contract.Schema](g.d, ref)
		if err != nil || slices.Contains(above, ref) {
			return contract.SchemaOf(jsontext.Value("{}"))
		}
		inner := g.inline(*to, append(slices.Clone(above), ref))
		if only(s, "$ref") {
			return inner
		}
		return s.Without("$ref").With("allOf", append([]jsontext.Value{inner.Text()}, textsOf(s.List("allOf"))...))
	})
}

func textsOf(all []contract.Schema) (texts []jsontext.Value) {
	for _, one := range all {
		texts = append(texts, one.Text())
	}
	return texts
}
