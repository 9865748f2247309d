package requests

import (
	"maps"
	"math/big"
	"math/rand/v2"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/internal/check"
)

// Drawn makes a good request with one value, which is drawn, at the edge of one of its rules. It may be wrong then, which
// [Request.Wrong] says; or the schemas may not decide that, which Unsure says.
func (m *Maker) Drawn(method, path string, draw *rand.Rand) (Request, error) {
	o, err := m.find(method, path)
	if err != nil {
		return Request{}, err
	}
	places := o.places()
	if len(places) == 0 {
		return o.good(nil)
	}
	at := places[draw.IntN(len(places))]
	if at.parameter != nil {
		return o.drawnParameter(at.parameter, drawing{o, draw})
	}
	return o.drawnMember(at, drawing{o, draw})
}

// Another makes a good request whose values are near those of the good one: for requests whose things must differ. Times
// are moved by whole days, so that a rule about the time of day still holds.
func (m *Maker) Another(method, path string, draw *rand.Rand) (Request, error) {
	o, err := m.find(method, path)
	if err != nil {
		return Request{}, err
	}
	good, err := o.good(nil)
	if err != nil || good.Body == nil {
		return good, err
	}
	body, err := o.carried()
	if err != nil {
		return good, err
	}
	d := drawing{o, draw}
	for _, at := range o.places() {
		if at.parameter != nil {
			continue
		}
		if near := d.near(at.schema, at.value); near != nil {
			if changed := replaced(body, at.tokens, near); o.values.Has(o.body.Schema, changed) {
				body = changed
			}
		}
	}
	r := without(good, "Content-Type")
	o.put(&r, body)
	return r, nil
}

// Like makes a good request that carries as much of a value as its schema takes: members of an object that others may have
// chosen. It may come into conflict with that.
func (m *Maker) Like(method, path string, value jsontext.Value) (Request, error) {
	o, err := m.find(method, path)
	if err != nil {
		return Request{}, err
	}
	good, err := o.good(nil)
	if err != nil || good.Body == nil {
		return good, err
	}
	body := jsontext.Value("{}")
	for name, one := range contract.SchemaOf(value).Members() {
		if more := replaced(body, []string{name}, one); o.values.Has(o.body.Schema, more) {
			body = more
		}
	}
	if !o.values.Has(o.body.Schema, body) {
		return good, nil
	}
	r := without(good, "Content-Type")
	o.put(&r, body)
	return r, nil
}

// Takes reports whether nothing that an operation requires is missing in a request, and its body is one that the schema
// accepts for certain.
func (m *Maker) Takes(method, path string, r Request) bool {
	o, err := m.find(method, path)
	if err != nil {
		return false
	}
	_, query, _ := strings.Cut(r.Target, "?")
	values, err := url.ParseQuery(query)
	if err != nil {
		return false
	}
	for _, p := range o.parameters {
		inHeader := slices.ContainsFunc(r.Header, func(f Field) bool { return strings.EqualFold(f.Name, p.Name) })
		if p.Required && (p.In == "query" && !values.Has(p.Name) || p.In == "header" && !inHeader) {
			return false
		}
	}
	if o.media == "" || !isJSON(o.media) {
		return o.media == "" || r.Body != nil
	}
	return jsontext.Value(r.Body).IsValid() && o.values.Has(o.body.Schema, r.Body)
}

// Refuses reports whether the body of a request is one that the schema refuses for certain.
func (m *Maker) Refuses(method, path string, r Request) bool {
	o, err := m.find(method, path)
	return err == nil && isJSON(o.media) && jsontext.Value(r.Body).IsValid() && o.values.Refuses(o.body.Schema, r.Body)
}

// A place is where a value can be another one: a parameter, or a member of the body.
type place struct {
	parameter *contract.Parameter
	tokens    []string // of the pointer to the member
	schema    contract.Schema
	value     jsontext.Value // that of the good request; nil where it has none
}

// places are those of an operation. They are found once.
func (o *operation) places() []place {
	if o.found[o.method+" "+o.path].placed {
		return o.found[o.method+" "+o.path].edges
	}
	var all []place
	for _, p := range o.parameters {
		if p.Content.Len() == 0 && !p.Schema.IsZero() {
			all = append(all, place{parameter: p, schema: o.d.Follow(p.Schema)})
		}
	}
	if body, err := o.carried(); err == nil && o.media != "" && !o.streams && rank(o.media) < 3 {
		all = append(all, o.below(nil, o.body.Schema, body)...)
	}
	kept := o.found[o.method+" "+o.path]
	kept.edges, kept.placed = all, true
	return all
}

// below are the members of a value, and what is in them.
func (o *operation) below(tokens []string, s contract.Schema, value jsontext.Value) (all []place) {
	s = o.d.Follow(s)
	if len(tokens) > deepest {
		return nil
	}
	switch value.Kind() {
	case jsontext.KindBeginObject:
		properties := s.Schemas("properties")
		for name, one := range properties.All() {
			if o.fileType(name, o.d.Follow(one)) != "" && !isJSON(o.media) {
				continue
			}
			has, _ := contract.SchemaOf(value).Get(name)
			at := append(slices.Clone(tokens), name)
			all = append(all, place{tokens: at, schema: o.d.Follow(one), value: has})
			if isJSON(o.media) && has != nil {
				all = append(all, o.below(at, one, has)...)
			}
		}
		if isJSON(o.media) {
			all = append(all, place{tokens: append(slices.Clone(tokens), "unknown")})
		}
	case jsontext.KindBeginArray:
		var items []jsontext.Value
		if json.Unmarshal(value, &items) == nil && len(items) > 0 {
			at := append(slices.Clone(tokens), "0")
			all = append(all, place{tokens: at, schema: o.d.Follow(s.One("items")), value: items[0]})
			all = append(all, o.below(at, s.One("items"), items[0])...)
		}
	}
	return all
}

// replaced is a value with another one somewhere in it; nil takes a member away.
func replaced(value jsontext.Value, tokens []string, by jsontext.Value) jsontext.Value {
	if len(tokens) == 0 {
		return by
	}
	var members map[string]jsontext.Value
	var items []jsontext.Value
	switch {
	case json.Unmarshal(value, &members) == nil:
		members = maps.Clone(members)
		if members[tokens[0]] = replaced(members[tokens[0]], tokens[1:], by); members[tokens[0]] == nil {
			delete(members, tokens[0])
		}
		text, _ := json.Marshal(members, json.Deterministic(true))
		return text
	case json.Unmarshal(value, &items) == nil && len(items) > 0:
		if items[0] = replaced(items[0], tokens[1:], by); items[0] == nil {
			items = items[1:]
		}
		text, _ := json.Marshal(items, json.Deterministic(true))
		return text
	}
	return value
}

// without is a request without a header field.
func without(r Request, name string) Request {
	r.Header = slices.DeleteFunc(slices.Clone(r.Header), func(f Field) bool { return f.Name == name })
	return r
}

func (o *operation) drawnMember(at place, d drawing) (Request, error) {
	good, err := o.good(nil)
	if err != nil {
		return good, err
	}
	body, err := o.carried()
	if err != nil {
		return good, err
	}
	value := d.value(at.schema, at.value)
	changed := replaced(body, at.tokens, value)
	r := without(good, "Content-Type")
	o.put(&r, changed)
	what := "the member /" + strings.Join(at.tokens, "/")
	_, onlyRead := at.schema.Get(check.TextKey)
	switch {
	case onlyRead && value.Kind() == jsontext.KindString:
		r.Unsure = true
	case o.values.Has(o.body.Schema, changed) && isJSON(o.media):
	case o.values.Refuses(o.body.Schema, changed) && isJSON(o.media):
		o.isWrong(&r, what+" is "+shortened(value))
	default:
		r.Unsure = true
	}
	return r, nil
}

func (o *operation) drawnParameter(p *contract.Parameter, d drawing) (Request, error) {
	s := o.d.Follow(p.Schema)
	value := d.value(s, nil)
	if value == nil && p.In == "path" {
		return o.good(nil)
	}
	var text *string
	if value != nil {
		written := written(value)
		if !canBe(p.In, written) {
			return o.good(nil)
		}
		text = &written
	}
	r, err := o.good(map[*contract.Parameter]*string{p: text})
	if err != nil {
		return r, err
	}
	switch read, is := o.readAs(s, text); {
	case text == nil && !p.Required:
	case text == nil:
		o.isWrong(&r, p.In+" "+p.Name+" is left out")
	case is && o.values.Has(p.Schema, read):
	case is && o.values.Refuses(p.Schema, read):
		o.isWrong(&r, p.In+" "+p.Name+" is "+shortened(read))
	default:
		r.Unsure = true
	}
	return r, nil
}

// canBe reports whether a text can be sent as a value there, and arrives as it is.
func canBe(in, text string) bool {
	switch in {
	case "path":
		return text != "" && text != "." && text != ".." && !strings.ContainsAny(text, "/\\")
	case "header", "cookie":
		outside := func(c rune) bool { return c < 0x21 || c > 0x7e || in == "cookie" && strings.ContainsRune(`",;\`, c) }
		return text != "" && !strings.ContainsFunc(text, outside)
	}
	return true
}

// readAs is the value that a text stands for in a parameter; false where servers may differ about that.
func (o *operation) readAs(s contract.Schema, text *string) (jsontext.Value, bool) {
	types := s.Types()
	if _, onlyRead := s.Get(check.TextKey); onlyRead {
		return nil, false
	}
	if text == nil || *text == "" || len(types) == 0 || slices.Contains(types, "array") || slices.Contains(types, "object") {
		return nil, false
	}
	quoted, _ := jsontext.AppendQuote(nil, *text)
	if slices.Contains(types, "string") {
		return quoted, true
	}
	if as := jsontext.Value(*text); as.IsValid() {
		kind := as.Kind()
		return as, kind != jsontext.KindString && !strings.ContainsAny(*text, "eE. ")
	}
	return quoted, strings.Trim(*text, "0123456789+-.eE ") != ""
}

// isWrong says what must come back for a value that breaks a rule: which of two statuses is left open, since a value that
// is drawn may be one that cannot even be read.
func (o *operation) isWrong(r *Request, what string) {
	r.Wrong = what
	for _, status := range []int{422, 400} {
		if has := o.declares(status); has && r.Status == 0 {
			r.Status = status
		} else if has {
			r.Or = status
		}
	}
	r.Unsure = r.Status == 0
}

// shortened is a value as it is told.
func shortened(value jsontext.Value) string {
	if value == nil {
		return "left out"
	}
	text := []rune(string(value))
	if len(text) > 40 {
		return string(text[:40]) + "..."
	}
	return string(text)
}

// A drawing draws values.
type drawing struct {
	*operation
	*rand.Rand
}

func oneOf[T any](d drawing, all ...T) T { return all[d.IntN(len(all))] }

// value draws one at an edge of a schema; nil leaves it out.
func (d drawing) value(s contract.Schema, good jsontext.Value) jsontext.Value {
	switch d.IntN(12) {
	case 0:
		return nil
	case 1:
		return jsontext.Value("null")
	case 2:
		return oneOf(d, jsontext.Value(`"text"`), jsontext.Value("7"), jsontext.Value("true"), jsontext.Value("[]"), jsontext.Value("{}"))
	}
	if alternatives := slices.Concat(s.List("oneOf"), s.List("anyOf"), s.List("allOf")); len(alternatives) > 0 && d.IntN(2) == 0 {
		s = d.d.Follow(oneOf(d, alternatives...))
	}
	if all := listIn(s, "enum"); all != nil && d.IntN(2) == 0 {
		return oneOf(d, all...)
	}
	types := s.Types()
	if len(types) == 0 {
		types = []string{"string", "integer", "boolean", "null", "object", "array"}
	}
	switch oneOf(d, types...) {
	case "integer", "number":
		return d.number(s)
	case "string":
		return d.text(s, good)
	case "array":
		return d.list(s, good)
	case "boolean":
		return oneOf(d, jsontext.Value("true"), jsontext.Value("false"))
	case "object":
		if made, has := d.values.Sample(s); has {
			return made
		}
		return jsontext.Value("{}")
	}
	return jsontext.Value("null")
}

func listIn(s contract.Schema, keyword string) (all []jsontext.Value) {
	value, _ := s.Get(keyword)
	if value.Kind() != jsontext.KindBeginArray || json.Unmarshal(value, &all) != nil {
		return nil
	}
	return all
}

// number draws one beside a bound, or one that programs are known to stumble over.
func (d drawing) number(s contract.Schema) jsontext.Value {
	var edges []string
	for _, keyword := range []string{"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "default"} {
		bound, has := s.Get(keyword)
		n, is := new(big.Rat).SetString(string(bound))
		if !has || !is || len(bound) > 40 {
			continue
		}
		for _, by := range []int64{-1, 0, 1} {
			one := new(big.Rat).Add(n, big.NewRat(by, 1))
			if text := one.RatString(); one.IsInt() {
				edges = append(edges, text)
			} else {
				edges = append(edges, one.FloatString(4))
			}
		}
	}
	if edges == nil || d.IntN(2) == 0 {
		edges = []string{"0", "-1", "1", "1.5", "9007199254740993", "9223372036854775808", "1e400"}
	}
	return jsontext.Value(oneOf(d, edges...))
}

// letters are what texts are drawn of: of one to four bytes, and such that have a meaning somewhere.
var letters = []string{"a", "Z", "7", " ", "é", "漢", "😀", "'", `"`, `\`, "<", "&", "%", ";", "\t", "-"}

// text draws one with as many letters as a bound has, or one more or less.
func (d drawing) text(s contract.Schema, good jsontext.Value) jsontext.Value {
	if s.String("format") != "" && d.IntN(2) == 0 {
		return quoted(oneOf(d, ofFormats...))
	}
	var was string
	if json.Unmarshal(good, &was) != nil {
		if made, has := d.values.Sample(s); has {
			json.Unmarshal(made, &was)
		}
	}
	var lengths []int
	for _, keyword := range []string{"minLength", "maxLength"} {
		bound, has := s.Get(keyword)
		if n, err := strconv.Atoi(string(bound)); has && err == nil && n < 1<<16 {
			lengths = append(lengths, n-1, n, n+1)
		}
	}
	if lengths == nil || s.String("pattern") != "" || d.IntN(4) == 0 {
		return quoted(oneOf(d, was, d.similar(was), d.similar(was), was+oneOf(d, letters...), oneOf(d, letters...)+was, strings.ToUpper(was), "", was+was,
			strings.Repeat(oneOf(d, letters...), 300)))
	}
	var b strings.Builder
	for range oneOf(d, lengths...) {
		b.WriteString(oneOf(d, letters...))
	}
	return quoted(b.String())
}

// similar is a text with other letters and digits in the same places: one that a pattern is likely to take as well.
func (d drawing) similar(text string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case '0' <= c && c <= '9':
			return '0' + rune(d.IntN(10))
		case 'a' <= c && c <= 'z':
			return 'a' + rune(d.IntN(26))
		case 'A' <= c && c <= 'Z':
			return 'A' + rune(d.IntN(26))
		}
		return c
	}, text)
}

func quoted(text string) jsontext.Value {
	value, _ := jsontext.AppendQuote(nil, text)
	return value
}

// ofFormats are texts that look like those of a format, some of which are.
var ofFormats = []string{
	"2027-02-28T23:59:59Z", "2027-02-29T00:00:00Z", "2028-02-29T00:00:00+14:00", "2027-05-04T09:30:00.123456789Z", "2027-05-04 09:30:00Z",
	"2027-05-04T24:00:00Z", "0000-01-01T00:00:00Z", "9999-12-31T23:59:59-12:00", "2027-05-04", "2027-13-01", "09:30:00Z", "P1D", "P0Y",
	"6f1c8f0e-8d8f-4c59-9a3e-0f6a1e5b7c21", "6F1C8F0E8D8F4C599A3E0F6A1E5B7C21", "grebe@canal.example", "grebe", "https://canal.example/a?b#c",
	"//", "127.0.0.1", "::1", "256.1.1.1", "canal.example", "-canal.example",
}

// list draws one with as many items as a bound has, or one more or less.
func (d drawing) list(s contract.Schema, good jsontext.Value) jsontext.Value {
	lengths := []int{0, 1, 2}
	for _, keyword := range []string{"minItems", "maxItems"} {
		bound, has := s.Get(keyword)
		if n, err := strconv.Atoi(string(bound)); has && err == nil && n < 1<<12 {
			lengths = append(lengths, n-1, n, n+1)
		}
	}
	var items []jsontext.Value
	json.Unmarshal(good, &items)
	if len(items) == 0 {
		if made, has := d.values.Sample(s.One("items")); has {
			items = append(items, made)
		}
	}
	if len(items) == 0 {
		return jsontext.Value("[]")
	}
	var all []jsontext.Value
	for i := range max(0, oneOf(d, lengths...)) {
		all = append(all, items[i%len(items)])
	}
	if all == nil {
		return jsontext.Value("[]")
	}
	text, _ := json.Marshal(all)
	return text
}

// near is a value beside one; nil where it stays as it is.
func (d drawing) near(s contract.Schema, value jsontext.Value) jsontext.Value {
	if value == nil || listIn(s, "enum") != nil {
		return nil
	}
	var text string
	switch {
	case value.Kind() == jsontext.KindNumber:
		n, is := new(big.Rat).SetString(string(value))
		if !is || !n.IsInt() {
			return nil
		}
		return jsontext.Value(n.Add(n, big.NewRat(int64(d.IntN(7)-3), 1)).RatString())
	case json.Unmarshal(value, &text) != nil || text == "":
		return nil
	}
	for _, layout := range []string{time.RFC3339, time.DateTime, "2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly} {
		if at, err := time.Parse(layout, text); err == nil {
			return quoted(at.AddDate(0, 0, 1+d.IntN(3000)).Format(layout))
		}
	}
	if d.IntN(2) == 0 {
		return nil
	}
	if s.String("pattern") != "" {
		return quoted(d.similar(text))
	}
	return quoted(text + "-" + strconv.Itoa(d.IntN(1_000_000)))
}
