package wicketway_test

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
)

type shownIn struct {
	Lock string `from:"path lock" rule:"maxLength=5"`
	Body struct {
		Level int `json:"level" rule:"maximum=9"`
	} `from:"body"`
}

type shownOut struct {
	Level int `json:"level" rule:"maximum=9"`
}

var errShown = problem.Define(http.StatusConflict, "shown", "It is shown")

// Examples are held against the rules of their route when the API is built.
func TestExample(t *testing.T) {
	set := func(context.Context, shownIn) (shownOut, error) { return shownOut{}, nil }
	at := func(lock string, level int) shownIn {
		in := shownIn{Lock: lock}
		in.Body.Level = level
		return in
	}
	for _, c := range []struct {
		what wicketway.Part
		want string
	}{
		{wicketway.Route("PUT /{lock}", set, wicketway.Example("good", at("bell", 9), shownOut{9}), wicketway.Example("empty", at("bell", 0), nil), wicketway.Example("full", at("bell", 1), errShown.New("x")), wicketway.Fails(errShown)), ""},
		{wicketway.Route("PUT /{lock}", set, wicketway.Example("bad", at("beller", 10), shownOut{9})), `Example: PUT /{lock}: the input of "bad" breaks rules: path lock must have at most 5 characters; body /level must be at most 9`},
		{wicketway.Route("PUT /{lock}", set, wicketway.Example("bad", at("bell", 9), shownOut{10})), `the output of "bad" breaks rules: /level must be at most 9`},
		{wicketway.Route("PUT /{lock}", set, wicketway.Example("bad", shownOut{}, nil)), `the input of "bad" is wicketway_test.shownOut, and the route reads wicketway_test.shownIn`},
		{wicketway.Route("PUT /{lock}", set, wicketway.Example("bad", nil, "x")), `the output of "bad" is string, and the route answers with wicketway_test.shownOut`},
		{wicketway.Route("PUT /{lock}", set, wicketway.Example("bad", nil, errShown.New("x"))), `the output of "bad" is a problem of the kind shown, which the route does not raise: add it to Fails`},
		{wicketway.Route("PUT /{lock}", set, wicketway.Example("bad", nil, nil)), `Example: "bad" shows neither an input nor an output`},
		{wicketway.Route("PUT /{lock}", set, wicketway.Example(" ", at("bell", 1), nil)), `Example: " " is no name: say in a few words what it shows`},
		{wicketway.Route("PUT /{lock}", set, wicketway.Example("a", at("bell", 1), nil), wicketway.Example("a", at("bell", 1), nil)), `another example is called "a"`},
		{wicketway.Handle("GET /x", http.NotFoundHandler(), wicketway.Example("a", nil, "x")), "the route is served by a plain handler"},
		{wicketway.Group(wicketway.Example("a", nil, "x"), wicketway.Route("PUT /{lock}", set)), "Example"},
	} {
		api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"}, c.what)
		if c.want != "" {
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v, want %s", err, c.want)
			}
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		d, err := api.Contract("")
		if err != nil {
			t.Fatal(err)
		}
		text := strings.NewReplacer("\n", "", " ", "").Replace(string(d.Text()))
		for _, want := range []string{
			`"name":"lock","in":"path","required":true,"schema":{"maxLength":5,"type":"string"},"examples":{"good":{"summary":"good","value":"bell"},"empty":`,
			`"good":{"summary":"good","value":{"level":9}},"empty":{"summary":"empty","value":{"level":0}},"full":{"summary":"full","value":{"level":1}}`,
			`"200":{"description":"OK","content":{"application/json":{"schema":{"$ref":"#/components/schemas/shownOut"},"examples":{"good":{"summary":"good","value":{"level":9}}}}}}`,
		} {
			if !strings.Contains(text, want) {
				t.Errorf("the contract lacks %s:\n%s", want, d.Text())
			}
		}
	}
}
