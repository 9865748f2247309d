package sets_test

import (
	"bytes"
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"github.com/wicketway/wicketway/internal/sets"
)

var seed = flag.Uint64("seed", 1, "of what is drawn")

// lookup follows references into the definitions of a text.
func lookup(defs map[string]any) func(string) (jsontext.Value, bool) {
	return func(ref string) (jsontext.Value, bool) {
		of, has := defs[strings.TrimPrefix(ref, "#/$defs/")]
		return text(of), has
	}
}

func text(v any) jsontext.Value {
	b, err := json.Marshal(v, json.Deterministic(true))
	if err != nil {
		panic(err)
	}
	return b
}

// An oracle is a schema as a general validator reads it.
func oracle(t *testing.T, defs map[string]any, schema jsontext.Value) *jsonschema.Schema {
	t.Helper()
	read, err := jsonschema.UnmarshalJSON(bytes.NewReader(text(map[string]any{"$defs": defs, "allOf": []any{schema}})))
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.AssertFormat()
	if err == nil {
		err = c.AddResource("s.json", read)
	}
	if err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("s.json")
	if err != nil {
		t.Fatalf("%s: %v", schema, err)
	}
	return s
}

func accepts(t *testing.T, s *jsonschema.Schema, v sets.Value) bool {
	t.Helper()
	read, err := jsonschema.UnmarshalJSON(bytes.NewReader(sets.Text(v)))
	if err != nil {
		t.Fatal(err)
	}
	return s.Validate(read) == nil
}

// A drawing makes schemas and values.
type drawing struct{ *rand.Rand }

type m = map[string]any

func pick[T any](d drawing, all ...T) T { return all[d.IntN(len(all))] }

func (d drawing) leaf() any {
	s := m{}
	switch d.IntN(7) {
	case 0:
		s["type"] = pick(d, "integer", "number")
		for _, word := range []string{"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf"} {
			if d.IntN(4) == 0 {
				s[word] = pick[any](d, 0.5, 1, 2, 3)
			}
		}
	case 1:
		s["type"] = pick[any](d, "string", []any{"string", "null"})
		for _, word := range []string{"minLength", "maxLength"} {
			if d.IntN(2) == 0 {
				s[word] = d.IntN(4)
			}
		}
		if d.IntN(5) == 0 {
			s["pattern"] = pick(d, "^a+$", "a", "^[ab]*$")
		}
		if d.IntN(6) == 0 {
			s["format"] = "date"
		}
	case 2:
		s["enum"] = pick(d, []any{"a"}, []any{"a", "b"}, []any{"", "aaa"}, []any{1, "a", m{"a": 1}}, []any{nil, 2, 3.5}, []any{1.0, true})
	case 3:
		return pick[any](d, true, false, m{}, m{"const": "a"}, m{"not": m{"type": "string"}}, m{"type": "boolean"})
	case 4:
		return m{"if": m{"type": "string"}, "then": m{"minLength": d.IntN(3)}, "else": pick[any](d, true, m{"type": "null"})}
	default:
		s["type"] = pick(d, "boolean", "string", "integer", "null")
	}
	return s
}

func (d drawing) schema(depth int) any {
	if depth <= 0 {
		return d.leaf()
	}
	s := m{}
	switch d.IntN(10) {
	case 0, 1:
		s["type"] = "array"
		if d.IntN(4) > 0 {
			s["items"] = d.schema(depth - 1)
		}
		for _, word := range []string{"minItems", "maxItems"} {
			if d.IntN(3) == 0 {
				s[word] = d.IntN(3)
			}
		}
		if d.IntN(5) == 0 {
			s["prefixItems"] = []any{d.leaf(), d.leaf()}
		}
		if d.IntN(6) == 0 {
			s["uniqueItems"] = true
		}
		if d.IntN(8) == 0 {
			s["contains"] = d.leaf()
		}
	case 2, 3, 4, 5:
		s = d.object(depth)
	case 6:
		return m{pick(d, "anyOf", "oneOf"): []any{d.schema(depth - 1), d.schema(depth - 1)}}
	case 7:
		return m{"allOf": []any{d.schema(depth - 1), d.schema(depth - 1)}}
	case 8:
		return m{"$ref": pick(d, "#/$defs/Node", "#/$defs/List")}
	default:
		return d.leaf()
	}
	return s
}

func (d drawing) object(depth int) m {
	properties, required := m{}, []any{}
	for _, name := range []string{"a", "b"} {
		if d.IntN(3) > 0 {
			properties[name] = d.schema(depth - 1)
		}
		if d.IntN(3) == 0 {
			required = append(required, name)
		}
	}
	s := m{"type": "object", "properties": properties, "required": required}
	switch d.IntN(4) {
	case 0, 1:
		s["additionalProperties"] = false
	case 2:
		s["additionalProperties"] = d.schema(depth - 1)
	}
	if d.IntN(8) == 0 {
		s["patternProperties"] = m{pick(d, "^a", "b$"): d.leaf()}
	}
	if d.IntN(8) == 0 {
		s["propertyNames"] = m{"maxLength": d.IntN(3)}
	}
	if d.IntN(8) == 0 {
		s[pick(d, "minProperties", "maxProperties")] = d.IntN(3)
	}
	if d.IntN(8) == 0 {
		s["dependentRequired"] = m{"a": []any{"b"}}
	}
	return s
}

// changed is a near relative of a schema.
func (d drawing) changed(s any) any {
	var read any
	if err := json.Unmarshal(text(s), &read); err != nil {
		panic(err)
	}
	var all []m
	var walk func(v any)
	walk = func(v any) {
		switch v := v.(type) {
		case []any:
			for _, one := range v {
				walk(one)
			}
		case m:
			all = append(all, v)
			members, _ := v["properties"].(m)
			for _, one := range []any{members["a"], v["additionalProperties"], v["allOf"], v["anyOf"], members["b"], v["items"], v["oneOf"]} {
				walk(one)
			}
		}
	}
	if walk(read); len(all) == 0 {
		return d.leaf()
	}
	at := pick(d, all...)
	switch word := pick(d, "maximum", "minLength", "required", "maxItems", "pattern", "enum", "additionalProperties", "a", "type"); d.IntN(3) {
	case 0:
		delete(at, word)
	case 1:
		at[word] = map[string]any{"maximum": 2, "minLength": 1, "required": []any{"a"}, "maxItems": 1, "pattern": "a", "enum": []any{"a", 1},
			"additionalProperties": false, "a": m{"type": "string"}, "type": pick(d, "string", "object", "number")}[word]
	case 2:
		if p, is := at["properties"].(m); is {
			p[pick(d, "a", "b", "c")] = d.leaf()
		} else {
			at["type"] = pick[any](d, "string", []any{"string", "null", "object"})
		}
	}
	return read
}

func (d drawing) value(depth int) any {
	switch d.IntN(8) {
	case 0:
		return nil
	case 1:
		return d.IntN(2) == 0
	case 2:
		return pick[any](d, 0, 1, 2, 3, 0.5, 4, 1.5)
	case 3:
		return pick(d, "", "a", "b", "aa", "aaa", "ab", "2026-01-02", "z")
	case 4:
		list := []any{}
		for range d.IntN(3) * min(depth, 1) {
			list = append(list, d.value(depth-1))
		}
		return list
	}
	o := m{}
	for _, name := range []string{"a", "b", "c"} {
		if depth > 0 && d.IntN(2) == 0 {
			o[name] = d.value(depth - 1)
		}
	}
	return o
}

// near are values that are in a schema, or nearly so.
func (d drawing) near(s *sets.Set) (all []sets.Value) {
	if v, ok := s.Sample(); ok {
		all = append(all, v)
	}
	for range 40 {
		if v, ok := sets.ValueOf(text(d.value(3))); ok {
			all = append(all, v)
		}
	}
	return all
}

// Of schemas and values that are drawn, what is certain is so by a general validator: whether a value is in a set, values
// of it, that it has none, and that one set is within another, or not, by a value that shows it.
func TestCertainty(t *testing.T) {
	d := drawing{rand.New(rand.NewPCG(*seed, 7))}
	verdicts := map[sets.Verdict]int{}
	pairs := 800
	if testing.Short() {
		pairs = 300
	}
	for range pairs {
		node := m{"type": "object", "properties": m{"a": d.leaf(), "b": m{"anyOf": []any{m{"$ref": "#/$defs/Node"}, m{"type": "null"}}}}, "additionalProperties": false}
		defs := []m{{"Node": node, "List": m{"type": "array", "items": m{"$ref": "#/$defs/" + pick(d, "Node", "List")}}}}
		defs = append(defs, defs[0])
		if d.IntN(4) == 0 {
			defs[1] = m{"Node": d.changed(node), "List": defs[0]["List"]}
		}
		schemas := []any{d.schema(3), nil}
		schemas[1] = d.changed(schemas[0])
		if d.IntN(5) == 0 {
			schemas[1] = d.schema(2)
		}
		var of [2]*sets.Set
		var held [2]*jsonschema.Schema
		first := sets.New(lookup(defs[0]), nil, sets.Either)
		for i, in := range []*sets.Schemas{first, sets.New(lookup(defs[1]), first, sets.Either)} {
			of[i], held[i] = in.Of(text(schemas[i])), oracle(t, defs[i], text(schemas[i]))
		}
		says := fmt.Sprintf("%s with %s, and %s with %s", text(schemas[0]), text(defs[0]), text(schemas[1]), text(defs[1]))
		known, witness := of[0].Within(of[1])
		verdicts[known]++
		if known == sets.No && !(accepts(t, held[0], witness) && !accepts(t, held[1], witness)) {
			t.Fatalf("%s is no witness: %s", sets.Text(witness), says)
		}
		sample, has := of[0].Sample()
		if has && !accepts(t, held[0], sample) {
			t.Fatalf("%s is no sample: %s", sets.Text(sample), says)
		}
		empty := of[0].IsEmpty()
		for _, v := range d.near(of[0]) {
			in, other := accepts(t, held[0], v), accepts(t, held[1], v)
			if got := of[0].Has(v); got == sets.Yes && !in || got == sets.No && in {
				t.Fatalf("%s is in: %d, %v: %s", sets.Text(v), got, in, says)
			}
			if in && !other && known == sets.Yes || in && empty == sets.Yes {
				t.Fatalf("%s shows that it is not within, or empty: %s", sets.Text(v), says)
			}
		}
	}
	if share := float64(verdicts[sets.Maybe]) / float64(pairs); share > 0.05 {
		t.Errorf("not decided: %.3f of %v", share, verdicts)
	}
	t.Log(verdicts)
}

// Long enumerations are looked up: values that are equal as JSON Schema has it are found however they are written.
func TestLongEnumerations(t *testing.T) {
	list := []any{m{"a": 1, "b": []any{2, "x,]"}}, []any{"a", "b"}, "1.5", nil, true, jsontext.Value("1e400"), jsontext.Value("2e5000")}
	for i := range 100 {
		list = append(list, i, fmt.Sprint("text ", i))
	}
	schema := text(m{"enum": append(list, 7, "text 7")})
	of := sets.New(lookup(nil), nil, sets.Either)
	set := of.Of(schema)
	for value, want := range map[string]sets.Verdict{
		`7.0`: sets.Yes, `70e-1`: sets.Yes, `"7"`: sets.No, `100`: sets.No, `"text 99"`: sets.Yes, `"text 100"`: sets.No, `null`: sets.Yes, `false`: sets.No, `true`: sets.Yes,
		`{"b":[2.0,"x,]"],"a":1}`: sets.Yes, `{"b":[2,"x,]"]}`: sets.No, `["a","b"]`: sets.Yes, `["a,b"]`: sets.No, `["a\",\"b"]`: sets.No, `1.5`: sets.No, `"1.5"`: sets.Yes,
		`1e400`: sets.Yes, `10e399`: sets.Yes, `2e5000`: sets.Yes,
	} {
		v, ok := sets.ValueOf(jsontext.Value(value))
		if got := set.Has(v); !ok || got != want {
			t.Errorf("%s: %v, want %v", value, got, want)
		}
	}
	more := of.Of(text(m{"enum": append(list, "more")}))
	if in, _ := set.Within(more); in != sets.Yes {
		t.Errorf("a list within a longer one: %v", in)
	}
	if in, witness := more.Within(set); in != sets.No || string(sets.Text(witness)) != `"more"` {
		t.Errorf("a list within a shorter one: %v, by %s", in, sets.Text(witness))
	}
}
