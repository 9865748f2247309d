package contract

import (
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
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
