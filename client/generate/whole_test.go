package generate_test

// whole has every construct of OpenAPI 3.1, in the order of its sections (4.8).
const whole = `
openapi: 3.1.1
info: {title: Whole, summary: s, description: "d *md*", termsOfService: https://a.example, contact: {name: n, url: https://a.example, email: a@a.example}, license: {name: MIT, identifier: MIT}, version: '1'}
jsonSchemaDialect: https://spec.openapis.org/oas/3.1/dialect/base
servers: [{url: 'https://{host}:{port}/v1', description: d, variables: {host: {default: a.example, description: d}, port: {enum: ['443'], default: '443'}}}]
paths:
  /items/{id}:
    summary: s
    description: d
    servers: [{url: https://b.example}]
    parameters: [{$ref: '#/components/parameters/Id'}]
    get: {tags: [t], summary: s, description: d, externalDocs: {url: https://a.example}, operationId: getItem, parameters: [{name: a, in: query, description: d, deprecated: true, allowEmptyValue: true, style: spaceDelimited, explode: false, allowReserved: true, schema: {type: array, items: {type: string}}, example: [x]}, {name: h, in: header, style: simple, schema: {type: string}, examples: {one: {$ref: '#/components/examples/One'}}}], responses: {200: {$ref: '#/components/responses/Ok'}, 409: {description: d, content: {application/problem+json: {schema: {$ref: '#/components/schemas/Problem'}}}}, 4XX: {description: d}, default: {description: d}}, deprecated: true, security: [{key: [], basic: []}, {flows: [read]}, {}], servers: [{url: https://c.example}]}
    put: {requestBody: {$ref: '#/components/requestBodies/Item'}, responses: {204: {description: d}}, callbacks: {onEvent: {'{$request.body#/url}': {post: {requestBody: {content: {application/json: {}}}, responses: {200: {description: d}}}}}, again: {$ref: '#/components/callbacks/Again'}}}
    post: {requestBody: {required: true, content: {multipart/form-data: {schema: {type: object, properties: {meta: {type: object, properties: {a: {type: integer}}}, file: {type: string, contentMediaType: image/png, contentEncoding: binary}}}, encoding: {meta: {contentType: application/json, headers: {X: {schema: {type: string}}}, style: form, explode: true, allowReserved: false}}}}}, responses: {201: {description: d, headers: {Location: {required: true, schema: {type: string}}, Other: {$ref: '#/components/headers/Count'}}, links: {self: {operationId: getItem, parameters: {id: $response.body#/id}, requestBody: x, description: d, server: {url: https://a.example}}, other: {$ref: '#/components/links/Self'}}, content: {application/json: {schema: {$ref: '#/components/schemas/Item'}, examples: {a: {summary: s, description: d, value: {id: 1}}, b: {externalValue: https://a.example/x}}}}}}}
    delete: {responses: {204: {description: d}}}
    options: {responses: {204: {description: d}}}
    head: {responses: {200: {description: d}}}
    patch: {requestBody: {content: {application/merge-patch+json: {schema: {$ref: '#/components/schemas/Item'}}}}, responses: {200: {description: d, content: {application/json: {schema: {$ref: '#/components/schemas/Item'}}}}}}
    trace: {responses: {200: {description: d}}}
  /shared: {$ref: '#/components/pathItems/Shared'}
webhooks: {changed: {post: {requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/Item'}}}}, responses: {200: {description: d}}}}}
components:
  schemas:
    Problem: {type: object, properties: {code: {const: broken}, title: {const: It is broken}}}
    Item:
      $comment: c
      title: t
      description: d
      type: object
      externalDocs: {url: https://a.example}
      xml: {name: item, namespace: https://a.example, prefix: p, attribute: false, wrapped: true}
      required: [id]
      minProperties: 1
      maxProperties: 99
      properties:
        id: {type: integer, format: int64, minimum: 1, maximum: 9, exclusiveMinimum: 0, exclusiveMaximum: 10, multipleOf: 1, readOnly: true}
        text: {type: string, minLength: 1, maxLength: 9, pattern: '^a', default: a, examples: [a, ab]}
        secret: {type: string, format: password, writeOnly: true}
        kind: {$ref: '#/components/schemas/Kind'}
        any: {$ref: '#/components/schemas/Any'}
        nothing: {type: 'null'}
        maybe: {type: [string, 'null'], deprecated: true}
        list: {type: array, minItems: 1, maxItems: 9, uniqueItems: true, items: {type: string}}
        tuple: {type: array, prefixItems: [{type: string}, {type: integer}], items: false}
        has: {type: array, contains: {type: integer}, minContains: 1, maxContains: 3}
        un: {type: array, unevaluatedItems: false}
        map: {type: object, additionalProperties: {type: integer}}
        names: {type: object, propertyNames: {pattern: '^a'}}
        pat: {type: object, patternProperties: {'^x-': {type: string}}}
        dep: {type: object, dependentRequired: {a: [b]}, dependentSchemas: {a: {required: [c]}}, unevaluatedProperties: false}
        cond: {if: {type: string}, then: {minLength: 1}, else: {type: integer}}
        not: {not: {type: string}}
        c: {const: {a: 1}}
        e: {enum: [1, a, null, true]}
        embedded: {type: string, contentMediaType: application/json, contentEncoding: base64, contentSchema: {type: object}}
        times: {type: object, properties: {a: {type: string, format: date-time}, b: {type: string, format: date}, c: {type: string, format: time}, d: {type: string, format: duration}, e: {type: string, format: uuid}, f: {type: string, format: email}, g: {type: string, format: uri}, h: {type: number, format: float}, i: {type: integer, format: int32}}}
        anchored: {$anchor: here, type: string}
        to: {$ref: '#here'}
        dyn: {$dynamicRef: '#node'}
      $defs: {inner: {$dynamicAnchor: node, type: string}}
    Kind: {type: string, enum: [one, two]}
    Any: {anyOf: [{$ref: '#/components/schemas/Item'}, {$ref: '#/components/schemas/Other'}], discriminator: {propertyName: kind, mapping: {o: Other}}}
    Other: {allOf: [{$ref: '#/components/schemas/Base'}, {type: object, properties: {more: {type: boolean}}}]}
    Base: {type: object, properties: {kind: {type: string}}}
    True: true
  responses: {Ok: {description: d, headers: {ETag: {schema: {type: string}}, Link: {schema: {type: string}}}, content: {application/json: {schema: {type: array, items: {$ref: '#/components/schemas/Item'}}}, text/csv: {}}}}
  parameters: {Id: {name: id, in: path, required: true, schema: {type: integer}}}
  examples: {One: {value: x}}
  requestBodies: {Item: {description: d, required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Item'}}, application/xml: {schema: {$ref: '#/components/schemas/Item'}}}}}
  headers: {Count: {description: d, schema: {type: integer}, example: 1}}
  securitySchemes: {key: {type: apiKey, in: header, name: K}, cookie: {type: apiKey, in: cookie, name: k}, query: {type: apiKey, in: query, name: k}, basic: {type: http, scheme: basic}, bearer: {type: http, scheme: bearer, bearerFormat: JWT}, tls: {type: mutualTLS}, oidc: {type: openIdConnect, openIdConnectUrl: https://a.example}, flows: {type: oauth2, flows: {implicit: {authorizationUrl: https://a.example, scopes: {read: r}}, password: {tokenUrl: https://a.example, refreshUrl: https://a.example, scopes: {}}, clientCredentials: {tokenUrl: https://a.example, scopes: {}}, authorizationCode: {authorizationUrl: https://a.example, tokenUrl: https://a.example, scopes: {}}}}}
  links: {Self: {operationRef: '#/paths/~1items~1{id}/get'}}
  callbacks: {Again: {'{$url}': {post: {responses: {200: {description: d}}}}}}
  pathItems: {Shared: {get: {operationId: shared, responses: {200: {description: d, content: {text/plain: {schema: {type: string}}}}}}}}
security: [{bearer: []}]
tags: [{name: t, description: d, externalDocs: {description: d, url: https://a.example}}]
externalDocs: {url: https://a.example, description: d}
x-own: {a: 1}
`

func init() {
	documents["every construct"] = struct {
		text string
		want []string
	}{whole, []string{"func (c *Client) GetItem(", "GetItemAll(", "func (c *Client) Shared(", "type Kind string", "ErrBroken", "Deprecated: the contract says so", "schema.Optional[", "uuid.UUID", "client.Answer[Item]", "client.File"}}
}
