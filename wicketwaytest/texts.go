package wicketwaytest

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// Texts lists what texts in other languages lack: a title or a detail for a kind of problem that the API can raise, a
// sentence for a rule that its inputs have; and what they have for nothing, a code that no kind has. Rules that only the
// Checks of types have are known to nobody, so the names of theirs are given by the test itself.
//
//	wicketwaytest.Texts(t, api, []string{"halfHour"}, german, french)
func Texts(t testing.TB, api *wicketway.API, ownRules []string, all ...problem.Texts) {
	t.Helper()
	codes := map[string]string{} // with their titles
	for _, k := range api.Problems() {
		codes[k.Code] = k.Title
	}
	rules := map[string]string{}
	for _, rule := range append(rulesOf(api.Describe()), ownRules...) {
		rules[rule] = "a fault"
	}
	for _, texts := range all {
		for _, c := range []struct {
			what string
			need map[string]string
			have map[string]string
		}{
			{"title", codes, texts.Titles}, {"detail", codes, texts.Details}, {"sentence", rules, texts.Rules},
		} {
			for _, of := range slices.Sorted(maps.Keys(c.need)) {
				if c.have[of] == "" {
					t.Errorf("Texts: %s has no %s for %s (%s)", texts.Language, c.what, of, c.need[of])
				}
			}
			for _, of := range slices.Sorted(maps.Keys(c.have)) {
				if c.what != "sentence" && c.need[of] == "" {
					t.Errorf("Texts: %s has a %s for %s, which is the code of no problem of the API", texts.Language, c.what, of)
				}
			}
		}
	}
}

// rulesOf are the rules that the inputs of an API have.
func rulesOf(api facts.API) []string {
	found := inputRules{rules: map[string]bool{}, api: api, seen: map[string]bool{}}
	for _, r := range api.Routes {
		for _, in := range r.Inputs {
			found.rules["type"] = found.rules["type"] || in.Type != "string"
			found.rules["required"] = found.rules["required"] || in.Required
			for word := range strings.FieldsSeq(in.Rule) {
				if keyword, _, _ := strings.Cut(word, "="); slices.Contains(asked, keyword) {
					found.rules[keyword] = true
				}
			}
			found.schema(in.Schema)
		}
		for _, b := range r.Bodies {
			if b.Schema == nil {
				continue
			}
			for _, rule := range []string{"syntax", "type", "unique"} {
				found.rules[rule] = true
			}
			found.schema(b.Schema)
		}
	}
	return slices.Sorted(maps.Keys(found.rules))
}

// asked are the keywords of JSON Schema that faults have as their rules.
var asked = strings.Fields("minimum maximum exclusiveMinimum exclusiveMaximum multipleOf minLength maxLength pattern format enum const" +
	" minItems maxItems uniqueItems minProperties maxProperties required additionalProperties propertyNames readOnly")

// inputRules gathers the rules of schemas.
type inputRules struct {
	rules map[string]bool
	api   facts.API
	seen  map[string]bool // definitions
}

func (r *inputRules) schema(text jsontext.Value) {
	var of any
	if json.Unmarshal(text, &of) == nil {
		r.in(of)
	}
}

func (r *inputRules) in(part any) {
	switch part := part.(type) {
	case []any:
		for _, p := range part {
			r.in(p)
		}
	case map[string]any:
		for name, value := range part {
			number := name == "format" && part["type"] != "string" || strings.HasSuffix(name, "imum") && part["format"] != nil
			if slices.Contains(asked, name) && !number { // those of whole numbers say their size
				r.rules[name] = true
			}
			switch ref, _ := value.(string); {
			case name == "properties":
				for _, member := range value.(map[string]any) {
					r.in(member)
				}
			case name == "$ref" && !r.seen[ref]:
				r.seen[ref] = true
				r.schema(r.api.Defs[strings.TrimPrefix(ref, "#/$defs/")])
			default:
				r.in(value)
			}
		}
	}
}
