package generate_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/client/generate"
	"github.com/wicketway/wicketway/contract/yaml"
)

const head = "openapi: 3.1.0\ninfo: {title: \"T\", version: '1'}\n"

// Documents of others, each with what is awkward in its own way; and what is in the Go of it.
var documents = map[string]struct {
	text string
	want []string
}{
	"keywords and predeclared names": {head + `
paths:
  /func/{type}: {get: {operationId: func, parameters: [{name: type, in: path, required: true, schema: {type: string}}, {name: range, in: query, schema: {type: integer}}, {name: Type, in: query, schema: {type: boolean}}], responses: {204: {description: x}}}}
  /string: {get: {operationId: string, responses: {200: {description: x, content: {application/json: {schema: {$ref: '#/components/schemas/error'}}}}}}}
  /context: {post: {operationId: context, requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/client'}}}}, responses: {204: {description: x}}}}
components: {schemas: {error: {type: object, properties: {len: {type: string}, nil: {type: integer}}}, client: {type: object, properties: {New: {type: string}}}, Client: {type: object, properties: {a: {$ref: '#/components/schemas/error'}}}}}
`, []string{"func (c *Client) Func(", "func (c *Client) String(", "type Error struct", "type Client2 struct"}},
	"names that collide": {head + `
paths:
  /a-b: {get: {operationId: get-it, responses: {204: {description: x}}}, put: {operationId: getIt, responses: {204: {description: x}}}, post: {operationId: get_it, responses: {204: {description: x}}}}
  /new: {get: {operationId: new, responses: {204: {description: x}}}, put: {operationId: kinds, responses: {204: {description: x}}}}
  /e: {get: {operationId: e, responses: {200: {description: x, content: {application/json: {schema: {type: object, properties: {a-b: {type: string}, a_b: {type: string}, aB: {enum: [x, X, '', '+', '-'], type: string}}}}}}}}}
`, []string{"GetIt(", "GetIt2(", "GetIt3(", "func (c *Client) New2("}},
	"no operationId, and other scripts": {head + `
paths:
  /locks/{id}: {get: {parameters: [{name: id, in: path, required: true, schema: {type: integer}}], responses: {204: {description: x}}}, delete: {operationId: '', parameters: [{name: id, in: path, required: true, schema: {type: integer}}], responses: {204: {description: x}}}}
  /schleuse: {get: {operationId: öffnen, responses: {200: {description: x, content: {application/json: {schema: {type: object, properties: {größe: {type: number}, 闸门: {type: string}, name: {type: string}}}}}}}}, put: {operationId: 打开, responses: {204: {description: x}}}, post: {operationId: '123', responses: {204: {description: x}}}, patch: {operationId: '!', responses: {204: {description: x}}}}
`, []string{"GetLocksID(", "DeleteLocksID(", "Öffnen(", "X打开(", "X123("}},
	"types that contain themselves": {head + `
paths:
  /tree: {put: {operationId: tree, requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Tree'}}}}, responses: {200: {description: x, content: {application/json: {schema: {$ref: '#/components/schemas/Forest'}}}}}}}
components: {schemas: {Tree: {type: object, properties: {left: {$ref: '#/components/schemas/Tree'}, all: {type: array, items: {$ref: '#/components/schemas/Tree'}}, by: {type: object, additionalProperties: {$ref: '#/components/schemas/Tree'}}, other: {$ref: '#/components/schemas/Other'}}}, Other: {type: object, required: [tree], properties: {tree: {$ref: '#/components/schemas/Tree'}}}, Forest: {type: array, items: {$ref: '#/components/schemas/Tree'}}, Loop: {$ref: '#/components/schemas/Pool'}, Pool: {$ref: '#/components/schemas/Loop'}}}
`, []string{"Left", "[]Tree", "map[string]Tree"}},
	"references to references": {head + `
paths:
  /a: {$ref: '#/components/pathItems/A'}
  /gone: {get: {operationId: gone, parameters: [{$ref: '#/components/parameters/Nothing'}], requestBody: {$ref: '#/nowhere'}, responses: {200: {$ref: '#/components/responses/Two'}, 404: {$ref: '#/components/responses/Nothing'}}}}
components:
  pathItems: {A: {$ref: '#/components/pathItems/B'}, B: {post: {operationId: chain, parameters: [{$ref: '#/components/parameters/One'}], requestBody: {$ref: '#/components/requestBodies/One'}, responses: {200: {$ref: '#/components/responses/One'}}}}}
  parameters: {One: {$ref: '#/components/parameters/Two'}, Two: {name: q, in: query, schema: {$ref: '#/components/schemas/One'}}}
  requestBodies: {One: {$ref: '#/components/requestBodies/Two'}, Two: {content: {application/json: {schema: {$ref: '#/components/schemas/One'}}}}}
  responses: {One: {$ref: '#/components/responses/Two'}, Two: {description: x, content: {application/json: {schema: {$ref: '#/components/schemas/One'}}}}}
  schemas: {One: {$ref: '#/components/schemas/Two'}, Two: {type: string, enum: [up, down]}}
`, []string{"func (c *Client) Chain(", "type Two string"}},
	"parameters in all styles": {head + `
paths:
  /p/{a}/{b}/{c}:
    get:
      operationId: styles
      parameters:
        - {name: a, in: path, required: true, style: label, schema: {type: array, items: {type: string}}}
        - {name: b, in: path, required: true, style: matrix, explode: true, schema: {type: object, properties: {x: {type: integer}}}}
        - {name: d, in: query, style: deepObject, schema: {type: object, additionalProperties: {type: string}}}
        - {name: e, in: query, style: pipeDelimited, explode: false, schema: {type: array, items: {type: integer}}}
        - {name: f, in: query, schema: {type: array, items: {type: integer, maximum: 3}, maxItems: 2}}
        - {name: 'g[]', in: query, schema: {type: array, items: {type: string}}}
        - {name: h, in: cookie, schema: {type: string}}
        - {name: i, in: header, schema: {type: string, format: date-time}}
        - {name: j, in: query, content: {application/json: {schema: {type: object}}}}
        - {name: 'k "l"', in: query, schema: {type: string}}
        - {name: m, in: query, schema: {type: string, format: uuid, nullable: true}}
        - {name: Authorization, in: header, schema: {type: string}}
      responses: {200: {description: x, content: {text/plain: {schema: {type: string}}}}}
`, []string{"[]int64", `from:"query g[]"`, `from:"path c"`, "uuid.UUID", "(*client.Content, error)"}},
	"several servers and security": {head + `
servers: [{url: 'https://{region}.canal.example/v1', variables: {region: {default: north, enum: [north]}}, description: The north}, {url: 'https://south.canal.example'}, {url: /relative}]
security: [{key: []}, {}]
paths:
  /open: {get: {operationId: open, security: [], responses: {204: {description: x}}}, put: {operationId: closed, security: [{key: []}], responses: {204: {description: x}}}}
components: {securitySchemes: {key: {type: apiKey, in: header, name: K}}}
`, []string{`Address = "https://north.canal.example/v1"`, "Address2 ", `"/open").Open()`}},
	"unions": {head + `
paths:
  /work: {post: {operationId: work, requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/Work'}}}}, responses: {200: {description: x, content: {application/json: {schema: {oneOf: [{type: string}, {type: integer}, {$ref: '#/components/schemas/Repair'}]}}}}}}}
components: {schemas: {Work: {oneOf: [{$ref: '#/components/schemas/Repair'}, {$ref: '#/components/schemas/Dredging'}], discriminator: {propertyName: kind, mapping: {repair: '#/components/schemas/Repair'}}}, Repair: {type: object, required: [kind], properties: {kind: {type: string}, gate: {type: string}}}, Dredging: {type: object, required: [kind], properties: {kind: {type: string}, tons: {type: number}, next: {$ref: '#/components/schemas/Work'}}}, Deep: {anyOf: [{type: 'null'}, {not: {type: string}}]}}}
`, []string{"type WorkValue interface", `case "repair"`, `case "Dredging"`, ") AsString() (v string, err error)", ") AsRepair() ("}},
	"bodies of all kinds": {head + `
paths:
  /b:
    put: {operationId: form, requestBody: {content: {application/x-www-form-urlencoded: {schema: {type: object, required: [name], properties: {name: {type: string, maxLength: 9}, tags: {type: array, items: {type: string}}}}}}}, responses: {204: {description: x}}}
    post: {operationId: upload, requestBody: {content: {multipart/form-data: {schema: {type: object, properties: {title: {type: string}, photo: {type: string, format: binary}, more: {type: array, items: {type: string, contentMediaType: image/png}}}}}}}, responses: {201: {description: x, headers: {Location: {schema: {type: string}}}}}}
    patch: {operationId: patch, requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/P'}}, application/merge-patch+json: {schema: {$ref: '#/components/schemas/P'}}}}, responses: {200: {description: x, headers: {ETag: {schema: {type: string}}}, content: {application/vnd.canal+json: {schema: {$ref: '#/components/schemas/P'}}}}}}
    delete: {operationId: raw, requestBody: {content: {image/png: {}}}, responses: {303: {description: x}}}
    get: {operationId: body, requestBody: {content: {application/json: {}}}, responses: {307: {description: x}}}
  /s:
    post: {operationId: stream, requestBody: {content: {application/x-ndjson: {x-wicketway-item: {type: integer}}}}, responses: {200: {description: x, content: {text/event-stream: {x-wicketway-item: {$ref: '#/components/schemas/P'}}}}}}
components: {schemas: {P: {type: object, required: [a], properties: {a: {type: string}, n: {type: [string, 'null']}, o: {type: object, properties: {x: {type: integer}}}}}}}
`, []string{"schema.Optional[", "[]client.File", "client.Answer[client.None]", "iter.Seq2[int64, error]", "iter.Seq2[P, error]", "client.Answer[P]"}},
	"schemas that say much": {head + `
paths:
  /s: {post: {operationId: s, requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/S'}}}}, responses: {200: {description: "a\nb", content: {application/json: {schema: {type: object, additionalProperties: {type: array, items: {type: object, additionalProperties: true}}}}}}, 409: {description: taken, content: {application/problem+json: {schema: {type: object, properties: {code: {const: slot-taken}, title: {const: 'The "slot"'}}}}}}, 418: {description: x, content: {text/html: {}}}}}}
components: {schemas: {S: {type: object, description: "several\nlines */ and more", required: [missing, date], properties: {date: {type: string, format: date}, at: {type: string, format: date-time, pattern: x}, bytes: {type: string, contentEncoding: base64}, p: {type: string, pattern: '^(?!a)', description: 'a "note" with a tick` + "`" + `'}, q: {type: string, pattern: "^[^'\"]$"}, c: {const: 7}, e: {enum: [1, two, null]}, t: {type: [string, integer]}, pre: {prefixItems: [{type: string}]}, tup: {type: array, uniqueItems: true, items: {type: array, items: {type: integer}}}, all: {allOf: [{type: object, properties: {x: {type: integer}}}, {type: object, properties: {x: {type: string}}}]}, never: false, any: {}, if: {if: {type: string}, then: {minLength: 1}}, deep: {type: object, properties: {deep: {type: object, properties: {deep: {type: object, properties: {deep: {type: boolean, readOnly: true, deprecated: true}}}}}}}}}}}
`, []string{"ErrSlotTaken", `"The \"slot\""`, "schema.Date", "[]byte"}},
	"an older document": {`{"openapi":"3.0.3","info":{"title":"Old","version":"1"},"paths":{"/a/{b}":{"parameters":[{"name":"b","in":"path","required":true,"schema":{"type":"integer","minimum":1,"exclusiveMinimum":true}}],"get":{"parameters":[{"name":"b","in":"path","required":true,"schema":{"type":"string"}}],"responses":{"2XX":{"description":"x","content":{"*/*":{"schema":{"type":"string","nullable":true}}}}}},"trace":{"responses":{"200":{"description":"x"}}},"options":{"responses":{"200":{"description":"x"}}},"head":{"responses":{"200":{"description":"x"}}}}}}`,
		[]string{"GetAB(", "HeadAB(", "OptionsAB("}},
}

// Each client compiles, is the same each time, and has what it should have.
func TestClientsOfOthers(t *testing.T) {
	dir, err := os.MkdirTemp(".", "made-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	n := 0
	for name, c := range documents {
		d, err := yaml.Read([]byte(c.text))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		one, err := generate.Go(d, "api")
		again, _ := generate.Go(d, "api")
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		n++
		all := ""
		for file, text := range one.Files {
			into := filepath.Join(dir, fmt.Sprint("api", n))
			os.MkdirAll(into, 0o755)
			if err := os.WriteFile(filepath.Join(into, file), text, 0o644); err != nil {
				t.Fatal(err)
			}
			if all += string(text); !bytes.Equal(text, again.Files[file]) {
				t.Errorf("%s: %s is another one the second time", name, file)
			}
		}
		for _, want := range c.want {
			if !strings.Contains(strings.Join(strings.Fields(all), " "), strings.Join(strings.Fields(want), " ")) {
				t.Errorf("%s: there is no %s in\n%s", name, want, all)
			}
		}
	}
	said, err := exec.Command("go", "vet", "./"+dir+"/...").CombinedOutput()
	if err != nil {
		t.Errorf("%v\n%s", err, said)
	}
}
