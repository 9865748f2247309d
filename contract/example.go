package contract

import (
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/sets"
	"github.com/wicketway/wicketway/problem"
)

// example adds one of a route to what it shows: parameters, the body and the answer.
func (m *making) example(o *Operation, e facts.Example) {
	for _, v := range e.Parameters {
		for i, p := range o.Parameters {
			if p.In == v.In && strings.EqualFold(p.Name, v.Name) {
				copied := *p
				copied.Examples.Set(exampleName(e.Name), &Example{Summary: e.Name, Value: asWritten(p.Schema, v.Value)})
				o.Parameters[i] = &copied
			}
		}
	}
	if o.RequestBody != nil && e.Body != nil {
		for media, c := range o.RequestBody.Content.All() {
			if strings.Contains(media, "json") && !strings.Contains(media, "ndjson") {
				c.Examples.Set(exampleName(e.Name), &Example{Summary: e.Name, Value: e.Body})
				o.RequestBody.Content.Set(media, c)
			}
		}
	}
	answer, has := o.Responses.Get(strconv.Itoa(e.Status))
	if !has || e.Answer == nil || answer.Ref != "" { // one that is shared has its own
		return
	}
	for media, c := range answer.Content.All() {
		if strings.HasPrefix(media, "application/json") || media == problem.MediaType {
			c.Examples.Set(exampleName(e.Name), &Example{Summary: e.Name, Value: e.Answer})
			answer.Content.Set(media, c)
		}
	}
}

// samples are examples that are made by the rules, of bodies that have none: what is to be sent, and what is answered. A
// problem has that of its kind.
func (m *making) samples() {
	sent, read := m.doc.valuesOf(sets.Sent), m.doc.valuesOf(sets.Read)
	add := func(content *Map[MediaType], of *Values) {
		for media, c := range content.All() {
			if c.Schema.IsZero() || c.Examples.Len() > 0 || !isJSON(media) || c.More.Len() > 0 {
				continue
			}
			if value, has := of.Sample(c.Schema); has {
				c.Example = value
				content.Set(media, c)
			}
		}
	}
	for _, item := range m.doc.Paths.All() {
		for _, o := range item.Operations() {
			if o.RequestBody != nil {
				add(&o.RequestBody.Content, sent)
			}
			for status, answer := range o.Responses.All() {
				if status < "3" {
					add(&answer.Content, read)
				}
			}
		}
	}
}

// isJSON reports whether a media type is that of one JSON value.
func isJSON(media string) bool {
	media, _, _ = strings.Cut(media, ";")
	return media == "application/json" || strings.HasSuffix(media, "+json")
}

// exampleName is the name of an example as a key.
func exampleName(name string) string {
	return strings.Trim(notInID.ReplaceAllString(strings.ToLower(name), "-"), "-")
}

// asWritten is the value of a parameter as JSON: a number or a boolean where its schema has one.
func asWritten(s Schema, value string) jsontext.Value {
	one := jsontext.Value(value)
	for _, t := range s.Types() {
		number := (t == "integer" || t == "number") && one.Kind() == jsontext.KindNumber
		if number && one.IsValid() || t == "boolean" && (value == "true" || value == "false") {
			return one
		}
	}
	return text(value)
}
