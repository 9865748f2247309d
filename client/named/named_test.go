package named_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/wicketway/wicketway/client"
	"github.com/wicketway/wicketway/client/named"
	"github.com/wicketway/wicketway/problem"
)

const canal = `{"openapi":"3.1.0","info":{"title":"Canal","version":"1"},"servers":[{"url":"/v1"}],"security":[{"bearer":[]}],"paths":{
"/locks/{lock}":{"parameters":[{"name":"lock","in":"path","required":true,"schema":{"type":"string","pattern":"^[a-z. ]+$"}}],
 "get":{"operationId":"locks.find","parameters":[{"name":"tag","in":"query","schema":{"type":"array","items":{"type":"string"}}},{"name":"Depth","in":"header","schema":{"type":"integer","maximum":9}},{"name":"seen","in":"cookie","schema":{"type":"boolean"}}],"responses":{"200":{"description":"x"}}},
 "patch":{"operationId":"locks.change","requestBody":{"content":{"application/json":{"schema":{"type":"string"}},"application/merge-patch+json":{"schema":{"$ref":"#/components/schemas/Patch"}}}},"responses":{"200":{"description":"x"}}},
 "put":{"security":[],"requestBody":{"content":{"multipart/form-data":{"schema":{"type":"object"}}}},"responses":{"200":{"description":"x"}}}},
"/%s":{"post":{"operationId":"later","requestBody":{"required":true,"content":{"application/x-www-form-urlencoded":{"schema":{"type":"object","required":["a"],"properties":{"a":{"type":"integer"}}}}}},"responses":{"200":{"description":"x"}}}}},
"components":{"securitySchemes":{"bearer":{"type":"http","scheme":"bearer"}},"schemas":{"Patch":{"type":"object","additionalProperties":false,"properties":{"crew":{"type":["integer","null"],"minimum":1},"name":{"type":"string"}}}}}}`

// What is sent for values, by name, and what is refused before.
func TestCallsByName(t *testing.T) {
	var tag atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		switch {
		case r.URL.Path == "/.well-known/api-catalog":
			fmt.Fprintf(w, `{"linkset":[{"anchor":"/v1","service-desc":[{"href":"/openapi.json"}]}]}`)
		case r.URL.Path == "/openapi.json":
			now := fmt.Sprintf(`"%d"`, tag.Load())
			if w.Header().Set("ETag", now); r.Header.Get("If-None-Match") == now {
				w.WriteHeader(304)
				return
			}
			fmt.Fprintf(w, canal, []string{"later", "moved"}[tag.Load()])
		case r.URL.Path == "/v1/locks/nowhere":
			w.Header().Set("Content-Type", problem.MediaType)
			w.WriteHeader(404)
			io.WriteString(w, `{"code":"no-such-lock","title":"x","status":404}`)
		case strings.HasPrefix(r.URL.Path, "/v1/"):
			media, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";")
			json.NewEncoder(w).Encode(fmt.Sprint(r.Method, " ", r.RequestURI, " ", r.Header.Get("Depth"), r.Header.Get("Cookie"), r.Header.Get("Authorization"), " ", media, " ", strings.ReplaceAll(string(body), "\r\n", " ")))
		default:
			w.WriteHeader(404)
		}
	}))
	defer server.Close()
	api, err := named.Open(t.Context(), server.URL, client.Settings{Credentials: client.Key("Authorization", "K")})
	if err != nil {
		t.Fatal(err)
	}
	if all := api.Operations(); len(all) != 4 || all[0].Name != "locks.find" || all[1].Name != "PUT /locks/{lock}" || !all[1].Public {
		t.Errorf("%+v", all)
	}
	for _, c := range []struct {
		name   string
		values map[string]any
		want   string // what was sent; or the faults
	}{
		{"locks.find", map[string]any{"lock": "bell .", "tag": []string{"a b", "c"}, "Depth": 7, "seen": true}, "GET /v1/locks/bell%20.?tag=a+b&tag=c 7seen=trueK  "},
		{"GET /locks/{lock}", map[string]any{"lock": ".."}, "GET /v1/locks/%2E%2E K  "},
		{"locks.change", map[string]any{"lock": "bell", "crew": nil, "name": "x"}, `PATCH /v1/locks/bell K application/merge-patch+json {"crew":null,"name":"x"}`},
		{"locks.change", map[string]any{"lock": "bell", "body": map[string]int{"crew": 2}}, `PATCH /v1/locks/bell K application/merge-patch+json {"crew":2}`},
		{"locks.change", map[string]any{"lock": "bell"}, `PATCH /v1/locks/bell K  `},
		{"PUT /locks/{lock}", map[string]any{"lock": "bell", "photo": client.File{Name: "a.png", Type: "image/png", Body: strings.NewReader("bytes")}, "n": 3}, `name="photo"; filename="a.png" Content-Type: image/png  bytes`},
		{"later", map[string]any{"a": 3}, "POST /v1/later K application/x-www-form-urlencoded a=3"},
		{"locks.find", map[string]any{"lock": "BELL", "Depth": 12}, "header Depth, path lock"},
		{"locks.find", map[string]any{"length": 3}, "path lock, body length"},
		{"locks.change", map[string]any{"lock": "bell", "crew": 0, "nam": "x"}, "body , body /crew"},
		{"later", map[string]any{}, "body "},
		{"locks.fin", nil, "did you mean locks.find?"},
		{"locks.find", map[string]any{"lock": "nowhere"}, "no-such-lock"},
		{"locks.find", map[string]any{"lock": func() {}}, "no JSON value"},
	} {
		var got string
		err := api.Call(t.Context(), c.name, c.values, &got)
		if p := problem.In(err); p != nil && errors.Is(err, problem.Invalid) {
			var places []string
			for _, item := range p.Items() {
				place := item.In + " " + item.Name
				if item.Pointer != nil {
					place += *item.Pointer
				}
				places = append(places, place)
			}
			got = strings.Join(places, ", ")
		} else if err != nil {
			got = err.Error()
		}
		if got != c.want && !strings.Contains(got, c.want) || c.want == "" {
			t.Errorf("%s %v: %q, want %q", c.name, c.values, got, c.want)
		}
	}
	loose, err := named.Open(t.Context(), server.URL+"/openapi.json", client.Settings{Unchecked: true})
	var got string
	if err != nil || loose.Call(t.Context(), "locks.find", map[string]any{"lock": "BELL"}, &got) != nil || !strings.HasPrefix(got, "GET /v1/locks/BELL") {
		t.Errorf("unchecked: %v %q", err, got)
	}
	tag.Store(1)
	if err := api.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := api.Call(t.Context(), "later", map[string]any{"a": 1}, &got); err != nil || !strings.HasPrefix(got, "POST /v1/moved") {
		t.Errorf("a contract that has changed: %v %q", err, got)
	}
	file := filepath.Join(t.TempDir(), "c.json")
	os.WriteFile(file, []byte(strings.Replace(fmt.Sprintf(canal, "later"), `"/v1"`, `"`+server.URL+`/v1"`, 1)), 0o600)
	if of, err := named.Open(t.Context(), file, client.Settings{}); err != nil || of.Call(t.Context(), "locks.find", map[string]any{"lock": "bell"}, nil) != nil {
		t.Errorf("by a file: %v", err)
	}
	for _, from := range []string{"/nowhere.json", server.URL + "/nothing/here", "http://127.0.0.1:1", "ftp://canal.example"} {
		if from != server.URL+"/nothing/here" { // which the catalog leads on from
			if _, err := named.Open(t.Context(), from, client.Settings{}); err == nil {
				t.Errorf("%s opens", from)
			}
		}
	}
}
