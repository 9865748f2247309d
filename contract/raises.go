package contract

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// raises adds the problems of a route, by their status, and all others as the default.
func (m *making) raises(o *Operation, r facts.Route) {
	byStatus := map[int][]facts.Problem{}
	for _, p := range r.Raises {
		if !slices.ContainsFunc(byStatus[p.Status], func(other facts.Problem) bool { return other.Code == p.Code }) {
			byStatus[p.Status] = append(byStatus[p.Status], p)
		}
	}
	for _, k := range m.api.Problems { // what every request can meet has the same statuses
		if of := byStatus[k.Status]; len(k.Routes) == 0 && of != nil && !slices.ContainsFunc(of, func(p facts.Problem) bool { return p.Code == k.Code }) {
			byStatus[k.Status] = append(of, facts.Problem{Status: k.Status, Code: k.Code, Title: k.Title, By: everyRequest})
		}
	}
	for _, status := range slices.Sorted(maps.Keys(byStatus)) {
		m.addProblems(o, r, strconv.Itoa(status), byStatus[status])
	}
	if r.Problems != nil {
		media, content := m.problemContent(r, nil)
		other := &Response{Description: "Any other problem"}
		other.Content.Set(media, content)
		o.Responses.Set("default", other)
		return
	}
	o.Responses.Set("default", &Response{Ref: "#/components/responses/Problem"})
}

// addProblems adds those of one status: to an answer that there is, or else shared among the components, where other
// routes are likely to have the same.
func (m *making) addProblems(o *Operation, r facts.Route, key string, all []facts.Problem) {
	answer, has := o.Responses.Get(key)
	if !has {
		answer = new(Response)
		o.Responses.Set(key, answer)
	}
	var says, codes []string
	for _, p := range all {
		m.raised[p.Code] = true
		codes = append(codes, p.Code)
		says = append(says, fmt.Sprintf("%s: %s.", p.Code, p.Title))
		for _, name := range m.kinds[p.Code].Fields {
			answer.Headers.Set(cmp.Or(spelled[name], name), m.header(name))
		}
	}
	answer.Description = strings.TrimSpace(answer.Description + " " + strings.Join(says, " "))
	media, content := m.problemContent(r, codes)
	answer.Content.Set(media, content)
	shared := sharedName(r, key, all)
	if has || r.Problems != nil || shared == "" || shows(r, key) { // an example is of this route alone
		return
	}
	if same, has := m.parts.Responses.Get(shared); has && same.Description != answer.Description {
		return
	}
	m.parts.Responses.Set(shared, answer)
	o.Responses.Set(key, &Response{Ref: "#/components/responses/" + shared})
}

// shows reports whether a route has an example of an answer with a status.
func shows(r facts.Route, status string) bool {
	return slices.ContainsFunc(r.Examples, func(e facts.Example) bool { return e.Answer != nil && strconv.Itoa(e.Status) == status })
}

// everyRequest is who raises a problem that every request can meet.
const everyRequest = "every request"

// sharedName is the name of an answer that others have as well: with one problem, or with those of a guard. It depends on
// nothing else, so that a change of one route changes no other.
func sharedName(r facts.Route, key string, all []facts.Problem) string {
	all = slices.DeleteFunc(slices.Clone(all), func(p facts.Problem) bool { return p.By == everyRequest })
	if len(all) == 1 {
		return problemName(all[0].Code)
	}
	if r.Guard == nil || slices.ContainsFunc(all, func(p facts.Problem) bool { return p.By != "guard" }) {
		return ""
	}
	return "Problems." + key + "." + schemeName(*r.Guard)
}

func (m *making) problemContent(r facts.Route, codes []string) (media string, c MediaType) {
	if p := r.Problems; p != nil {
		return p.Media, MediaType{Schema: m.refer(p.Schema)}
	}
	var alternatives []jsontext.Value
	var mapping jsonObject
	for _, code := range codes {
		name := problemName(code)
		var ref jsonObject
		ref.say("$ref", "#/components/schemas/"+name)
		alternatives = append(alternatives, ref.text())
		mapping.say(code, "#/components/schemas/"+name)
		c.Examples.Set(code, &Example{Ref: "#/components/examples/" + name})
	}
	if len(alternatives) == 1 {
		c.Schema = SchemaOf(alternatives[0])
		return problem.MediaType, c
	}
	var s, discriminator jsonObject
	s.say("oneOf", alternatives)
	discriminator.say("propertyName", "code")
	discriminator.add("mapping", mapping.text())
	s.add("discriminator", discriminator.text())
	c.Schema = SchemaOf(s.text())
	return problem.MediaType, c
}

// problemName is the name of a kind among the components.
func problemName(code string) string { return "Problem." + notInID.ReplaceAllString(code, "-") }
