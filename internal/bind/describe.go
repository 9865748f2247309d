package bind

import (
	"fmt"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/problem"
)

// An Input is one thing that a plan reads.
type Input struct {
	Source   string // path, query, header, cookie, form, file or body
	Name     string // of a member of a body its JSON Pointer
	Type     string
	Required bool
	Rule     string
	Note     string
	Schema   jsontext.Value // of a parameter
}

// Inputs lists what is read, those in the path first.
func (in *Plan) Inputs() (all []Input) {
	for _, f := range in.fields {
		kind, rule, note, required := f.schema.Describe()
		all = append(all, Input{f.source, f.name, kind, required, rule, note, f.schema.Document()})
	}
	if in.form != nil {
		for _, f := range in.form.files {
			all = append(all, f.describe())
		}
	}
	switch {
	case in.body == nil:
	case in.body.stream != nil:
		_, of, required := in.Body()
		all = append(all, Input{Source: "body", Type: "stream of " + of.Name(), Required: required, Rule: in.body.stream.Rule()})
	case in.body.schema != nil:
		for _, m := range in.body.schema.Members() {
			all = append(all, Input{"body", m.Pointer, m.Type, m.Required, m.Rule, m.Note, nil})
		}
	}
	return all
}

// A Deprecated is a parameter or a member that is deprecated.
type Deprecated struct {
	Source string // path, query, header, cookie, form or body
	Name   string // of a member of a body its JSON Pointer, with * for the items of lists
	Since  string // a date; "" where none is given
}

// Deprecated lists what is read and deprecated.
func (in *Plan) Deprecated() (all []Deprecated) {
	for _, f := range in.fields {
		if is, since := f.schema.Deprecated(); is {
			all = append(all, Deprecated{f.source, f.name, since})
		}
	}
	if in.body != nil && in.body.schema != nil {
		for _, d := range in.body.schema.Deprecated() {
			all = append(all, Deprecated{"body", d.Pointer, d.Since})
		}
	}
	return all
}

// HasOwnRules reports whether the input, or a type in it, has a Check of its own.
func (in *Plan) HasOwnRules() bool {
	own := in.judges
	if _, of, _ := in.Body(); of != nil {
		own = own || of.Judges()
	}
	for _, f := range in.fields {
		own = own || f.schema.Judges()
	}
	return own
}

// Sent are the values of a form and of a query that fields read, without secrets; nil where there are none.
func (in *Plan) Sent(received *Body, query url.Values) (sent url.Values) {
	for _, f := range in.fields {
		from := query
		if f.source == "form" && received != nil {
			from = received.form
		}
		if texts := from[f.name]; texts != nil && f.public && (f.source == "form" || f.source == "query") {
			if sent == nil {
				sent = url.Values{}
			}
			sent[f.name] = append(sent[f.name], texts...)
		}
	}
	return sent
}

// HeaderFields are the names of the header fields that are read.
func (in *Plan) HeaderFields() (names []string) {
	for _, f := range in.fields {
		if f.source == "header" {
			names = append(names, f.name)
		}
	}
	return names
}

func (f *fileField) describe() Input {
	i := Input{Source: "file", Name: f.name, Type: "file", Required: f.required}
	if f.many {
		i.Type = "array of file"
	}
	var rules []string
	if f.most > 0 {
		rules = append(rules, fmt.Sprintf("maxLength=%d", f.most))
	}
	if f.types != nil {
		rules = append(rules, "contentMediaType="+strings.Join(f.types, "|"))
	}
	i.Rule = strings.Join(rules, " ")
	return i
}

// FormSchema is that of the fields of a form, as an object; nil where the input reads none.
func (in *Plan) FormSchema() jsontext.Value {
	if in.form == nil {
		return nil
	}
	properties, required := map[string]any{}, []string{}
	for _, f := range in.fields {
		if f.source != "form" {
			continue
		}
		properties[f.name] = f.schema.Document()
		if _, _, _, needed := f.schema.Describe(); needed {
			required = append(required, f.name)
		}
	}
	for _, f := range in.form.files {
		properties[f.name] = f.document()
		if f.required {
			required = append(required, f.name)
		}
	}
	doc := map[string]any{"type": "object", "properties": properties}
	if len(required) > 0 {
		slices.Sort(required)
		doc["required"] = required
	}
	text, err := json.Marshal(doc, json.Deterministic(true))
	if err != nil { // nothing in it can fail to be written
		panic(err)
	}
	return text
}

// document is the schema of a file, whose bytes are not JSON.
func (f *fileField) document() any {
	var media []map[string]string
	for _, m := range f.types {
		media = append(media, map[string]string{"contentMediaType": m})
	}
	doc := map[string]any{"contentMediaType": "application/octet-stream"}
	switch {
	case len(media) == 1:
		doc["contentMediaType"] = f.types[0]
	case len(media) > 1:
		doc = map[string]any{"anyOf": media}
	}
	if f.many {
		return map[string]any{"type": "array", "items": doc}
	}
	return doc
}

// Raises are the kinds of problem that reading the input can raise.
func (in *Plan) Raises() (kinds []*problem.Kind) {
	if in.Reads() {
		kinds = append(kinds, problem.Unreadable, problem.Invalid)
	}
	if in.ReadsBody() {
		kinds = append(kinds, problem.BodyTimeout, problem.BodyTooLarge, problem.UnsupportedMedia)
	}
	return kinds
}

// Unknown reports whether members are read that the body's type does not have.
func (in *Plan) Unknown() bool { return in.body != nil && in.body.lenient&check.UnknownMembers != 0 }

// StreamsBody reports whether the body is read item by item.
func (in *Plan) StreamsBody() bool { return in.body != nil && in.body.stream != nil }

// Body gives the media types of the body and its type, of a stream that of its items, which is nil for a form and for
// a body that is handed on as it is. Without a body there are no media types.
func (in *Plan) Body() (media []string, of *check.Type, required bool) {
	switch {
	case in.form != nil:
		return in.form.accepts(), nil, true
	case in.body == nil:
		return nil, nil, false
	case in.body.stream != nil:
		return in.body.accepts, in.body.stream.Item, in.body.stream.TooFew(0).Rule != ""
	case in.body.schema == nil:
		return []string{"*/*"}, nil, !in.body.optional
	}
	return in.body.accepts, in.body.schema, !in.body.optional
}

// BodyType is the type in Go of a body that is read as JSON; nil where none is.
func (in *Plan) BodyType() reflect.Type {
	switch {
	case !in.ReadsJSON():
		return nil
	case in.body.index == nil:
		return in.Type
	}
	of := in.Type
	if in.pointer {
		of = of.Elem()
	}
	return of.FieldByIndex(in.body.index).Type
}

// Values takes an input apart: the values of a path, and of a query except those that are
// zero.
func (in *Plan) Values(input any) (path map[string]string, query url.Values, err error) {
	want := in.Type
	path, query = map[string]string{}, url.Values{}
	v := reflect.ValueOf(input)
	if v.Kind() == reflect.Pointer && !v.IsNil() {
		v = v.Elem()
	}
	if want.Kind() == reflect.Pointer {
		want = want.Elem()
	}
	if !v.IsValid() || v.Type() != want {
		return nil, nil, fmt.Errorf("the input is %T, want %s", input, want)
	}
	for _, f := range in.fields {
		field := v.FieldByIndex(f.index)
		if f.source != "path" && (f.source != "query" || field.IsZero()) {
			continue
		}
		texts, err := f.schema.Texts(field)
		switch {
		case err != nil:
			return nil, nil, fmt.Errorf("%s %s: %w", f.source, f.name, err)
		case f.source == "query":
			query[f.name] = texts
		case len(texts) == 1:
			path[f.name] = texts[0]
		}
	}
	return path, query, nil
}
