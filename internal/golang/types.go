package golang

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

// A Type is how values of a schema are written in Go: a type, the rules that its field needs, and whether null is
// accepted.
type Type struct {
	Expr   string
	Rules  []string
	Null   bool
	IsList bool
	Scalar bool
}

// Deepest is how far schemas are followed that have no name.
const Deepest = 24

// typeOf finds the Go type of a schema. What a Go type cannot say becomes a type that carries the schema.
func (g *Writer) TypeOf(pointer string, s contract.Schema, hint string, depth int) Type {
	if t, ok := g.plain(pointer, s, hint, depth); ok {
		return t
	}
	if g.Client && depth < Deepest {
		if t, ok := g.union(pointer, s, hint, depth); ok {
			return t
		}
	}
	g.kept(pointer)
	return Type{Expr: g.carrier(s, hint)}
}

func (g *Writer) plain(pointer string, s contract.Schema, hint string, depth int) (Type, bool) {
	if depth > Deepest || string(s.Text()) == "false" || len(guess(s))+len(s.Types()) > 0 && !g.isObject(s, 0) && g.Values.IsEmpty(s) {
		return Type{}, false
	}
	if s.IsZero() || string(s.Text()) == "true" || meansNothing(s) {
		return Type{Expr: "jsontext.Value", Null: true}, true
	}
	if ref := s.Reference(); ref != "" && only(s, "$ref") {
		return g.referred(pointer, ref, hint, depth)
	}
	if inner, ok := OrNull(s); ok {
		t, ok := g.plain(pointer, inner, hint, depth+1)
		t.Null = true
		return t, ok
	}
	if all := s.List("allOf"); len(all) == 1 && only(s, "allOf") {
		return g.plain(pointer, all[0], hint, depth+1)
	}
	for name := range s.Members() {
		if slices.Contains(Beyond, name) && !g.passes(pointer, name) {
			return Type{}, false
		}
	}
	types := s.Types()
	null := slices.Contains(types, "null")
	types = slices.DeleteFunc(slices.Clone(types), func(t string) bool { return t == "null" })
	if len(types) == 0 {
		types = guess(s)
	}
	if len(types) != 1 {
		return Type{}, false
	}
	t, ok := g.ofKind(types[0], pointer, s, hint, depth)
	t.Null = t.Null || null
	return t, ok
}

// Beyond are keywords that no Go type and no rule says.
var Beyond = []string{
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

// unheld are keywords that say which values of a type are right, and do not change what it is.
var unheld = []string{"not", "if", "dependentSchemas", "dependentRequired", "patternProperties", "propertyNames", "contains", "unevaluatedProperties",
	"unevaluatedItems", "minProperties", "maxProperties"}

// passes reports whether a keyword is left to the other side: a caller's values are held there as well.
func (g *Writer) passes(pointer, keyword string) bool {
	if !g.Client || !slices.Contains(unheld, keyword) {
		return false
	}
	g.Note(pointer, "%s is not held before it is sent", keyword)
	return true
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

// OrNull gives the other alternative of a schema that accepts it or null.
func OrNull(s contract.Schema) (contract.Schema, bool) {
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
func (g *Writer) referred(pointer, ref, hint string, depth int) (Type, bool) {
	if name := g.types[ref]; name != "" {
		return Type{Expr: name}, true
	}
	to, err := contract.Resolve[contract.Schema](g.Document, ref)
	if err != nil {
		return Type{}, false
	}
	at := strings.TrimPrefix(ref, "#")
	if _, isUnion := alternatives(*to); isUnion && g.Client && !g.isObject(*to, 0) {
		return g.union(at, *to, ref, depth+1)
	}
	if !g.isObject(*to, 0) {
		if _, isEnum := to.Get("enum"); isEnum && g.Client && slices.Equal(to.Types(), []string{"string"}) {
			hint = ref
		}
		return g.plain(at, *to, hint, depth+1)
	}
	if _, isMap := MapOf(*to); isMap {
		return g.plain(at, *to, hint, depth+1)
	}
	name := g.nameOf(ref)
	g.types[ref] = name
	g.begun[name] = true
	decl, ok := g.structOf(at, *to, name, 0)
	delete(g.begun, name)
	if !ok {
		g.kept(at)
		decl = g.carrying(*to, name)
	}
	g.Decls = append(g.Decls, decl)
	g.structs[name] = ok
	return Type{Expr: name}, true
}

// isObject reports whether a schema is one of an object with members of its own.
func (g *Writer) isObject(s contract.Schema, depth int) bool {
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
			to, err := contract.Resolve[contract.Schema](g.Document, ref)
			return err == nil && g.isObject(*to, depth+1)
		}
		return g.isObject(one, depth+1)
	})
}

func MapOf(s contract.Schema) (contract.Schema, bool) {
	more, has := s.Get("additionalProperties")
	_, named := s.Get("properties")
	return contract.SchemaOf(more), has && !named && more.Kind() == '{' && len(s.List("allOf")) == 0
}

func (g *Writer) ofKind(kind, pointer string, s contract.Schema, hint string, depth int) (Type, bool) {
	switch kind {
	case "boolean":
		_, isEnum := s.Get("enum")
		_, isConst := s.Get("const")
		return Type{Expr: "bool", Scalar: true}, !isEnum && !isConst
	case "string":
		return g.text(pointer, s, hint)
	case "integer", "number":
		return g.number(kind, pointer, s)
	case "array":
		item := g.TypeOf(pointer+"/items", s.One("items"), hint+"Item", depth+1)
		if item.Null && item.Expr != "jsontext.Value" {
			item.Expr = "*" + item.Expr
		}
		t := Type{Expr: "[]" + item.Expr, IsList: true, Rules: RulesOf(s, "minItems", "maxItems")}
		if value, _ := s.Get("uniqueItems"); string(value) == "true" {
			t.Rules = append(t.Rules, "uniqueItems")
		}
		for _, rule := range item.Rules {
			t.Rules = append(t.Rules, "items."+rule)
		}
		return t, !strings.Contains(strings.Join(item.Rules, " "), "items.")
	case "object":
		if of, isMap := MapOf(s); isMap {
			member := g.TypeOf(pointer+"/additionalProperties", of, hint+"Member", depth+1)
			if member.Rules != nil {
				return Type{}, false
			}
			if member.Null && member.Expr != "jsontext.Value" {
				member.Expr = "*" + member.Expr
			}
			return Type{Expr: "map[string]" + member.Expr, Rules: RulesOf(s, "minProperties", "maxProperties")}, true
		}
		name := g.Unique(hint)
		decl, ok := g.structOf(pointer, s, name, depth+1)
		if ok {
			g.Decls = append(g.Decls, decl)
		}
		return Type{Expr: name}, ok
	}
	return Type{}, false
}

// RulesOf are keywords as rules.
func RulesOf(s contract.Schema, keywords ...string) (rules []string) {
	for _, keyword := range keywords {
		if value, has := s.Get(keyword); has && value.Kind() == '0' {
			rules = append(rules, keyword+"="+string(value))
		}
	}
	return rules
}

func (g *Writer) text(pointer string, s contract.Schema, hint string) (Type, bool) {
	t := Type{Expr: "string", Scalar: true, Rules: RulesOf(s, "minLength", "maxLength")}
	enum, ok := EnumOf(s)
	if !ok {
		return t, false
	}
	pattern, format := s.String("pattern"), s.String("format")
	if s.String("contentEncoding") == "base64" && len(t.Rules) == 0 && enum == nil {
		return Type{Expr: "[]byte"}, true
	}
	switch {
	case format == "" || enum != nil:
	case format == "date-time" && pattern == "" && len(t.Rules) == 0:
		return Type{Expr: "time.Time", Scalar: true}, true
	case format == "date" && pattern == "" && len(t.Rules) == 0:
		return Type{Expr: "schema.Date", Scalar: true}, true
	case g.Client && format == "uuid" && pattern == "" && len(t.Rules) == 0:
		return Type{Expr: "uuid.UUID", Scalar: true}, true
	default:
		if _, known := check.Format(format); known {
			t.Rules = append(t.Rules, "format="+format)
		} else {
			g.Note(pointer, "the format %s is not checked", format)
		}
	}
	if pattern != "" {
		if _, err := check.CompilePattern(pattern); err != nil {
			return t, false
		}
		t.Rules = append(t.Rules, "pattern="+Quoted(pattern))
	}
	if enum != nil {
		t.Rules = append(t.Rules, "enum="+Quoted(strings.Join(enum, "|")))
		if _, isConst := s.Get("const"); g.Client && !isConst {
			t.Expr = g.enumeration(hint, enum, s.String("description"))
		}
	}
	return t, true
}

// enumeration declares the values of one as constants. Enumerations with the same values are one type.
func (g *Writer) enumeration(hint string, values []string, note string) string {
	key := "enum " + strings.Join(values, "|")
	if name := g.types[key]; name != "" {
		return name
	}
	if g.taken[hint] {
		hint += "Value"
	}
	name := g.named(hint)
	g.types[key] = name
	var b strings.Builder
	fmt.Fprintf(&b, "%stype %s string\n\n// Values of %s.\nconst (\n", Comment(strings.TrimSuffix(name+": "+NonEmpty(OneLine(note), "one of its constants"), ".")+"."), name, name)
	for _, value := range values {
		fmt.Fprintf(&b, "%s %s = %q\n", g.Unique(name+Camel(value)), name, value)
	}
	b.WriteString(")\n")
	g.Decls = append(g.Decls, b.String())
	return name
}

// EnumOf are the texts of an enumeration, or of a const; it reports false where a rule cannot list them.
func EnumOf(s contract.Schema) (all []string, ok bool) {
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

// ofTypes are rules that say what a type does already.
var ofTypes = map[string][]string{
	"int64": {"minimum=-9223372036854775808", "maximum=9223372036854775807"}, "int32": {"minimum=-2147483648", "maximum=2147483647"},
	"int16": {"minimum=-32768", "maximum=32767"}, "int8": {"minimum=-128", "maximum=127"},
	"uint64": {"minimum=0", "maximum=18446744073709551615"}, "uint32": {"minimum=0", "maximum=4294967295"},
	"uint16": {"minimum=0", "maximum=65535"}, "uint8": {"minimum=0", "maximum=255"},
}

func (g *Writer) number(kind, pointer string, s contract.Schema) (Type, bool) {
	t := Type{Expr: "float64", Scalar: true}
	if kind == "integer" {
		t.Expr = "int64"
		switch format := s.String("format"); format {
		case "int32", "int16", "int8", "uint8", "uint16", "uint32", "uint64":
			t.Expr = format
		}
	}
	t.Rules = RulesOf(s, "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf")
	if g.Client && kind == "integer" {
		t.Rules = slices.DeleteFunc(t.Rules, func(rule string) bool { return slices.Contains(ofTypes[t.Expr], rule) })
	}
	enum, ok := EnumOf(s)
	if enum != nil {
		t.Rules = append(t.Rules, "enum="+strings.Join(enum, "|"))
	}
	return t, ok
}

// quoted is a value of a rule, in single quotes where it needs them.
func Quoted(value string) string {
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
func (g *Writer) members(pointer string, s contract.Schema, to *[]member, required map[string]bool, depth int) bool {
	if depth > 8 {
		return false
	}
	if ref := s.Reference(); ref != "" {
		target, err := contract.Resolve[contract.Schema](g.Document, ref)
		if err != nil || !g.members(strings.TrimPrefix(ref, "#"), *target, to, required, depth+1) {
			return false
		}
	}
	for name := range s.Members() {
		if (slices.Contains(Beyond, name) || name == "minProperties" || name == "maxProperties" || name == "enum" ||
			name == "const") && !g.passes(pointer, name) {
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
			*to = append(*to, member{name: name, at: pointer + "/properties/" + Escape(name), schema: one})
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
		g.Note(pointer, "members that are not named are not kept")
	}
	return true
}

func Escape(name string) string { return strings.NewReplacer("~", "~0", "/", "~1").Replace(name) }

var memberName = regexp.MustCompile(`^[A-Za-z0-9_.$@-]+$`)

// structOf writes an object as a struct.
func (g *Writer) structOf(pointer string, s contract.Schema, name string, depth int) (string, bool) {
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
		Comment(
			strings.TrimSuffix(
				name+": "+NonEmpty(OneLine(s.String("description")), "an object of the contract"),
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
		field := Camel(m.name)
		for n := 2; fields[field]; n++ {
			field = fmt.Sprint(Camel(m.name), n)
		}
		fields[field] = true
		b.WriteString(g.field(field, name, m, required[m.name], depth))
	}
	b.WriteString("}\n")
	return b.String(), true
}

// field writes a member of a struct.
func (g *Writer) field(field, of string, m member, required bool, depth int) string {
	patches := g.patches
	g.patches = false
	t := g.TypeOf(m.at, m.schema, of+field, depth)
	g.patches = patches
	tag := "json:" + strconv.Quote(m.name)
	rules := t.Rules
	expr := t.Expr
	switch {
	case g.patches && !required && t.Expr != "jsontext.Value":
		if expr = "schema.Optional[" + expr + "]"; !t.Null {
			rules = append(slices.Clone(rules), "type="+NonEmpty(strings.Join(m.schema.Types(), ""), "object"))
		}
	case t.Expr == "jsontext.Value":
		if required {
			rules = append(rules, "required")
		}
	case t.Null:
		expr = "*" + expr
		if required {
			rules = append(rules, "required")
		}
	case !required && (g.recurs(t.Expr, of) || g.reaches(t.Expr, of, map[string]bool{})):
		expr, rules = "*"+expr, append(rules, "type=object")
	}
	if !strings.ContainsAny(expr, "*[.") {
		g.holds[of] = append(g.holds[of], expr)
	}
	if !required {
		tag = "json:" + strconv.Quote(m.name+",omitzero")
	}
	if t.Scalar && !t.Null && !required && !g.patches {
		if text, ok := g.Fallback(m.at, m.schema); ok {
			rules = append(rules, "default="+Quoted(text))
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
	return Line(field, expr, tag, rules, m.schema.String("description"))
}

// findAnswered finds the components that answers have.
func (g *Writer) findAnswered() {
	g.answered = map[string]bool{}
	var walk func(s contract.Schema)
	walk = func(s contract.Schema) {
		if ref := s.Reference(); ref != "" && !g.answered[ref] {
			g.answered[ref] = true
			if to, err := contract.Resolve[contract.Schema](g.Document, ref); err == nil {
				walk(*to)
			}
		}
		for _, one := range s.Below() {
			walk(one)
		}
	}
	contract.Each(g.Document, func(pointer string, s *contract.Schema) {
		if strings.Contains(pointer, "/responses/") {
			walk(*s)
		}
	})
}

// isAnswered reports whether a place in the contract is in what is answered.
func (g *Writer) isAnswered(pointer string) bool {
	if rest, is := strings.CutPrefix(pointer, "/components/schemas/"); is {
		name, _, _ := strings.Cut(rest, "/")
		return g.answered["#/components/schemas/"+name]
	}
	return strings.Contains(pointer, "/responses/")
}

// mostReached bounds how many structs are looked into: beyond that a pointer is safe.
const mostReached = 200

// reaches reports whether a struct holds another one, or one that does.
func (g *Writer) reaches(from, to string, seen map[string]bool) bool {
	if seen[from] {
		return false
	}
	if seen[from] = true; len(seen) > mostReached {
		return true
	}
	return slices.ContainsFunc(g.holds[from], func(name string) bool { return name == to || g.reaches(name, to, seen) })
}

// recurs reports whether a type may contain another one: it is a struct that is not complete yet, or that one itself.
func (g *Writer) recurs(expr, of string) bool { return expr == of || g.begun[expr] }

// fallback is a default as a rule has it; it reports false where the schema has none, or one that it does not accept.
func (g *Writer) Fallback(pointer string, s contract.Schema) (string, bool) {
	value, has := s.Get("default")
	if !has {
		return "", false
	}
	if g.held.Check(s, value) != nil {
		g.Note(pointer, "the default %s breaks its schema, and is left out", value)
		return "", false
	}
	text := string(value)
	if value.Kind() == '"' {
		json.Unmarshal(value, &text)
	}
	return text, value.Kind() != '{' && value.Kind() != '[' && value.Kind() != 'n' && text != ""
}

// line writes a field with its tags.
func Line(field, expr, tag string, rules []string, note string) string {
	if len(rules) > 0 {
		tag += " rule:" + strconv.Quote(strings.Join(rules, " "))
	}
	if note = OneLine(note); note != "" {
		tag += " note:" + strconv.Quote(note)
	}
	literal := "`" + tag + "`"
	if strings.Contains(tag, "`") {
		literal = strconv.Quote(tag)
	}
	return field + " " + expr + " " + literal + "\n"
}

// alternatives are the schemas of a union.
func alternatives(s contract.Schema) ([]contract.Schema, bool) {
	for _, keyword := range []string{"oneOf", "anyOf"} {
		if all := s.List(keyword); len(all) > 0 {
			if _, is := OrNull(s); !is {
				return all, true
			}
		}
	}
	return nil, false
}

// union declares one of several types: an interface in a struct where a member says which it is, and JSON with a reader for
// each of them where nothing does.
func (g *Writer) union(pointer string, s contract.Schema, hint string, depth int) (Type, bool) {
	all, is := alternatives(s)
	if !is || depth > Deepest {
		return Type{}, false
	}
	if name := g.types["union "+pointer]; name != "" {
		return Type{Expr: name}, true
	}
	name := g.named(hint)
	g.types["union "+pointer] = name
	var types, labels []string
	member := s.One("discriminator").String("propertyName")
	for i, one := range all {
		t := g.TypeOf(fmt.Sprint(pointer, "/oneOf/", i), one, fmt.Sprint(name, i+1), depth+1)
		if t.Null && t.Expr != "jsontext.Value" {
			t.Expr = "*" + t.Expr
		}
		ref := one.Reference()
		label := ref[strings.LastIndexByte(ref, '/')+1:]
		mapping := s.One("discriminator").One("mapping")
		for value, to := range mapping.Members() {
			var target string
			if json.Unmarshal(to, &target); target == ref || target == label {
				label = value
			}
		}
		if ref == "" || slices.Contains(labels, label) || !g.structs[t.Expr] {
			member = ""
		}
		types, labels = append(types, t.Expr), append(labels, label)
	}
	if member != "" && !memberName.MatchString(member) {
		member = ""
	}
	note := NonEmpty(OneLine(s.String("description")), "one of several types")
	var b strings.Builder
	if member == "" {
		fmt.Fprintf(&b, "%stype %s struct{ jsontext.Value }\n\n", Comment(name+": "+strings.TrimSuffix(note, ".")+". It is kept as JSON."), name)
		read := map[string]bool{}
		for _, t := range types {
			if as := "As" + Camel(t); !read[as] {
				read[as] = true
				fmt.Fprintf(&b, "// %s reads it as one of its types.\nfunc (u %s) %s() (v %s, err error) {\nreturn v, json.Unmarshal(u.Value, &v)\n}\n\n", as, name, as, t)
			}
		}
		g.Decls = append(g.Decls, b.String())
		return Type{Expr: name}, true
	}
	of := g.Unique(name + "Value")
	fmt.Fprintf(&b, "%stype %s struct{ %s }\n\n// %s is one of the types of %s, which the member %s tells apart.\ntype %s interface{ is%s() }\n\n",
		Comment(name+": "+strings.TrimSuffix(note, ".")+"."), name, of, of, name, member, of, of)
	var cases strings.Builder
	for i, t := range types {
		fmt.Fprintf(&b, "func (%s) is%s() {}\n\n", t, of)
		fmt.Fprintf(&cases, "case %q:\nreturn client.ReadInto[%s](text, &u.%s)\n", labels[i], t, of)
	}
	fmt.Fprintf(&b, "// UnmarshalJSON reads the type that the member %s names.\nfunc (u *%s) UnmarshalJSON(text []byte) error {\nswitch client.MemberOf(text, %q) {\n%s}\nreturn client.UnknownType(text, %q)\n}\n\n", member, name, member, cases.String(), member)
	fmt.Fprintf(&b, "// MarshalJSON writes the value, whose member %s is to say its type.\nfunc (u %s) MarshalJSON() ([]byte, error) { return json.Marshal(u.%s) }\n", member, name, of)
	g.Decls = append(g.Decls, b.String())
	return Type{Expr: name}, true
}

// PatchOf is the type of a merge patch (RFC 7396): of an object, its members tell absent and null apart.
func (g *Writer) PatchOf(pointer string, s contract.Schema, hint string) Type {
	to := s
	if ref := s.Reference(); ref != "" {
		if found, err := contract.Resolve[contract.Schema](g.Document, ref); err == nil {
			to = *found
		}
	}
	if _, isMap := MapOf(to); !g.isObject(to, 0) || isMap {
		return g.TypeOf(pointer, s, hint, 0)
	}
	name := g.Unique(hint)
	g.patches = true
	decl, ok := g.structOf(pointer, to, name, 1)
	if g.patches = false; !ok {
		decl = g.carrying(to, name)
	}
	g.Decls = append(g.Decls, decl)
	return Type{Expr: name}
}

// named is the name that a hint is for: a reference, or a name itself.
func (g *Writer) named(hint string) string {
	if strings.HasPrefix(hint, "#/") {
		return g.nameOf(hint)
	}
	return g.Unique(hint)
}

// kept notes that values are kept as JSON.
func (g *Writer) kept(pointer string) {
	text := "the Go type says less than the schema: values are kept as JSON"
	if !g.Client {
		text += ", and the function has to check them"
	}
	g.Note(pointer, "%s", text)
}

// carrier declares a type that keeps values as JSON, and shows their schema.
func (g *Writer) carrier(s contract.Schema, hint string) string {
	name := g.Unique(hint)
	g.Decls = append(g.Decls, g.carrying(s, name))
	return name
}

func (g *Writer) carrying(s contract.Schema, name string) string {
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
func (g *Writer) inline(s contract.Schema, above []string) contract.Schema {
	return s.Rewrite(func(s contract.Schema) contract.Schema {
		ref := s.Reference()
		if ref == "" {
			return s
		}
		to, err := contract.Resolve[contract.Schema](g.Document, ref)
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
