package probe

import (
	"bytes"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
)

// lives follows what was created: it is changed, and another caller asks for it.
func (p *prober) lives() {
	for _, o := range p.operations {
		if (o.method == http.MethodPatch || o.method == http.MethodPut) && o.why == "" {
			p.change(o)
		}
	}
	for _, o := range p.operations {
		if t := p.thingFor(o); t != nil && t.own && o.method != http.MethodDelete && o.method != http.MethodPost {
			p.foreign(o, t)
		}
	}
}

// change changes a thing, and looks whether the change is there.
func (p *prober) change(o *operation) {
	if !p.may(o) {
		return
	}
	get := p.at(http.MethodGet, o.path)
	if get == nil && strings.Contains(o.path, "/") { // the state of a thing, by a path below it
		get = p.at(http.MethodGet, o.path[:strings.LastIndex(o.path, "/")])
	}
	before := p.read(get)
	r, err := p.makerFor(o).Good(o.method, o.path)
	if err != nil {
		o.why = err.Error()
		return
	}
	if before != nil && o.has(412) {
		outdated := also(r, requests.Field{Name: "If-Match", Value: `"long-ago"`})
		p.hold(p.send(o, outdated, max(o.caller, before.caller)), p.precondition("the tag in If-Match is not that of the thing (RFC 9110, 13.1.1)"))
	}
	x := p.callWith(o, r)
	for n := 0; n < tries && x != nil && p.may(o) && x.answer.Status >= 400; n++ {
		if r, err = p.makerFor(o).Another(o.method, o.path, p.draw); err != nil {
			return
		}
		x = p.callWith(o, r)
	}
	if x == nil || !x.succeeded() {
		return
	}
	after := p.read(get)
	if p.collide(o); before == nil || after == nil {
		return
	}
	p.hold(after, changed(before, x))
	tag := before.answer.Header.Get("ETag")
	if tag == "" || !o.has(412) || bytes.Equal(before.answer.Body, after.answer.Body) {
		return
	}
	outdated := also(r, requests.Field{Name: "If-Match", Value: tag})
	p.hold(p.send(o, outdated, o.caller), p.precondition("the thing has changed since the tag in If-Match (RFC 9110, 13.1.1)"))
}

// precondition checks that a condition which does not hold ends a change. Who else checks other things before may say so.
func (p *prober) precondition(what string) check {
	if p.ours {
		return wants(what, "", 412)
	}
	return wants(what, "", refusals...)
}

// collide gives a thing the values of another one that was created, which may be a conflict.
func (p *prober) collide(o *operation) {
	if len(o.names) == 0 {
		return
	}
	post := p.at(http.MethodPost, strings.TrimSuffix(o.path, "/{"+o.names[len(o.names)-1]+"}"))
	if post == nil || post.good == nil || !p.may(post) || p.createBy(post, false) == nil || !p.may(o) {
		return
	}
	all := p.things[o.path]
	if len(all) < 2 || !all[1].own {
		return
	}
	r, err := p.maker.At(all[1].values).Like(o.method, o.path, post.good.answer.Body)
	if err != nil {
		return
	}
	p.hold(p.send(o, r, all[1].by))
}

// read reads a thing as it is now; nil where that does not succeed.
func (p *prober) read(get *operation) *exchange {
	if get == nil || !p.may(get) {
		return nil
	}
	if x := p.call(get); x != nil && x.answer.Status == http.StatusOK {
		return x
	}
	return nil
}

// changed checks that what was sent is there now, where it was another value before, and that the tag is another one, too.
func changed(before, by *exchange) check {
	return func(after *exchange) judgement {
		was, is := thingIn(before.answer.Body, by.request.Body), thingIn(after.answer.Body, by.request.Body)
		for name, sent := range contract.SchemaOf(by.request.Body).Members() {
			old, has := was.Get(name)
			now, still := is.Get(name)
			if has && still && !same(sent, old) && same(now, old) {
				return judgement{fmt.Sprintf("%s: %s", name, sent), fmt.Sprintf("%s was answered %d, but the member %s is still %s", by.request.Line(""), by.answer.Status, name, now)}
			}
		}
		tag := after.answer.Header.Get("ETag")
		if tag != "" && tag == before.answer.Header.Get("ETag") && !bytes.Equal(before.answer.Body, after.answer.Body) {
			return judgement{"another tag", "the thing has changed, and has the same tag as before (RFC 9110, 8.8.3)"}
		}
		return judgement{}
	}
}

// same reports whether two values are equal, however they are written.
func same(a, b jsontext.Value) bool {
	a, b = a.Clone(), b.Clone()
	return a.Canonicalize() == nil && b.Canonicalize() == nil && bytes.Equal(a, b)
}

// foreign asks for a thing on behalf of the other caller.
func (p *prober) foreign(o *operation, t *thing) {
	other := len(p.callers) - 1
	if p.Other == "" || t.by == other || !o.guarded || p.lacks(other, o) || !o.wanted || !p.may(o) {
		return
	}
	r, err := p.maker.At(t.values).Good(o.method, o.path)
	if err != nil {
		return
	}
	for i := range r.Header {
		r.Header[i].Value = strings.Replace(r.Header[i].Value, requests.Token, requests.OtherToken, 1)
	}
	p.hold(p.send(o, r, other), wants("the thing is another caller's", "", 404, 403))
}

// edges sends what is drawn.
func (p *prober) edges() {
	rounds := p.Draws
	if p.For > 0 {
		rounds = math.MaxInt
	}
	end := p.ends()
	for range rounds {
		any := false
		for _, o := range p.operations {
			if end() {
				return
			}
			if !o.wanted || o.method == http.MethodDelete || !p.may(o) || o.guarded && o.caller < 0 || o.good == nil && o.reads() {
				continue
			}
			any = true
			p.edge(o)
		}
		if !any {
			return
		}
	}
}

func (p *prober) edge(o *operation) {
	r, err := p.makerFor(o).Drawn(o.method, o.path, p.draw)
	if err != nil {
		return
	}
	x := p.send(o, r, o.caller)
	switch {
	case r.Unsure:
		p.hold(x)
	case r.Wrong == "":
		p.hold(x, p.accepted)
	default:
		statuses := []int{r.Status, r.Or}
		if !p.ours {
			statuses = refusals
		}
		if strings.HasPrefix(r.Wrong, "path ") { // 404 or 422 for what no thing can be named: as the contract has it
			statuses = append(statuses, 404)
		}
		place, _, _ := strings.Cut(r.Wrong, " is ")
		if !p.known(o, place) {
			p.hold(x, wants(r.Wrong, "", statuses...))
		}
	}
}

// known reports whether there is a finding about a place.
func (p *prober) known(o *operation, place string) bool {
	return slices.ContainsFunc(p.report.Findings, func(f Finding) bool { return f.Operation == o.name && strings.HasPrefix(f.Reason, place+" ") })
}

// mostPages bounds how far a list is followed.
const mostPages = 100

// lists follows lists page by page, and holds small pages against large ones: nothing may be lost between two of them, and
// nothing shown twice.
func (p *prober) lists() {
	for _, o := range p.operations {
		if o.good == nil || o.method != http.MethodGet || !o.wanted || !p.may(o) {
			continue
		}
		for _, q := range o.Parameters {
			q = contract.Referred(p.Document, q)
			if q.In != "query" || !slices.Contains(q.Schema.Types(), "integer") {
				continue
			}
			small, is := wholeIn(q.Schema, "minimum")
			if large, has := wholeIn(q.Schema, "maximum"); is && has && small > 0 && large > small {
				p.pages(o, q.Name, small, large)
			}
		}
	}
}

func wholeIn(s contract.Schema, keyword string) (n int64, is bool) {
	value, has := s.Get(keyword)
	return n, has && json.Unmarshal(value, &n) == nil
}

func (p *prober) pages(o *operation, name string, small, large int64) {
	whole, _, ok := p.walk(o, name, large)
	if !ok || len(whole) < 2 {
		return
	}
	parts, last, ok := p.walk(o, name, small)
	if !ok || last == nil {
		return
	}
	if again, _, still := p.walk(o, name, large); !still || !slices.Equal(again, whole) {
		return // somebody else has changed the list meanwhile
	}
	if n := int(small) * mostPages; len(parts) == n && len(whole) > n {
		whole = whole[:n]
	}
	if slices.Equal(parts, whole) {
		return
	}
	p.hold(last, func(*exchange) judgement {
		return judgement{fmt.Sprintf("%d items", len(whole)), fmt.Sprintf("by pages with %s=%d the list has %d items or others, and with %s=%d it has %d", name, small, len(parts), name, large, len(whole))}
	})
}

// walk reads all pages of a list, by Link with the relation next (RFC 8288), or by a member next.
func (p *prober) walk(o *operation, name string, size int64) (items []string, last *exchange, ok bool) {
	r := o.good.request
	r.Target = withQuery(r.Target, name, fmt.Sprint(size))
	for range mostPages {
		if !p.may(o) {
			return nil, nil, false
		}
		x := p.send(o, r, o.caller)
		if !p.hold(x, p.accepted) || !x.succeeded() {
			return nil, nil, false
		}
		for _, item := range itemsOf(x.answer.Body) {
			items = append(items, string(item))
		}
		next, has := p.next(x)
		if last = x; !has {
			break
		}
		r.Target = next
	}
	return items, last, true
}

func withQuery(target, name, value string) string {
	path, query, _ := strings.Cut(target, "?")
	values, _ := url.ParseQuery(query)
	values.Set(name, value)
	return path + "?" + values.Encode()
}

// next is where the page after an answer is.
func (p *prober) next(x *exchange) (string, bool) {
	for link := range strings.SplitSeq(strings.Join(x.answer.Header.Values("Link"), ","), ",") {
		to, parameters, _ := strings.Cut(strings.TrimSpace(link), ">")
		if !strings.HasPrefix(to, "<") || !strings.Contains(strings.ReplaceAll(parameters, `"`, ""), "rel=next") {
			continue
		}
		path, is := p.local(x, to[1:])
		if at, err := url.Parse(to[1:]); is && err == nil {
			if at.RawQuery != "" {
				path += "?" + at.RawQuery
			}
			return path, true
		}
	}
	return "", false
}

// remove deletes what was created, and looks whether it is gone.
func (p *prober) remove() {
	for _, o := range p.operations {
		if o.method != http.MethodDelete || len(o.names) == 0 {
			continue
		}
		first := true
		for _, t := range slices.Clone(p.things[o.path]) {
			if t.own && p.may(o) && (o.wanted || first) {
				p.removeOne(o, t, first && o.wanted)
				first = false
			}
		}
	}
}

func (p *prober) removeOne(o *operation, t *thing, whole bool) {
	r, err := p.maker.At(t.values).Good(o.method, o.path)
	if err != nil {
		return
	}
	if whole {
		if p.foreign(o, t); o.has(412) {
			outdated := also(r, requests.Field{Name: "If-Match", Value: `"long-ago"`})
			p.hold(p.send(o, outdated, t.by), p.precondition("the tag in If-Match is not that of the thing (RFC 9110, 13.1.1)"))
		}
		if values := p.nobody(o); values != nil {
			if missing, err := p.maker.At(values).Good(o.method, o.path); err == nil {
				p.hold(p.send(o, missing, t.by))
			}
		}
	}
	x := p.callWith(o, r)
	if x == nil || !x.succeeded() {
		return
	}
	p.forget(t)
	get := p.at(http.MethodGet, o.path)
	if get == nil || !p.may(get) || !whole {
		return
	}
	if r, err := p.maker.At(t.values).Good(get.method, get.path); err == nil {
		p.hold(p.send(get, r, t.by), wants("the thing was deleted before", "", 404, 410))
	}
	p.hold(p.send(o, x.request, t.by))
}

// last deletes what has no parameter in its path: that may end what all others need, such as the caller's token.
func (p *prober) last() {
	for _, o := range p.operations {
		if o.method == http.MethodDelete && len(o.names) == 0 && p.may(o) && o.wanted {
			p.call(o)
		}
	}
}
