package handbook

import (
	"bytes"
	"mime"
	"mime/multipart"
	"net/url"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
)

// A trial is what the form of an operation is made of.
type trial struct {
	Page     string            `json:"page"`
	Method   string            `json:"method"`
	Path     string            `json:"path"`
	Inputs   []parameter       `json:"inputs"`
	Bodies   []body            `json:"bodies"`
	Accepts  []string          `json:"accepts"`
	Ways     [][]string        `json:"ways"` // to be known: names of schemes that are needed together
	Schemes  map[string]scheme `json:"schemes"`
	SignIn   string            `json:"signIn,omitzero"` // the page of an operation that gives a token
	Good     sample            `json:"good"`
	Examples []sample          `json:"examples"` // that have names
	Links    []link            `json:"links"`
	Wrong    []wrong           `json:"wrong"`
}

// A parameter is a node outside of the body.
type parameter struct {
	In string `json:"in"`
	node
	Open bool `json:"open,omitzero"` // a value in a path keeps its slashes
}

// A body is that of one media type.
type body struct {
	Media  string `json:"media"`
	Schema node   `json:"schema"`
	Items  bool   `json:"items,omitzero"` // each line of it is one
}

// A scheme says how callers say who they are (RFC 9110, 11.1).
type scheme struct {
	Type   string `json:"type"`
	Scheme string `json:"scheme,omitzero"`
	In     string `json:"in,omitzero"`
	Name   string `json:"name,omitzero"`
}

// A sample is a request: all of it, or what has a name of its own.
type sample struct {
	Name   string                    `json:"name,omitzero"`
	Target string                    `json:"target,omitzero"`
	Fields []requests.Field          `json:"fields,omitempty"`
	Values map[string]jsontext.Value `json:"values,omitempty"` // by place and name: query limit
	Body   string                    `json:"body,omitzero"`
}

// A wrong request has one fault, and what must come back.
type wrong struct {
	Wrong  string           `json:"wrong"`
	Method string           `json:"method"`
	Target string           `json:"target"`
	Fields []requests.Field `json:"fields,omitempty"`
	Body   *string          `json:"body,omitzero"`
	Status int              `json:"status"`
	Or     int              `json:"or,omitzero"`
	Code   string           `json:"code,omitzero"`
}

// A link is what can be called with what an answer has (OpenAPI, 4.8.20).
type link struct {
	Name   string                    `json:"name"`
	Status string                    `json:"status"`
	Page   string                    `json:"page"`
	Values map[string]jsontext.Value `json:"values,omitempty"` // expressions, by the names of parameters
}

// trial makes that of an operation.
func (s *site) trial(one *operation, item *contract.PathItem, o *contract.Operation, good requests.Request) {
	t := &trial{Page: one.Page, Method: one.Method, Path: one.Path, Schemes: s.schemes,
		Inputs: append([]parameter{}, one.parameters...), Bodies: append([]body{}, one.bodies...), Ways: append([][]string{}, one.ways...), // JSON has no null for them
		Accepts: []string{}, Examples: []sample{}, Links: []link{}, Good: sample{Target: good.Target, Fields: good.Header, Body: formValues(good)}}
	one.Trial = t
	for status, r := range o.Responses.All() {
		r = contract.Referred(s.doc, r)
		for media := range r.Content.All() {
			if !slices.Contains(t.Accepts, media) && status < "3" {
				t.Accepts = append(t.Accepts, media)
			}
		}
		for name, l := range r.Links.All() {
			l = contract.Referred(s.doc, l)
			t.Links = append(t.Links, link{Name: name, Status: status, Page: pageOf(l.OperationID), Values: map[string]jsontext.Value{}})
			for name, value := range l.Parameters.All() {
				t.Links[len(t.Links)-1].Values[name] = value
			}
		}
	}
	s.samples(t, item, o)
}

// wrongs are the requests that are worth trying though they are wrong.
func (t *trial) wrongs(all []requests.Request) {
	t.Wrong = []wrong{}
	for _, r := range all {
		one := wrong{Wrong: r.Wrong, Method: r.Method, Target: r.Target, Fields: r.Header, Status: r.Status, Or: r.Or, Code: r.Code}
		if r.Body != nil {
			text := string(r.Body)
			one.Body = &text
		}
		t.Wrong = append(t.Wrong, one)
	}
}

// samples are the examples that have names: those of parameters and bodies with one name are of one request.
func (s *site) samples(t *trial, item *contract.PathItem, o *contract.Operation) {
	named := func(name string, e *contract.Example) *sample {
		title := e.Summary
		if title == "" {
			title = name
		}
		i := slices.IndexFunc(t.Examples, func(one sample) bool { return one.Name == title })
		if i < 0 {
			i = len(t.Examples)
			t.Examples = append(t.Examples, sample{Name: title, Values: map[string]jsontext.Value{}})
		}
		return &t.Examples[i]
	}
	for _, p := range slices.Concat(item.Parameters, o.Parameters) {
		p = contract.Referred(s.doc, p)
		for name, e := range p.Examples.All() {
			if e = contract.Referred(s.doc, e); e.Value != nil {
				named(name, e).Values[p.In+" "+p.Name] = e.Value
			}
		}
	}
	if o.RequestBody == nil {
		return
	}
	for _, m := range contract.Referred(s.doc, o.RequestBody).Content.All() {
		for name, e := range m.Examples.All() {
			if e = contract.Referred(s.doc, e); e.Value != nil {
				if one := named(name, e); one.Body == "" {
					one.Body = string(e.Value)
				}
			}
		}
	}
}

func isMultipart(media string) bool { return strings.HasPrefix(media, "multipart/form-data") }

// formValues is the body of a request: that of a form as JSON, without its files.
func formValues(r requests.Request) string {
	media, parameters := "", map[string]string{}
	for _, f := range r.Header {
		if f.Name == "Content-Type" {
			media, parameters, _ = mime.ParseMediaType(f.Value)
		}
	}
	var values url.Values
	switch {
	case isMultipart(media):
		form, err := multipart.NewReader(bytes.NewReader(r.Body), parameters["boundary"]).ReadForm(int64(len(r.Body)))
		if err != nil {
			return "{}"
		}
		defer form.RemoveAll()
		values = form.Value
	case media == "application/x-www-form-urlencoded":
		values, _ = url.ParseQuery(string(r.Body))
	default:
		return string(r.Body)
	}
	one := map[string]any{}
	for name, all := range values {
		if one[name] = all; len(all) == 1 {
			one[name] = all[0]
		}
	}
	text, _ := json.Marshal(one, json.Deterministic(true)) // texts are always JSON
	return string(text)
}
