package probe_test

import (
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/internal/probe"
)

// A contract of anybody's: a base, a key, forms, names that differ, statuses as classes, a schema that refers to itself.
const weirs = `
openapi: 3.1.0
info: {title: Weirs, version: '1'}
servers: [{url: /w/1}]
security: [{key: []}]
paths:
  /weirs:
    get: {operationId: list, parameters: [{name: size, in: query, schema: {type: integer, minimum: 1, maximum: 3}}], responses: {2XX: {description: x, content: {application/json: {schema: {type: object, properties: {weirs: {type: array, items: {$ref: '#/components/schemas/Weir'}}}}}}}}}
    post: {operationId: make, requestBody: {content: {application/x-www-form-urlencoded: {schema: {type: object, required: [name], properties: {name: {type: string, maxLength: 9}}}}}}, responses: {201: {description: x}, 4XX: {description: x}}}
  /weirs/{weirId}:
    parameters: [{name: weirId, in: path, required: true, schema: {type: string}}]
    get: {operationId: find, responses: {200: {description: x, headers: {ETag: {required: true, schema: {type: string}}}, content: {application/json: {schema: {$ref: '#/components/schemas/Weir'}}}}, 304: {description: x}, 404: {description: x}}}
    patch: {operationId: change, requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/Weir'}}}}, responses: {200: {description: x}, 409: {description: x}, 412: {description: x}, 422: {description: x}}}
    delete: {operationId: drop, responses: {204: {description: x}, 404: {description: x}}}
  /weirs/{weirId}/photo:
    put:
      operationId: photo
      parameters: [{name: weirId, in: path, required: true, schema: {type: string}}]
      requestBody: {content: {multipart/form-data: {schema: {type: object, properties: {file: {type: string, contentMediaType: image/png}}}}}}
      responses: {204: {description: x}, default: {description: x}}
  '/odd/{a}-{b}.(x)[':
    get: {parameters: [{name: a, in: path, required: true, schema: {}}, {name: b, in: path, required: true, schema: {type: string}}, {name: q, in: query, content: {application/json: {}}}], responses: {200: {description: x}}}
components:
  securitySchemes: {key: {type: apiKey, in: header, name: Key}}
  schemas:
    Weir: {type: object, required: [id], properties: {id: {type: integer, minimum: 1}, name: {type: string}, below: {$ref: '#/components/schemas/Weir'}, gates: {type: array, maxItems: 2, items: {enum: [1, 2]}}}}
`

// An API that keeps that contract, but for what is said to be broken.
func keepsWeirs(broken string) http.Handler {
	methods := map[int]string{1: "GET POST", 2: "GET PATCH DELETE", 3: "PUT"}
	names := map[string]string{"1": "old", "2": "new"}
	return http.StripPrefix("/w/1", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := strings.TrimPrefix(r.URL.Path, "/weirs/")
		answer := func(status int, body string) {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(status)
			if r.Method != "HEAD" {
				io.WriteString(w, body)
			}
		}
		name, has := names[id]
		body, _ := io.ReadAll(r.Body)
		switch {
		case r.Header.Get("Key") != "k" && broken != "guard":
			w.Header().Set("WWW-Authenticate", "Key")
			answer(401, "")
		case r.Method != "HEAD" && !strings.Contains(methods[strings.Count(r.URL.Path, "/")], r.Method):
			w.Header().Set("Allow", "GET")
			answer(405, "")
		case strings.HasPrefix(r.URL.Path, "/odd/"):
			answer(200, "")
		case r.URL.Path == "/weirs" && r.Method == "POST":
			if r.Header.Get("Content-Type") != "application/x-www-form-urlencoded" || len(body) < 6 || len(body) > 14 && broken != "rule" {
				answer(400, "")
				return
			}
			names["3"] = "made"
			w.Header().Set("Location", "weirs/3")
			if broken == "location" {
				w.Header().Set("Location", "/w/1/weirs/9")
			}
			answer(201, "")
		case r.URL.Path == "/weirs":
			answer(200, `{"weirs":[{"id":1},{"id":2}]}`)
		case strings.HasSuffix(id, "/photo"):
			answer(204, "")
		case !has && r.Method == "PATCH":
			answer(422, "")
		case !has:
			answer(404, "")
		case r.Method == "DELETE":
			delete(names, id)
			answer(204, "")
		case r.Method == "PATCH":
			answer(422, "")
		default:
			if broken != "field" {
				w.Header().Set("ETag", `"1"`)
			}
			if r.Header.Get("If-None-Match") == `"1"` {
				w.WriteHeader(304)
				return
			}
			if broken == "schema" {
				id = "0"
			}
			answer(200, `{"id":`+id+`,"name":"`+name+`"}`)
		}
	}))
}

func TestContractsOfOthers(t *testing.T) {
	d, err := yaml.Read([]byte(weirs))
	if err != nil {
		t.Fatal(err)
	}
	for broken, want := range map[string]string{
		"":         "",
		"guard":    "no credentials",
		"rule":     "the member /name breaks maxLength (9)",
		"location": "what POST has created is not at Location /w/1/weirs/9",
		"field":    "no header field ETag, which the contract requires",
		"schema":   "the body: /id: minimum: got 0, want 1",
	} {
		server := httptest.NewServer(keepsWeirs(broken))
		to, err := url.Parse(server.URL)
		if err != nil {
			t.Fatal(err)
		}
		send, done := probe.Address(to)
		report, err := probe.Run(t.Context(), probe.Settings{Document: d, Base: "/w/1", Send: send, Tokens: []string{"k"}, Draws: 20, Address: server.URL,
			Only: []string{"list", "make", "find", "drop", "photo"}})
		done()
		server.Close()
		if err != nil {
			t.Errorf("%s: %v", broken, err)
		}
		found := ""
		for _, f := range report.Findings {
			found += f.String() + "\n"
		}
		if want == "" && found != "" || !strings.Contains(found, want) {
			t.Errorf("%s: want %q, found\n%s", broken, want, found)
		}
		for _, tried := range report.Tried {
			if tried.Skipped != "" {
				t.Errorf("%s: %s: %s", broken, tried.Operation, tried.Skipped)
			}
		}
	}
}

// Whatever an API answers, a run comes to its end, and sends no more than what it was asked for.
func FuzzAnswers(f *testing.F) {
	d, err := yaml.Read([]byte(weirs))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(uint64(1), "{\"weirs\":[{\"id\":\"..\"},{\"id\":null}]}", "</weirs?size=1>; rel=next, <//elsewhere>; rel=\"next\"")
	f.Add(uint64(2), "[[[[", "/w/1/weirs/%zz")
	f.Add(uint64(3), `{"id":1e999,"name":"\u0000"}`, "Retry-After: 99999999999999999999")
	f.Fuzz(func(t *testing.T, seed uint64, body, field string) {
		random, sent := rand.New(rand.NewPCG(seed, 1)), 0
		h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			sent++
			for _, name := range []string{"Link", "Location", "ETag", "Retry-After", "Last-Modified", "Content-Type", "Allow"} {
				switch random.IntN(4) {
				case 0:
					w.Header().Set(name, field)
				case 1:
					w.Header().Set(name, "application/json")
				}
			}
			if random.IntN(9) == 0 {
				panic(http.ErrAbortHandler)
			}
			w.WriteHeader([]int{200, 200, 201, 204, 206, 301, 304, 400, 401, 403, 404, 409, 412, 422, 429, 500, 503}[random.IntN(17)])
			io.WriteString(w, body)
		})
		if _, err := probe.Run(t.Context(), probe.Settings{Document: d, Send: probe.Handler(h), Tokens: []string{"k", body}, Other: field, Seed: seed, Draws: 2}); err != nil && sent == 0 {
			t.Fatal(err)
		}
		if sent > 40_000 {
			t.Errorf("%d requests", sent)
		}
	})
}
