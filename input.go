package wicketway

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

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// sources are where a field of an input can come from.
var sources = []string{"path", "query", "header", "body"}

// An inputPlan is the plan for reading a route's input type.
type inputPlan struct {
	fields []inputField
	query  bool // some field comes from the query
	body   *inputBody
}

// An inputField is a field that is read from a text.
type inputField struct {
	source    string
	name      string
	index     int // in the struct
	parameter int // in the template, for a path
	schema    *schema.Parameter
}

// An inputBody is the plan for the JSON body.
type inputBody struct {
	index    int // in the struct; -1: the whole input
	optional bool
	schema   *schema.Type
	limit    int64
}

func compileInput(at *site, t reflect.Type) *inputPlan {
	in := &inputPlan{}
	names := at.target.names
	if t == reflect.TypeFor[None]() {
		in.unread(at, names)
		return in
	}
	if !hasSources(t) {
		in.takeBody(at, t, -1, false)
		in.unread(at, names)
		return in
	}
	for i := range t.NumField() {
		in.field(at, t, i)
	}
	in.unread(at, names)
	return in
}

func hasSources(t reflect.Type) bool {
	if t.Kind() != reflect.Struct {
		return false
	}
	for i := range t.NumField() {
		if _, ok := t.Field(i).Tag.Lookup("from"); ok {
			return true
		}
	}
	return false
}

// unread reports the template's parameters that no field reads.
func (in *inputPlan) unread(at *site, names []string) {
	for _, name := range names {
		if !slices.ContainsFunc(in.fields, func(f inputField) bool { return f.source == "path" && f.name == name }) {
			at.mistakef("no field reads the parameter {%s}: add one with the tag from:\"path %s\"", name, name)
		}
	}
}

func (in *inputPlan) field(at *site, t reflect.Type, i int) {
	sf := t.Field(i)
	where := t.Name() + "." + sf.Name
	if err := schema.CheckTag(sf.Tag); err != nil {
		at.mistakef("%s: %v", where, err)
		return
	}
	from, ok := sf.Tag.Lookup("from")
	if !ok {
		at.mistakef(`%s: has no from tag, though other fields have: say where it comes from, such as from:"query %s"`, where, strings.ToLower(sf.Name))
		return
	}
	if !sf.IsExported() {
		at.mistakef("%s: is not exported, so it cannot be filled", where)
		return
	}
	source, name, _ := strings.Cut(from, " ")
	if name = strings.TrimSpace(name); name == "" {
		name = strings.ToLower(sf.Name)
	}
	if source == "body" {
		in.takeBody(at, sf.Type, i, sf.Type.Kind() == reflect.Pointer)
		return
	}
	if !slices.Contains(sources, source) {
		at.mistakef("%s: unknown source %q (%s)", where, source, strings.Join(sources, ", "))
		return
	}
	p, err := at.schemas.Parameter(sf.Type, sf.Tag)
	if err != nil {
		for _, e := range unjoin(err) {
			at.mistakef("%s: %v", where, e)
		}
		return
	}
	f := inputField{source: source, name: name, index: i, schema: p}
	switch source {
	case "path":
		names := at.target.names
		if f.parameter = slices.Index(names, name); f.parameter < 0 {
			at.mistakef("%s: the template has no parameter {%s}%s", where, name, has(names))
			return
		}
		if err := p.Required(); err != nil {
			at.mistakef("%s: %v", where, err)
		}
	case "query":
		in.query = true
	case "header":
		f.name = textproto.CanonicalMIMEHeaderKey(name)
	}
	for _, other := range in.fields {
		if other.source == f.source && other.name == f.name {
			at.mistakef("%s: %s %s is read by %s already", where, source, name, t.Field(other.index).Name)
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

func (in *inputPlan) takeBody(at *site, t reflect.Type, index int, optional bool) {
	if in.body != nil {
		at.mistakef("%s: two fields take the body", t)
		return
	}
	if m := at.target.method; m == http.MethodGet || m == http.MethodHead {
		at.mistakef("the input reads a body, which a %s does not have (RFC 9110, 9.3.1): use wicketway.None, or from tags", m)
		return
	}
	compiled, err := at.schemas.Type(t)
	if err != nil {
		for _, e := range unjoin(err) {
			at.mistakef("%v", e)
		}
		return
	}
	in.body = &inputBody{index, optional, compiled, at.target.limits.Body}
}

// read fills v from a request. Its error is a problem that lists every fault.
func (in *inputPlan) read(v reflect.Value, r *http.Request, s *state) error {
	var found faults
	var query url.Values
	if in.query && r.URL.RawQuery != "" {
		var err error
		if query, err = url.ParseQuery(r.URL.RawQuery); err != nil {
			found.add("query", "", schema.Fault{Rule: "syntax", Detail: "is not well-formed: " + err.Error(), Unreadable: true})
		}
	}
	for i := range in.fields {
		f := &in.fields[i]
		if wrong := f.read(v.Field(f.index), r, s, query); wrong != nil {
			found.add(f.source, f.name, wrong...)
		}
	}
	if in.body != nil {
		if in.body.index >= 0 {
			v = v.Field(in.body.index)
		}
		wrong, err := in.body.read(v, r, s)
		if err != nil {
			return err
		}
		found.add("body", "", wrong...)
	}
	return found.problem()
}

func (f *inputField) read(v reflect.Value, r *http.Request, s *state, query url.Values) []schema.Fault {
	var texts []string
	switch f.source {
	case "path":
		return f.schema.Read(s.match.Value(f.parameter), v)
	case "query":
		texts = query[f.name]
	case "header":
		texts = r.Header[f.name]
	}
	switch len(texts) {
	case 0:
		return f.schema.Absent(v)
	case 1:
		return f.schema.Read(texts[0], v)
	}
	return f.schema.ReadAll(texts, v)
}

// buffers are for bodies, both ways. What is decoded from one keeps nothing of it.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

func recycle(b *bytes.Buffer) {
	if b.Cap() <= 64<<10 { // a rare large one would stay in memory for nothing
		b.Reset()
		buffers.Put(b)
	}
}

func (b *inputBody) read(v reflect.Value, r *http.Request, s *state) ([]schema.Fault, error) {
	if b.optional && r.ContentLength == 0 {
		return nil, nil
	}
	if err := checkMedia(r.Header); err != nil && r.ContentLength != 0 {
		return nil, err
	}
	if r.ContentLength > b.limit {
		return nil, b.tooLarge(nil)
	}
	buffer := buffers.Get().(*bytes.Buffer)
	defer recycle(buffer)
	if _, err := buffer.ReadFrom(http.MaxBytesReader(s.ResponseWriter, r.Body, b.limit)); err != nil {
		if _, ok := errors.AsType[*http.MaxBytesError](err); ok {
			return nil, b.tooLarge(err)
		}
		return nil, bodyFault(r, err)
	}
	return b.schema.Decode(buffer.Bytes(), v.Addr().Interface()), nil
}

func (b *inputBody) tooLarge(cause error) error {
	return problem.BodyTooLarge.New("The body is larger than %d bytes.", b.limit).With("limit", b.limit).Because(cause)
}

// bodyFault is the problem of a body that could not be received.
func bodyFault(r *http.Request, err error) error {
	if r.Context().Err() != nil {
		return r.Context().Err()
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return problem.Unreadable.New("The body ended before its announced length of %d bytes.", r.ContentLength).Because(err)
	}
	return problem.Unreadable.New("The body could not be received.").Because(err)
}

// checkMedia refuses what is not JSON in UTF-8 (RFC 8259, 8.1 and 11; RFC 6839,
// 3.1 for types that end in +json).
func checkMedia(h http.Header) error {
	sent := h.Get("Content-Type")
	if sent == "application/json" {
		return nil
	}
	if sent == "" {
		return unsupported("The body has no Content-Type.")
	}
	media, params, err := mime.ParseMediaType(sent)
	if err != nil {
		return unsupported("The Content-Type " + strconv.Quote(sent) + " is not well-formed.").Because(err)
	}
	if media != "application/json" && !(strings.HasPrefix(media, "application/") && strings.HasSuffix(media, "+json")) {
		return unsupported("The body is " + media + ".")
	}
	if charset := params["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
		return unsupported("The body is in the charset " + charset + ", but JSON is UTF-8.")
	}
	return nil
}

func unsupported(detail string) *problem.Problem {
	return problem.UnsupportedMedia.New("%s Accepted is application/json.", detail).
		With("accepted", []string{"application/json"}).
		WithHeader("Accept", "application/json")
}

// faults gathers what is wrong with an input, over all its sources.
type faults struct {
	items      []problem.Item
	unreadable bool
}

func (fs *faults) add(source, name string, found ...schema.Fault) {
	for _, f := range found {
		item := problem.Item{In: source, Name: name, Rule: f.Rule, Want: f.Want, Detail: f.Detail}
		if source == "body" {
			item.Pointer = &f.Pointer
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
	detail := "One item of the input " + what + "."
	if n > 1 {
		detail = strconv.Itoa(n) + " items of the input are wrong."
	}
	return kind.New("%s", detail).WithItems(fs.items...)
}
