package probe

import (
	"fmt"
	"net/http"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
)

// signIn gets a token from an open operation that gives one (RFC 6749, 5.1), where the caller has none.
func (p *prober) signIn() {
	if len(p.callers) > 0 || p.Safe || !slices.ContainsFunc(p.operations, func(o *operation) bool { return o.guarded }) {
		return
	}
	for _, o := range p.operations {
		if !p.maker.GivesToken(o.method, o.path) {
			continue
		}
		r, err := p.maker.Good(o.method, o.path)
		if err != nil {
			continue
		}
		var got struct {
			AccessToken string `json:"access_token"`
		}
		x := p.send(o, r, -1)
		if json.Unmarshal(x.answer.Body, &got); x.succeeded() && got.AccessToken != "" {
			p.callers = append(p.callers, got.AccessToken)
			return
		}
	}
}

// look reads all that can be read, and keeps what lists show.
func (p *prober) look() {
	for _, o := range p.operations {
		if o.reads() && p.may(o) {
			p.call(o)
		}
	}
}

// call sends the good request of an operation: by the first caller who may.
func (p *prober) call(o *operation) *exchange {
	r, err := p.makerFor(o).Good(o.method, o.path)
	if err != nil {
		o.why = err.Error()
		return nil
	}
	return p.callWith(o, r)
}

func (p *prober) callWith(o *operation, r requests.Request) *exchange {
	tried := []int{o.caller}
	if o.caller < 0 && o.guarded {
		tried = tried[:0]
		for i := range p.callers {
			if !p.lacks(i, o) {
				tried = append(tried, i)
			}
		}
		if t := p.thingFor(o); t != nil && t.own { // whoever has created it
			tried = append([]int{t.by}, slices.DeleteFunc(tried, func(i int) bool { return i == t.by })...)
		}
	}
	if len(tried) == 0 {
		o.why = "it needs credentials, and no token is known that has the scopes"
		return nil
	}
	var x *exchange
	for _, caller := range tried {
		if !p.may(o) {
			break
		}
		x = p.send(o, r, caller)
		if o.guarded && (x.answer.Status == http.StatusUnauthorized || x.answer.Status == http.StatusForbidden) && o.caller < 0 {
			o.refused[caller] = true
			continue
		}
		o.caller = caller
		break
	}
	if x == nil {
		return nil
	}
	p.hold(x, p.accepted)
	if o.caller < 0 && o.guarded && x.err == nil {
		o.why = fmt.Sprintf("no caller may call it: %s", x.got())
	}
	if !x.succeeded() {
		return x
	}
	if o.good = x; o.method == http.MethodGet {
		p.learnFrom(x)
	}
	return x
}

// tries is how often another request is drawn where one came into conflict with what is there.
const tries = 25

// create sends what creates things, once more to see a conflict, and what came of it.
func (p *prober) create() {
	for _, o := range p.operations {
		if o.method == http.MethodPost && p.may(o) {
			p.createBy(o, true)
		}
	}
	for _, o := range p.operations { // what hangs on things that are there now
		if o.reads() && o.good == nil && p.thingFor(o) != nil && p.may(o) {
			p.call(o)
		}
	}
}

// createBy creates a thing; nil where that does not succeed.
func (p *prober) createBy(o *operation, again bool) *thing {
	var x *exchange
	if o.good == nil {
		x = p.call(o)
	}
	for n := 0; n < tries && p.may(o) && (x == nil && (n == 0 || o.good == nil) || x.err == nil && !x.succeeded()); n++ {
		r, err := p.makerFor(o).Another(o.method, o.path, p.draw)
		if err != nil {
			return nil
		}
		x = p.callWith(o, r)
	}
	if x == nil || !x.succeeded() {
		return nil
	}
	t := p.created(x)
	if t == nil {
		return nil
	}
	p.learn(t)
	if get := p.at(http.MethodGet, t.at); get != nil && p.may(get) {
		r, err := p.maker.At(t.values).Good(get.method, get.path)
		if err == nil {
			p.hold(p.send(get, r, x.caller), p.follows(x, t))
		}
	}
	if again && p.may(o) {
		p.hold(p.send(o, x.request, x.caller))
	}
	return t
}

// follows checks that what was created is where its answer says.
func (p *prober) follows(from *exchange, t *thing) check {
	return func(x *exchange) judgement {
		where := "Location " + from.answer.Header.Get("Location")
		if where == "Location " {
			where = fmt.Sprint(t.values)
		}
		switch {
		case x.later():
		case x.answer.Status != http.StatusOK:
			return judgement{"200", fmt.Sprintf("what %s has created is not at %s", from.request.Method, where)}
		case differ(from.request.Body, from.answer.Body, x.answer.Body) != "":
			name := differ(from.request.Body, from.answer.Body, x.answer.Body)
			return judgement{"what was created", fmt.Sprintf("at %s the member %s is another one than in the answer that created it", where, name)}
		}
		return judgement{}
	}
}

// differ is the name of a member that was sent, and that two answers have with different values; "" where there is none.
func differ(sent, a, b []byte) string {
	one, other := thingIn(a, sent), thingIn(b, sent)
	for name := range contract.SchemaOf(sent).Members() {
		value, has := one.Get(name)
		if its, still := other.Get(name); has && still && !same(its, value) {
			return name
		}
	}
	return ""
}

// thingIn is the object in an answer that has members which were sent: the answer, or an object in it, where a house shape is
// around all of them.
func thingIn(body, sent []byte) contract.Schema {
	whole := contract.SchemaOf(body)
	has := func(s contract.Schema) bool {
		for name := range contract.SchemaOf(sent).Members() {
			if _, has := s.Get(name); has {
				return true
			}
		}
		return false
	}
	for _, one := range whole.Members() {
		if in := contract.SchemaOf(one); one.Kind() == jsontext.KindBeginObject && !has(whole) && has(in) {
			return in
		}
	}
	return whole
}

// settle finds callers for what nobody has called yet, by what they may do elsewhere.
func (p *prober) settle() {
	for _, o := range p.operations {
		for _, other := range p.operations {
			if o.guarded && o.caller < 0 && other.guarded && other.caller >= 0 && (len(o.scopes) == 0 || slices.Equal(o.scopes, other.scopes)) {
				o.caller = other.caller
			}
		}
	}
}
