// Package bind reads the inputs of routes: parameters, bodies and forms.
package bind

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"net/http"
	"net/textproto"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/internal/method"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// longestReason bounds what is repeated of a caller's own words, in bytes.
const longestReason = 200

// sources are where a field of an input can come from.
var sources = []string{"path", "query", "header", "cookie", "body", "form", "file"}

// A Plan says how a route's input type is read. It is immutable.
type Plan struct {
	Type    reflect.Type
	fields  []field
	form    *form
	body    *body
	most    int  // faults
	query   bool // some field comes from the query
	dated   bool // some field, or a member of the body, is deprecated
	judges  bool // the input has a Check of its own
	pointer bool // the route takes a pointer to the input
	varies  []string
	// Vary names the fields that the input is read from in the Vary of an answer to GET or HEAD
	// (RFC 9110, 12.5.5), before its header goes out; nil where there are none.
	Vary func(status int, h http.Header)
	// Secret says whether the input holds secrets, by the names of its fields.
	Secret secret.Holding
}

// A field of the input is read from a text.
type field struct {
	source    string
	name      string
	public    bool  // the name is none of a secret
	index     []int // in the struct
	parameter int   // in the template, for a path
	typ       reflect.Type
	schema    *check.Parameter
}

// A body that is one value.
type body struct {
	index    []int // in the struct; nil: the whole input
	optional bool
	schema   *check.Type // nil: the body is handed on as an io.Reader, or item by item
	stream   *check.Sequence
	most     int64 // bytes of an item
	fill     func(stream reflect.Value, items *Items)
	lenient  check.Leniency
	limit    int64
	accepts  []string // media types
}

// A Config is what a Plan is made from, in addition to the type.
type Config struct {
	Method     string
	Parameters []string // of the template
	Unparsed   bool     // the template is broken, so its parameters are not known
	Limit      int64    // bytes of a body
	Item       int64    // bytes of an item of one that is a stream
	Streams    Streams
	Faults     int // how many are listed
	Lenient    check.Leniency
	None       reflect.Type // the type of no input
	Files      FileType
	Conditions reflect.Type // an interface: what has it is filled by others
	Schemas    *check.Set
	Secrets    secret.Types
	Vary       func(h http.Header, fields ...string) // adds to the field Vary
	Rules      func(reflect.Type) []string           // that fields of a type have; nil: none have any
	Mistake    func(format string, args ...any)
}

// Streams say which types are streams, and fill one.
type Streams struct {
	// Item is the type of the items of a stream; nil for other types.
	Item func(reflect.Type) reflect.Type
	Fill func(stream reflect.Value, items *Items)
}

// Compile plans how a route's input is read. A pointer to a type is read like the type.
func Compile(t reflect.Type, c Config) *Plan {
	in := &Plan{Type: t, most: c.Faults, Secret: c.Secrets.Holding(t)}
	if t.Kind() == reflect.Pointer {
		in.pointer, t = true, t.Elem()
	}
	switch {
	case t == c.None:
	case !c.hasSources(t):
		in.takeBody(&c, t.String(), reflect.StructField{Type: t}, nil)
	default:
		if err := check.CheckMethod(t); err != nil {
			c.Mistake("%s: %v", t, err)
		}
		in.structure(&c, t, nil)
		in.judges = reflect.PointerTo(t).Implements(reflect.TypeFor[interface{ Check(*schema.Report) }]())
	}
	in.unread(&c)
	in.dated = in.Deprecated() != nil
	if c.Method == http.MethodGet || c.Method == http.MethodHead {
		in.vary(c.Vary)
	}
	if in.form != nil && in.body != nil {
		c.Mistake("%s: takes the body and form fields; a request has one of them", t)
	}
	return in
}

// vary makes Vary, of a function that adds to the field.
func (in *Plan) vary(add func(h http.Header, fields ...string)) {
	for _, f := range in.fields {
		switch f.source {
		case "header":
			in.varies = append(in.varies, f.name)
		case "cookie":
			in.varies = append(in.varies, "Cookie")
		}
	}
	if in.varies != nil {
		in.Vary = func(_ int, h http.Header) { add(h, in.varies...) }
	}
}

// Varies are the names in Vary.
func (in *Plan) Varies() []string { return in.varies }

// ReadsBody reports whether the body is read.
func (in *Plan) ReadsBody() bool { return in.form != nil || in.body != nil }

// ReadsJSON reports whether the body is read as JSON.
func (in *Plan) ReadsJSON() bool { return in.body != nil && in.body.schema != nil }

// Reads reports whether anything is read.
func (in *Plan) Reads() bool { return len(in.fields) > 0 || in.ReadsBody() }

// Takes reports whether a field reads what a source has under a name.
func (in *Plan) Takes(source, name string) bool {
	return slices.ContainsFunc(in.fields, func(f field) bool { return f.source == source && f.name == name })
}

// QueryField gives the name of the last query parameter whose type has the methods of an
// interface; "" where there is none.
func (in *Plan) QueryField(methods reflect.Type) (name string) {
	for _, f := range in.fields {
		if f.source == "query" && f.typ.Implements(methods) {
			name = f.name
		}
	}
	return name
}

// structure plans the fields of a struct, and of the structs embedded in it.
func (in *Plan) structure(c *Config, t reflect.Type, index []int) {
	for i := range t.NumField() {
		sf := t.Field(i)
		own := append(slices.Clip(index), i)
		if _, ok := sf.Tag.Lookup("from"); !ok && sf.Anonymous && c.hasSources(sf.Type) {
			in.structure(c, sf.Type, own)
			continue
		}
		if c.isConditions(sf.Type) {
			c.conditions(t.Name()+"."+sf.Name, sf)
			continue
		}
		in.field(c, t.Name()+"."+sf.Name, sf, own)
	}
}

func (c *Config) isConditions(t reflect.Type) bool {
	return c.Conditions != nil && reflect.PointerTo(t).Implements(c.Conditions)
}

// conditions checks a field that others fill.
func (c *Config) conditions(where string, sf reflect.StructField) {
	if !sf.IsExported() {
		c.Mistake("%s: is not exported, so it cannot be filled", where)
	}
	if _, from := sf.Tag.Lookup("from"); from {
		c.Mistake("%s: conditions come from header fields of their own: leave the from tag out", where)
	}
	if rule := sf.Tag.Get("rule"); rule != "" && rule != "required" {
		c.Mistake(`%s: %q is not a rule for conditions; rule:"required" refuses requests without any`, where, rule)
	}
}

// hasSources reports whether a type says where its fields come from.
func (c *Config) hasSources(t reflect.Type) bool {
	if t.Kind() != reflect.Struct {
		return false
	}
	for i := range t.NumField() {
		sf := t.Field(i)
		if _, ok := sf.Tag.Lookup("from"); ok || sf.Anonymous && c.hasSources(sf.Type) || c.isConditions(sf.Type) {
			return true
		}
	}
	return false
}

// unread reports the template's parameters that no field reads.
func (in *Plan) unread(c *Config) {
	names := c.Parameters
	if in.body != nil && in.body.index == nil && len(names) > 0 {
		c.Mistake("the whole input is the body, so no field reads {%s}: use from tags", names[0])
		return
	}
	for _, name := range names {
		if !slices.ContainsFunc(in.fields, func(f field) bool { return f.source == "path" && f.name == name }) {
			c.Mistake("no field reads the parameter {%s}: add one with the tag from:\"path %s\"", name, name)
		}
	}
}

func (in *Plan) field(c *Config, where string, sf reflect.StructField, index []int) {
	if err := check.CheckTag(sf.Tag); err != nil {
		c.Mistake("%s: %v", where, err)
	}
	from, ok := sf.Tag.Lookup("from")
	if !ok {
		c.Mistake(`%s: has no from tag, though other fields have: say where it comes from, such as from:"query %s"`,
			where, strings.ToLower(sf.Name))
		return
	}
	if !sf.IsExported() {
		c.Mistake("%s: is not exported, so it cannot be filled", where)
		return
	}
	source, name, _ := strings.Cut(from, " ")
	if name = strings.TrimSpace(name); name == "" {
		name = strings.ToLower(sf.Name)
	}
	switch {
	case source == "body":
		in.takeBody(c, where, sf, index)
	case source == "file":
		in.takeFile(c, where, name, sf, index)
	case !slices.Contains(sources, source):
		c.Mistake("%s: unknown source %q (%s)", where, source, strings.Join(sources, ", "))
	default:
		in.parameter(c, where, source, name, sf, index)
	}
}

// ruled is the tag of a field with the rules that its type has, where it does not say otherwise.
func (c *Config) ruled(sf reflect.StructField) reflect.StructTag {
	if c.Rules == nil {
		return sf.Tag
	}
	rule := sf.Tag.Get("rule")
	own := " " + rule
	for _, of := range c.Rules(sf.Type) {
		if keyword, _, _ := strings.Cut(of, "="); !strings.Contains(own, " "+keyword+"=") &&
			!(keyword == "default" && strings.Contains(own+" ", " required ")) {
			rule = strings.TrimSpace(rule + " " + of)
		}
	}
	if rule == sf.Tag.Get("rule") {
		return sf.Tag
	}
	return reflect.StructTag("rule:" + strconv.Quote(rule) + " " + string(sf.Tag)) // the first of a name counts
}

func (in *Plan) parameter(c *Config, where, source, name string, sf reflect.StructField, index []int) {
	p, err := c.Schemas.Parameter(sf.Type, c.ruled(sf))
	if err != nil {
		for _, e := range check.Unjoin(err) {
			c.Mistake("%s: %v", where, e)
		}
		p = &check.Parameter{} // the other mistakes are still looked for
	}
	f := field{source: source, name: name, public: !secret.Credentials.HasField(sf), index: index, typ: sf.Type, schema: p}
	switch source {
	case "path":
		names := c.Parameters
		if f.parameter = slices.Index(names, name); f.parameter < 0 && !c.Unparsed {
			c.Mistake("%s: the template has no parameter {%s}%s", where, name, has(names))
			return
		}
		if err := p.Required(); err != nil {
			c.Mistake("%s: %v", where, err)
		}
	case "query":
		in.query = true
	case "header":
		f.name = textproto.CanonicalMIMEHeaderKey(name)
		if f.name == "Transfer-Encoding" || f.name == "Trailer" {
			c.Mistake("%s: the server takes the field %s, so it is never found", where, f.name)
		}
		if !IsToken(name) {
			c.Mistake("%s: %q is not a field name (RFC 9110, 5.1)", where, name)
		}
	case "cookie":
		if !IsToken(name) {
			c.Mistake("%s: %q is not a cookie name (RFC 6265, 4.1.1)", where, name)
		}
	case "form":
		if form := in.takesForm(c); form != nil {
			form.texts = append(form.texts, name)
		}
	}
	for _, other := range in.fields {
		if other.source == f.source && other.name == f.name {
			c.Mistake("%s: %s %s is read by another field already", where, source, name)
		}
	}
	in.fields = append(in.fields, f)
}

func has(names []string) string {
	if len(names) == 0 {
		return "; it has none"
	}
	return "; it has {" + strings.Join(names, "}, {") + "}"
}

var readerType = reflect.TypeFor[io.Reader]()

func (in *Plan) takeBody(c *Config, where string, sf reflect.StructField, index []int) {
	t := sf.Type
	if in.body != nil {
		c.Mistake("%s: two fields take the body", t)
		return
	}
	if !c.hasBody() {
		return
	}
	b := &body{index: index, lenient: c.Lenient, limit: c.Limit}
	in.body = b
	if item := c.Streams.Item(t); item != nil {
		var err error
		b.fill = c.Streams.Fill
		if b.stream, err = c.Schemas.Sequence(item, sf.Tag); err != nil {
			for _, e := range check.Unjoin(err) {
				c.Mistake("%s: %v", where, e)
			}
		}
		b.most, b.accepts = c.Item, []string{"application/json", lines}
		return
	}
	if rule := sf.Tag.Get("rule"); rule != "" {
		c.Mistake("%s: rule %s: a body has the rules that its type has", where, rule)
	}
	if t == readerType {
		return
	}
	b.optional = index != nil && t.Kind() == reflect.Pointer
	b.accepts = []string{"application/json"}
	if c.Method == http.MethodPatch {
		b.accepts = []string{"application/merge-patch+json", "application/json"}
	}
	var err error
	if b.schema, err = c.Schemas.Type(t); err != nil {
		for _, e := range check.Unjoin(err) {
			c.Mistake("%v", e)
		}
	}
}

// hasBody reports a mistake where the route's requests have no body.
func (c *Config) hasBody() bool {
	m := c.Method
	if m == http.MethodGet || m == http.MethodHead {
		c.Mistake("the input reads a body, which a %s does not have (RFC 9110, 9.3.1): use wicketway.None, or from tags", m)
		return false
	}
	return true
}

// A Request is what is known of a request beside net/http's own.
type Request interface {
	// Parameter gives the decoded value of the template's parameter i, from 0.
	Parameter(i int) string
	// Received is the body as it comes in; nil where there is none.
	Received() *Body
	// SentDeprecated is told what was sent that is deprecated, as query notify or body /remark.
	SentDeprecated(names []string)
}

// Read fills v from a request. Its error is a problem that lists every fault, or one of the
// connection.
func (in *Plan) Read(v reflect.Value, r *http.Request, about Request) error {
	most := in.most
	found := faults{most: most}
	if in.pointer {
		v.Set(reflect.New(v.Type().Elem()))
		v = v.Elem()
	}
	var query, form url.Values
	if in.query && r.URL.RawQuery != "" {
		var err error
		if query, err = url.ParseQuery(r.URL.RawQuery); err != nil {
			found.add("query", "", schema.Fault{Rule: "syntax", Detail: malformed(r.URL.RawQuery, err), Unreadable: true})
		}
	}
	if in.form != nil {
		var err error
		if form, err = in.form.read(v, r, about.Received(), &found); err != nil {
			return forQuery(r, err)
		}
	}
	if form != nil {
		about.Received().form = form
	}
	for i := range in.fields {
		f := &in.fields[i]
		if wrong := f.read(v.FieldByIndex(f.index), r, about, query, form, most); wrong != nil {
			found.add(f.source, f.name, wrong...)
		}
	}
	var received *Body
	if in.body != nil {
		received = about.Received()
		wrong, more, err := in.body.read(in.body.of(v), r, received, most)
		if err != nil {
			return forQuery(r, err)
		}
		found.add("body", "", wrong...)
		found.more = found.more || more
	}
	if in.judges && found.items == nil {
		in.judge(v, &found)
	}
	if in.dated && found.items == nil {
		in.noteDeprecated(r, about, received, query, form)
	}
	return found.problem()
}

// noteDeprecated tells what was sent that is deprecated.
func (in *Plan) noteDeprecated(r *http.Request, about Request, received *Body, query, form url.Values) {
	var names []string
	for i := range in.fields {
		f := &in.fields[i]
		if is, _ := f.schema.Deprecated(); is && (f.source == "path" || len(f.texts(r, query, form)) > 0) {
			names = append(names, f.source+" "+f.name)
		}
	}
	if in.body != nil {
		for _, pointer := range received.deprecated {
			names = append(names, "body "+pointer)
		}
	}
	if names != nil {
		about.SentDeprecated(names)
	}
}

// malformed says why parameters cannot be read, in a query or a form.
func malformed(text string, err error) string {
	if piece, ok := errors.AsType[url.EscapeError](err); ok {
		return "has malformed percent-encoding: " + clip.Text(
			strconv.Quote(string(piece)), longestReason,
		) + " (RFC 3986, 2.1)"
	}
	if strings.Contains(text, ";") {
		return "is malformed: parameters are separated by &, not by ;"
	}
	return "has too many parameters"
}

// judge asks the input's own Check, whose places are "query limit" or "body /slot".
func (in *Plan) judge(v reflect.Value, found *faults) {
	wrong, more := check.CheckOwn(v, in.most)
	found.more = more
	for _, f := range wrong {
		source, place, _ := strings.Cut(f.Pointer, " ")
		if f.Pointer = place; source != "body" {
			f.Pointer = ""
		}
		found.add(source, place, f)
	}
}

func (f *field) read(v reflect.Value, r *http.Request, about Request, query, form url.Values, most int) []schema.Fault {
	if f.source == "path" {
		return f.schema.Read(about.Parameter(f.parameter), v)
	}
	texts := f.texts(r, query, form)
	switch len(texts) {
	case 0:
		return f.schema.Absent(v)
	case 1:
		return f.schema.Read(texts[0], v)
	}
	return f.schema.ReadAll(texts, v, most)
}

// texts are what was sent for a field that is not in the path.
func (f *field) texts(r *http.Request, query, form url.Values) (texts []string) {
	switch f.source {
	case "query":
		texts = query[f.name]
	case "header":
		if texts = r.Header[f.name]; f.name == "Host" { // net/http keeps it elsewhere
			texts = []string{r.Host}
		}
	case "form":
		texts = form[f.name]
	case "cookie":
		for _, c := range r.CookiesNamed(f.name) {
			texts = append(texts, c.Value)
		}
	}
	return texts
}

// buffers are for bodies. What is decoded from one keeps nothing of it.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

func recycle(b *bytes.Buffer) {
	if b.Cap() <= 64<<10 { // a rare large one would stay in memory for nothing
		b.Reset()
		buffers.Put(b)
	}
}

func (b *body) read(
	v reflect.Value, r *http.Request, received *Body, most int,
) (found []schema.Fault, more bool, err error) {
	if b.optional && r.ContentLength == 0 {
		return nil, false, nil
	}
	if r.ContentLength > b.limit {
		return nil, false, failure.TooLarge(b.limit, nil)
	}
	unknown := r.ContentLength < 0 // so it may be empty, which has a fault of its own
	if r.ContentLength > 0 {
		if err := b.checkMedia(r.Header); err != nil {
			return nil, false, err
		}
	}
	from := limited(r, b.limit)
	if b.stream != nil {
		if unknown {
			if err := b.checkMedia(r.Header); err != nil {
				return nil, false, err
			}
		}
		b.fill(v, &Items{of: b.stream, how: check.Reading{Lenient: b.lenient, Most: most}, most: b.most, request: r,
			from: from, lines: isLines(r.Header)})
		return nil, false, nil
	}
	if b.schema == nil {
		v.Set(reflect.ValueOf(from))
		return nil, false, nil
	}
	buffer := buffers.Get().(*bytes.Buffer)
	defer recycle(buffer)
	if _, err := buffer.ReadFrom(from); err != nil {
		return nil, false, bodyFault(r, err)
	}
	if unknown && buffer.Len() == 0 && b.optional {
		return nil, false, nil
	}
	if unknown && buffer.Len() > 0 {
		if err := b.checkMedia(r.Header); err != nil {
			return nil, false, err
		}
	}
	if received.Keep {
		received.kept = bytes.Clone(buffer.Bytes())
	}
	found, more = b.schema.Decode(buffer.Bytes(), v.Addr().Interface(), check.Reading{Lenient: b.lenient, Most: most})
	if found == nil {
		received.deprecated = b.schema.DeprecatedIn(buffer.Bytes())
	}
	return found, more, nil
}

// limited bounds what comes out of a body. What comes in is bounded already, so only
// where something is between, such as an unpacker, is there more to count.
func limited(r *http.Request, limit int64) io.Reader {
	if _, direct := r.Body.(*Body); direct {
		return r.Body
	}
	return http.MaxBytesReader(nil, r.Body, limit)
}

// bodyFault is the problem of a body that could not be received.
func bodyFault(r *http.Request, err error) error {
	if large, ok := errors.AsType[*http.MaxBytesError](err); ok {
		return failure.TooLarge(large.Limit, err)
	}
	if p, ok := errors.AsType[*problem.Problem](err); ok { // of the intake, or of a middleware that reads along
		return p
	}
	if errors.Is(err, io.ErrUnexpectedEOF) { // before the context: it ends as well where a connection is half closed
		return problem.Unreadable.New("The body was cut short.").Because(err)
	}
	if r.Context().Err() != nil {
		return r.Context().Err()
	}
	return problem.Unreadable.New("The body could not be received.").Because(err)
}

// checkMedia refuses what is not JSON in UTF-8 (RFC 8259, 8.1 and 11; RFC 6839,
// 3.1 for types that end in +json), and what is encoded.
func (b *body) checkMedia(h http.Header) error {
	if err := checkCoding(h); err != nil {
		return err
	}
	if b.accepts == nil {
		return nil
	}
	sent := h.Get("Content-Type")
	if sent == "application/json" {
		return nil
	}
	media, params, err := parseMedia(sent, b.accepts)
	if err != nil {
		return err
	}
	if media == "application/json-patch+json" { // RFC 6902: a list of steps, not a value
		return unsupported("The body is a JSON Patch.", b.accepts)
	}
	if slices.Contains(b.accepts, lines) && media == lines {
		media = "application/json" // line by line
	}
	if media != "application/json" && !(strings.HasPrefix(media, "application/") && strings.HasSuffix(media, "+json")) {
		return unsupported("The body is "+media+".", b.accepts)
	}
	if charset := params["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
		return unsupported("The body is in the charset "+charset+", but JSON is UTF-8.", b.accepts)
	}
	return nil
}

// checkCoding refuses a body whose coding nobody has taken off (RFC 9110, 8.4).
func checkCoding(h http.Header) error {
	coding := strings.Join(h["Content-Encoding"], ", ")
	if coding == "" || strings.EqualFold(coding, "identity") {
		return nil
	}
	return problem.UnsupportedMedia.Newf("The body is encoded as %s, which is not read here.", NameOf(coding)).
		WithHeader("Accept-Encoding", "identity") // RFC 9110, 15.5.16
}

// NameOf is what a problem repeats of a field that should hold a name, such as gzip: no more than a name,
// since something secret may have got into the field.
func NameOf(value string) string {
	if len(value) > 24 || !IsToken(value) {
		return "something else"
	}
	return value
}

func parseMedia(sent string, accepts []string) (media string, params map[string]string, err error) {
	if sent == "" {
		return "", nil, unsupported("The body has no Content-Type.", accepts)
	}
	if media, params, err = mime.ParseMediaType(sent); err != nil {
		return "", nil, unsupported("The Content-Type is not well-formed.", accepts).Because(err)
	}
	return media, params, nil
}

// forQuery adds what a QUERY takes to the problem of one with another content (draft-ietf-httpbis-safe-method-w-body).
func forQuery(r *http.Request, err error) error {
	if p, ok := err.(*problem.Problem); ok && r.Method == method.Query && p.Header()["Accept"] != nil {
		p.WithHeader("Accept-Query", p.Header().Get("Accept"))
	}
	return err
}

func unsupported(detail string, accepts []string) *problem.Problem {
	list := strings.Join(accepts, ", ")
	p := problem.UnsupportedMedia.Newf("%s Accepted is %s.", detail, list).With("accepted",
		accepts).WithHeader("Accept", list)
	if strings.Contains(list, "merge-patch") {
		p.WithHeader("Accept-Patch", list) // RFC 5789, 2.2
	}
	return p
}

// faults gathers mistakes in an input, over all its sources.
type faults struct {
	items      []problem.Item
	unreadable bool
	most       int
	more       bool // there are some beyond most
}

func (fs *faults) add(source, name string, found ...schema.Fault) {
	fs.items = slices.Grow(fs.items, min(len(found), fs.most-len(fs.items)))
	for _, f := range found {
		if len(fs.items) == fs.most {
			fs.more = true
			return
		}
		item := problem.Item{In: source, Name: name, Rule: f.Rule, Want: f.Want, Detail: f.Detail}
		if source == "body" || f.Pointer != "" {
			item.Pointer = &f.Pointer
		}
		if source == "body" {
			item.Name = ""
		}
		fs.items = append(fs.items, item)
		fs.unreadable = fs.unreadable || f.Unreadable
	}
}

// problem is 400 where something could not be read, else 422.
func (fs *faults) problem() error {
	n := len(fs.items)
	if n == 0 {
		return nil
	}
	kind, what := problem.Invalid, "breaks a rule"
	if fs.unreadable {
		kind, what = problem.Unreadable, "cannot be read"
	}
	detail := "One value " + what + "."
	if n > 1 {
		detail = strconv.Itoa(n) + " values are invalid."
	}
	if fs.more {
		detail = "More than " + strconv.Itoa(n) + " values are invalid; the first are listed."
	}
	p := kind.New(detail).WithItems(fs.items...)
	if fs.more {
		p.With("more", true)
	}
	return p
}

// IsToken reports whether s is a token (RFC 9110, 5.6.2), as names of fields and methods
// are.
func IsToken(s string) bool {
	for i := range len(s) {
		c := s[i]
		if !('a' <= c|0x20 && c|0x20 <= 'z' || '0' <= c && c <= '9' || strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0) {
			return false
		}
	}
	return s != ""
}
