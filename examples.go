package wicketway

import (
	"fmt"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// An example is what Example says.
type example struct {
	name    string
	in, out any
}

// fits reports what of an example breaks the rules of a route.
func (e example) fits(r *resolved) error {
	same := 0
	for _, other := range r.examples() {
		if other.name == e.name {
			same++
		}
	}
	if same > 1 {
		return fmt.Errorf("another example is called %q", e.name)
	}
	if e.in != nil {
		in, err := r.inputOf(e.in)
		if err == nil && reflect.TypeOf(in) != r.wireIn() && reflect.TypeOf(in) != reflect.PointerTo(r.wireIn()) {
			err = fmt.Errorf("is %T, and the route reads %v", e.in, r.part.in)
		}
		if err == nil {
			err = inWords(r.input.Judge(reflect.Indirect(reflect.ValueOf(in))))
		}
		if err != nil {
			return fmt.Errorf("the input of %q %w", e.name, err)
		}
	}
	if e.out == nil {
		return nil
	}
	if err := e.answerFits(r); err != nil {
		return fmt.Errorf("the output of %q %w", e.name, err)
	}
	return nil
}

// inWords are the faults of an input in a line.
func inWords(err error) error {
	p, is := err.(*problem.Problem)
	if !is {
		return err
	}
	var all []string
	for _, item := range p.Items() {
		where := item.Name
		if item.Pointer != nil {
			where = *item.Pointer
		}
		all = append(all, strings.TrimSpace(item.In+" "+where)+" "+item.Detail)
	}
	return fmt.Errorf("breaks rules: %s", strings.Join(all, "; "))
}

func (e example) answerFits(r *resolved) error {
	if p, is := e.out.(*problem.Problem); is {
		if !slices.ContainsFunc(r.raises(), func(one raisedKind) bool { return one.kind == p.Kind() }) {
			return fmt.Errorf("is a problem of the kind %s, which the route does not raise: add it to Fails", p.Kind().Code())
		}
		return nil
	}
	if of := reflect.TypeOf(e.out); of != r.part.out.value && of != reflect.PointerTo(r.part.out.value) {
		return fmt.Errorf("is %T, and the route answers with %s", e.out, r.answers())
	}
	if r.output.Schema == nil || r.adapted != nil {
		return nil // of an older shape the function's type is what is shown
	}
	text, err := json.Marshal(e.out)
	if err != nil {
		return err
	}
	return broken(r.output.Schema.Check(text))
}

func broken(found []schema.Fault) error {
	if len(found) == 0 {
		return nil
	}
	var all []string
	for _, f := range found {
		all = append(all, strings.TrimSpace(f.Pointer+" "+f.Detail))
	}
	return fmt.Errorf("breaks rules: %s", strings.Join(all, "; "))
}

// examples are those of a route, in their order.
func (r *resolved) examples() (all []example) {
	if !r.list.ofRoute {
		return nil
	}
	for i := range r.list.settings {
		if e, is := r.list.settings[i].said.(example); is {
			all = append(all, e)
		}
	}
	return all
}

// exampleFacts are the examples of a route, as they are sent.
func (r *resolved) exampleFacts() (all []facts.Example) {
	for _, e := range r.examples() {
		one := facts.Example{Name: e.name}
		if in, err := r.inputOf(e.in); e.in != nil && err == nil {
			if w, err := r.input.Write(in); err == nil {
				for _, name := range r.names {
					one.Parameters = append(one.Parameters, facts.ExampleValue{In: "path", Name: name, Value: w.Path[name]})
				}
				one.Parameters = append(one.Parameters, valuesOf("query", w.Query)...)
				one.Parameters = append(one.Parameters, valuesOf("header", w.Header)...)
				if media := w.Header.Get("Content-Type"); strings.Contains(media, "json") {
					one.Body = w.Body
				}
			}
		}
		one.Status, one.Answer = r.exampleAnswer(e)
		all = append(all, one)
	}
	return all
}

// valuesOf are parameters by name. Content-Type is said by the body.
func valuesOf(in string, of map[string][]string) (all []facts.ExampleValue) {
	for _, name := range slices.Sorted(maps.Keys(of)) {
		for _, value := range of[name] {
			if name != "Content-Type" {
				all = append(all, facts.ExampleValue{In: in, Name: name, Value: value})
			}
		}
	}
	return all
}

// exampleAnswer is what is sent. Values in a shape of the group's own, and of older shapes, are not shown.
func (r *resolved) exampleAnswer(e example) (int, jsontext.Value) {
	if p, is := e.out.(*problem.Problem); is {
		t := r.terms()
		text, err := p.Append(nil, problem.Rendering{Base: t.base})
		if err != nil || t.problemsAs != nil {
			return 0, nil
		}
		return p.Kind().Status(), text
	}
	if e.out == nil || r.terms().house != nil || r.adapted != nil || r.output.Schema == nil {
		return 0, nil
	}
	text, err := json.Marshal(e.out, json.Deterministic(true))
	if err != nil {
		return 0, nil
	}
	status := r.output.Status
	if r.part.out.at != nil {
		status = http.StatusCreated
	}
	return status, text
}
