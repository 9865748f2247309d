package requests

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
)

// Wrong makes the requests that have one fault each, in the order in which faults are found: the method, the caller, the media
// type, the body as a whole, parameters, and members. Faults that the contract has no status for are left out.
func (m *Maker) Wrong(method, path string) ([]Request, error) {
	o, err := m.find(method, path)
	if err != nil {
		return nil, err
	}
	good, err := o.good(nil)
	if err != nil {
		return nil, err
	}
	w := wrongs{operation: o, good: good}
	w.ofMethod()
	w.ofCaller()
	w.ofMedia()
	if err := w.ofParameters(); err != nil {
		return nil, err
	}
	w.ofBody()
	return w.all, nil
}

type wrongs struct {
	*operation
	good Request
	all  []Request
}

// add adds a request with one fault, if the contract says what must come back.
func (w *wrongs) add(r Request, what string, statuses []int, known ...string) {
	r.Header = slices.Clone(r.Header)
	if r.Wrong = what; w.wants(&r, statuses, known...) {
		w.all = append(w.all, r)
	}
}

// with is the good request with another value of a header field; "" leaves it out.
func (w *wrongs) with(name, value string) Request {
	r := w.good
	r.Header = nil
	for _, f := range w.good.Header {
		if f.Name == name {
			if f.Value = value; value == "" {
				continue
			}
		}
		r.Header = append(r.Header, f)
	}
	return r
}

// ofMethod sends a method that the path does not have.
func (w *wrongs) ofMethod() {
	has := map[string]bool{}
	for method := range w.item.Operations() {
		has[method] = true
	}
	for _, method := range []string{"PATCH", "PUT", "DELETE"} {
		if !has[method] && !has["*"] {
			r := w.good
			r.Method, r.Status, r.Wrong = method, 405, "the method "+method+", which the path does not have"
			w.all = append(w.all, r)
			return
		}
	}
}

// ofCaller sends no credentials, some that are none, some that grant nothing, and those of another caller. For them a thing
// is not there that is the first one's own; whether it is, no contract says.
func (w *wrongs) ofCaller() {
	credentials := w.credentials(Token)
	if len(credentials) == 0 {
		return
	}
	f := credentials[0]
	if w.add(w.with(f.Name, ""), "no credentials", []int{401}, "token-missing"); !w.declares(401) {
		r := w.with(f.Name, "") // which a contract need not say
		r.Status, r.Wrong = 401, "no credentials"
		w.all = append(w.all, r)
	}
	w.add(w.with(f.Name, malformed(f)), "malformed credentials", []int{401}, "token-malformed")
	if scopes := w.asked(); scopes != nil {
		value := strings.Replace(f.Value, Token, TokenWithoutScopes, 1)
		w.add(w.with(f.Name, value), "without the scope "+strings.Join(scopes, ", "), []int{403}, "scope-missing")
	}
	if !strings.Contains(w.path, "{") {
		return
	}
	r := w.with(f.Name, strings.Replace(f.Value, Token, OtherToken, 1))
	for status := range w.Responses.All() {
		if n, err := strconv.Atoi(status); err == nil && n < 400 && (r.Or == 0 || n < r.Or) {
			r.Or = n
		}
	}
	w.add(r, "another caller's", []int{404})
}

func (w *wrongs) ofMedia() {
	if w.good.Body == nil {
		return
	}
	w.add(w.with("Content-Type", "text/plain"), "the media type text/plain", []int{415}, "unsupported-media-type")
	if w.streams || !isJSON(w.media) {
		return
	}
	r := w.good
	r.Body = []byte("{")
	w.add(r, "a body that is not JSON", []int{400, 422}, "input-unreadable")
}

// faults adds a request whose value is of another type, or breaks a rule.
func (w *wrongs) faults(r Request, what string, b broken) {
	if b.either {
		r.Wrong = strings.TrimSpace(what + " " + b.what)
		for _, status := range []int{422, 400} {
			if has := w.declares(status); has && r.Status == 0 {
				r.Status = status
			} else if has {
				r.Or = status
			}
		}
		if r.Status != 0 {
			w.all = append(w.all, r)
		}
		return
	}
	if b.unreadable {
		w.add(r, what+" "+b.what, []int{400, 422}, "input-unreadable", "input-invalid")
		return
	}
	w.add(r, strings.TrimSpace(what+" "+b.what), []int{422, 400}, "input-invalid")
}

// ofParameters breaks each rule of each parameter.
func (w *wrongs) ofParameters() error {
	for _, p := range w.parameters {
		if p.Content.Len() > 0 {
			continue
		}
		what := p.In + " " + p.Name
		if p.Required && p.In != "path" {
			r, err := w.operation.good(map[*contract.Parameter]*string{p: nil})
			if err != nil {
				return err
			}
			w.faults(r, what, broken{what: "is left out"})
		}
		for _, b := range w.breaks(p.Schema, true) {
			text := written(b.value)
			if p.In == "path" && (text == "" || strings.Contains(text, "/")) || p.In == "header" && (text == "" || strings.TrimSpace(text) != text) {
				continue // it would be another path, or another value
			}
			r, err := w.operation.good(map[*contract.Parameter]*string{p: &text})
			if err != nil {
				return err
			}
			w.faults(r, what, b)
		}
	}
	return nil
}

// A broken rule, and a value that breaks it alone.
type broken struct {
	what       string
	value      jsontext.Value
	unreadable bool // it is of another type
	either     bool // or may be so: texts of a format can be a type
}

// rules are keywords that values of a schema can break.
var rules = []string{"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "minLength", "maxLength", "pattern", "format", "enum",
	"const", "minItems", "maxItems", "uniqueItems", "minProperties", "maxProperties"}

// ofTypes are the bounds of the types of whole numbers: a number beyond them is not one of the type.
var ofTypes = []string{"-9223372036854775808", "9223372036854775807", "18446744073709551615", "-2147483648", "2147483647", "4294967295",
	"-32768", "32767", "65535", "-128", "127", "255"}

// breaks are values that break one rule of a schema each. Of texts everything can be written, so that numbers are the only
// ones of another type.
func (w *wrongs) breaks(s contract.Schema, isText bool) (all []broken) {
	s = w.d.Follow(s)
	for _, keyword := range rules {
		value, has := s.Get(keyword)
		if !has {
			continue
		}
		if v, found := w.values.Difference(s.Without(keyword), s); found {
			all = append(all, broken{fmt.Sprintf("breaks %s (%s)", keyword, compact(value)), v, slices.Contains(ofTypes, string(value)), keyword == "format"})
		}
	}
	others := []string{`"text"`, "7", "true", "[]", "{}"}
	if isText {
		if types := s.Types(); slices.Contains(types, "string") || len(types) == 0 || slices.Contains(types, "array") {
			return all
		}
		others = others[:1]
	}
	for _, other := range others {
		if of, has := s.Get("type"); has && !w.values.Has(contract.SchemaOf(jsontext.Value(`{"type":`+string(of)+`}`)), jsontext.Value(other)) {
			return append(all, broken{"is of another type (" + strings.Join(s.Types(), ", ") + ")", jsontext.Value(other), true, false})
		}
	}
	return all
}

// ofBody breaks each rule of each member.
func (w *wrongs) ofBody() {
	carried, err := w.carried()
	if w.good.Body == nil || err != nil {
		return
	}
	w.members("", w.body.Schema, carried, func(body jsontext.Value, what string, b broken) {
		r := w.with("Content-Type", "")
		w.put(&r, body)
		w.faults(r, what, b)
	}, 0)
}

// deepest is how far members are followed.
const deepest = 4

// members breaks what is said of an object and of its members. Put gives the body with another value in the place of this
// one.
func (w *wrongs) members(pointer string, s contract.Schema, value jsontext.Value, put func(jsontext.Value, string, broken), depth int) {
	s = w.d.Follow(s)
	var has map[string]jsontext.Value
	if depth > deepest || json.Unmarshal(value, &has) != nil || has == nil {
		return
	}
	with := func(name string, one jsontext.Value) jsontext.Value {
		changed := maps.Clone(has)
		if changed[name] = one; one == nil {
			delete(changed, name)
		}
		text, err := json.Marshal(changed, json.Deterministic(true))
		if err != nil {
			return nil
		}
		return text
	}
	required, _ := s.Get("required")
	var names []string
	json.Unmarshal(required, &names)
	for _, name := range names {
		if _, is := has[name]; is {
			put(with(name, nil), "the member "+pointer+"/"+name, broken{what: "is left out"})
		}
	}
	properties := s.Schemas("properties")
	for name, one := range properties.All() {
		at := pointer + "/" + name
		if w.fileType(name, w.d.Follow(one)) != "" && !isJSON(w.media) {
			continue // of bytes no rule is written in a schema
		}
		for _, b := range w.breaks(one, !isJSON(w.media)) {
			put(with(name, b.value), "the member "+at, b)
		}
		if inner, is := has[name]; is {
			w.members(at, one, inner, func(changed jsontext.Value, what string, b broken) { put(with(name, changed), what, b) }, depth+1)
		}
	}
	if more, has := s.Get("additionalProperties"); has && string(more) == "false" {
		put(with("unknown"+strconv.Itoa(depth), jsontext.Value("1")), "the member "+pointer+"/unknown"+strconv.Itoa(depth), broken{what: "is not known"})
	}
}
