package check_test

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/check"
	"github.com/wicketway/wicketway/contract/yaml"
)

const head = `{"openapi":"3.1.0","info":{"title":"T","version":"1"}`

// get is a document with an operation that is good but for what is in it.
func get(members string) string {
	return head + `,"paths":{"/locks":{"get":{"responses":{"200":{"description":"x"}}` + members + `}}}}`
}

func parameter(text string) string { return get(`,"parameters":[` + text + `]`) }

func answer(text string) string {
	return head + `,"paths":{"/locks":{"get":{"responses":{"200":{"description":"x",` + text + `}}}}}}`
}

func schema(text string) string { return head + `,"components":{"schemas":{"A":` + text + `}}}` }

func components(text string) string { return head + `,"components":{` + text + `}}` }

func old(text string) string { return strings.Replace(text, "3.1.0", "3.0.3", 1) }

// Documents that are wrong in one way each, and what is said of them: where, how much it weighs, and what.
func TestWrongDocuments(t *testing.T) {
	const e, a = check.Error, check.Advice
	for _, c := range []struct {
		text    string
		level   check.Level
		pointer string
		says    string
	}{
		{head, e, "", "the JSON text is incomplete"},
		{`{"openapi":"2.0","info":{"title":"T","version":"1"}}`, e, "/openapi", `is "2.0"; versions 3.0, 3.1 and 3.2 are read`},
		{`{"openapi":"3.1.0","info":{"title":"T"}}`, e, "/info", "the member version is missing"},
		{head + `,"tags":{}}`, e, "/tags", "is an object; want an array"},
		{head + `,"pathes":{}}`, e, "/pathes", "did you mean paths?"},
		{get(`,"paramters":[]`), e, "/paths/~1locks/get/paramters", "did you mean parameters?"},
		{get(`,"timeout":3`), e, "/paths/~1locks/get/timeout", "members of one's own begin with x-"},
		{head + `,"paths":{"/a":{"query":{"responses":{"200":{"description":"x"}}}}}}`, e, "/paths/~1a/query", "is a member since OpenAPI 3.2; the document is one of 3.1.0"},
		{head + `,"paths":{"a":{}}}`, e, "/paths/a", "does not begin with a slash: write /a"},
		{head + `,"paths":{"/a/{b}":{},"/a/{c}":{}}}`, e, "/paths/~1a~1{c}", "matches the same paths as /a/{b}"},
		{head + `,"paths":{"/a/{+b}":{}}}`, e, "/paths/~1a~1{+b}", "has the expression {+b}"},
		{head + `,"paths":{"/a/{}":{}}}`, e, "/paths/~1a~1{}", "a parameter without a name"},
		{head + `,"paths":{"/a/{b":{}}}`, e, "/paths/~1a~1{b", "has a brace without its other one"},
		{head + `,"paths":{"/a?b={c}":{}}}`, e, "/paths/~1a?b={c}", "has a query or a fragment"},
		{head + `,"paths":{"/{a}/{a}":{}}}`, e, "/paths/~1{a}~1{a}", "has the parameter a twice"},
		{head + `,"paths":{"/a/{b}":{"get":{"responses":{"200":{"description":"x"}}}}}}`, e, "/paths/~1a~1{b}/get", `does not declare the path parameter b of /a/{b}: add {"name":"b","in":"path","required":true}`},
		{parameter(`{"name":"b","in":"path","required":true,"schema":{}}`), e, "/paths/~1locks/get/parameters", "declares the path parameter b, which /locks does not have"},
		{parameter(`{"name":"b","in":"query","schema":{}},{"name":"b","in":"query","schema":{}}`), e, "/paths/~1locks/get/parameters/1", "is the query parameter b for the second time"},
		{parameter(`{"name":"b","in":"body","schema":{}}`), e, "/paths/~1locks/get/parameters/0/in", `is "body"; a parameter is in path, query, header or cookie`},
		{parameter(`{"in":"query","schema":{}}`), e, "/paths/~1locks/get/parameters/0", "has no name"},
		{parameter(`{"name":"b","schema":{}}`), e, "/paths/~1locks/get/parameters/0", "has no in"},
		{parameter(`{"name":"b","in":"query"}`), e, "/paths/~1locks/get/parameters/0", "has neither schema nor content"},
		{parameter(`{"name":"b","in":"query","schema":{},"content":{"a/b":{}}}`), e, "/paths/~1locks/get/parameters/0", "has both schema and content"},
		{parameter(`{"name":"b","in":"query","content":{"a/b":{},"a/c":{}}}`), e, "/paths/~1locks/get/parameters/0/content", "has 2 media types; a parameter has one"},
		{parameter(`{"name":"b","in":"header","style":"form","schema":{}}`), e, "/paths/~1locks/get/parameters/0/style", `is "form"; a parameter in header has simple`},
		{parameter(`{"name":"Accept","in":"header","schema":{}}`), a, "/paths/~1locks/get/parameters/0", "is ignored: Accept is said by media types"},
		{parameter(`{"name":"b","in":"query","schema":{},"example":1,"examples":{"x":{"value":1}}}`), e, "/paths/~1locks/get/parameters/0", "has both example and examples"},
		{components(`"parameters":{"P":{"name":"b","in":"path","schema":{}}}`), e, "/components/parameters/P", "is in the path, so it must be required"},
		{parameter(`{"$ref":"#/components/parameters/P"}`), e, "/paths/~1locks/get/parameters/0/$ref", "leads to nothing"},
		{parameter(`{"$ref":"other.json#/P"}`), a, "/paths/~1locks/get/parameters/0/$ref", "leads into another document (other.json#/P), which is not read"},
		{head + `,"paths":{"/a":{"get":{"operationId":"x","responses":{"200":{"description":"x"}}},"put":{"operationId":"x","responses":{"200":{"description":"x"}}}}}}`, e, "/paths/~1a/put/operationId", "is x, as that of /paths/~1a/get"},
		{get(`,"requestBody":{"content":{"a/b":{}}}`), a, "/paths/~1locks/get/requestBody", "for which content has no defined meaning"},
		{head + `,"paths":{"/a":{"put":{"requestBody":{},"responses":{"200":{"description":"x"}}}}}}`, e, "/paths/~1a/put/requestBody", "has no content: name a media type"},
		{head + `,"paths":{"/a":{"put":{"responses":{}}}}}`, a, "/paths/~1a/put", "has no responses"},
		{old(head + `,"paths":{"/a":{"put":{}}}}`), e, "/paths/~1a/put", "has no responses: list one at least"},
		{get(`,"x":1`), e, "/paths/~1locks/get/x", "is not a member of this object"},
		{head + `,"paths":{"/a":{"put":{"responses":{"2xx":{"description":"x"},"200":{"description":"x"}}}}}}`, e, "/paths/~1a/put/responses/2xx", "is not a status"},
		{head + `,"paths":{"/a":{"put":{"responses":{"404":{"description":"x"}}}}}}`, a, "/paths/~1a/put/responses", "lists no success"},
		{head + `,"paths":{"/a":{"put":{"responses":{"200":{}}}}}}`, e, "/paths/~1a/put/responses/200", "has no description"},
		{answer(`"headers":{"content-type":{"schema":{}}}`), a, "/paths/~1locks/get/responses/200/headers/content-type", "is ignored"},
		{answer(`"headers":{"Gate":{}}`), e, "/paths/~1locks/get/responses/200/headers/Gate", "has neither schema nor content"},
		{answer(`"content":{"json":{}}`), e, "/paths/~1locks/get/responses/200/content/json", "is not a media type"},
		{answer(`"content":{"application/json":{"schema":{"type":"integer"},"example":"x"}}`), a, "/paths/~1locks/get/responses/200/content/application~1json/example", "breaks its schema: got string, want integer"},
		{answer(`"content":{"application/json":{"schema":{"required":["a"]},"examples":{"x":{"value":{}}}}}`), a, "/paths/~1locks/get/responses/200/content/application~1json/examples/x/value", "missing property 'a'"},
		{answer(`"links":{"x":{"operationId":"y"}}`), e, "/paths/~1locks/get/responses/200/links/x/operationId", "is y, and no operation is called that"},
		{get(`,"security":[{"bearer":[]}]`), e, "/paths/~1locks/get/security/0/bearer", "is a security scheme that is not defined"},
		{components(`"securitySchemes":{"b":{"type":"http"}}`), e, "/components/securitySchemes/b", "has no scheme, which the type http needs"},
		{components(`"securitySchemes":{"b":{"type":"bearer"}}`), e, "/components/securitySchemes/b/type", `is "bearer"; types are apiKey`},
		{components(`"securitySchemes":{"b":{"type":"apiKey","name":"K","in":"body"}}`), e, "/components/securitySchemes/b/in", "a key is in query, header or cookie"},
		{components(`"securitySchemes":{"b":{"type":"oauth2","flows":{"password":{"scopes":{}}}}}`), e, "/components/securitySchemes/b/flows/password", "has no tokenUrl"},
		{components(`"schemas":{"A B":{}}`), e, "/components/schemas/A B", "is not a name for a component"},
		{head + `,"servers":[{"url":"https://{host}/"}]}`, e, "/servers/0/url", "has the variable host, which is not in variables"},
		{head + `,"servers":[{"url":"/{v}","variables":{"v":{"default":"3","enum":["1","2"]}}}]}`, e, "/servers/0/variables/v/default", `is "3", which is not in the enum: 1, 2`},
		{head + `,"tags":[{"name":"a"},{"name":"a"}]}`, e, "/tags/1/name", "is a for the second time"},
		{schema(`{"type":"strng"}`), e, "/components/schemas/A/type", `is "strng"; types are null, boolean`},
		{schema(`{"type":"string","minLength":-1}`), e, "/components/schemas/A/minLength", "is -1; want a whole number from 0"},
		{schema(`{"type":"number","multipleOf":0}`), e, "/components/schemas/A/multipleOf", "is 0; want a number above 0"},
		{schema(`{"type":"number","minimum":1,"exclusiveMinimum":true}`), e, "/components/schemas/A/exclusiveMinimum", "since OpenAPI 3.1 it is the number itself"},
		{schema(`{"allOf":[]}`), e, "/components/schemas/A/allOf", "is empty"},
		{schema(`{"required":["a","a"]}`), e, "/components/schemas/A/required", "lists a member twice"},
		{schema(`{"enum":"a"}`), e, "/components/schemas/A/enum", "is no array"},
		{schema(`{"enum":["a",1,1.0]}`), a, "/components/schemas/A/enum/2", "is in the enum twice"},
		{schema(`{"pattern":"^(?!a)"}`), a, "/components/schemas/A/pattern", "is a pattern that is not held"},
		{schema(`{"type":"string","nullable":true}`), a, "/components/schemas/A/nullable", `write "type":[...,"null"]`},
		{schema(`{"type":"integer","pattern":"a"}`), a, "/components/schemas/A/pattern", "has no effect on values of the type integer"},
		{schema(`{"type":"integer","enum":[1,2],"default":3}`), a, "/components/schemas/A/default", "breaks its schema: value must be one of 1, 2"},
		{old(schema(`{"type":"integer","enum":[1,2],"default":3}`)), e, "/components/schemas/A/default", "breaks its schema"},
		{old(schema(`{"type":"array"}`)), e, "/components/schemas/A", "is an array without items"},
		{schema(`{"type":"integer","minimum":3,"maximum":2}`), a, "/components/schemas/A", "accepts no value at all"},
		{schema(`{"type":"object","required":["a"],"properties":{"a":{"$ref":"#/components/schemas/A"}}}`), a, "/components/schemas/A", "accepts no value at all"},
		{schema(`{"type":"object","required":["b"],"properties":{"a":{}},"additionalProperties":false}`), a, "/components/schemas/A", "accepts no value at all"},
		{schema(`{"$ref":"#/components/schemas/B"}`), e, "/components/schemas/A/$ref", "the reference #/components/schemas/B leads to nothing"},
		{schema(`{"$ref":"#/components/schemas/A"}`), e, "/components/schemas/A/$ref", "leads in a circle"},
		{schema(`{"properties":{"a":{"items":{"$ref":"#/x"}}}}`), e, "/components/schemas/A/properties/a/items/$ref", "leads to nothing"},
		{schema(`{"oneOf":[{"required":["k"]}],"discriminator":{"propertyName":"k","mapping":{"x":"#/components/schemas/B"}}}`), e, "/components/schemas/A/discriminator/mapping/x", "leads to nothing"},
		{schema(`{"oneOf":[{"properties":{"k":{}}}],"discriminator":{"propertyName":"k"}}`), a, "/components/schemas/A/oneOf/0", "does not require the member k"},
		{components(`"responses":{"A":{"$ref":"#/components/responses/A"}}`), e, "/components/responses/A/$ref", "leads in a circle"},
	} {
		found := check.Text([]byte(c.text))
		if len(found) != 1 || found[0].Level != c.level || found[0].Pointer != c.pointer || !strings.Contains(found[0].Message, c.says) {
			t.Errorf("%s:\n%v\nwant %s: %s: %s", c.text, found, c.level, c.pointer, c.says)
		} else if f := found[0]; f.Line != 1 || f.Column < 1 && c.pointer != "/openapi" {
			t.Errorf("%s: it is at %d:%d", c.text, f.Line, f.Column)
		}
	}
}

// Odd documents that are right.
func TestOddDocuments(t *testing.T) {
	for _, text := range []string{
		head + `}`,
		head + `,"paths":{},"x-anything":{"$ref":1}}`,
		head + `,"paths":{"/":{}}}`,
		head + `,"paths":{"/a":{},"/a/":{},"/A":{}}}`,
		head + `,"paths":{"/a/{b}":{},"/a/b":{}}}`,
		head + `,"paths":{"/a/{b}.{c}":{}}}`,
		head + `,"paths":{"/a/{b}":{"parameters":[{"name":"b","in":"path","required":true,"schema":{}}],"get":{"responses":{"200":{"description":"x"}}}}}}`,
		head + `,"paths":{"/a":{"$ref":"#/components/pathItems/A"}},"components":{"pathItems":{"A":{"get":{"responses":{"200":{"description":"x"}}}}}}}`,
		head + `,"paths":{"/a":{"trace":{"responses":{"default":{"description":"x"}}}}}}`,
		head + `,"paths":{"/a":{"put":{"responses":{"3XX":{"description":"x"}}}}}}`,
		head + `,"webhooks":{"w":{"post":{"responses":{"200":{"description":"x"}},"parameters":[]}}}}`,
		get(`,"security":[]`),
		get(`,"security":[{}]`),
		get(`,"tags":["not declared"]`),
		get(`,"callbacks":{"c":{"{$request.query.to}":{"post":{"responses":{"200":{"description":"x"}}}}}}`),
		get(`,"callbacks":{"c":{"$ref":"#/components/callbacks/c"}}`),
		parameter(`{"name":"a","in":"query","schema":{}},{"name":"a","in":"header","schema":{}}`),
		parameter(`{"name":"a","in":"query","content":{"application/json":{"schema":{"type":"object"}}}}`),
		parameter(`{"name":"a","in":"query","style":"deepObject","schema":{"type":"object"}}`),
		parameter(`{"$ref":"#/paths/~1b/get/parameters/0"}`)[:len(parameter(`{"$ref":"#/paths/~1b/get/parameters/0"}`))-2] + `,"/b":{"get":{"responses":{"200":{"description":"x"}},"parameters":[{"name":"c","in":"cookie","schema":{}}]}}}}`,
		answer(`"content":{"image/*":{}}`),
		answer(`"content":{"*/*":{}}`),
		answer(`"content":{"application/json; version=v2":{"schema":{"type":"integer"},"example":1}}`),
		answer(`"content":{"text/plain":{"schema":{"type":"integer"},"example":"not JSON"}}`),
		answer(`"content":{"multipart/mixed":{"schema":{"properties":{"a":{}}},"encoding":{"a":{"contentType":"image/png"}}}}`),
		answer(`"headers":{"A":{"$ref":"#/components/headers/B"}}}}}}},"components":{"headers":{"B":{"schema":{}}}`)[:0] + head + `}`,
		schema(`true`),
		schema(`false`),
		schema(`{"not":{}}`),
		schema(`{"properties":{"a":false}}`),
		schema(`{"$id":"https://canal.example/a","$anchor":"x","$comment":"c"}`),
		schema(`{"$ref":"#x"}},"schemas2":0}}`)[:0] + head + `,"components":{"schemas":{"A":{"$ref":"#x"},"B":{"$anchor":"x"}}}}`,
		schema(`{"type":["string","null"],"enum":["a",null]}`),
		schema(`{"type":"object","properties":{"next":{"$ref":"#/components/schemas/A"}}}`),
		schema(`{"anyOf":[{"$ref":"#/components/schemas/A"},{"type":"null"}]}`),
		schema(`{"type":"integer","minimum":9007199254740993,"maximum":9007199254740993}`),
		schema(`{"enum":[1,"1",true,null,[1],{"a":1}]}`),
		schema(`{"properties":{"$ref":{"type":"string"},"type":{"const":"x"}}}`),
		schema(`{"const":{"$ref":"#/nowhere"}}`),
		schema(`{"unknown":{"$ref":"#/nowhere"}}`),
		schema(`{"type":"string","minLength":2.0}`),
		schema(`{"maxItems":1e2}`),
		schema(`{"if":{"type":"string"},"then":{"minLength":1}}`),
		old(head + `,"paths":{}}`),
		old(schema(`{"type":"string","nullable":true,"example":null}`)),
		old(schema(`{"type":"number","minimum":0,"exclusiveMinimum":true}`)),
		strings.Replace(head+`,"paths":{"/a":{"query":{"responses":{"200":{"description":""}}}}},"tags":[{"name":"a"},{"name":"b","parent":"a"}]}`, "3.1.0", "3.2.0", 1),
	} {
		if found := check.Text([]byte(text)); found != nil {
			t.Errorf("%s:\n%v", text, found)
		}
	}
}

// Places are those of the text, as it is written: JSON in many lines, and YAML.
func TestPlaces(t *testing.T) {
	for text, want := range map[string]string{
		"{\n \"openapi\": \"3.1.0\", \"info\": {\"title\": \"T\", \"version\": \"1\"},\n \"components\": {\"schemas\": {\n  \"A\": {\"type\":\n\n   \"strng\"}}}}": `6:4: error: /components/schemas/A/type`,
		"openapi: 3.1.0\ninfo: {title: T, version: '1'}\ncomponents:\n  schemas:\n    A:\n      type: strng\n":                                                     `6:13: error: /components/schemas/A/type`,
		"openapi: 3.1.0\ninfo: {title: T, version: '1'}\npaths:\n  /a/{b}:\n    get:\n      responses: {'200': {description: x}}\n":                                `6:7: error: /paths/~1a~1{b}/get`,
	} {
		if found := check.Text([]byte(text)); len(found) != 1 || !strings.HasPrefix(found[0].String(), want) {
			t.Errorf("%s\n%v, want %s", text, found, want)
		}
	}
}

// Documents that are made to explode are refused, or come to an end: without their bounds some would take longer than a test
// may.
func TestExplosions(t *testing.T) {
	wide := `{"enum":[` + strings.TrimSuffix(strings.Repeat(`"x",`, 200_000), ",") + `]}`
	chain := ""
	for i := range 2000 {
		chain += fmt.Sprintf(`,"S%d":{"allOf":[{"$ref":"#/components/schemas/S%d"},{"$ref":"#/components/schemas/S%d"}]}`, i, i+1, i+1)
	}
	anchors := "openapi: 3.1.0\ninfo: {title: T, version: '1'}\nx-0: &x0 [" + strings.Repeat("a,", 200) + "]\n"
	for i := range 8 {
		anchors += fmt.Sprintf("x-%d: &x%d [%s]\n", i+1, i+1, strings.Repeat(fmt.Sprintf("*x%d,", i), 9))
	}
	choices := `{"allOf":[` + strings.TrimSuffix(strings.Repeat(`{"anyOf":[{"minLength":1},{"minimum":1},{"minItems":1}]},`, 30), ",") + `]}`
	for name, c := range map[string]struct{ text, says string }{
		"an enum":    {schema(wide), "is in the enum twice"},
		"a chain":    {head + `,"components":{"schemas":{"S2000":{}` + chain + `}}}`, ""},
		"a value":    {head + `,"components":{"schemas":{"S2000":{}` + strings.Replace(chain, `"S0":{`, `"S0":{"default":1,`, 1) + `}}}`, ""},
		"anchors":    {anchors, "more than ten times as large"},
		"choices":    {schema(choices), ""},
		"depth":      {schema(strings.Repeat(`{"not":`, 3000) + `true` + strings.Repeat("}", 3000)), "nested deeper than 100"},
		"size":       {head + `,"x":"` + strings.Repeat("x", contract.MaxSize) + `"}`, "bytes; 33554432 is the most"},
		"properties": {schema(`{"properties":{` + strings.TrimSuffix(strings.Repeat(`"a":{},`, 5), ",") + `}}`), "stands here twice"},
	} {
		said := fmt.Sprint(check.Text([]byte(c.text)))
		if c.says == "" && said != "[]" || !strings.Contains(said, c.says) {
			t.Errorf("%s: %.300s, want %s", name, said, c.says)
		}
	}
}

// breaks are what ends lines in YAML 1.1.
var breaks = regexp.MustCompile(`\n|\r|\x{85}|\x{2028}|\x{2029}`)

// FuzzText: whatever is checked, nothing panics, and places are in the text.
func FuzzText(f *testing.F) {
	f.Add([]byte(schema(`{"type":"strng"}`)))
	f.Add([]byte("openapi: 3.0.0\ninfo: {title: T, version: '1'}\npaths: {a: {get: {}}}"))
	f.Add([]byte(head + `,"paths":{"/locks":{"get":{"responses":{"":{"description":"x"},"3XX":{"description":"x"}}}}}}`))
	f.Add([]byte(answer(`"content":{"application/json":{"schema":{"oneOf":[{"type":"string"},{"not":{"type":"null"}}]}}}`)))
	other, err := contract.Read([]byte(answer(`"content":{"application/json":{"schema":{"type":"object","properties":{"a":{"type":"integer"}}}}}`)))
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, one := range check.Text(text) {
			if one.Line < 0 || one.Line > len(breaks.FindAllString(string(text), -1))+2 || one.Message == "" {
				t.Fatalf("%v\n%s", one, text)
			}
		}
		if d, err := yaml.Read(text); err == nil {
			contract.Compare(d, other)
			contract.Compare(other, d)
			for _, c := range contract.Compare(d, d) {
				t.Fatalf("a document is not itself: %v\n%s", c, text)
			}
		}
	})
}
