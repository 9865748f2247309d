// Package requests makes requests of a contract: for each operation a good one, and the wrong ones worth trying, each with
// one fault and with what must come back. The same contract gives the same requests.
package requests

import (
	"encoding/base64"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
)

// Names of variables that stand for tokens in header fields. Who sends a request puts what they know in their place.
const (
	// Token is that of a caller who may call.
	Token = "$WICKETWAY_TOKEN"
	// TokenWithoutScopes is that of a caller who has not been granted any.
	TokenWithoutScopes = "$WICKETWAY_TOKEN_WITHOUT_SCOPES"
	// OtherToken is that of another caller, who may call as well.
	OtherToken = "$WICKETWAY_OTHER_TOKEN"
)

// A Field is a header field.
type Field struct{ Name, Value string }

// A Request is one that is ready to be sent, and what must come back.
type Request struct {
	Method string
	Target string // path and query, as they are sent
	Header []Field
	Body   []byte
	Wrong  string // what is wrong with it; "" for a good one
	Status int    // that must come back; 0 for a good one: a success of the contract
	Or     int    // another status that may come back instead, where the contract does not say which; 0: none
	Code   string // of the problem that must come back; "" where the contract does not say
	Unsure bool   // the schemas do not decide whether it is wrong
}

// Line is the request as a line for a POSIX shell, to an address such as http://127.0.0.1:8080, or to $ADDRESS, which a
// script sets. It calls curl, and prints the answer.
func (r Request) Line(address string) string {
	words := []string{"curl", "-s"}
	switch {
	case r.Method == "HEAD":
		words = append(words, "-I")
	case r.Method != "GET" && !(r.Method == "POST" && r.Body != nil):
		words = append(words, "-X", r.Method)
	}
	words = append(words, quote(address+r.Target))
	for _, f := range r.Header {
		words = append(words, "-H", quote(f.Name+": "+f.Value))
	}
	if r.Body != nil {
		words = append(words, "-d", quote(string(r.Body)))
	}
	return strings.Join(words, " ")
}

// quote writes a word for a shell. Variables that stand for tokens stay what they are.
func quote(word string) string {
	if rest, is := strings.CutPrefix(word, "$ADDRESS"); is {
		return `"$ADDRESS"` + quote(rest)
	}
	if before, after, has := strings.Cut(word, "$WICKETWAY_"); has {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "`", "\\`", "$", `\$`).Replace(before) + "$WICKETWAY_" + after + `"`
	}
	if word != "" && strings.Trim(word, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:=,@%+") == "" {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// A Maker makes the requests of a contract. It is not safe for concurrent use.
type Maker struct {
	d      *contract.Document
	values *contract.Values
	known  map[string]jsontext.Value // examples of parameters, by in and name: of other operations, where one has none
	found  map[string]*operation     // by method and path
	at     map[string]string         // values of parameters in paths that go before examples
}

// Of prepares the requests of a contract, which must not be changed meanwhile.
func Of(d *contract.Document) *Maker {
	m := &Maker{d: d, values: d.Values(), known: map[string]jsontext.Value{}, found: map[string]*operation{}}
	contract.Each(d, func(_ string, p *contract.Parameter) {
		for _, e := range p.Examples.All() {
			if key := p.In + " " + p.Name; m.known[key] == nil && e.Value != nil {
				m.known[key] = e.Value
			}
		}
	})
	return m
}

// At is a maker that puts values into paths instead of examples, by the names of parameters: those of a thing that is there.
// It is not to be used at the same time as the other one.
func (m *Maker) At(values map[string]string) *Maker {
	other := *m
	other.at = values
	return &other
}

// An operation, with what is sent to it.
type operation struct {
	*contract.Operation
	*Maker
	item       *contract.PathItem
	method     string
	path       string
	parameters []*contract.Parameter
	example    string // the name of the one that is shown
	media      string // of the body
	streams    bool   // it is one of items, which are read one by one
	body       contract.MediaType
	edges      []place // where values can be others
	placed     bool    // the edges are found
}

// find finds an operation by its method and path template.
func (m *Maker) find(method, path string) (*operation, error) {
	key := strings.ReplaceAll(path, "{+", "{")
	if known := m.found[method+" "+key]; known != nil {
		o := *known
		o.Maker = m
		return &o, nil
	}
	item, has := m.d.Paths.Get(key)
	if !has {
		return nil, fmt.Errorf("the contract has no path %s", path)
	}
	if item.Ref != "" {
		to, err := contract.Resolve[contract.PathItem](m.d, item.Ref)
		if err != nil {
			return nil, err
		}
		item = to
	}
	for name, found := range item.Operations() {
		if name != method {
			continue
		}
		o := &operation{Operation: found, Maker: m, item: item, method: method, path: key}
		o.read()
		m.found[method+" "+key] = o
		return o, nil
	}
	return nil, fmt.Errorf("the contract has no operation %s %s", method, path)
}

// read gathers what the operation reads, and the example that its values are of.
func (o *operation) read() {
	for _, p := range slices.Concat(o.item.Parameters, o.Parameters) {
		o.parameters = append(o.parameters, contract.Referred(o.d, p))
	}
	if b := o.RequestBody; b != nil {
		for media, m := range contract.Referred(o.d, b).Content.All() {
			_, own := m.More.Get(contract.ItemKey)
			o.streams = o.streams || own || !m.Item.IsZero()
			if o.media == "" || rank(media) < rank(o.media) {
				o.media, o.body = media, m
			}
		}
	}
	for name := range o.body.Examples.All() {
		o.example = name
		return
	}
	for _, p := range o.parameters {
		for name := range p.Examples.All() {
			o.example = name
			return
		}
	}
}

// rank says which media type is sent where several can be: JSON first, then forms.
func rank(media string) int {
	switch {
	case isJSON(media):
		return 0
	case isForm(media):
		return 1
	case strings.HasPrefix(media, multipartForm):
		return 2
	}
	return 3
}

func isJSON(media string) bool {
	media, _, _ = strings.Cut(media, ";")
	return media == "application/json" || strings.HasSuffix(media, "+json")
}

// shown is the value that an example has; nil where none has one.
func (o *operation) shown(one jsontext.Value, all contract.Map[*contract.Example]) jsontext.Value {
	if e, has := all.Get(o.example); has {
		return contract.Referred(o.d, e).Value
	}
	return one
}

// Good makes a request that must succeed, as far as the contract says: of its examples, or of values that are made by the
// rules. What is optional and has no example is left out.
func (m *Maker) Good(method, path string) (Request, error) {
	o, err := m.find(method, path)
	if err != nil {
		return Request{}, err
	}
	return o.good(nil)
}

// good makes the good request, with other values for some parameters: nil leaves one out.
func (o *operation) good(other map[*contract.Parameter]*string) (Request, error) {
	r := Request{Method: o.method, Target: o.path}
	query := url.Values{}
	for _, p := range o.parameters {
		text, has, err := o.value(p)
		if instead, is := other[p]; is {
			if has = instead != nil; has {
				text = *instead
			}
		} else if err != nil {
			return r, err
		}
		if !has && p.In != "path" {
			continue
		}
		switch p.In {
		case "path":
			r.Target = strings.ReplaceAll(r.Target, "{"+p.Name+"}", url.PathEscape(text))
		case "query":
			query.Set(p.Name, text)
		case "header":
			r.Header = append(r.Header, Field{p.Name, text})
		case "cookie":
			r.Header = append(r.Header, Field{"Cookie", p.Name + "=" + text})
		}
	}
	if len(query) > 0 {
		r.Target += "?" + query.Encode()
	}
	r.Header = append(o.credentials(Token), r.Header...)
	if o.media == "" {
		return r, nil
	}
	body, err := o.carried()
	if err != nil {
		return r, err
	}
	o.put(&r, body)
	return r, nil
}

// carried is the value that the body of a good request has.
func (o *operation) carried() (jsontext.Value, error) {
	if body := o.shown(o.body.Example, o.body.Examples); body != nil {
		return body, nil
	}
	if o.body.Schema.IsZero() {
		return jsontext.Value(`"text"`), nil
	}
	made, has := o.values.Sample(o.body.Schema)
	if !has {
		return nil, fmt.Errorf("no body for %s %s can be made by its schema", o.method, o.path)
	}
	return made, nil
}

func compact(value jsontext.Value) jsontext.Value {
	value = value.Clone()
	value.Compact()
	return value
}

// value is what a parameter is sent as, if it is.
func (o *operation) value(p *contract.Parameter) (text string, has bool, err error) {
	if text, has := o.at[p.Name]; has && p.In == "path" {
		return text, true, nil
	}
	value := o.shown(p.Example, p.Examples)
	if value == nil && !p.Required {
		return "", false, nil
	}
	if known := o.known[p.In+" "+p.Name]; value == nil && known != nil && o.values.Has(p.Schema, known) {
		value = known
	}
	if value == nil {
		if value, has = o.values.Sample(p.Schema); !has {
			return "", false, fmt.Errorf("no value for the parameter %s of %s %s can be made by its schema", p.Name, o.method, o.path)
		}
	}
	return written(value), true, nil
}

// written is a value as a parameter has it: single values as texts, lists with commas.
func written(value jsontext.Value) string {
	var text string
	var all []jsontext.Value
	switch {
	case json.Unmarshal(value, &text) == nil:
		return text
	case json.Unmarshal(value, &all) == nil:
		var texts []string
		for _, one := range all {
			texts = append(texts, written(one))
		}
		return strings.Join(texts, ",")
	}
	return string(compact(value))
}

// credentials are those of the first way to be known: a token in its place.
func (o *operation) credentials(token string) (all []Field) {
	requirements := o.d.Security
	if o.Security != nil {
		requirements = *o.Security
	}
	if len(requirements) == 0 || slices.ContainsFunc(requirements, func(r contract.Requirement) bool { return r.Len() == 0 }) {
		return nil
	}
	for name := range requirements[0].All() {
		s, err := contract.Resolve[contract.SecurityScheme](o.d, "#/components/securitySchemes/"+name)
		switch {
		case err != nil:
		case s.Type == "apiKey" && s.In == "header":
			all = append(all, Field{s.Name, token})
		case s.Type == "apiKey" && s.In == "cookie":
			all = append(all, Field{"Cookie", s.Name + "=" + token})
		case s.Type == "http" && strings.EqualFold(s.Scheme, "basic"):
			all = append(all, Field{"Authorization", "Basic " + token})
		default:
			all = append(all, Field{"Authorization", "Bearer " + token})
		}
	}
	return all
}

// GivesToken reports whether an operation gives a token to callers who have none (RFC 6749, 5.1).
func (m *Maker) GivesToken(method, path string) bool {
	o, err := m.find(method, path)
	if err != nil || method != "POST" || o.credentials(Token) != nil {
		return false
	}
	for status, r := range o.Responses.All() {
		for media, content := range contract.Referred(m.d, r).Content.All() {
			if strings.HasPrefix(status, "2") && isJSON(media) && m.values.Refuses(content.Schema, []byte(`{"token_type":"Bearer","expires_in":1}`)) &&
				!m.values.Refuses(content.Schema, []byte(`{"access_token":"a","token_type":"Bearer","expires_in":1}`)) {
				return true
			}
		}
	}
	return false
}

// asked are the scopes that the first way to be known needs.
func (o *operation) asked() (scopes []string) {
	requirements := o.d.Security
	if o.Security != nil {
		requirements = *o.Security
	}
	if len(requirements) > 0 {
		for _, all := range requirements[0].All() {
			scopes = append(scopes, all...)
		}
	}
	return scopes
}

// malformed is a token that is none, by the scheme.
func malformed(f Field) string {
	if strings.HasPrefix(f.Value, "Basic ") {
		return "Basic " + base64.StdEncoding.EncodeToString([]byte("none"))
	}
	return strings.NewReplacer(Token, "none").Replace(f.Value)
}

// codes are those of the problems that an operation can answer with a status.
func (o *operation) codes(status int) []string {
	r, has := o.Responses.Get(strconv.Itoa(status))
	if !has {
		return nil
	}
	r = contract.Referred(o.d, r)
	var codes []string
	for _, m := range r.Content.All() {
		alternatives := append(m.Schema.List("oneOf"), m.Schema)
		for _, one := range alternatives {
			if code := o.values.Constant(one, "code"); code != "" && !slices.Contains(codes, code) {
				codes = append(codes, code)
			}
		}
	}
	return codes
}

// declares reports whether the contract has a status, or its class.
func (o *operation) declares(status int) bool {
	_, has := o.Responses.Get(strconv.Itoa(status))
	_, class := o.Responses.Get(strconv.Itoa(status/100) + "XX")
	return has || class
}

// wants says what must come back: the first status that the contract has, and the code, where it has one of those that
// are known, or one alone.
func (o *operation) wants(r *Request, statuses []int, known ...string) bool {
	for _, status := range statuses {
		if !o.declares(status) {
			continue
		}
		r.Status = status
		codes := o.codes(status)
		for _, code := range known {
			if slices.Contains(codes, code) {
				r.Code = code
				return true
			}
		}
		if len(codes) == 1 {
			r.Code = codes[0]
		}
		return true
	}
	return false
}
