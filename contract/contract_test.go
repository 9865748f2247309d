package contract_test

import (
	"bytes"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/valid"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/examples/canal/demo"
	"github.com/wicketway/wicketway/facts"
)

// head is the beginning of documents that are good but for what follows.
const head = `{"openapi":"3.1.0","info":{"title":"T","version":"1"}`

// A document that is read and written again has all that it had: unknown members, empty ones, numbers as they were
// written, and its order; as JSON and by way of YAML.
func TestRoundTrip(t *testing.T) {
	for _, text := range []string{
		head + `}`,
		`{"x-first":1.50e2,"info":{"version":"1","title":"T","x-more":{"b":1,"a":[]}},"openapi":"3.1.0","tags":[],"paths":{}}`,
		head + `,"paths":{"/b":{"get":{"deprecated":false,"responses":{"x-y":1,"404":{"description":""},"200":{"description":"no"}},"security":[]}},"x-p":null,"/a":{}}}`,
		head + `,"components":{"schemas":{"z":true,"a":{"minimum":1.0,"$ref":"#/x","$anchor":"here","enum":[1e400,"on","1","2026-01-01",null]},"x-s":{"type":["string","null"]}}}}`,
		head + `,"webhooks":{"w":{"$ref":"#/components/pathItems/w"}},"security":[{"b":[],"a":["s"]},{}],"paths":{"/a":{"query":{},"additionalOperations":{"LINK":{}},"post":{"callbacks":{"c":{"{$url}":{}}},"requestBody":{"content":{"a/b":{"itemSchema":{"type":"string"},"encoding":{"f":{"contentType":"a/b"}}}}}}}}}`,
	} {
		d, err := contract.Read([]byte(text))
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		got := jsontext.Value(d.Text())
		if got.Compact(); string(got) != text {
			t.Errorf("read  %s\nwrote %s", text, got)
		}
		written, err := yaml.Write(d)
		if err != nil {
			t.Errorf("%s: %v", text, err)
		}
		if again, err := yaml.Read(written); err != nil || !bytes.Equal(again.Text(), d.Text()) {
			t.Errorf("by YAML: %v\n%s", err, written)
		}
	}
}

// Every fault, with its place.
func TestFaults(t *testing.T) {
	deep := strings.Repeat(`{"not":`, 500) + `true` + strings.Repeat("}", 500)
	for text, want := range map[string]string{
		``:                     "1:1: the document: the JSON text is incomplete",
		`[]`:                   "1:1: the document: is an array; want an object",
		head:                   "1:54: the document: the JSON text is incomplete",
		head + `} x`:           "1:55: the document: something follows the document",
		head + `,"openapi":1}`: `1:55: /openapi: another member has that name`,
		"{\n\"openapi\":3,\n \"info\":{\"title\":null}}":                                "2:11: /openapi: is a number; want a string\n3:9: /info: the member version is missing\n3:18: /info/title: is null; want a string",
		strings.Replace(head, "3.1.0", "2.0", 1) + "}":                                  `/openapi: is "2.0"; versions 3.0, 3.1 and 3.2 are read`,
		head + `,"paths":{"/a":[]},"tags":[{"name":1}, 2]}`:                             "/paths/~1a: is an array; want an object\n1:89: /tags/0/name: is a number; want a string\n1:93: /tags/1: is a number; want an object",
		head + `,"components":{"schemas":{"a":1,"b":{"required":"x"}}}}`:                "/components/schemas/a: is a number; want a schema: an object, true or false\n1:102: /components/schemas/b/required: is a string; want an array",
		head + `,"components":{"schemas":{"a":` + deep + `}}}`:                          "values are nested deeper than 100",
		head + `,"x-deep":` + strings.Repeat("[", 900) + strings.Repeat("]", 900) + `}`: "values are nested deeper than 100",
	} {
		_, err := contract.Read([]byte(text))
		if _, is := errors.AsType[contract.Faults](err); !is || !strings.Contains(err.Error(), want) {
			t.Errorf("%.200s:\n%v\nwant %s", text, err, want)
		}
	}
	bomb := "openapi: 3.1.0\ninfo: {title: T, version: '1'}\nx-0: &x0 [" + strings.Repeat("a,", 200) + "]\n"
	for i := range 8 {
		bomb += fmt.Sprintf("x-%d: &x%d [%s]\n", i+1, i+1, strings.Repeat(fmt.Sprintf("*x%d,", i), 9))
	}
	for text, want := range map[string]string{
		bomb: "more than ten times as large",
		"openapi: 3.1.0\ninfo:\n  title: [T]\n  version: 1\n": "3:10: /info/title: is an array; want a string\n4:12: /info/version: is a number; want a string",
		"openapi: 3.1.0\n---\na: 1":                           "more than one document",
		"a: b: c":                                             "mapping values are not allowed",
		"? [a]\n: b":                                          "a key is not a string",
		"openapi: 3.1.0\nx: .inf":                             ".inf is not a number in JSON",
		"a: &a [*a]":                                          "a",
	} {
		if _, err := yaml.Read([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.100s: %v, want %s", text, err, want)
		}
	}
}

// Schemas of OpenAPI 3.0 become those of draft 2020-12.
func TestThreeZero(t *testing.T) {
	for old, want := range map[string]string{
		`{"type":"string","nullable":true}`:                                                           `{"type":["string","null"]}`,
		`{"type":"string","nullable":true,"enum":["a"]}`:                                              `{"type":["string","null"],"enum":["a",null]}`,
		`{"type":"integer","minimum":1,"exclusiveMinimum":true,"maximum":9,"exclusiveMaximum":false}`: `{"type":"integer","exclusiveMinimum":1,"maximum":9}`,
		`{"properties":{"a":{"type":"number","example":1.50,"nullable":false}}}`:                      `{"properties":{"a":{"type":"number","examples":[1.50]}}}`,
		`{"type":"string","format":"binary"}`:                                                         `{"type":"string","contentMediaType":"application/octet-stream"}`,
		`{"$ref":"#/components/schemas/B","description":"has no meaning there"}`:                      `{"$ref":"#/components/schemas/B"}`,
		`{"allOf":[{"type":"string","nullable":true}],"additionalProperties":false}`:                  `{"allOf":[{"type":["string","null"]}],"additionalProperties":false}`,
	} {
		d, err := contract.Read([]byte(strings.Replace(head, "3.1.0", "3.0.3", 1) + `,"components":{"schemas":{"A":` + old + `}}}`))
		if err != nil {
			t.Fatal(err)
		}
		if s, _ := d.Components.Schemas.Get("A"); string(s.Text()) != want || d.Was() != "3.0.3" || d.OpenAPI != contract.Version {
			t.Errorf("%s: %s, want %s", old, s.Text(), want)
		}
	}
}

// References lead to parts of their type, by way of others, and never in a circle or out of the document.
func TestResolve(t *testing.T) {
	d, err := contract.Read([]byte(strings.Replace(head, "3.1.0", "3.0.3", 1) + `,"paths":{"/a/{b}":{"get":{"parameters":[{"name":"b","in":"path","required":true}],
		"responses":{"200":{"$ref":"#/components/responses/Again"}},"callbacks":{"done":{"{$request.query.to}":{"post":{"requestBody":{"content":{"a/b":{"schema":{"type":"string","nullable":true}}}}}}},"other":{"$ref":"#/components/callbacks/c"}}}}},
		"components":{"responses":{"Again":{"$ref":"#/components/responses/A~1B%25"},"A/B%":{"description":"found"},"X":{"$ref":"#/components/responses/Y"},"Y":{"$ref":"#/components/responses/X"}},
		"schemas":{"L":{"$anchor":"list","items":{"$ref":"#list"},"properties":{"a~b":{"type":"integer"}},"allOf":[true,{"type":"object"}]}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	said := func(part any, err error) string {
		switch part := part.(type) {
		case *contract.Response:
			if part != nil {
				return part.Description
			}
		case *contract.Schema:
			if part != nil {
				return string(part.Text())
			}
		case *contract.Parameter:
			if part != nil {
				return part.Name
			}
		}
		return fmt.Sprint(err)
	}
	response := func(ref string) string { return said(contract.Resolve[contract.Response](d, ref)) }
	schema := func(ref string) string { return said(contract.Resolve[contract.Schema](d, ref)) }
	for _, c := range []struct{ got, want string }{
		{response("#/paths/~1a~1%7Bb%7D/get/responses/200"), "found"},
		{response("#/components/responses/X"), "the reference #/components/responses/X leads in a circle"},
		{response("#/components/responses/Z"), "the reference #/components/responses/Z leads to nothing"},
		{response("#/components/schemas/L"), "the reference #/components/schemas/L leads to a part that is no response"},
		{response("other.json#/a"), "the reference other.json#/a leads into another document, which is not read"},
		{response("#/a%zz"), "the reference #/a%zz is not percent-encoded as a fragment is (RFC 6901, 6)"},
		{response("#weir"), "the reference #weir leads to nothing: no schema has that $anchor"},
		{said(contract.Resolve[contract.Parameter](d, "#/paths/~1a~1{b}/get/parameters/0")), "b"},
		{said(contract.Resolve[contract.Parameter](d, "#/paths/~1a~1{b}/get/parameters/00")), "the reference #/paths/~1a~1{b}/get/parameters/00 leads to nothing"},
		{schema("#/components/schemas/L/properties/a~0b"), `{"type":"integer"}`},
		{schema("#/components/schemas/L/allOf/1"), `{"type":"object"}`},
		{schema("#/components/schemas/L/allOf/2"), "the reference #/components/schemas/L/allOf/2 leads to nothing"},
		{schema("#list")[:17], `{"$anchor":"list"`},
		{schema("#/paths/~1a~1{b}/get/callbacks/done/{$request.query.to}/post/requestBody/content/a~1b/schema"), `{"type":["string","null"]}`},
	} {
		if c.got != c.want {
			t.Errorf("%s, want %s", c.got, c.want)
		}
	}
}

// Samples are what the schema itself shows, or made by its rules; there is none where nothing is accepted.
func TestSample(t *testing.T) {
	d, err := contract.Read([]byte(head + `,"components":{"schemas":{"Lock":{"type":"object","required":["name","next"],"properties":{"name":{"type":"string","pattern":"^[A-Z]{2}-[0-9]{4}$"},"next":{"anyOf":[{"type":"null"},{"$ref":"#/components/schemas/Lock"}]},"on":{"format":"date","type":"string"}}},
		"Endless":{"required":["next"],"type":"object","properties":{"next":{"$ref":"#/components/schemas/Endless"}}}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	for schema, want := range map[string]string{
		`{"$ref":"#/components/schemas/Lock"}`:                                                    `{"name":"AA-1111","next":null,"on":"2027-05-04"}`,
		`{"$ref":"#/components/schemas/Endless"}`:                                                 "",
		`{"type":"integer","minimum":9007199254740993,"multipleOf":2}`:                            "9007199254740994",
		`{"type":"integer","examples":[1.5,7]}`:                                                   "7",
		`{"type":"string","minLength":6,"maxLength":6}`:                                           `"textte"`,
		`{"type":"array","minItems":2,"uniqueItems":true,"items":{"enum":["a","b"]}}`:             `["a","b"]`,
		`{"allOf":[{"minimum":3},{"type":"integer","maximum":2}]}`:                                "",
		`{"oneOf":[{"type":"string","maxLength":3},{"type":"string","maxLength":9}]}`:             `"text"`,
		`{"type":"string","pattern":"^(?!x)"}`:                                                    "",
		`{"type":"object","minProperties":2,"additionalProperties":{"type":"boolean"}}`:           `{"other0":false,"other1":false}`,
		`{"if":{"type":"string"},"then":{"const":"on"},"else":false}`:                             `"on"`,
		`{"type":"array","contains":{"const":4},"minContains":2,"items":{"type":"integer"}}`:      "[4,4]",
		`{"type":"object","required":["a"],"properties":{"a":{"default":5}},"maxProperties":1.0}`: `{"a":5}`,
	} {
		if got, has := d.Values().Sample(contract.SchemaOf(jsontext.Value(schema))); string(got) != want || has != (want != "") {
			t.Errorf("%s: %s, want %s", schema, got, want)
		}
	}
}

// What a document loses in other versions is said, and what it can say is said there.
func TestAs(t *testing.T) {
	d, err := contract.Read([]byte(head + `,"webhooks":{"w":{}},"paths":{"/a":{"get":{"responses":{"200":{"description":"x","content":{"text/event-stream":{"schema":{"type":"string"},"x-wicketway-item":{"type":"integer"}}}}}},
		"x-wicketway-methods":{"LINK":{"operationId":"link"},"QUERY":{"operationId":"ask"},"*":{}}}},
		"components":{"schemas":{"A":{"type":["string","null"],"const":"a","exclusiveMinimum":1,"prefixItems":[true]},"B":{"$ref":"#/components/schemas/A","description":"d"},"C":false}}}`))
	if err != nil {
		t.Fatal(err)
	}
	for version, wants := range map[string][]string{
		"3.2": {`"itemSchema":{"type":"integer"}`, `"additionalOperations":{"LINK":{"operationId":"link"}}`, `"query":{"operationId":"ask"}`, `"x-wicketway-methods":{"*":{}}`, `"openapi":"3.2.0"`},
		"3.0": {`"A":{"nullable":true,"type":"string","enum":["a"],"minimum":1,"exclusiveMinimum":true}`, `"B":{"allOf":[{"$ref":"#/components/schemas/A"}],"description":"d"}`, `"C":{"not":{}}`, `"openapi":"3.0.4"`},
	} {
		as, lost, err := d.As(version)
		if err != nil {
			t.Fatal(err)
		}
		text := jsontext.Value(as.Text())
		text.Compact()
		for _, want := range wants {
			if !strings.Contains(string(text), want) {
				t.Errorf("%s lacks %s:\n%s", version, want, text)
			}
		}
		if want := map[string]string{"3.2": "[]", "3.0": "[/webhooks: 3.0 has no webhooks /components/schemas/A: the keyword prefixItems /paths/~1a: LINK is a method that 3.0 has no member for: its schemas are those of 3.1 /paths/~1a: QUERY is a method that 3.0 has no member for: its schemas are those of 3.1 /paths/~1a: * is a method that 3.0 has no member for: its schemas are those of 3.1]"}[version]; fmt.Sprint(lost) != want {
			t.Errorf("%s loses %v\nwant %s", version, lost, want)
		}
	}
	if _, _, err := d.As("2.0"); err == nil {
		t.Error("2.0 is written")
	}
}

// Values are held against schemas that refer to the components; nothing is fetched, and what cannot be held is named.
func TestValid(t *testing.T) {
	d, err := contract.Read([]byte(head + `,"components":{"schemas":{"Lock":{"type":"object","required":["name"],"properties":{"name":{"pattern":"^(?!x)"},"next":{"$ref":"#/components/schemas/Lock"}}},
		"Odd":{"$id":"https://canal.example/odd","$anchor":"here","type":"integer"},"Gate":{"$ref":"#here"}},"examples":{"e":{"value":{"$id":7,"$ref":"#/nowhere","$anchor":"here"}}}},"paths":{"/locks/{lock}":{"get":{"parameters":[{"name":"lock","in":"path","required":true,"schema":{"type":"boolean"}}]}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	v, err := valid.New(d)
	if err != nil {
		t.Fatal(err)
	}
	const lock = `{"$ref":"#/components/schemas/Lock"}`
	for _, c := range []struct{ schema, value, want string }{
		{lock, `{"name":"xbell"}`, ""},
		{lock, `{"next":{"next":{}}}`, "the document: missing property 'name'\n/next: missing property 'name'\n/next/next: missing property 'name'"},
		{`{"items":` + lock + `}`, `[{"name":"a"},{"a/b":1}]`, "/1: missing property 'name'"},
		{`{"$ref":"#/components/schemas/Odd"}`, `"x"`, "got string, want integer"},
		{`{"$ref":"https://canal.example/odd"}`, `"x"`, "got string, want integer"},
		{`{"$ref":"#here"}`, `"x"`, "got string, want integer"},
		{`{"$ref":"#nowhere"}`, `"x"`, "the schema cannot be used"},
		{`{"items":{"$ref":"#/components/schemas/Gate"}}`, `["x"]`, "/0: got string, want integer"},
		{`{"$ref":"#/paths/~1locks~1%7Block%7D/get/parameters/0/schema"}`, `"x"`, "got string, want boolean"},
		{`{"format":"date"}`, `"2027-02-30"`, "is not valid date"},
		{`{"maximum":9007199254740993}`, `9007199254740994`, "maximum"},
		{`false`, `1`, "false schema"},
		{`true`, `{`, "is not JSON"},
		{`{"$ref":"https://canal.example/lock.json"}`, `1`, "is not fetched"},
		{`{"$ref":"#/components/schemas/Weir"}`, `1`, "the schema cannot be used"},
		{`{"type":"lock"}`, `1`, "the schema cannot be used"},
	} {
		err := v.Check(contract.SchemaOf(jsontext.Value(c.schema)), []byte(c.value))
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s against %s: %v, want %s", c.value, c.schema, err, c.want)
		}
	}
	if got := v.Unheld(); !slices.Equal(got, []string{"^(?!x)"}) {
		t.Errorf("not held: %q", got)
	}
}

// FuzzRead: whatever is read can be written, and is the same again.
func FuzzRead(f *testing.F) {
	f.Add([]byte(head + `,"paths":{"/a":{"get":{"responses":{"200":{"description":"x"}}}}}}`))
	f.Add([]byte("openapi: 3.0.0\ninfo: {title: T, version: '1'}\ncomponents: {schemas: {a: {nullable: true, type: string}}}"))
	f.Fuzz(func(t *testing.T, text []byte) {
		d, err := yaml.Read(text)
		if err != nil {
			return
		}
		again, err := contract.Read(d.Text())
		if err != nil || !bytes.Equal(again.Text(), d.Text()) {
			t.Fatalf("%v\n%s", err, d.Text())
		}
	})
}

// described are the descriptions of all examples that are programs.
func described(t *testing.T) map[string]facts.API {
	all := map[string]facts.API{}
	canal, err := demo.Open(t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { canal.Close() })
	all["canal"] = canal.API.Describe()
	for _, name := range []string{"editions", "first"} {
		file := filepath.Join(t.TempDir(), "description.json")
		c := exec.Command("go", "run", "../examples/"+name)
		c.Env = append(os.Environ(), "WICKETWAY_DESCRIBE="+file)
		said, _ := c.CombinedOutput() // it ends as a server ends
		text, err := os.ReadFile(file)
		var d facts.API
		if err == nil {
			err = json.Unmarshal(text, &d)
		}
		if err != nil {
			t.Fatalf("%v\n%s", err, said)
		}
		all[name] = d
	}
	return all
}

// official is a schema of the OpenAPI Initiative.
func official(t *testing.T, version string) *jsonschema.Schema {
	t.Helper()
	text, err := os.ReadFile("testdata/openapi-" + version + ".json")
	if err != nil {
		t.Fatal(err)
	}
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	c := jsonschema.NewCompiler()
	if err == nil {
		err = c.AddResource("openapi.json", schema)
	}
	if err != nil {
		t.Fatal(err)
	}
	return c.MustCompile("openapi.json")
}

// The documents of all examples are OpenAPI 3.1, by the official schema and by what that does not see; they are the same
// each time, and survive a round trip.
func TestMadeDocuments(t *testing.T) {
	held := official(t, "3.1")
	for name, api := range described(t) {
		versions := []string{""}
		for _, r := range api.Routes {
			if !slices.Contains(versions, r.Version) {
				versions = append(versions, r.Version)
			}
		}
		for _, version := range versions {
			d, err := contract.Of(api, version)
			if version == "" && err != nil {
				continue // all its routes are in versions
			}
			if err != nil {
				t.Fatal(err)
			}
			text := d.Text()
			value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
			if err == nil {
				err = held.Validate(value)
			}
			if err != nil {
				t.Errorf("%s %s: %v", name, version, err)
			}
			again, err := contract.Of(api, version)
			if err != nil || !bytes.Equal(again.Text(), text) {
				t.Errorf("%s %s is another one the second time", name, version)
			}
			if read, err := contract.Read(text); err != nil || !bytes.Equal(read.Text(), text) {
				t.Errorf("%s %s: %v", name, version, err)
			}
			if shown := sound(t, name+" "+version, d); name == "canal" && version == "v2" && shown < 8 {
				t.Errorf("the canal shows %d examples", shown)
			}
			for _, other := range []string{"3.0", "3.2"} {
				as, _, err := d.As(other)
				if err != nil {
					t.Fatal(err)
				}
				value, err := jsonschema.UnmarshalJSON(bytes.NewReader(as.Text()))
				if err == nil {
					err = official(t, other).Validate(value)
				}
				if err != nil {
					t.Errorf("%s %s as %s: %v", name, version, other, err)
				}
			}
		}
	}
	if _, err := contract.Of(described(t)["canal"], "v9"); err == nil || err.Error() != `version "v9" does not exist; available: v1, v2` {
		t.Error(err)
	}
}

// The demo's contract is in docs, for readers of the repository, as it is.
func TestTheDemosContractIsInDocs(t *testing.T) {
	if strconv.IntSize < 64 {
		t.Skip("an int has another format here")
	}
	d, err := contract.Of(described(t)["canal"], "v2")
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile("../docs/canal.v2.json")
	if err != nil || !bytes.Equal(text, d.Text()) {
		t.Errorf("docs/canal.v2.json is out of date (%v): go run ./cmd/wicketway contract ./examples/canal --version v2 --out docs/canal.v2.json", err)
	}
}

// A change of one route changes only its own lines, and types of one name are told apart by their packages.
func TestChangesStayWhereTheyAre(t *testing.T) {
	api := described(t)["canal"]
	before, err := contract.Of(api, "v2")
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(api.Routes, func(r facts.Route) bool { return r.Name == "passages.book" && r.Version == "v2" })
	api.Routes[i].Summary = "Book a slot"
	api.Routes[i].Raises = slices.DeleteFunc(slices.Clone(api.Routes[i].Raises), func(p facts.Problem) bool { return p.Code == "no-vessel" })
	after, err := contract.Of(api, "v2")
	if err != nil {
		t.Fatal(err)
	}
	var changed []string
	a, b := strings.Split(string(before.Text()), "\n"), strings.Split(string(after.Text()), "\n")
	for _, line := range a {
		if !slices.Contains(b, line) {
			changed = append(changed, strings.TrimSpace(line))
		}
	}
	for _, line := range changed {
		if !strings.Contains(line, "no-vessel") && !strings.Contains(line, "Book a passage") && !strings.Contains(line, "The caller has no vessel") && !strings.Contains(line, "kein Schiff") {
			t.Errorf("the change of a route changed %s", line)
		}
	}
	for _, want := range []string{`"name": "locks",`, `"description": "Locks and their levels"`, `"operationId": "passages.find",`, `"description": "Its address is in the field Location."`} {
		if !slices.ContainsFunc(a, func(line string) bool { return strings.TrimSpace(line) == want }) {
			t.Errorf("the contract lacks %s", want)
		}
	}
	if len(changed) < 3 {
		t.Errorf("only %v changed", changed)
	}
}

// sound holds what the official schema does not see: names of operations, parameters of paths, equal templates,
// references, and examples.
func sound(t *testing.T, name string, d *contract.Document) (shown int) {
	t.Helper()
	holder, err := valid.New(d)
	if err != nil {
		t.Fatal(err)
	}
	ids, shapes := map[string]bool{}, map[string]bool{}
	for path, item := range d.Paths.All() {
		shape := strings.Join(strings.FieldsFunc(path, func(r rune) bool { return r == '{' || r == '}' }), "|")
		if strings.Contains(path, "{+") || shapes[path] || shape == "" {
			t.Errorf("%s: the path %s", name, path)
		}
		shapes[path] = true
		for _, method := range []string{"GET", "PUT", "POST", "DELETE", "OPTIONS", "HEAD", "PATCH", "TRACE"} {
			o := *item.Operation(method)
			if o == nil {
				continue
			}
			if ids[o.ID] || o.ID == "" || o.Responses.Len() == 0 {
				t.Errorf("%s: %s %s is called %q, which another one is", name, method, path, o.ID)
			}
			ids[o.ID] = true
			var inPath []string
			for _, p := range o.Parameters {
				if p.In == "path" {
					inPath = append(inPath, "{"+p.Name+"}")
				}
			}
			for _, one := range inPath {
				if !strings.Contains(path, one) {
					t.Errorf("%s: %s %s has no parameter %s", name, method, path, one)
				}
			}
			if n := strings.Count(path, "{"); n != len(inPath) {
				t.Errorf("%s: %s %s declares %v", name, method, path, inPath)
			}
		}
	}
	holds := func(what string, s contract.Schema, examples contract.Map[*contract.Example]) {
		for name, e := range examples.All() {
			if e.Ref != "" {
				continue
			}
			shown++
			if err := holder.Check(s, e.Value); err != nil {
				t.Errorf("%s: the example %s of %s: %v", name, name, what, err)
			}
		}
	}
	for path, item := range d.Paths.All() {
		for method, o := range item.Operations() {
			for _, p := range o.Parameters {
				holds(method+" "+path+" "+p.Name, p.Schema, p.Examples)
			}
			if o.RequestBody != nil {
				for media, c := range o.RequestBody.Content.All() {
					holds(method+" "+path+" "+media, c.Schema, c.Examples)
				}
			}
			for status, r := range o.Responses.All() {
				for media, c := range r.Content.All() {
					holds(method+" "+path+" "+status+" "+media, c.Schema, c.Examples)
				}
			}
		}
	}
	for code, e := range d.Components.Examples.All() {
		s, has := d.Components.Schemas.Get(code)
		if err := holder.Check(s, e.Value); !has || err != nil {
			t.Errorf("%s: the example %s: %v", name, code, err)
		}
	}
	for _, piece := range strings.Split(string(d.Text()), `"$ref": "`)[1:] {
		reference, _, _ := strings.Cut(piece, `"`)
		if _, err := jsontextAt(d.Text(), strings.TrimPrefix(reference, "#")); err != nil || !strings.HasPrefix(reference, "#/components/") {
			t.Errorf("%s: the reference %s leads nowhere", name, reference)
		}
	}
	return shown
}

// jsontextAt is the value at a pointer.
func jsontextAt(text jsontext.Value, pointer string) (any, error) {
	var v any
	if err := json.Unmarshal(text, &v); err != nil {
		return nil, err
	}
	for token := range jsontext.Pointer(pointer).Tokens() {
		m, is := v.(map[string]any)
		if !is || m[token] == nil {
			return nil, fmt.Errorf("%s is not there", token)
		}
		v = m[token]
	}
	return v, nil
}
