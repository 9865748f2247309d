package probe

import (
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
)

// A thing is what a path with values leads to.
type thing struct {
	at     string            // the template of its path
	values map[string]string // of the parameters in it
	own    bool              // it was created by this run
	by     int               // by which caller
}

// mostThings is how many things of a kind are kept.
const mostThings = 20

// learn keeps a thing. Own things come before others.
func (p *prober) learn(t *thing) {
	all := p.things[t.at]
	if i := slices.IndexFunc(all, func(other *thing) bool { return maps.Equal(other.values, t.values) }); i >= 0 {
		all[i].own = all[i].own || t.own
		return
	}
	if t.own {
		p.things[t.at] = slices.Insert(all, 0, t)
	} else if len(all) < mostThings {
		p.things[t.at] = append(all, t)
	}
}

// forget takes a thing away.
func (p *prober) forget(t *thing) {
	p.things[t.at] = slices.DeleteFunc(p.things[t.at], func(other *thing) bool { return other == t })
}

// thingFor is one that the path of an operation leads to, or that is above that; nil where none is known.
func (p *prober) thingFor(o *operation) *thing {
	for at := o.path; at != ""; at = at[:max(0, strings.LastIndex(at, "/"))] {
		if all := p.things[at]; len(all) > 0 {
			return all[0]
		}
	}
	return nil
}

// makerFor makes requests to a thing that is there, where one is known.
func (p *prober) makerFor(o *operation) *requests.Maker {
	if t := p.thingFor(o); t != nil {
		return p.maker.At(t.values)
	}
	return p.maker
}

// learnFrom keeps the things that a list shows, by a member that the parameter of a path below is named after.
func (p *prober) learnFrom(x *exchange) {
	for _, o := range p.operations {
		below, is := strings.CutPrefix(o.path, x.o.path+"/{")
		name, rest, _ := strings.Cut(below, "}")
		if !is || rest != "" && rest[0] != '/' {
			continue
		}
		template := x.o.path + "/{" + name + "}"
		for _, item := range itemsOf(x.answer.Body) {
			if value := named(item, name); value != "" {
				p.learn(&thing{at: template, values: p.with(x, name, value)})
			}
		}
	}
}

// with are the values of an exchange's path, and one more.
func (p *prober) with(x *exchange, name, value string) map[string]string {
	values, _ := match(x.o.path, x.url.EscapedPath())
	if values == nil {
		values = map[string]string{}
	}
	values[name] = value
	return values
}

// itemsOf are the objects in a list: one by itself, or the first one in an object.
func itemsOf(body []byte) (all []jsontext.Value) {
	if json.Unmarshal(body, &all) == nil {
		return all
	}
	if jsontext.Value(body).Kind() != jsontext.KindBeginObject {
		return nil
	}
	for _, one := range contract.SchemaOf(body).Members() {
		switch one.Kind() {
		case jsontext.KindBeginArray:
			if json.Unmarshal(one, &all) == nil {
				return all
			}
		case jsontext.KindBeginObject: // a house shape around it
			if all = itemsOf(one); all != nil {
				return all
			}
		}
	}
	return nil
}

// named is the value of the member that a parameter is named after: passage or passageId for {passageId} and {passage}, or
// id.
func named(object jsontext.Value, name string) string {
	if object.Kind() != jsontext.KindBeginObject {
		return ""
	}
	plain := func(s string) string {
		s = strings.ToLower(strings.NewReplacer("_", "", "-", "").Replace(s))
		return strings.TrimSuffix(s, "id")
	}
	found := ""
	whole := contract.SchemaOf(object)
	for _, value := range whole.Members() { // a house shape around it
		if value.Kind() == jsontext.KindBeginObject && found == "" {
			found = named(value, name)
		}
	}
	for member, value := range whole.Members() {
		var text string
		if value.Kind() == jsontext.KindNumber {
			text = string(value)
		} else if json.Unmarshal(value, &text) != nil {
			continue
		}
		if member == name {
			return text
		}
		if plain(member) == plain(name) || strings.EqualFold(member, "id") {
			found = text
		}
	}
	return found
}

var parameter = regexp.MustCompile(`\\\{[^}]*\\\}`)

// match gives the values that a path has for a template.
func match(template, path string) (map[string]string, bool) {
	pattern := parameter.ReplaceAllString(regexp.QuoteMeta(template), "([^/]+)")
	found := regexp.MustCompile("^" + pattern + "$").FindStringSubmatch(path)
	if found == nil {
		return nil, false
	}
	values := map[string]string{}
	for i, name := range namesIn(template) {
		value, err := url.PathUnescape(found[i+1])
		if err != nil {
			return nil, false
		}
		values[name] = value
	}
	return values, true
}

// created is the thing that an answer says was created: by its Location, or by a member. It is nil where neither says so.
func (p *prober) created(x *exchange) *thing {
	if path, is := p.local(x, x.answer.Header.Get("Location")); is {
		for _, o := range p.operations {
			if values, is := match(o.path, path); is && len(o.names) > 0 && strings.HasPrefix(o.path, x.o.path) {
				return &thing{at: o.path, values: values, own: true, by: x.caller}
			}
		}
	}
	for _, o := range p.operations {
		below, is := strings.CutPrefix(o.path, x.o.path+"/{")
		if name, rest, _ := strings.Cut(below, "}"); is && rest == "" {
			if value := named(x.answer.Body, name); value != "" {
				return &thing{at: o.path, values: p.with(x, name, value), own: true, by: x.caller}
			}
		}
	}
	return nil
}

// local is the path of a reference in an answer, without the base; false for one that leads to another host.
func (p *prober) local(x *exchange, reference string) (string, bool) {
	to, err := url.Parse(reference)
	if err != nil || reference == "" {
		return "", false
	}
	full := &url.URL{Path: p.Base + x.url.Path, RawPath: p.Base + x.url.EscapedPath(), RawQuery: x.url.RawQuery}
	if to.Host != "" && !p.isHere(to) {
		return "", false
	}
	to.Scheme, to.Host = "", ""
	at := full.ResolveReference(to)
	path, is := strings.CutPrefix(at.EscapedPath(), p.Base)
	return path, is
}

// isHere reports whether an absolute address is that of the API.
func (p *prober) isHere(to *url.URL) bool {
	here, err := url.Parse(p.Address)
	return to.Host == "api.invalid" || err == nil && here.Host != "" && strings.EqualFold(here.Host, to.Host)
}

// nobody are values for which there should be no thing; nil where none can be made that keep the rules.
func (p *prober) nobody(o *operation) map[string]string {
	if len(o.names) == 0 {
		return nil
	}
	last := o.names[len(o.names)-1]
	t := p.thingFor(o)
	values := map[string]string{}
	if t != nil {
		values = maps.Clone(t.values)
	}
	known := p.Document.Values()
	for _, q := range slices.Concat(o.item.Parameters, o.Parameters) {
		q = contract.Referred(p.Document, q)
		if q.In != "path" || q.Name != last {
			continue
		}
		for _, text := range []string{"999999937", "nobody-has-this", values[last] + "-nobody", values[last] + "nobody", "00000000-0000-4000-8000-000000000000", "zzzz"} {
			quoted, _ := jsontext.AppendQuote(nil, text)
			if known.Has(q.Schema, jsontext.Value(text)) && strings.Trim(text, "0123456789") == "" || known.Has(q.Schema, quoted) {
				values[last] = text
				return values
			}
		}
	}
	return nil
}
