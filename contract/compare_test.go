package contract_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/valid"
)

// defs are components that the schemas below refer to, before and after.
const defs = `"Lock":{"type":"object","properties":{"name":{"type":"string"}}},"Same":{"properties":{"name":{"type":"string"}},"type":"object"},
	"Node":{"type":"object","properties":{"next":{"anyOf":[{"$ref":"#/components/schemas/Node"},{"type":"null"}]},"n":{"type":"integer"}},"additionalProperties":false}`

// with is a document with an operation, and schemas of its own.
func with(t *testing.T, operation, schemas string) *contract.Document {
	t.Helper()
	if schemas != "" {
		schemas = "," + schemas
	}
	d, err := contract.Read([]byte(head + `,"paths":{"/locks/{lock}":{"post":` + operation + `}},"components":{"schemas":{` + defs + schemas + `},
		"securitySchemes":{"bearer":{"type":"http","scheme":"bearer"},"token":{"type":"http","scheme":"Bearer"},"key":{"type":"apiKey","in":"header","name":"Key"}}}}`))
	if err != nil {
		t.Fatalf("%s: %v", operation, err)
	}
	return d
}

// worst is the class of a list of changes, and what they say.
func worst(all []contract.Change) (class contract.Class, said string) {
	rank := map[contract.Class]int{"": 0, contract.Safe: 1, contract.Look: 2, contract.Breaking: 3}
	for _, c := range all {
		said += c.String() + "\n"
		if rank[c.Class] > rank[class] {
			class = c.Class
		}
	}
	return class, said
}

// Single changes of schemas, with the class of each where clients send values and where they read them. By JSON Schema:
// what is sent is safe where the new schema accepts all that the old one does, what is read where it is the other way
// round. A break comes with a value that shows it.
func TestChangesOfSchemas(t *testing.T) {
	const none, safe, look, breaks = "", contract.Safe, contract.Look, contract.Breaking
	node := `"Node2":{"type":"object","properties":{"next":{"anyOf":[{"$ref":"#/components/schemas/Node2"},{"type":"null"}]},"n":{"type":"integer"}},"additionalProperties":false}`
	for _, c := range []struct {
		before, after string
		sent, read    contract.Class
	}{
		// The same by other words.
		{`{"type":"string","description":"a"}`, `{"description":"b","examples":["x"],"type":"string"}`, none, none},
		{`{"const":"a"}`, `{"enum":["a"]}`, none, none},
		{`{"enum":["a","b"]}`, `{"enum":["b","a"]}`, none, none},
		{`{"type":"integer","minimum":1.0}`, `{"type":"integer","minimum":1}`, none, none},
		{`{"type":"integer","exclusiveMinimum":0}`, `{"type":"integer","minimum":1}`, none, none},
		{`{"type":"string"}`, `{"allOf":[{"type":"string"}]}`, none, none},
		{`{"type":["string","null"]}`, `{"anyOf":[{"type":"null"},{"type":"string"}]}`, none, none},
		{`{"$ref":"#/components/schemas/Lock"}`, `{"type":"object","properties":{"name":{"type":"string"}}}`, none, none},
		{`{"$ref":"#/components/schemas/Lock"}`, `{"$ref":"#/components/schemas/Same"}`, none, none},
		{`{"$ref":"#/components/schemas/Node"}`, `{"$ref":"#/components/schemas/Node2"}`, none, none},
		{`true`, `{}`, none, none},
		{`{"type":"string","minLength":0}`, `{"type":"string"}`, none, none},
		{`{"type":"number","enum":[1.0]}`, `{"const":1}`, none, none},
		{`{"type":"boolean"}`, `{"enum":[true,false]}`, none, none},
		{`{"type":"object","required":["a","b"]}`, `{"type":"object","required":["b","a"]}`, none, none},
		{`{"type":"string","x-shown":"wide"}`, `{"type":"string","deprecated":true}`, none, none},
		{`{"type":"object","additionalProperties":false,"properties":{"a":{}}}`, `{"type":"object","additionalProperties":{"not":{}},"properties":{"a":true}}`, none, none},
		{`{"type":"integer","minimum":1,"maximum":3}`, `{"enum":[1,2,3]}`, none, none},
		// Types.
		{`{"type":"integer"}`, `{"type":"number"}`, safe, breaks},
		{`{"type":"number"}`, `{"type":"integer"}`, breaks, safe},
		{`{"type":"string"}`, `{"type":"integer"}`, breaks, breaks},
		{`{"type":"string"}`, `{"type":["string","null"]}`, safe, breaks},
		{`{"type":["string","integer"]}`, `{"type":"string"}`, breaks, safe},
		{`{"type":"string"}`, `{}`, safe, breaks},
		{`{}`, `{"type":"string"}`, breaks, safe},
		{`{"type":"string"}`, `false`, breaks, safe},
		// Enumerations.
		{`{"enum":["a","b"]}`, `{"enum":["a"]}`, breaks, safe},
		{`{"enum":["a"]}`, `{"enum":["a","b"]}`, safe, breaks},
		{`{"enum":["a","b"]}`, `{"type":"string","pattern":"^[ab]$"}`, safe, look},
		{`{"type":"string","pattern":"^[ab]$"}`, `{"enum":["a","b"]}`, look, safe},
		{`{"enum":["a","b"]}`, `{"type":"string","pattern":"^a$"}`, breaks, look},
		{`{"type":"string"}`, `{"enum":["a","b"]}`, breaks, safe},
		{`{"enum":["a","b"]}`, `{"enum":["a","c"]}`, breaks, breaks},
		{`{"const":1}`, `{"const":1.5}`, breaks, breaks},
		// Numbers.
		{`{"type":"integer","maximum":10}`, `{"type":"integer","maximum":9}`, breaks, safe},
		{`{"type":"integer","maximum":10}`, `{"type":"integer","maximum":11}`, safe, breaks},
		{`{"type":"integer","minimum":1}`, `{"type":"integer","minimum":2}`, breaks, safe},
		{`{"type":"number","minimum":1}`, `{"type":"number","exclusiveMinimum":1}`, breaks, safe},
		{`{"type":"integer"}`, `{"type":"integer","maximum":10}`, breaks, safe},
		{`{"type":"integer","maximum":9007199254740993}`, `{"type":"integer","maximum":9007199254740992}`, breaks, safe},
		{`{"type":"integer","multipleOf":2}`, `{"type":"integer","multipleOf":4}`, breaks, safe},
		{`{"type":"integer","multipleOf":6}`, `{"type":"integer","multipleOf":3}`, safe, breaks},
		{`{"type":"number"}`, `{"type":"number","multipleOf":0.01}`, breaks, safe},
		{`{"type":"integer","format":"int64"}`, `{"type":"integer","format":"int32"}`, look, look},
		{`{"type":"integer","minimum":0,"maximum":9}`, `{"type":"integer","format":"int32","minimum":0,"maximum":9}`, none, none},
		{`{"type":"integer","minimum":5,"maximum":4}`, `{"type":"integer","minimum":1,"maximum":2}`, safe, breaks},
		{`{"type":"integer","minimum":5,"maximum":4}`, `false`, none, none},
		// Texts.
		{`{"type":"string","maxLength":40}`, `{"type":"string","maxLength":20}`, breaks, safe},
		{`{"type":"string","maxLength":40}`, `{"type":"string","maxLength":80}`, safe, breaks},
		{`{"type":"string","minLength":1}`, `{"type":"string"}`, safe, breaks},
		{`{"type":"string","pattern":"^a"}`, `{"type":"string","pattern":"^ab"}`, breaks, look},
		{`{"type":"string","pattern":"^(?!a)"}`, `{"type":"string","pattern":"^(?!b)"}`, look, look},
		{`{"type":"string"}`, `{"type":"string","pattern":"^[0-9]+$"}`, breaks, safe},
		{`{"type":"string","pattern":"^[0-9]+$"}`, `{"type":"string"}`, safe, breaks},
		{`{"type":"string"}`, `{"type":"string","format":"date"}`, breaks, safe},
		{`{"type":"string","format":"date-time"}`, `{"type":"string","format":"date"}`, breaks, breaks},
		{`{"type":"string","format":"uuid"}`, `{"type":"string","pattern":"^[0-9a-f-]{36}$"}`, look, breaks},
		{`{"type":"string","minLength":3,"maxLength":5}`, `{"type":"string","minLength":4,"maxLength":4}`, breaks, safe},
		{`{"type":"integer","minimum":1,"maximum":5}`, `{"type":"integer","minimum":3,"maximum":9}`, breaks, breaks},
		{`{"type":"string","format":"x"}`, `{"type":"string","format":"y"}`, look, look},
		{`{"type":"string","contentEncoding":"base64"}`, `{"type":"string","contentEncoding":"base32"}`, look, look},
		// Arrays.
		{`{"type":"array","items":{"type":"string"}}`, `{"type":"array","items":{"type":"integer"}}`, breaks, breaks},
		{`{"type":"array","maxItems":0,"items":{"type":"string"}}`, `{"type":"array","maxItems":0,"items":{"type":"integer"}}`, none, none},
		{`{"type":"array","minItems":1}`, `{"type":"array","minItems":2}`, breaks, safe},
		{`{"type":"array","maxItems":3}`, `{"type":"array"}`, safe, breaks},
		{`{"type":"array"}`, `{"type":"array","uniqueItems":true}`, breaks, safe},
		{`{"type":"array","maxItems":1}`, `{"type":"array","maxItems":1,"uniqueItems":true}`, none, none},
		{`{"type":"array","prefixItems":[{"type":"string"}]}`, `{"type":"array","prefixItems":[{"type":"integer"}]}`, breaks, breaks},
		{`{"type":"array","items":{"type":"integer"}}`, `{"type":"array","items":{"type":"integer"},"contains":{"const":1}}`, breaks, safe},
		{`{"type":"array","contains":{"const":1}}`, `{"type":"array","contains":{"const":2}}`, breaks, breaks},
		// Members. A new one narrows an open schema, since it was accepted as anything, and widens a closed one.
		{`{"type":"object","properties":{"a":{"type":"string"}}}`, `{"type":"object","properties":{"a":{"type":"string"},"b":{"type":"string"}}}`, breaks, safe},
		{`{"type":"object","properties":{"a":{"type":"string"}},"additionalProperties":false}`, `{"type":"object","properties":{"a":{"type":"string"},"b":{"type":"string"}},"additionalProperties":false}`, safe, breaks},
		{`{"type":"object","properties":{"a":{"type":"string"}}}`, `{"type":"object","properties":{"a":{"type":"string"},"b":{}}}`, none, none},
		{`{"type":"object","properties":{"a":{"type":"string"},"b":{"type":"string"}}}`, `{"type":"object","properties":{"a":{"type":"string"}}}`, safe, breaks},
		{`{"type":"object","properties":{"a":{"type":"string"},"b":{"type":"string"}},"additionalProperties":false}`, `{"type":"object","properties":{"a":{"type":"string"}},"additionalProperties":false}`, breaks, safe},
		{`{"type":"object","properties":{"a":{"type":"string"}},"required":["a"]}`, `{"type":"object"}`, safe, breaks},
		{`{"type":"object","properties":{"a":{"type":"string"}}}`, `{"type":"object","properties":{"a":{"type":"string"}},"required":["a"]}`, breaks, safe},
		{`{"type":"object","properties":{"a":{"type":"string"}},"required":["a"]}`, `{"type":"object","properties":{"a":{"type":"string"}}}`, safe, breaks},
		{`{"type":"object","properties":{"a":{"type":"string"}}}`, `{"type":"object","properties":{"b":{"type":"string"}}}`, breaks, breaks},
		{`{"type":"object","properties":{"a":{"type":"object","properties":{"b":{"type":"string","maxLength":4}}}}}`, `{"type":"object","properties":{"a":{"type":"object","properties":{"b":{"type":"string","maxLength":5}}}}}`, safe, breaks},
		{`{"type":"object"}`, `{"type":"object","additionalProperties":false}`, breaks, safe},
		{`{"type":"object","additionalProperties":{"type":"string"}}`, `{"type":"object","additionalProperties":{"type":["string","null"]}}`, safe, breaks},
		{`{"type":"object","maxProperties":3}`, `{"type":"object","maxProperties":2}`, breaks, safe},
		{`{"type":"object","patternProperties":{"^x-":{"type":"string"}}}`, `{"type":"object","patternProperties":{"^x-":{}}}`, safe, breaks},
		{`{"type":"object","propertyNames":{"maxLength":3}}`, `{"type":"object","propertyNames":{"maxLength":2}}`, breaks, safe},
		{`{"type":"object","dependentRequired":{"a":["b"]}}`, `{"type":"object"}`, safe, breaks},
		{`{"type":"object","properties":{"a":false}}`, `{"type":"object","properties":{"a":{"type":"string"}}}`, safe, breaks},
		{`{"type":"object","properties":{"a":{"type":"string","readOnly":true}}}`, `{"type":"object","properties":{"a":{"type":"string","readOnly":true}},"required":["a"]}`, none, safe},
		{`{"type":"object","properties":{"a":{"type":"string","writeOnly":true}}}`, `{"type":"object","properties":{"a":{"type":"string","writeOnly":true}},"required":["a"]}`, breaks, none},
		{`{"type":"object","properties":{"a":{"type":"string"}}}`, `{"type":"object","properties":{"a":{"type":"string","readOnly":true}}}`, look, look},
		{`{"type":"integer","default":20}`, `{"type":"integer","default":50}`, look, none},
		{`{"type":"object","properties":{"a":{"type":"integer"}}}`, `{"type":"object","properties":{"a":{"type":"integer","default":1}}}`, look, none},
		// Combinations.
		{`{"anyOf":[{"type":"string"},{"type":"integer"}]}`, `{"anyOf":[{"type":"string"}]}`, breaks, safe},
		{`{"oneOf":[{"type":"string"}]}`, `{"oneOf":[{"type":"string"},{"type":"integer"}]}`, safe, breaks},
		{`{"oneOf":[{"type":"string"},{"type":"integer"}]}`, `{"anyOf":[{"type":"string"},{"type":"integer"}]}`, none, none},
		{`{"oneOf":[{"minLength":1,"type":"string"},{"type":"string","maxLength":4}]}`, `{"oneOf":[{"minLength":1,"type":"string"},{"type":"string","maxLength":5}]}`, breaks, look},
		{`{"type":"string"}`, `{"type":"string","not":{"const":"x"}}`, breaks, safe},
		{`{"type":"string","not":{"pattern":"a"}}`, `{"type":"string","not":{"pattern":"b"}}`, breaks, breaks},
		{`{"type":"string","not":{"type":"integer"}}`, `{"type":"string"}`, none, none},
		{`{"type":"string"}`, `{"type":"string","if":{"minLength":4},"then":{"maxLength":8}}`, breaks, safe},
		{`{"properties":{"a":true}}`, `{"properties":{"a":true},"unevaluatedProperties":false}`, look, safe},
		{`{"type":"object","allOf":[{"properties":{"a":{"type":"string"}}}]}`, `{"type":"object","allOf":[{"properties":{"a":{"type":"string"}}},{"required":["a"]}]}`, breaks, safe},
		{`{"oneOf":[{"properties":{"k":{"const":"a"}},"required":["k"]},{"properties":{"k":{"const":"b"}},"required":["k"]}]}`, `{"oneOf":[{"properties":{"k":{"const":"a"}},"required":["k"]},{"properties":{"k":{"const":"b"}},"required":["k"]},{"properties":{"k":{"const":"c"}},"required":["k"]}]}`, look, breaks},
		{`{"type":"object","oneOf":[{"properties":{"k":{"const":"a"}},"required":["k"]},{"properties":{"k":{"const":"b"}},"required":["k"]}]}`, `{"type":"object","oneOf":[{"properties":{"k":{"const":"b"}},"required":["k"]},{"properties":{"k":{"const":"a"}},"required":["k"]}]}`, none, none},
		{`{"type":"object","oneOf":[{"properties":{"k":{"const":"a"}},"required":["k"]},{"properties":{"k":{"const":"b"}},"required":["k"]}]}`, `{"type":"object","oneOf":[{"properties":{"k":{"const":"a"}},"required":["k"]},{"properties":{"k":{"const":"b"}},"required":["k"]},{"properties":{"k":{"const":"c"}},"required":["k"]}]}`, safe, breaks},
		{`{"$dynamicRef":"#a"}`, `{"$dynamicRef":"#b"}`, look, look},
		// What is referred to.
		{`{"$ref":"#/components/schemas/Node"}`, `{"allOf":[{"$ref":"#/components/schemas/Node2"}],"maxProperties":1}`, breaks, safe},
		{`{"$ref":"#/components/schemas/Weir"}`, `{"$ref":"#/components/schemas/Pump"}`, look, look},
	} {
		for direction, want := range map[string]contract.Class{"sent": c.sent, "read": c.read} {
			operation := `{"requestBody":{"content":{"application/json":{"schema":%s}}}}`
			if direction == "read" {
				operation = `{"responses":{"200":{"description":"","content":{"application/json":{"schema":%s}}}}}`
			}
			before, after := with(t, fmt.Sprintf(operation, c.before), node), with(t, fmt.Sprintf(operation, c.after), node)
			all := contract.Compare(before, after)
			if got, said := worst(all); got != want {
				t.Errorf("%s, from %s to %s: %q, want %q\n%s", direction, c.before, c.after, got, want, said)
			}
			showBreaks(t, direction, c.before, c.after, before, after, all)
		}
	}
}

// showBreaks holds the witnesses of breaks at the top of a schema against both schemas, by a general validator.
func showBreaks(t *testing.T, direction, x, y string, before, after *contract.Document, all []contract.Change) {
	t.Helper()
	if direction == "read" {
		x, y, before, after = y, x, after, before
	}
	for _, c := range all {
		if c.Class != contract.Breaking || strings.Contains(c.Pointer, "/properties/") || strings.Contains(c.Pointer, "/components/") || strings.Contains(c.Pointer, "allOf/") {
			continue
		}
		for i, d := range []*contract.Document{before, after} {
			v, err := valid.New(d)
			if err != nil {
				t.Fatal(err)
			}
			if strings.Contains(c.Pointer, "/items") || strings.Contains(c.Pointer, "prefixItems") {
				continue
			}
			if err := v.Check(contract.SchemaOf(jsontext.Value([]string{x, y}[i])), c.Witness); (err == nil) != (i == 0) {
				t.Errorf("%s: %s does not show a break from %s to %s: %v", direction, c.Witness, x, y, err)
			}
		}
	}
}

// Single changes of an operation, by HTTP.
func TestChangesOfOperations(t *testing.T) {
	const none, safe, look, breaks = "", contract.Safe, contract.Look, contract.Breaking
	p := func(text string) string { return `{"parameters":[` + text + `]}` }
	answer := func(text string) string { return `{"responses":{` + text + `}}` }
	ok := func(text string) string { return answer(`"200":{"description":"x",` + text + `}`) }
	problems := func(codes ...string) string {
		var all []string
		for _, code := range codes {
			all = append(all, `{"properties":{"code":{"const":"`+code+`"}},"required":["code"],"type":"object"}`)
		}
		return answer(`"409":{"description":"x","content":{"application/problem+json":{"schema":{"oneOf":[` + strings.Join(all, ",") + `]}}}}`)
	}
	body := func(text string) string { return `{"requestBody":{` + text + `}}` }
	const anyProblem = `"default":{"description":"any","content":{"application/problem+json":{"schema":{"type":"object"}}}}`
	for _, c := range []struct {
		name, before, after string
		want                contract.Class
	}{
		{"texts", `{"summary":"a","tags":["x"]}`, `{"summary":"b","description":"c","tags":["y"]}`, none},
		{"its name", `{"operationId":"book"}`, `{"operationId":"reserve"}`, look},
		{"a name", `{}`, `{"operationId":"reserve"}`, none},
		{"it is deprecated", `{}`, `{"deprecated":true}`, safe},
		{"a server is gone", `{"servers":[{"url":"https://a.example"}]}`, `{"servers":[{"url":"https://b.example"}]}`, look},
		{"a server is new", `{"servers":[{"url":"https://a.example"}]}`, `{"servers":[{"url":"https://a.example"},{"url":"https://b.example"}]}`, safe},
		{"callbacks", `{}`, `{"callbacks":{"done":{"{$url}":{}}}}`, look},

		{"a new required parameter", p(``), p(`{"name":"q","in":"query","required":true,"schema":{}}`), breaks},
		{"a new optional parameter", p(``), p(`{"name":"q","in":"query","schema":{}}`), safe},
		{"a parameter is required", p(`{"name":"q","in":"query","schema":{}}`), p(`{"name":"q","in":"query","required":true,"schema":{}}`), breaks},
		{"a parameter is no longer required", p(`{"name":"q","in":"query","required":true,"schema":{}}`), p(`{"name":"q","in":"query","schema":{}}`), safe},
		{"a parameter is gone", p(`{"name":"q","in":"query","schema":{}}`), p(``), look},
		{"a required parameter has another name", p(`{"name":"q","in":"query","required":true,"schema":{}}`), p(`{"name":"r","in":"query","required":true,"schema":{}}`), breaks},
		{"a parameter is in another place", p(`{"name":"q","in":"query","required":true,"schema":{}}`), p(`{"name":"q","in":"header","required":true,"schema":{}}`), breaks},
		{"a header field in another case", p(`{"name":"Gate","in":"header","schema":{}}`), p(`{"name":"gate","in":"header","schema":{}}`), none},
		{"what OpenAPI says elsewhere", p(``), p(`{"name":"Authorization","in":"header","required":true,"schema":{}}`), none},
		{"a narrower parameter", p(`{"name":"q","in":"query","schema":{"type":"integer"}}`), p(`{"name":"q","in":"query","schema":{"type":"integer","maximum":9}}`), breaks},
		{"another default", p(`{"name":"q","in":"query","schema":{"type":"integer","default":1}}`), p(`{"name":"q","in":"query","schema":{"type":"integer","default":2}}`), look},
		{"a parameter is deprecated", p(`{"name":"q","in":"query","schema":{}}`), p(`{"name":"q","in":"query","deprecated":true,"schema":{}}`), safe},
		{"lists are written otherwise", p(`{"name":"q","in":"query","schema":{"type":"array","items":{"type":"string"}}}`), p(`{"name":"q","in":"query","explode":false,"schema":{"type":"array","items":{"type":"string"}}}`), breaks},
		{"the default style", p(`{"name":"q","in":"query","schema":{"type":"array"}}`), p(`{"name":"q","in":"query","style":"form","explode":true,"schema":{"type":"array"}}`), none},
		{"the style of single values", p(`{"name":"q","in":"query","schema":{"type":"string"}}`), p(`{"name":"q","in":"query","explode":false,"schema":{"type":"string"}}`), none},
		{"reserved characters", p(`{"name":"q","in":"query","allowReserved":true,"schema":{}}`), p(`{"name":"q","in":"query","schema":{}}`), look},
		{"a parameter as JSON", p(`{"name":"q","in":"query","schema":{}}`), p(`{"name":"q","in":"query","content":{"application/json":{"schema":{}}}}`), look},
		{"a cookie is required", p(``), p(`{"name":"q","in":"cookie","required":true,"schema":{}}`), breaks},

		{"a required body", `{}`, body(`"required":true,"content":{"a/b":{}}`), breaks},
		{"an optional body", `{}`, body(`"content":{"a/b":{}}`), safe},
		{"no body", body(`"content":{"a/b":{}}`), `{}`, look},
		{"the body is required", body(`"content":{"a/b":{}}`), body(`"required":true,"content":{"a/b":{}}`), breaks},
		{"the body is no longer required", body(`"required":true,"content":{"a/b":{}}`), body(`"content":{"a/b":{}}`), safe},
		{"a media type of the body is gone", body(`"content":{"a/b":{},"a/c":{}}`), body(`"content":{"a/b":{}}`), breaks},
		{"a media type of the body is new", body(`"content":{"a/b":{}}`), body(`"content":{"a/b":{},"a/c":{}}`), safe},
		{"a range of media types", body(`"content":{"image/png":{}}`), body(`"content":{"image/*":{}}`), none},
		{"a parameter of a media type in another form", body(`"content":{"a/b; c=d":{}}`), body(`"content":{"A/B;c=d":{}}`), none},
		{"items of a stream", body(`"content":{"application/x-ndjson":{"schema":{"type":"string"},"x-wicketway-item":{"type":"integer"}}}`), body(`"content":{"application/x-ndjson":{"itemSchema":{"type":"number"}}}`), safe},
		{"encoding", body(`"content":{"multipart/form-data":{"encoding":{"a":{"contentType":"image/png"}}}}`), body(`"content":{"multipart/form-data":{}}`), look},

		{"another status", answer(`"200":{"description":""}`), answer(`"201":{"description":""}`), breaks},
		{"a status more", answer(`"200":{"description":""}`), answer(`"200":{"description":""},"404":{"description":""}`), breaks},
		{"a status that default covered", answer(`"200":{"description":""},` + anyProblem), answer(`"200":{"description":""},"404":{"description":"","content":{"application/problem+json":{"schema":{"type":"object","required":["code"]}}}},` + anyProblem), safe},
		{"a status that its class covered", answer(`"4XX":{"description":""}`), answer(`"404":{"description":""}`), safe},
		{"a status is gone", answer(`"200":{"description":""},"202":{"description":""}`), answer(`"200":{"description":""}`), safe},
		{"default", answer(`"200":{"description":""}`), answer(`"200":{"description":""},` + anyProblem), breaks},
		{"behind a redirect", answer(`"200":{"description":""}`), answer(`"308":{"description":""}`), breaks},
		{"a header field more", ok(`"headers":{}`), ok(`"headers":{"A":{"schema":{}}}`), safe},
		{"a header field is gone", ok(`"headers":{"A":{"schema":{}}}`), ok(`"headers":{}`), look},
		{"a required header field is gone", ok(`"headers":{"A":{"required":true,"schema":{}}}`), ok(`"headers":{}`), breaks},
		{"a header field can be missing", ok(`"headers":{"A":{"required":true,"schema":{}}}`), ok(`"headers":{"a":{"schema":{}}}`), breaks},
		{"a header field is always there", ok(`"headers":{"A":{"schema":{}}}`), ok(`"headers":{"A":{"required":true,"schema":{}}}`), safe},
		{"a header field has other values", ok(`"headers":{"A":{"schema":{"type":"integer"}}}`), ok(`"headers":{"A":{"schema":{"type":"string"}}}`), breaks},
		{"it announces no end", ok(`"headers":{"Sunset":{"schema":{}}}`), ok(`"headers":{}`), safe},
		{"another media type", ok(`"content":{"application/json":{}}`), ok(`"content":{"application/hal":{}}`), breaks},
		{"a media type is gone", ok(`"content":{"application/json":{},"text/csv":{}}`), ok(`"content":{"application/json":{}}`), breaks},
		{"a media type more", ok(`"content":{"application/json":{}}`), ok(`"content":{"application/json":{},"text/csv":{}}`), look},
		{"a body where there was none", ok(`"content":{}`), ok(`"content":{"application/json":{}}`), look},
		{"a link is gone", ok(`"links":{"a":{"operationId":"b"}}`), ok(`"links":{}`), look},
		{"a kind of problem is new", problems("taken"), problems("taken", "closed"), look},
		{"a kind of problem is gone", problems("taken", "closed"), problems("taken"), safe},
		{"kinds in another order", problems("taken", "closed"), problems("closed", "taken"), none},

		{"a guard", `{}`, `{"security":[{"bearer":[]}]}`, breaks},
		{"a guard that may be passed", `{}`, `{"security":[{"bearer":[]},{}]}`, none},
		{"no guard", `{"security":[{"bearer":[]}]}`, `{"security":[]}`, safe},
		{"a scope more", `{"security":[{"bearer":["a"]}]}`, `{"security":[{"bearer":["a","b"]}]}`, breaks},
		{"a scope less", `{"security":[{"bearer":["a","b"]}]}`, `{"security":[{"bearer":["a"]}]}`, safe},
		{"another name of a scheme", `{"security":[{"bearer":["a"]}]}`, `{"security":[{"token":["a"]}]}`, none},
		{"another scheme", `{"security":[{"bearer":[]}]}`, `{"security":[{"key":[]}]}`, breaks},
		{"one of two schemes", `{"security":[{"bearer":[]}]}`, `{"security":[{"key":[]},{"bearer":[]}]}`, none},
		{"both of two schemes", `{"security":[{"bearer":[]}]}`, `{"security":[{"key":[],"bearer":[]}]}`, breaks},
	} {
		if got, said := worst(contract.Compare(with(t, c.before, ""), with(t, c.after, ""))); got != c.want {
			t.Errorf("%s: %q, want %q\n%s", c.name, got, c.want, said)
		}
	}
	one := func(paths string) *contract.Document {
		d, err := contract.Read([]byte(head + `,"paths":{` + paths + `}}`))
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	for _, c := range []struct {
		before, after string
		want          contract.Class
		says          string
	}{
		{`"/a":{"get":{}}`, `"/a":{"get":{},"put":{}},"/b":{"get":{}}`, safe, "PUT /a: The operation is new."},
		{`"/a":{"get":{},"put":{}}`, `"/a":{"get":{}}`, breaks, `PUT /a: The operation is gone. For example: {"method":"PUT","path":"/a"}`},
		{`"/a":{"get":{"operationId":"x"}}`, `"/b":{"get":{"operationId":"x"}}`, breaks, "GET /a: The operation is gone: it is at /b."},
		{`"/a/{b}":{"get":{"parameters":[{"name":"b","in":"path","required":true,"schema":{}}]}}`, `"/a/{c}":{"parameters":[{"name":"c","in":"path","required":true,"schema":{}}],"get":{}}`, none, ""},
		{`"/a/{b}":{"get":{"parameters":[{"name":"b","in":"path","required":true,"schema":{"type":"string"}}]}}`, `"/a/{c}":{"get":{"parameters":[{"name":"c","in":"path","required":true,"schema":{"type":"integer"}}]}}`, breaks, "The path parameter c: the type is integer, and was string"},
		{`"/b":{},"/a":{"get":{}}`, `"/a":{"get":{}},"/b":{}`, none, ""},
	} {
		if got, said := worst(contract.Compare(one(c.before), one(c.after))); got != c.want || !strings.Contains(said, c.says) {
			t.Errorf("from %s to %s: %q, want %q and %s\n%s", c.before, c.after, got, c.want, c.says, said)
		}
	}
}

// Nearly all single changes of the canal's own schemas are decided.
func TestOwnChangesAreDecided(t *testing.T) {
	d, err := contract.Of(described(t)["canal"], "v2")
	if err != nil {
		t.Fatal(err)
	}
	raw := func(text string) jsontext.Value { return jsontext.Value(text) }
	steps := []struct {
		name string
		make func(contract.Schema) contract.Schema
	}{
		{"required", func(s contract.Schema) contract.Schema { return s.With("required", []string{"lock"}) }},
		{"nothing required", func(s contract.Schema) contract.Schema { return s.With("required", []string{}) }},
		{"closed", func(s contract.Schema) contract.Schema { return s.With("additionalProperties", false) }},
		{"open", func(s contract.Schema) contract.Schema { return s.With("additionalProperties", true) }},
		{"type", func(s contract.Schema) contract.Schema { return s.With("type", "string") }},
		{"null", func(s contract.Schema) contract.Schema { return s.With("type", append(s.Types(), "null")) }},
		{"maxLength", func(s contract.Schema) contract.Schema { return s.With("maxLength", 7) }},
		{"minimum", func(s contract.Schema) contract.Schema { return s.With("minimum", 2) }},
		{"enum", func(s contract.Schema) contract.Schema { return s.With("enum", raw(`["up","open"]`)) }},
		{"pattern", func(s contract.Schema) contract.Schema { return s.With("pattern", "^[a-z]+$") }},
		{"format", func(s contract.Schema) contract.Schema { return s.With("format", "date-time") }},
		{"members", func(s contract.Schema) contract.Schema {
			return s.With("properties", raw(`{"depth":{"type":"integer"}}`))
		}},
		{"items", func(s contract.Schema) contract.Schema { return s.With("items", raw(`{"type":"integer"}`)) }},
		{"maxItems", func(s contract.Schema) contract.Schema { return s.With("maxItems", 3) }},
	}
	decided, looks, pair := 0, 0, 0
	for name, s := range d.Components.Schemas.All() {
		places := 0
		s.Rewrite(func(s contract.Schema) contract.Schema { places++; return s })
		for at := range places {
			for _, step := range steps {
				if pair++; pair%7 != 0 {
					continue
				}
				n := 0
				changed := s.Rewrite(func(s contract.Schema) contract.Schema {
					if n++; n == at+1 && s.Text().Kind() == '{' {
						return step.make(s)
					}
					return s
				})
				for _, direction := range []string{`"requestBody":{"content":{"application/json":{"schema":%s}}}`, `"responses":{"200":{"description":"","content":{"application/json":{"schema":%s}}}}`} {
					var of [2]*contract.Document
					for i, one := range []contract.Schema{s, changed} {
						if of[i], err = contract.Read([]byte(head + fmt.Sprintf(`,"paths":{"/a":{"post":{`+direction+`}}}}`, one.Text()))); err != nil {
							t.Fatal(err)
						}
						of[i].Components = d.Components
					}
					class, said := worst(contract.Compare(of[0], of[1]))
					if class == contract.Look {
						looks++
						t.Logf("%s, %s at %d: %s", name, step.name, at, said)
					} else {
						decided++
					}
				}
			}
		}
	}
	if share := float64(looks) / float64(looks+decided); share > 0.05 || looks+decided < 200 {
		t.Errorf("%d of %d are not decided", looks, looks+decided)
	}
	t.Logf("%d decided, %d not", decided, looks)
}
