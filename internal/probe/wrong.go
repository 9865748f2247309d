package probe

import (
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/contract/requests"
)

// wrong sends the requests with one fault each, and those with two of which one must be told before the other.
func (p *prober) wrong() {
	for _, o := range p.operations {
		if !o.wanted || o.guarded && o.caller < 0 && len(p.callers) > 0 {
			continue
		}
		all, err := p.makerFor(o).Wrong(o.method, o.path)
		if err != nil {
			continue
		}
		for _, r := range all {
			p.sendWrong(o, r)
		}
		p.unknownIn(o)
		if p.ours {
			p.order(o, all)
		}
	}
}

func (p *prober) sendWrong(o *operation, r requests.Request) {
	needs := func(token string) bool {
		return slices.ContainsFunc(r.Header, func(f requests.Field) bool {
			return f.Value == token || strings.HasSuffix(f.Value, " "+token)
		})
	}
	switch {
	case !p.may(o),
		p.Safe && r.Method != http.MethodGet && r.Method != http.MethodHead,
		needs(requests.TokenWithoutScopes) && p.withoutScopes(o) == "",
		needs(requests.Token) && o.caller < 0,
		needs(requests.OtherToken), // what came of that is looked at where it is known whose a thing is
		o.method == http.MethodDelete && r.Status != 401 && r.Status != 403 && r.Status != 405 && p.thingFor(o) == nil && len(o.names) > 0:
		return
	}
	what := r.Wrong
	if r.Status == http.StatusMethodNotAllowed {
		p.wrongMethod(o, r)
		return
	}
	code := ""
	if p.ours {
		code = r.Code
	}
	statuses := []int{r.Status, r.Or}
	if !p.ours {
		statuses = refusals
		if r.Status == 401 || r.Status == 403 {
			statuses = []int{401, 403, 404}
		}
	}
	p.hold(p.send(o, r, o.caller), wants(what, code, statuses...))
}

// refusals are the statuses by which an API refuses a request: which of them others have for a fault is their own affair,
// as long as it is in the contract.
var refusals = func() (all []int) {
	for status := 400; status < 500; status++ {
		all = append(all, status)
	}
	return all
}()

// wrongMethod sends a method that the path does not have. Another template may match the path, and have it.
func (p *prober) wrongMethod(o *operation, r requests.Request) {
	path, _, _ := strings.Cut(r.Target, "?")
	for _, other := range p.operations {
		if _, matches := match(other.path, path); matches && other.method == r.Method {
			return
		}
	}
	statuses := []int{405}
	if !p.ours {
		statuses = []int{405, 404, 501, 401, 403}
	}
	p.hold(p.send(o, r, o.caller), wants(r.Wrong, "", statuses...))
}

// unknownIn sends bodies that are no JSON text, each in its own way (RFC 8259), and such as go far beyond what a reader
// needs.
func (p *prober) unknownIn(o *operation) {
	r, err := p.makerFor(o).Good(o.method, o.path)
	isJSON := slices.ContainsFunc(r.Header, func(f requests.Field) bool { return f.Name == "Content-Type" && strings.HasSuffix(f.Value, "json") })
	if err != nil || !isJSON || o.guarded && o.caller < 0 || len(r.Body) == 0 || r.Body[0] != '{' || o.method == http.MethodDelete {
		return
	}
	body := string(r.Body)
	for _, c := range []struct{ what, body string }{
		{"a second value follows the body", body + body},
		{"the body has a name twice", `{"twice":1,"twice":2,` + body[1:]},
		{"the body is not UTF-8", strings.Replace(body, "{", "{\"a\xff\":1,", 1)},
		{"the body is nested 20,000 deep", strings.Repeat(`{"a":`, 20_000) + "1" + strings.Repeat("}", 20_000)},
		{"the body ends in the middle", body[:len(body)-1]},
		{"the body is empty", ""},
	} {
		if !p.may(o) {
			return
		}
		one := r
		one.Body = []byte(c.body)
		x := p.send(o, one, o.caller)
		if p.ours || c.what == "the body ends in the middle" {
			p.hold(x, wants(c.what, "", 400, 422, 413))
		} else {
			p.hold(x)
		}
	}
}

// order holds which of two faults is told: who calls before what is wrong with the input, and that before what is not
// there.
func (p *prober) order(o *operation, all []requests.Request) {
	input := func(r requests.Request) bool { return r.Status == 422 || r.Status == 400 }
	i := slices.IndexFunc(all, input)
	if i >= 0 && o.guarded && o.has(401) && p.may(o) {
		r := all[i]
		r.Header = slices.DeleteFunc(slices.Clone(r.Header), func(f requests.Field) bool { return strings.Contains(f.Value, requests.Token) })
		p.hold(p.send(o, r, -1), wants("no credentials, before "+r.Wrong, "", 401))
	}
	values := p.nobody(o)
	if values == nil || !o.has(404) || o.guarded && o.caller < 0 {
		return
	}
	wrong, err := p.maker.At(values).Wrong(o.method, o.path)
	if err != nil {
		return
	}
	for _, r := range slices.Backward(wrong) {
		if input(r) && !strings.HasPrefix(r.Wrong, "path ") && p.may(o) && (o.reads() || !p.Safe) {
			p.hold(p.send(o, r, o.caller), wants(r.Wrong+", before what is not there", "", r.Status, r.Or))
			return
		}
	}
}
