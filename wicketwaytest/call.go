// Package wicketwaytest supports the tests of programs: [Call] calls a route by its
// function, without a socket, [Middleware] holds a middleware to its duties, and [Adapts] the two ways
// of an adapter against each other. [Honest] holds answers against the contract, [Frozen] a version against
// the contract that it was released with, and [Matches] an API against one that was written first. [Probe] drives an API by
// its contract, and holds all that it answers against that; [Answers] sends one request.
package wicketwaytest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/advice"
	"github.com/wicketway/wicketway/problem"
)

// Call calls a route by the function that serves it, through the chain and the guard, and
// without a socket. The input is written as a request, and the answer is read back: as the
// function's output, or as the problem that was sent instead. For a kind that the API
// declares errors.Is holds. An output that is a Reply has the status and the header fields
// that were sent, a Created its Location but no At, and a Stream ends in an error where it was
// cut off.
//
//	got, problem := wicketwaytest.Call(t, api, desk.find, onePassage{61}, wicketwaytest.Bearer(token))
//
// Each of changes can change the request first. What cannot be called, and an answer that
// is neither an output nor a problem, fails the test at once.
func Call[In, Out any](t testing.TB, api *wicketway.API, function func(context.Context, In) (Out, error), in In,
	changes ...func(*http.Request)) (Out, *problem.Problem) {
	t.Helper()
	r, err := api.NewRequest(t.Context(), function, in)
	if err != nil {
		t.Fatalf("Call: %v", err)
	}
	envelope := envelopeOf(api, r)
	for _, change := range changes {
		change(r)
	}
	w := httptest.NewRecorder()
	broke := serve(api, w, r)
	resp := w.Result()
	var out Out
	if resp.StatusCode >= 400 {
		p, err := problem.Read(resp, api.Kinds()...)
		if err != nil {
			t.Fatalf("Call: %s %s: %v", r.Method, r.URL, err)
		}
		return out, p
	}
	a := answer{resp, w.Body.Bytes(), envelope, broke}
	if err := a.fill(reflect.ValueOf(&out).Elem()); err != nil {
		t.Fatalf("Call: %s %s: the answer %d %.200q is no %T: %v", r.Method, r.URL, resp.StatusCode, w.Body, out, err)
	}
	return out, nil
}

// serve reports whether the answer broke off, so that a server would have cut the connection.
func serve(api *wicketway.API, w http.ResponseWriter, r *http.Request) (broke bool) {
	defer func() {
		if v := recover(); v == http.ErrAbortHandler {
			broke = true
		} else if v != nil {
			panic(v)
		}
	}()
	api.ServeHTTP(w, r)
	return false
}

// Bearer is a change for [Call]: it sends a bearer token (RFC 6750).
func Bearer(token string) func(*http.Request) { return Header("Authorization", "Bearer "+token) }

// Header is a change for [Call]: it sets a header field.
func Header(name, value string) func(*http.Request) {
	return func(r *http.Request) { r.Header.Set(name, value) }
}

// Advised is a change for [Call]: advice of Wicketway about the request, in an API in development, fails the
// test. That is a kind of problem that the route does not declare, an output that breaks the rules of its
// type, conditions that were not held, and a middleware that neither answers nor goes on. For other requests
// it can be called by itself.
func Advised(t testing.TB) func(*http.Request) {
	return func(r *http.Request) {
		*r = *r.WithContext(advice.To(r.Context(), func(text string) {
			t.Helper()
			t.Error(text)
		}))
	}
}

// envelopeOf is that of the route that a request is for. Where versions share their paths it is the
// one that the header names.
func envelopeOf(api *wicketway.API, r *http.Request) string {
	for _, f := range api.Routes() {
		if f.Method == r.Method && f.Path == r.Pattern && isNamed(f, r.Header) {
			return f.Envelope
		}
	}
	return ""
}

// isNamed reports whether the header of a request names the version of a route, if that is how it is
// chosen.
func isNamed(f facts.Route, h http.Header) bool {
	switch {
	case f.Chosen == nil || f.Chosen.Field == "":
		return true
	case f.Chosen.Field == "Accept":
		return strings.HasSuffix(h.Get("Accept"), ";version="+f.Version)
	}
	return h.Get(f.Chosen.Field) == f.Version
}

// An answer is what was sent.
type answer struct {
	*http.Response
	body     []byte
	envelope string
	broke    bool
}

var errBroke = errors.New("the answer broke off")

// fill fills an output.
func (a answer) fill(out reflect.Value) error {
	if out.Kind() == reflect.Pointer && isOutput(out.Type().Elem()) {
		out.Set(reflect.New(out.Type().Elem()))
		out = out.Elem()
	}
	set := func(name string, value any) {
		if f := out.FieldByName(name); f.IsValid() {
			f.Set(reflect.ValueOf(value))
		}
	}
	name, _, _ := strings.Cut(out.Type().Name(), "[")
	switch {
	case out.Kind() == reflect.Func && out.Type().NumIn() == 1:
		return a.stream(out)
	case !isOutput(out.Type()):
	case name == "Reply" || name == "Created" || name == "RedirectBy":
		set("Status", a.StatusCode)
		set("Header", a.Header)
		set("Location", a.Header.Get("Location"))
		if out = out.FieldByName("Value"); !out.IsValid() {
			return nil
		}
		return a.fill(out)
	case name == "Redirect":
		set("Status", a.StatusCode)
		set("Path", a.Header.Get("Location"))
		set("Elsewhere", !strings.HasPrefix(a.Header.Get("Location"), "/"))
		return nil
	case name == "Content":
		set("Type", a.Header.Get("Content-Type"))
		set("Size", int64(len(a.body)))
		set("Tag", a.Header.Get("Etag"))
		out.FieldByName("Body").Set(reflect.ValueOf(bytes.NewReader(a.body)))
		return a.whole()
	}
	if out.Type() == reflect.TypeFor[wicketway.None]() || len(a.body) == 0 &&
		slices.Contains([]int{http.StatusNoContent, http.StatusResetContent, http.StatusNotModified}, a.StatusCode) {
		return a.whole()
	}
	body := a.body
	for name := range jsontext.Pointer(a.envelope).Tokens() {
		var members map[string]jsontext.Value
		if err := json.Unmarshal(body, &members); err != nil {
			return err
		}
		body = members[name]
	}
	return errors.Join(json.Unmarshal(body, out.Addr().Interface()), a.whole())
}

func (a answer) whole() error {
	if a.broke {
		return errBroke
	}
	return nil
}

// stream makes a Stream of what was sent as a JSON array. One that broke off ends in an error.
func (a answer) stream(out reflect.Value) error {
	yield := out.Type().In(0)
	var items []reflect.Value
	from := jsontext.NewDecoder(bytes.NewReader(a.body))
	for from.PeekKind() == '{' && a.envelope != "" && from.StackDepth() == 0 {
		from.ReadToken()
		from.ReadToken()
	}
	if token, err := from.ReadToken(); err != nil || token.Kind() != '[' {
		return fmt.Errorf("it is not an array: %v", err)
	}
	for from.PeekKind() != ']' && from.PeekKind() != 0 {
		item := reflect.New(yield.In(0))
		if err := json.UnmarshalDecode(from, item.Interface()); err != nil {
			return err
		}
		items = append(items, item.Elem())
	}
	out.Set(reflect.MakeFunc(out.Type(), func(args []reflect.Value) []reflect.Value {
		none := reflect.Zero(yield.In(1))
		for _, item := range items {
			if !args[0].Call([]reflect.Value{item, none})[0].Bool() {
				return nil
			}
		}
		if a.broke {
			args[0].Call([]reflect.Value{reflect.Zero(yield.In(0)), reflect.ValueOf(errBroke)})
		}
		return nil
	}))
	return nil
}

// isOutput reports whether a type is an output of package wicketway.
func isOutput(t reflect.Type) bool { return t.PkgPath() == reflect.TypeFor[wicketway.API]().PkgPath() }
