package requests_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/contract/yaml"
)

// A contract of anybody's: other codes, other statuses, other ways to be known.
const canal = `
openapi: 3.1.0
info: {title: Canal, version: '1'}
security: [{key: []}]
paths:
  /locks/{lock}:
    parameters:
      - {name: lock, in: path, required: true, schema: {type: string}, examples: {bell: {value: bell}}}
      - {name: trace, in: header, required: true, schema: {type: string, minLength: 2, maxLength: 3}}
    get:
      security: [{}]
      parameters: [{name: depth, in: query, schema: {type: integer, minimum: 1}}]
      responses: {'200': {description: x}, '400': {description: x}}
    put:
      requestBody:
        content:
          application/json:
            schema: {$ref: '#/components/schemas/Lock'}
            example: {name: "it's", chamber: {length: 3}}
      responses: {'204': {description: x}, '401': {description: x}, '422': {description: x, content: {application/problem+json: {schema: {properties: {code: {const: wrong}}, required: [code], type: object}}}}}
  /endless:
    post:
      security: []
      requestBody: {content: {application/json: {schema: {type: integer, minimum: 2, maximum: 1}}}}
      responses: {'200': {description: x}}
components:
  securitySchemes: {key: {type: apiKey, in: header, name: Canal-Key}}
  schemas:
    Lock:
      type: object
      required: [name]
      additionalProperties: false
      properties: {name: {type: string}, chamber: {type: object, properties: {length: {type: number, maximum: 9}}}}
`

func TestRequests(t *testing.T) {
	d, err := yaml.Read([]byte(canal))
	if err != nil {
		t.Fatal(err)
	}
	m := requests.Of(d)
	for _, c := range []struct{ method, path, good, wrong string }{
		{"GET", "/locks/{lock}", `curl -s http://a/locks/bell -H 'trace: te'`, `
405: the method PATCH, which the path does not have: curl -s -X PATCH http://a/locks/bell -H 'trace: te'
400: header trace is left out: curl -s http://a/locks/bell
400: header trace breaks maxLength (3): curl -s http://a/locks/bell -H 'trace: text'
400: query depth breaks minimum (1): curl -s 'http://a/locks/bell?depth=0' -H 'trace: te'
400: query depth is of another type (integer): curl -s 'http://a/locks/bell?depth=text' -H 'trace: te'`},
		{"PUT", "/locks/{lock}", `curl -s -X PUT http://a/locks/bell -H "Canal-Key: $WICKETWAY_TOKEN" -H 'trace: te' -H 'Content-Type: application/json' -d '{"name":"it'\''s","chamber":{"length":3}}'`, `
405: the method PATCH, which the path does not have: curl -s -X PATCH http://a/locks/bell -H "Canal-Key: $WICKETWAY_TOKEN" -H 'trace: te' -H 'Content-Type: application/json' -d '{"name":"it'\''s","chamber":{"length":3}}'
401: no credentials: curl -s -X PUT http://a/locks/bell -H 'trace: te' -H 'Content-Type: application/json' -d '{"name":"it'\''s","chamber":{"length":3}}'
401: malformed credentials: curl -s -X PUT http://a/locks/bell -H 'Canal-Key: none' -H 'trace: te' -H 'Content-Type: application/json' -d '{"name":"it'\''s","chamber":{"length":3}}'
422 wrong: a body that is not JSON: curl -s -X PUT http://a/locks/bell -H "Canal-Key: $WICKETWAY_TOKEN" -H 'trace: te' -H 'Content-Type: application/json' -d '{'
422 wrong: header trace is left out: curl -s -X PUT http://a/locks/bell -H "Canal-Key: $WICKETWAY_TOKEN" -H 'Content-Type: application/json' -d '{"name":"it'\''s","chamber":{"length":3}}'
`},
		{"POST", "/endless", "error: no body for POST /endless can be made by its schema", ""},
		{"DELETE", "/locks/{lock}", "error: the contract has no operation DELETE /locks/{lock}", ""},
		{"GET", "/weirs", "error: the contract has no path /weirs", ""},
	} {
		good, err := m.Good(c.method, c.path)
		got := good.Line("http://a")
		if err != nil {
			got = "error: " + err.Error()
		}
		if got != c.good {
			t.Errorf("%s %s: %s\nwant %s", c.method, c.path, got, c.good)
		}
		all, err := m.Wrong(c.method, c.path)
		if (err != nil) != strings.HasPrefix(c.good, "error") {
			t.Errorf("%s %s: %v", c.method, c.path, err)
		}
		var lines strings.Builder
		for _, r := range all {
			fmt.Fprintf(&lines, "\n%s: %s: %s", strings.TrimSpace(fmt.Sprint(r.Status, " ", r.Code)), r.Wrong, r.Line("http://a"))
		}
		if !strings.HasPrefix(lines.String(), strings.TrimRight(c.wrong, "\n")) {
			t.Errorf("%s %s: %s\nwant %s", c.method, c.path, lines.String(), c.wrong)
		}
		for _, want := range []string{"the member /name is left out", "the member /chamber/length breaks maximum (9)", "the member /unknown0 is not known"} {
			if c.method == "PUT" && !strings.Contains(lines.String(), want) {
				t.Errorf("%s is not tried:%s", want, lines.String())
			}
		}
	}
}
