package contract

import (
	"cmp"
	"fmt"
	"iter"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/route"
)

// Versioned is the contract of one version of an API.
type Versioned struct {
	Name     string // "" for an API without versions
	Prefix   string // of its paths, where that chooses the version
	Document *Document
}

// Versions makes the contracts of all versions that a description has listed routes of, in their order; for an API without
// versions one without a name.
func Versions(api facts.API) (all []Versioned, err error) {
	for _, r := range api.Routes {
		if r.Own || r.Unlisted || r.Version == "" || slices.ContainsFunc(all, func(v Versioned) bool { return v.Name == r.Version }) {
			continue
		}
		one := Versioned{Name: r.Version}
		if c := r.Chosen; c != nil && c.Field == "" {
			one.Prefix = strings.TrimSuffix(c.Under, "/") + "/" + r.Version
		}
		all = append(all, one)
	}
	if all == nil {
		all = []Versioned{{}}
	}
	for i := range all {
		if all[i].Document, err = Of(api, all[i].Name); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// Of makes the contract of one version from a description: of its routes, and of those that are outside of all versions.
// The version "" has the latter alone. Routes of Wicketway's own, those that have been withdrawn, and those that are
// Unlisted (facts.Route) are not in it. The same description gives the same document.
func Of(api facts.API, version string) (*Document, error) {
	var known []string
	m := making{api: api, version: version, fields: map[string]facts.Field{}, kinds: map[string]facts.Kind{},
		paths: map[string]string{}, ids: map[string]int{}}
	for _, r := range api.Routes {
		if r.Version != "" && !slices.Contains(known, r.Version) {
			known = append(known, r.Version)
		}
		if (r.Version == version || r.Version == "") && !r.Own && !r.Withdrawn && !r.Unlisted {
			m.routes = append(m.routes, r)
		}
	}
	if version != "" && !slices.Contains(known, version) || version == "" && m.routes == nil {
		return nil, fmt.Errorf(
			"version %q does not exist; available: %s",
			version,
			cmp.Or(strings.Join(known, ", "), "none"),
		)
	}
	for _, f := range api.Fields {
		m.fields[f.Name] = f
	}
	for _, k := range api.Problems {
		m.kinds[k.Code] = k
	}
	return m.document(), nil
}

// A making is one document that is made.
type making struct {
	api     facts.API
	version string
	routes  []facts.Route
	fields  map[string]facts.Field
	kinds   map[string]facts.Kind // by code
	doc     *Document
	parts   *Components
	paths   map[string]string // the key of a template, by its shape
	ids     map[string]int    // how often an operation has a name
	raised  map[string]bool   // the codes that the document has
	calls   map[string]string // the names of operations, by METHOD PATH
	leads   []leading
}

func (m *making) document() *Document {
	m.parts, m.raised, m.calls = new(Components), map[string]bool{}, map[string]string{}
	m.doc = &Document{OpenAPI: Version, Info: Info{Title: m.api.Title, Version: m.api.Version}, Components: m.parts}
	m.doc.was = Version
	m.doc.Info.Description = m.api.Description
	for _, url := range m.api.Servers {
		m.doc.Servers = append(m.doc.Servers, Server{URL: url})
	}
	for _, r := range m.routes {
		m.route(r)
	}
	m.links()
	m.tags()
	m.everywhere()
	m.schemas()
	m.problems()
	for _, g := range m.api.Guards {
		m.scheme(g)
	}
	m.scopes()
	m.samples()
	return m.doc
}

// ofEnds are the header fields of routes that end (RFC 9745, RFC 8594).
var ofEnds = []string{"Deprecation", "Sunset", "Link"}

// everywhere says which header fields the middleware of the routes can add to every answer.
func (m *making) everywhere() {
	var names []string
	for _, r := range m.routes {
		for _, one := range r.Chain {
			names = append(names, one.Sets...)
		}
		if r.Languages != nil {
			names = append(names, "Content-Language")
		}
		for _, a := range r.Answers {
			for _, name := range a.Fields {
				if slices.Contains(ofEnds, name) && r.Retirement != nil { // its problems say so as well
					names = append(names, name)
				}
			}
		}
	}
	var all jsonObject
	for _, name := range slices.Compact(slices.Sorted(slices.Values(names))) {
		var ref jsonObject
		ref.say("$ref", m.header(name).Ref)
		all.add(cmp.Or(spelled[name], name), ref.text())
	}
	m.doc.More.Set(FieldsKey, all.text())
}

var parameter = regexp.MustCompile(`\{\+?[^}]*\}`)

// item is the path item of a route, and the names of its parameters there: of templates that match the same, the first
// gives its names.
func (m *making) item(r facts.Route) (*PathItem, []string) {
	key := strings.ReplaceAll(r.Path, "{+", "{")
	shape := parameter.ReplaceAllString(key, "{}")
	if m.paths[shape] == "" {
		m.paths[shape] = key
		item := new(PathItem)
		if key != r.Path {
			item.More.Set(pathKey, text(r.Path))
		}
		m.doc.Paths.Set(key, item)
	}
	key = m.paths[shape]
	item, _ := m.doc.Paths.Get(key)
	template, err := route.Parse(key)
	if err != nil {
		return item, nil // it has been parsed before
	}
	return item, template.Names()
}

// text is a string as JSON.
func text(s string) jsontext.Value {
	quoted, _ := jsontext.AppendQuote(nil, s)
	return quoted
}

// Members of our own, for what OpenAPI 3.1 has no words for.
const (
	// othersKey is in a path item, with the operations of methods that OpenAPI has no member for; * is every method that
	// has none of its own.
	othersKey = "x-wicketway-methods"
	// ItemKey is in a media type, with the schema of each item of a stream.
	ItemKey = "x-wicketway-item"
	// OpenKey is in an answer whose status, media type and header fields can be others.
	OpenKey = "x-wicketway-open"
	// sunsetKey is in an operation that ends, with the time (RFC 3339); see [Operation.Sunset].
	sunsetKey = "x-wicketway-sunset"
	// deprecatedKey is in an operation that is deprecated, with the time since when; see [Operation.DeprecatedSince].
	deprecatedKey = "x-wicketway-deprecated"
	// pathKey is in a path item whose template has an operator of RFC 6570, 3.2; see [PathItem.Template].
	pathKey = "x-wicketway-path"
	// FieldsKey is in every document that is made of a description, with the header fields that middleware can add to every
	// answer.
	FieldsKey = "x-wicketway-fields"
)

func (m *making) route(r facts.Route) {
	item, names := m.item(r)
	o := m.operation(r, names)
	m.calls[r.Method+" "+r.Path] = o.ID
	if to := item.Operation(r.Method); to != nil {
		*to = o
		return
	}
	var all jsonObject
	if there, has := item.More.Get(othersKey); has {
		for name, value := range (SchemaOf(there)).Members() {
			all.add(name, value)
		}
	}
	all.add(cmp.Or(r.Method, "*"), o.text())
	item.More.Set(othersKey, all.text())
}

// Operation is the place of a method's operation; nil for methods that OpenAPI 3.1 has no member for.
func (p *PathItem) Operation(method string) **Operation {
	switch method {
	case "GET":
		return &p.Get
	case "PUT":
		return &p.Put
	case "POST":
		return &p.Post
	case "DELETE":
		return &p.Delete
	case "OPTIONS":
		return &p.Options
	case "HEAD":
		return &p.Head
	case "PATCH":
		return &p.Patch
	case "TRACE":
		return &p.Trace
	}
	return nil
}

// Sunset is when the operation ends (RFC 8594); the zero Time where the contract does not say.
func (o *Operation) Sunset() time.Time { return o.time(sunsetKey) }

// DeprecatedSince is when the operation was deprecated, or will be (RFC 9745); the zero Time where the contract does not say.
func (o *Operation) DeprecatedSince() time.Time { return o.time(deprecatedKey) }

func (o *Operation) time(key string) (at time.Time) {
	said, _ := o.More.Get(key)
	at, _ = time.Parse(time.RFC3339, textIn(said))
	return at
}

// Template is the path template under a key of a document's paths: one of Wicketway's where the contract has that, in which
// a parameter can take the rest of a path.
func (p *PathItem) Template(key string) string {
	said, _ := p.More.Get(pathKey)
	return cmp.Or(textIn(said), key)
}

// textIn is a JSON string; "" for any other value.
func textIn(value jsontext.Value) (s string) {
	if value.Kind() == jsontext.KindString {
		json.Unmarshal(value, &s)
	}
	return s
}

// Operations gives those of a path by their methods; * is every method that has none of its own.
func (p *PathItem) Operations() iter.Seq2[string, *Operation] {
	return func(yield func(string, *Operation) bool) {
		for _, method := range methods {
			if o := *p.Operation(method); o != nil && !yield(method, o) {
				return
			}
		}
		for method, o := range p.Additional.All() {
			if !yield(method, o) {
				return
			}
		}
		others, _ := p.More.Get(othersKey)
		for method, text := range (SchemaOf(others)).Members() {
			o := new(Operation)
			if readPart(text, o) == nil && !yield(method, o) {
				return
			}
		}
	}
}

// methods are those that OpenAPI 3.1 has members for.
var methods = []string{"GET", "PUT", "POST", "DELETE", "OPTIONS", "HEAD", "PATCH", "TRACE"}

func (m *making) operation(r facts.Route, names []string) *Operation {
	o := &Operation{ID: m.id(r), Summary: r.Summary, Description: r.Description, Tags: r.Tags}
	if o.Tags == nil {
		if tag := m.tag(r); tag != "" {
			o.Tags = []string{tag}
		}
	}
	if r.Retirement != nil {
		if since := r.Retirement.Deprecated; !since.IsZero() {
			o.Deprecated = true
			o.More.Set(deprecatedKey, text(since.UTC().Format(time.RFC3339)))
		}
		if end := r.Retirement.Sunset; !end.IsZero() {
			o.More.Set(sunsetKey, text(end.UTC().Format(time.RFC3339)))
		}
	}
	m.parameters(o, r, names)
	m.body(o, r)
	m.answers(o, r)
	m.raises(o, r)
	m.security(o, r)
	m.unwritten(o, r)
	for _, e := range r.Examples {
		m.example(o, e)
	}
	if r.Formats != nil {
		o.More.Set("x-wicketway-formats", formats(*r.Formats))
	}
	return o
}

var notInID = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// id is the name of an operation: that of its route, or one made of method and path.
func (m *making) id(r facts.Route) string {
	id := r.Name
	if id == "" {
		id = strings.Trim(strings.ToLower(cmp.Or(r.Method, "any"))+notInID.ReplaceAllString(r.Path, "-"), "-")
	}
	m.ids[id]++
	if n := m.ids[id]; n > 1 {
		id = fmt.Sprintf("%s-%d", id, n)
	}
	return id
}

// tag is the first text of the path within its version.
func (m *making) tag(r facts.Route) string {
	path := r.Path
	if r.Chosen != nil {
		path = strings.TrimPrefix(path, strings.TrimSuffix(r.Chosen.Under, "/"))
		path = strings.TrimPrefix(path, "/"+r.Version)
	}
	for segment := range strings.SplitSeq(strings.Trim(path, "/"), "/") {
		if segment != "" && !strings.Contains(segment, "{") {
			return segment
		}
	}
	return ""
}

// anyText is the schema of a value of which no more is known.
var anyText = SchemaOf(jsontext.Value(`{"type":"string"}`))

// said are header fields that OpenAPI says elsewhere: parameters with their names are ignored (4.8.12.2).
var said = []string{"Accept", "Content-Type", "Authorization"}

func (m *making) parameters(o *Operation, r facts.Route, names []string) {
	template, err := route.Parse(r.Path)
	own := names
	if err == nil {
		own = template.Names()
	}
	declared := map[string]bool{}
	for _, in := range r.Inputs {
		if !slices.Contains([]string{"path", "query", "header", "cookie"}, in.In) ||
			in.In == "header" && slices.Contains(said, in.Name) {
			continue
		}
		p := &Parameter{Name: in.Name, In: in.In, Description: in.Note, Required: in.Required || in.In == "path",
			Schema: m.refer(SchemaOf(in.Schema).Without("description").text)}
		if p.Schema.IsZero() {
			p.Schema = anyText
		}
		if i := slices.Index(own, in.Name); in.In == "path" && i >= 0 && i < len(names) {
			p.Name = names[i]
			declared[p.Name] = true
		}
		p.Deprecated = slices.ContainsFunc(
			r.Deprecated,
			func(d facts.Deprecated) bool { return d.In == in.In && d.Name == in.Name },
		)
		o.Parameters = append(o.Parameters, p)
	}
	for _, name := range names {
		if !declared[name] {
			o.Parameters = append(o.Parameters, &Parameter{Name: name, In: "path", Required: true, Schema: anyText})
		}
	}
	if c := r.Chosen; c != nil && c.Field != "" && c.Field != "Accept" {
		p := &Parameter{
			Name:        c.Field,
			In:          "header",
			Description: "The version of the API",
			Required:    c.Default != r.Version,
		}
		var s jsonObject
		s.say("const", r.Version)
		if c.Default == r.Version {
			s.say("default", r.Version)
		}
		p.Schema = SchemaOf(s.text())
		o.Parameters = append(o.Parameters, p)
	}
	if r.Formats != nil {
		o.Parameters = append(o.Parameters, formatParameters(*r.Formats)...)
	}
}

// formatParameters are those by which a format is chosen.
func formatParameters(f facts.Formats) (all []*Parameter) {
	var names []string
	for _, offer := range f.Offers {
		names = append(names, offer.Name)
	}
	for _, way := range f.By {
		in := map[string]string{"query": "query", "field": "header"}[way.By]
		if in == "" {
			continue
		}
		var s jsonObject
		s.say("type", "string")
		s.say("enum", names)
		all = append(
			all,
			&Parameter{Name: way.Name, In: in, Description: "The format of the answer", Schema: SchemaOf(s.text())},
		)
	}
	return all
}

// formats says in what ways callers choose a format: what OpenAPI has no words for.
func formats(f facts.Formats) jsontext.Value {
	var by []string
	for _, way := range f.By {
		by = append(by, strings.TrimSpace(way.By+" "+way.Name))
	}
	var all, suffixes jsonObject
	all.say("by", by)
	for _, suffix := range f.Suffixes {
		for _, offer := range f.Offers {
			if offer.Name == suffix {
				suffixes.say(suffix, offer.Media)
			}
		}
	}
	if f.Suffixes != nil {
		all.add("suffixes", suffixes.text())
	}
	return all.text()
}

func (m *making) body(o *Operation, r facts.Route) {
	for _, b := range r.Bodies {
		if o.RequestBody == nil {
			o.RequestBody = &RequestBody{Required: b.Required}
		}
		c := m.content(b.Media, b.Schema, b.Stream)
		c.Encoding = encodings(b)
		o.RequestBody.Content.Set(m.media(b.Media, r), c)
	}
}

// encodings say how the fields of a form are sent where that is not what it would be by their schemas: files have one of
// the media types that are taken, and lists are a field for each item (4.8.15).
func encodings(b facts.Body) (all Map[Encoding]) {
	if b.Media != "multipart/form-data" {
		return all
	}
	properties := SchemaOf(b.Schema).Schemas("properties")
	for name, s := range properties.All() {
		if items := s.One("items"); !items.IsZero() {
			s = items
		}
		var types []string
		for _, one := range append([]Schema{s}, s.List("anyOf")...) {
			if media := one.String("contentMediaType"); media != "" {
				types = append(types, media)
			}
		}
		if types != nil {
			all.Set(name, Encoding{ContentType: strings.Join(types, ", ")})
		}
	}
	return all
}

// unwritten says what OpenAPI has no words for: rules of types' own, and limits of rates.
func (m *making) unwritten(o *Operation, r facts.Route) {
	var rules []string
	if r.OwnRules {
		rules = append(
			rules,
			"Values are also held against rules across members, which no schema has; a problem with the status 422 names each that is broken.",
		)
	}
	if r.Rules > 0 {
		rules = append(rules, "The caller is also held against rules that only the server knows.")
	}
	if rules != nil {
		o.More.Set("x-wicketway-rules", text(strings.Join(rules, " ")))
	}
	var limits jsonObject
	for _, p := range r.Raises {
		i := slices.IndexFunc(r.Chain, func(one facts.Middleware) bool { return one.Name == p.By })
		if p.Status == 429 && i >= 0 && r.Chain[i].Does != "" {
			limits.say(p.Code, r.Chain[i].Does)
		}
	}
	if limits.b.Len() > 0 {
		o.More.Set("x-wicketway-limits", limits.text())
	}
}

// media is the key of a media type: where the version is chosen by it, it has that as a parameter.
func (m *making) media(media string, r facts.Route) string {
	if r.Chosen != nil && r.Chosen.Field == "Accept" && strings.HasPrefix(media, "application/json") {
		media, _, _ = strings.Cut(media, ";version=") // answers are told with it
		return media + "; version=" + r.Version
	}
	return media
}

func (m *making) content(media string, schema jsontext.Value, stream bool) (c MediaType) {
	switch {
	case stream && media == "application/json":
		var s jsonObject
		s.say("type", "array")
		if schema != nil {
			s.add("items", m.refer(schema).text)
		}
		c.Schema = SchemaOf(s.text())
	case stream:
		var s jsonObject
		s.say("type", "string")
		s.say("contentMediaType", media)
		c.Schema = SchemaOf(s.text())
		if schema != nil {
			c.More.Set(ItemKey, m.refer(schema).text)
		}
	case schema != nil:
		c.Schema = m.refer(schema)
	}
	return c
}

// A leading answer has the address of another route in its field Location.
type leading struct {
	answer *Response
	to     string // METHOD PATH
}

// links says which operations answers lead to, once all have their names.
func (m *making) links() {
	for _, l := range m.leads {
		if id := m.calls[l.to]; id != "" {
			l.answer.Links.Set(id, &Link{OperationID: id, Description: "Its address is in the field Location."})
		}
	}
}

// tags lists those that operations have, in their order.
func (m *making) tags() {
	seen := map[string]bool{}
	for _, item := range m.doc.Paths.All() {
		for _, o := range item.Operations() {
			for _, name := range o.Tags {
				if !seen[name] {
					seen[name] = true
					m.doc.Tags = append(m.doc.Tags, Tag{Name: name, Description: m.api.Tags[name]})
				}
			}
		}
	}
}

// successes say what the statuses mean (RFC 9110, 15).
var successes = map[int]string{
	200: "OK", 201: "Created", 202: "Accepted", 203: "Non-Authoritative Information", 204: "No Content", 205: "Reset Content",
	206: "Partial Content", 300: "Multiple Choices", 301: "Moved Permanently", 302: "Found", 303: "See Other",
	304: "Not Modified", 307: "Temporary Redirect", 308: "Permanent Redirect",
}

func (m *making) answers(o *Operation, r facts.Route) {
	for _, a := range r.Answers {
		key := strconv.Itoa(a.Status)
		answer, has := o.Responses.Get(key)
		if !has {
			answer = &Response{Description: cmp.Or(successes[a.Status], "An answer")}
			o.Responses.Set(key, answer)
		}
		for _, name := range a.Fields {
			answer.Headers.Set(cmp.Or(spelled[name], name), m.header(name))
		}
		if a.Media != "" {
			answer.Content.Set(m.media(a.Media, r), m.content(a.Media, a.Schema, a.Stream))
		}
		if a.Locates != "" {
			m.leads = append(m.leads, leading{answer, a.Locates})
		}
		if a.Open {
			answer.More.Set(OpenKey, jsontext.Value("true"))
		}
	}
	if o.Responses.Len() == 0 { // a handler of its own
		answer := &Response{Description: "What the handler answers", Content: anyContent()}
		answer.More.Set(OpenKey, jsontext.Value("true"))
		o.Responses.Set("2XX", answer)
	}
}

func anyContent() (c Map[MediaType]) {
	c.Set("*/*", MediaType{})
	return c
}

// spelled are names of header fields as their standards write them, where Go writes them otherwise.
var spelled = map[string]string{"Etag": "ETag", "Www-Authenticate": "WWW-Authenticate", "Ratelimit": "RateLimit",
	"Ratelimit-Policy": "RateLimit-Policy"}

// header refers to a header field among the components.
func (m *making) header(name string) *Header {
	field := name
	name = cmp.Or(spelled[name], name)
	if _, has := m.parts.Headers.Get(name); !has {
		f := m.fields[field]
		h := &Header{Description: f.Note, Schema: SchemaOf(f.Schema)}
		if h.Schema.IsZero() {
			h.Schema = anyText
		}
		m.parts.Headers.Set(name, h)
	}
	return &Header{Ref: "#/components/headers/" + escaper.Replace(name)}
}
