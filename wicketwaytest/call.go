// Package wicketwaytest has what a program's own tests need: [Call] calls a route by its
// function, without a socket, and [Middleware] holds a middleware to its duties.
package wicketwaytest

import (
	"context"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
)

// Call calls a route by the function that serves it, through the chain and the guard, and
// without a socket. The input is written as a request, and the answer is read back: as the
// function's output, or as the problem that was sent instead. For a kind that the API
// declares errors.Is holds. An output that is a Reply has the status and the header fields
// that were sent.
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
	for _, change := range changes {
		change(r)
	}
	method, template := r.Method, r.Pattern
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	resp := w.Result()
	var out Out
	if resp.StatusCode >= 400 {
		p, err := problem.Read(resp, api.Kinds()...)
		if err != nil {
			t.Fatalf("Call: %s %s: %v", r.Method, r.URL, err)
		}
		return out, p
	}
	if err := read(reflect.ValueOf(&out).Elem(), resp, w.Body.Bytes(), envelopeOf(api, method, template)); err != nil {
		t.Fatalf("Call: %s %s: the answer %d %.200q is no %T: %v", r.Method, r.URL, resp.StatusCode, w.Body, out, err)
	}
	return out, nil
}

// Bearer is a change for [Call]: it sends a bearer token (RFC 6750).
func Bearer(token string) func(*http.Request) { return Header("Authorization", "Bearer "+token) }

// Header is a change for [Call]: it sets a header field.
func Header(name, value string) func(*http.Request) {
	return func(r *http.Request) { r.Header.Set(name, value) }
}

func envelopeOf(api *wicketway.API, method, template string) string {
	for _, f := range api.Routes() {
		if f.Method == method && f.Path == template {
			return f.Envelope
		}
	}
	return ""
}

// read fills an output from an answer.
func read(out reflect.Value, resp *http.Response, body []byte, envelope string) error {
	if out.Kind() == reflect.Pointer && isReply(out.Type().Elem()) {
		out.Set(reflect.New(out.Type().Elem()))
		out = out.Elem()
	}
	if isReply(out.Type()) {
		out.FieldByName("Status").SetInt(int64(resp.StatusCode))
		out.FieldByName("Header").Set(reflect.ValueOf(resp.Header))
		out = out.FieldByName("Value")
	}
	if out.Type() == reflect.TypeFor[wicketway.None]() || resp.StatusCode == http.StatusNotModified {
		return nil
	}
	if envelope != "" {
		var members map[string]jsontext.Value
		if err := json.Unmarshal(body, &members); err != nil {
			return err
		}
		body = members[envelope]
	}
	return json.Unmarshal(body, out.Addr().Interface())
}

func isReply(t reflect.Type) bool {
	return t.PkgPath() == reflect.TypeFor[wicketway.API]().PkgPath() && strings.HasPrefix(t.Name(), "Reply[")
}
