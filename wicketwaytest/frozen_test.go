package wicketwaytest_test

import (
	"context"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/wicketwaytest"
)

type chamber struct {
	Length int64  `json:"length" rule:"maximum=40"`
	Name   string `json:"name"`
}

type shorter struct {
	Length int64 `json:"length" rule:"maximum=30"`
}

func measure[Out any](context.Context, wicketway.None) (out Out, err error) { return out, nil }

func resize[In any](context.Context, struct {
	Body In `from:"body"`
}) (wicketway.None, error) {
	return wicketway.None{}, nil
}

func canal(t *testing.T, parts ...wicketway.Part) *wicketway.API {
	t.Helper()
	api, err := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"}, append(parts, wicketway.Log(slog.New(slog.DiscardHandler)))...)
	if err != nil {
		t.Fatal(err)
	}
	return api
}

func v1(parts ...wicketway.Part) wicketway.Part { return wicketway.Version("v1", parts...) }

// A frozen version fails the test where clients break, and may go when its time is over.
func TestFrozen(t *testing.T) {
	file := filepath.Join(t.TempDir(), "testdata", "v1.contract.json")
	other := v1(wicketway.Route("GET /weirs", measure[chamber], wicketway.Name("weirs")))
	get := wicketway.Route("GET /chamber", measure[chamber], wicketway.Name("chamber"))
	put := wicketway.Route("PUT /chamber", resize[chamber], wicketway.Name("resize"))
	past := wicketway.Retirement{Deprecated: time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC), Sunset: time.Date(2021, 1, 1, 0, 0, 0, 0, time.UTC)}
	freeze := func(api *wicketway.API) {
		t.Setenv("WICKETWAY_FREEZE", "1")
		wicketwaytest.Frozen(t, api, "v1", file)
		t.Setenv("WICKETWAY_FREEZE", "")
	}
	for _, c := range []struct {
		name          string
		before, after []wicketway.Part
		want          []string
	}{
		{"the same", []wicketway.Part{v1(get, put)}, []wicketway.Part{v1(put, get)}, nil},
		{"more", []wicketway.Part{v1(get)}, []wicketway.Part{v1(get, put)}, nil},
		{"a narrower rule", []wicketway.Part{v1(get, put)}, []wicketway.Part{v1(get, wicketway.Route("PUT /chamber", resize[shorter], wicketway.Name("resize")))},
			[]string{`version "v1": breaking: PUT /v1/chamber: The body (application/json): the member name is gone. For example: {"length":1,"name":"text"}`, `maximum went from 40 to 30. For example: `}},
		{"a member that vanished", []wicketway.Part{v1(get)}, []wicketway.Part{v1(wicketway.Route("GET /chamber", measure[shorter], wicketway.Name("chamber")))},
			[]string{"GET /v1/chamber: The answer 200 (application/json): the member name is gone."}},
		{"a route that is gone", []wicketway.Part{v1(get, put)}, []wicketway.Part{v1(get)}, []string{"PUT /v1/chamber: The operation is gone."}},
		{"a route that has ended", []wicketway.Part{v1(get, wicketway.Group(past, put))}, []wicketway.Part{v1(get)}, nil},
		{"a version that is gone", []wicketway.Part{v1(get), wicketway.Version("v2", get)}, []wicketway.Part{wicketway.Version("v2", get)},
			[]string{`version "v1" does not exist; available: v2, and has not ended: GET /v1/chamber`}},
		{"a version that has ended", []wicketway.Part{wicketway.Version("v1", past, get), wicketway.Version("v2", get)}, []wicketway.Part{wicketway.Version("v2", get)}, nil},
		{"another guard", []wicketway.Part{other}, []wicketway.Part{v1(wicketway.Route("GET /weirs", measure[chamber], wicketway.Name("weirs"), wicketway.Fails(problem.NotFound)))}, nil},
	} {
		freeze(canal(t, c.before...))
		told := &hearing{TB: t}
		wicketwaytest.Frozen(told, canal(t, c.after...), "v1", file)
		if said := strings.Join(told.said, "\n"); len(told.said) != len(c.want) {
			t.Errorf("%s: said is\n%s\nwant %d", c.name, said, len(c.want))
		} else {
			for _, want := range c.want {
				if !strings.Contains(said, want) {
					t.Errorf("%s: said is\n%s\nwant %s", c.name, said, want)
				}
			}
		}
	}
}

// An implementation is held against a contract that was written first.
func TestMatches(t *testing.T) {
	file := filepath.Join(t.TempDir(), "contract.yaml")
	const wanted = `
openapi: 3.0.3
info: {title: Canal, version: '1'}
paths:
  /chamber:
    get:
      responses:
        '200':
          description: The chamber
          content:
            application/json:
              schema: {$ref: '#/components/schemas/Chamber'}
    put:
      requestBody:
        required: true
        content:
          application/json:
            schema: {allOf: [{$ref: '#/components/schemas/Chamber'}], additionalProperties: false, properties: {length: {}, name: {}}}
      responses:
        '204': {description: Done}
        '409':
          description: Dry
          content:
            application/problem+json:
              schema: {type: object, required: [code], properties: {code: {type: string, enum: [dry]}}}
components:
  schemas:
    Chamber: {type: object, required: [length, name], properties: {length: {type: integer, maximum: 40}, name: {type: string}}}
`
	if err := os.WriteFile(file, []byte(wanted), 0o644); err != nil {
		t.Fatal(err)
	}
	type full struct {
		Length int64  `json:"length" rule:"required maximum=40"`
		Name   string `json:"name" rule:"required"`
	}
	get := wicketway.Route("GET /chamber", measure[chamber])
	put := wicketway.Route("PUT /chamber", resize[full], wicketway.Fails(errDry))
	for _, c := range []struct {
		name  string
		parts []wicketway.Part
		want  []string
	}{
		{"all of it", []wicketway.Part{get, put}, nil},
		{"in a version", []wicketway.Part{wicketway.Version("v1", wicketway.Route("GET /x", measure[chamber])), get, put}, nil},
		{"more", []wicketway.Part{wicketway.Route("GET /x", measure[chamber]), get, put}, []string{"Canal has more: GET /x: The operation is new"}},
		{"missing", []wicketway.Part{get}, []string{"Canal differs: breaking: PUT /chamber: The operation is gone"}},
		{"another body", []wicketway.Part{get, wicketway.Route("PUT /chamber", resize[shorter])}, []string{"maximum went from 40 to 30", "the member name is gone"}},
		{"another answer", []wicketway.Part{put, wicketway.Handle("GET /chamber", http.NotFoundHandler(), wicketway.Describes[wicketway.None, shorter]())}, []string{"the member name is gone"}},
	} {
		told := &hearing{TB: t}
		wicketwaytest.Matches(told, canal(t, c.parts...), file)
		said := strings.Join(told.said, "\n")
		for _, want := range c.want {
			if !strings.Contains(said, want) {
				t.Errorf("%s: said is\n%s\nwant %s", c.name, said, want)
			}
		}
		if len(c.want) != len(told.said) {
			t.Errorf("%s: said is\n%s\nwant %q", c.name, said, c.want)
		}
	}
}
