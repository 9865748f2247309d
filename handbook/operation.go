package handbook

import (
	"cmp"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/problem"
)

// An operation as it is read.
type operation struct {
	ID, Page, Method, Path, Summary, Description string

	Who              string
	Deprecated       bool
	Deprecation, End string // dates
	Successor        *operation
	Inputs           []value
	Media            []string // of bodies
	Body             []value
	BodyExample      string
	Answers          []answer
	Problems         []*trouble
	Since            *since
	Trial            *trial

	site         *site
	good         requests.Request
	parameters   []parameter
	bodies       []body
	ways, scopes [][]string // to be known, and what each needs
	words        string
}

// Words are all that it can be found by.
func (o *operation) Words() string { return o.words }

// Changed reports whether anything of it differs from the version before.
func (o *operation) Changed() bool {
	return o.Since != nil && (o.Since.Was == nil || o.Since.Changes != nil || o.Since.Rows != nil)
}

// A value is a parameter, a member or a header field.
type value struct {
	Where, Name, Type, Rules, Note string
	Required                       bool
	Depth                          int
}

// An answer is a success.
type answer struct {
	Status      int
	Text, Media string
	Type        string
	Fields      []value
	Members     []value
	Example     string
}

// operation reads one.
func (s *site) operation(method, path string, item *contract.PathItem, o *contract.Operation) *operation {
	one := &operation{ID: o.ID, Method: method, Path: path, Summary: o.Summary, Description: strings.TrimSpace(o.Description), Deprecated: o.Deprecated,
		Deprecation: date(o.DeprecatedSince()), End: date(o.Sunset()), site: s}
	if one.ID == "" {
		one.ID = method + " " + path
	}
	one.Page = cmp.Or(pageOf(one.ID), "operation")
	if one.Summary == "" {
		one.Summary = one.ID
	}
	s.who(one, o)
	for _, p := range slices.Concat(item.Parameters, o.Parameters) {
		one.parameters = append(one.parameters, s.parameter(contract.Referred(s.doc, p)))
	}
	s.body(one, o)
	s.answers(one, o)
	words := []string{one.ID, method, path, one.Summary, one.Description}
	for _, p := range one.parameters {
		one.Inputs = append(one.Inputs, value{Where: p.In, Name: p.Name, Type: p.Type, Rules: p.Rules, Note: p.Note, Required: p.Required})
	}
	for _, v := range slices.Concat(one.Inputs, one.Body) {
		words = append(words, v.Name)
	}
	for _, a := range one.Answers {
		for _, v := range a.Members {
			words = append(words, v.Name)
		}
	}
	for _, p := range one.Problems {
		words = append(words, p.Code)
	}
	one.words = strings.ToLower(strings.Join(words, " "))
	return one
}

// date is a day as a person writes it; "" for the zero Time.
func date(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2 January 2006")
}

// who says who may call.
func (s *site) who(one *operation, o *contract.Operation) {
	required := s.doc.Security
	if o.Security != nil {
		required = *o.Security
	}
	var texts []string
	for _, way := range required {
		names, scopes, text := []string{}, []string{}, []string{}
		for name, needed := range way.All() {
			names, scopes = append(names, name), append(scopes, needed...)
			said := "callers with " + name
			if len(needed) > 0 {
				said += " and the scope " + strings.Join(needed, ", ")
			}
			text = append(text, said)
		}
		if len(names) == 0 {
			one.ways, one.scopes, texts = nil, nil, nil
			break
		}
		one.ways, one.scopes, texts = append(one.ways, names), append(one.scopes, scopes), append(texts, strings.Join(text, " and "))
	}
	one.Who = cmp.Or(strings.Join(texts, ", or "), "everyone")
}

// parameter is a node with its place. One with a media type of its own is written as a text.
func (s *site) parameter(p *contract.Parameter) parameter {
	of := parameter{In: p.In, node: s.walk().node(p.Name, p.Schema)}
	of.Required, of.Open = p.Required, p.AllowReserved
	of.Note = cmp.Or(p.Description, of.Note)
	if p.Schema.IsZero() {
		of.Kind, of.Type = textKind, "text"
	}
	return of
}

func (s *site) body(one *operation, o *contract.Operation) {
	if o.RequestBody == nil {
		return
	}
	for media, m := range contract.Referred(s.doc, o.RequestBody).Content.All() {
		schema, items := itemIn(m)
		of := body{Media: media, Schema: s.walk().node("", schema), Items: items}
		if isMultipart(media) {
			of.Schema.files()
		}
		if one.bodies == nil {
			one.Body, one.BodyExample = of.Schema.rows(0), s.example(m)
		}
		one.bodies = append(one.bodies, of)
		one.Media = append(one.Media, media)
	}
}

// itemIn is the schema of a body, or of the items of a stream.
func itemIn(m contract.MediaType) (schema contract.Schema, items bool) {
	if own, has := m.More.Get(contract.ItemKey); has {
		return contract.SchemaOf(own), true
	}
	if !m.Item.IsZero() {
		return m.Item, true
	}
	return m.Schema, false
}

// example is the first one, set out to be read.
func (s *site) example(m contract.MediaType) string {
	shown := m.Example
	for _, e := range m.Examples.All() {
		if shown == nil {
			shown = contract.Referred(s.doc, e).Value
		}
	}
	return setOut(shown)
}

func setOut(value jsontext.Value) string {
	if value = value.Clone(); value == nil || value.Indent(jsontext.WithIndent("  ")) != nil {
		return ""
	}
	return string(value)
}

func (s *site) answers(one *operation, o *contract.Operation) {
	for key, r := range o.Responses.All() {
		r = contract.Referred(s.doc, r)
		status, err := strconv.Atoi(key)
		if err != nil {
			continue // a class, or all others
		}
		if m, has := r.Content.Get(problem.MediaType); status >= 400 && has {
			s.troubles(one, status, r, m)
			continue
		}
		a := answer{Status: status, Text: cmp.Or(r.Description, http.StatusText(status))}
		for name, f := range r.Headers.All() {
			f = contract.Referred(s.doc, f)
			a.Fields = append(a.Fields, value{Name: name, Type: s.typeWords(f.Schema, 0), Note: f.Description})
		}
		for media, m := range r.Content.All() {
			if a.Media != "" {
				a.Media += ", " + media
				continue
			}
			schema, _ := itemIn(m)
			n := s.walk().node("", schema)
			a.Media, a.Members, a.Example = media, n.rows(0), s.example(m)
			if !m.Schema.IsZero() {
				a.Type = s.typeWords(m.Schema, 0)
			}
		}
		one.Answers = append(one.Answers, a)
	}
}

// A trouble is a kind of problem.
type trouble struct {
	Status               int
	Code, Title, Meaning string
	Example              string
	By                   []*operation
}

// troubles adds the kinds of problem of an answer.
func (s *site) troubles(one *operation, status int, r *contract.Response, m contract.MediaType) {
	alternatives := m.Schema.List("oneOf")
	if alternatives == nil {
		alternatives = []contract.Schema{m.Schema}
	}
	for _, of := range alternatives {
		code := s.values.Constant(of, "code")
		if code == "" {
			continue
		}
		key := strconv.Itoa(status) + " " + code
		t := s.troubled[key]
		if t == nil {
			t = &trouble{Status: status, Code: code, Title: s.values.Constant(of, "title"), Meaning: s.doc.Follow(of).String("description")}
			for name, e := range m.Examples.All() {
				e = contract.Referred(s.doc, e)
				if strings.Contains(string(e.Value), strconv.Quote(code)) || name == code {
					t.Example = setOut(e.Value)
					if t.Title == "" {
						t.Title = e.Summary
					}
				}
			}
			t.Title = cmp.Or(t.Title, r.Description, code)
			s.troubled[key] = t
			s.Problems = append(s.Problems, t)
		}
		t.By = append(t.By, one)
		one.Problems = append(one.Problems, t)
	}
}
