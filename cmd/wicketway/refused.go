package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

// A refusal says how a route refuses the parameters of a request.
type refusal struct {
	Status int            `json:"status"`
	Code   string         `json:"code"`
	Items  []problem.Item `json:"items"`
}

// mostRefused bounds how many faults of one request are listed.
const mostRefused = 100

// refuse reads the parameters of a request as the API would, by a plan of the same kind, made
// from the description; nil where they keep all rules. A parameter whose type is the user's
// own is held against its rules alone, since a description cannot run its code.
func refuse(r facts.Route, names []string, m *table.Match, target *url.URL, header http.Header) *refusal {
	var fields []reflect.StructField
	for _, in := range r.Inputs {
		if slices.Contains([]string{"path", "query", "header", "cookie"}, in.In) && in.Schema != nil {
			fields = append(fields, reflect.StructField{
				Name: fmt.Sprintf("Field%d", len(fields)),
				Type: typeOf(in),
				Tag:  reflect.StructTag(fmt.Sprintf("from:%q rule:%q", in.In+" "+in.Name, in.Rule)),
			})
		}
	}
	if fields == nil {
		return nil
	}
	known := true
	plan := bind.Compile(reflect.StructOf(fields), bind.Config{
		Method:     r.Method,
		Parameters: names,
		Faults:     mostRefused,
		Schemas:    &check.Set{},
		Secrets:    secret.Types{},
		Vary:       writer.AddVary,
		Mistake:    func(string, ...any) { known = false },
	})
	if !known { // a rule for a type of the user's own
		return nil
	}
	request := (&http.Request{Method: r.Method, URL: target, Host: "localhost", Header: header}).
		WithContext(context.Background())
	p, is := errors.AsType[*problem.Problem](plan.Read(reflect.New(plan.Type).Elem(), request, parameters{m}))
	if !is {
		return nil
	}
	return &refusal{p.Kind().Status(), p.Kind().Code(), p.Items()}
}

// typeOf is a type whose values are those that a parameter takes.
func typeOf(in facts.Input) reflect.Type {
	var s parameterSchema
	if err := json.Unmarshal(in.Schema, &s); err != nil {
		return reflect.TypeFor[string]()
	}
	return s.goType(in.Rule)
}

// parameterSchema holds the keywords of a parameter's schema that tell its type.
type parameterSchema struct {
	Type   any              `json:"type"` // a name, or a list of names
	Format string           `json:"format"`
	Items  *parameterSchema `json:"items"`
}

var integers = map[string]reflect.Type{
	"int8": reflect.TypeFor[int8](), "int16": reflect.TypeFor[int16](), "int32": reflect.TypeFor[int32](),
	"uint8": reflect.TypeFor[uint8](), "uint16": reflect.TypeFor[uint16](), "uint32": reflect.TypeFor[uint32](),
	"int64": reflect.TypeFor[int64](), "uint64": reflect.TypeFor[uint64](),
}

func (s parameterSchema) goType(rule string) reflect.Type {
	name, _ := s.Type.(string)
	if list, is := s.Type.([]any); is && len(list) > 0 {
		name, _ = list[0].(string)
	}
	switch {
	case integers[s.Format] != nil:
		return integers[s.Format]
	case name == "number":
		return reflect.TypeFor[float64]()
	case name == "boolean":
		return reflect.TypeFor[bool]()
	case name == "array" && s.Items != nil:
		return reflect.SliceOf(s.Items.goType(rule))
	case s.Format == "date-time" && !strings.Contains(rule, "format="):
		return reflect.TypeFor[time.Time]()
	}
	return reflect.TypeFor[string]()
}

// parameters are the values of a match, of a request without a body.
type parameters struct{ *table.Match }

func (p parameters) Parameter(i int) string { return p.Value(i) }

func (p parameters) Received() *bind.Body { return nil }

func (p parameters) SentDeprecated([]string) {}

func (f *refusal) print(line func(label, format string, args ...any)) {
	for i, item := range f.Items {
		place, kind := item.In+" "+item.Name, ""
		if item.Pointer != nil {
			place += *item.Pointer
		}
		if i == 0 {
			kind = fmt.Sprint(f.Status, " ", f.Code)
		}
		line(first(i, "refused"), "%s\t%s %s", kind, strings.TrimSpace(place), item.Detail)
	}
}
