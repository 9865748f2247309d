package valid

import (
	"errors"
	"fmt"
	"mime"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

// An Answer is what was sent for a request.
type Answer struct {
	Method string
	URL    *url.URL // of the request
	Status int
	Header map[string][]string
	Body   []byte // without coding
	Cut    bool   // the body was left before its end, and is not held
}

// ErrNoOperation says that a document has no operation for a request.
var ErrNoOperation = errors.New("the contract has no operation for the request")

// always are the header fields that an answer can have whatever it is.
var always = []string{
	"Content-Type", "Content-Length", "Content-Encoding", "Content-Language", "Date", "Connection", "Vary", "Allow", "Location", "Accept-Ranges",
	"Last-Modified",
}

// An Answers holds answers against a document. It is safe for concurrent use.
type Answers struct {
	*Validator
	doc        *contract.Document
	table      *table.Tables
	operations []*contract.Operation // by number in the table
	fields     []string              // that every answer can have
	isWhole    bool                  // the document has all header fields
}

// NewAnswers makes one for a document.
func NewAnswers(d *contract.Document) (*Answers, error) {
	v, err := New(d)
	if err != nil {
		return nil, err
	}
	h := &Answers{Validator: v, doc: d}
	var b table.Builder
	for key, item := range d.Paths.All() {
		template, err := route.Parse(item.Template(key))
		if err != nil {
			return nil, fmt.Errorf("the path %s: %w", key, err)
		}
		for method, o := range item.Operations() {
			b.Add(table.Route{Method: strings.TrimSuffix(method, "*"), Template: template, Suffixes: suffixes(o)})
			h.operations = append(h.operations, o)
		}
	}
	h.table = b.Tables()
	if own, has := d.More.Get(contract.FieldsKey); has {
		h.isWhole = true
		for name := range contract.SchemaOf(own).Members() {
			h.fields = append(h.fields, name)
		}
	}
	return h, nil
}

// suffixes are those of paths that choose a format.
func suffixes(o *contract.Operation) (names []string) {
	formats, _ := o.More.Get("x-wicketway-formats")
	for name := range contract.SchemaOf(formats).One("suffixes").Members() {
		names = append(names, name)
	}
	return names
}

// Check says what of an answer the contract does not have: its status, media type, a header field or its body; and which
// header field is missing, or breaks its schema. Header fields that the document does not have are taken as they are, unless
// it is one that was made of a description. Check returns [ErrNoOperation] where the request is for none of its operations.
func (h *Answers) Check(a Answer) error {
	var m table.Match
	if h.table.Resolve(a.Method, a.URL, a.Header, &m).Outcome != table.Found {
		return ErrNoOperation
	}
	o := h.operations[m.Route]
	if err := h.held(o, a); err != nil {
		return fmt.Errorf("%s (%s %s): %w", o.ID, a.Method, a.URL.Path, err)
	}
	return nil
}

func (h *Answers) held(o *contract.Operation, a Answer) error {
	answer := h.response(o, a.Status)
	open := false // the function chooses status, media type and header fields itself
	for _, r := range o.Responses.All() {
		_, has := r.More.Get(contract.OpenKey)
		open = open || has
	}
	switch {
	case answer == nil && (open || a.Status == 308): // a redirect to the clean path comes before every operation
		return nil
	case answer == nil:
		return fmt.Errorf("the contract has no answer with the status %d", a.Status)
	}
	for name := range a.Header {
		_, declared := find(answer.Headers, name)
		if h.isWhole && !declared && !open && !slices.Contains(always, name) && !has(h.fields, name) && !strings.HasPrefix(name, "Access-Control-") {
			return fmt.Errorf("the contract has no header field %s in the answer %d", name, a.Status)
		}
	}
	if err := h.header(answer, a); err != nil {
		return err
	}
	return h.content(answer, a, open)
}

// header holds the header fields of an answer against their schemas.
func (h *Answers) header(answer *contract.Response, a Answer) error {
	for name, f := range answer.Headers.All() {
		f = contract.Referred(h.doc, f)
		var values []string
		for other, all := range a.Header {
			if strings.EqualFold(other, name) {
				values = all
			}
		}
		if strings.EqualFold(name, "Content-Type") { // is ignored (OpenAPI 3.1.1, 4.8.17.1)
			continue
		}
		if values == nil && f.Required {
			return fmt.Errorf("the answer %d has no header field %s, which the contract requires", a.Status, name)
		}
		if values == nil || f.Schema.IsZero() {
			continue
		}
		if err := h.asText(f.Schema, strings.Join(values, ", ")); err != nil {
			return fmt.Errorf("the header field %s: %w", name, err)
		}
	}
	return nil
}

// asText holds a text against a schema: as it is, or as the value that it stands for.
func (h *Answers) asText(s contract.Schema, text string) error {
	quoted, _ := jsontext.AppendQuote(nil, text)
	err := h.Validator.Check(s, quoted)
	if as := jsontext.Value(text); err != nil && as.IsValid() && h.Validator.Check(s, as) == nil {
		return nil
	}
	if _, is := errors.AsType[contract.Faults](err); err == nil || !is || strings.Contains(text, ",") { // a list, or a schema that cannot be used
		return nil
	}
	return err
}

func has(names []string, name string) bool {
	return slices.ContainsFunc(names, func(other string) bool { return strings.EqualFold(other, name) })
}

// find looks a header field up, whose name may be written in several ways.
func find(headers contract.Map[*contract.Header], name string) (*contract.Header, bool) {
	for other, h := range headers.All() {
		if strings.EqualFold(other, name) {
			return h, true
		}
	}
	return nil, false
}

// response is the answer with a status, or the one for its class, or for all.
func (h *Answers) response(o *contract.Operation, status int) *contract.Response {
	for _, key := range []string{strconv.Itoa(status), fmt.Sprint(status/100, "XX"), "default"} {
		r, has := o.Responses.Get(key)
		if !has || key == "default" && status < 400 {
			continue
		}
		r = contract.Referred(h.doc, r)
		return r
	}
	return nil
}

// content holds the body.
func (h *Answers) content(answer *contract.Response, a Answer, open bool) error {
	written := ""
	if v := a.Header["Content-Type"]; len(v) > 0 {
		written = v[0]
	}
	media, _, _ := mime.ParseMediaType(written)
	if a.Status >= 400 && media == "text/html" {
		return nil // a problem as a page, for callers that prefer one
	}
	if answer.Content.Len() == 0 {
		if len(a.Body) > 0 && !open {
			return fmt.Errorf("the contract has no body in the answer %d", a.Status)
		}
		return nil
	}
	var known []string
	for key, c := range answer.Content.All() {
		declared, _, _ := mime.ParseMediaType(key)
		kind, _, _ := strings.Cut(media, "/")
		if declared != media && key != "*/*" && declared != kind+"/*" {
			known = append(known, key)
			continue
		}
		if a.Method == "HEAD" || a.Cut || len(a.Header["Content-Encoding"]) > 0 {
			return nil
		}
		return h.body(c, media, a.Body)
	}
	if open || len(a.Body) == 0 && media == "" {
		return nil
	}
	return fmt.Errorf("the contract has no media type %q in the answer %d (it has %s)", media, a.Status, strings.Join(known, ", "))
}

// body holds a body, or the items of a stream, against their schema.
func (h *Answers) body(c contract.MediaType, media string, body []byte) error {
	schema, texts := c.Schema, [][]byte{body}
	if item, has := c.More.Get(contract.ItemKey); has {
		schema, texts = contract.SchemaOf(item), items(media, string(body))
	} else if media != "application/json" && !strings.HasSuffix(media, "+json") {
		return nil
	}
	for _, text := range texts {
		if err := h.Validator.Check(schema, text); err != nil {
			return fmt.Errorf("the body: %w", err)
		}
	}
	return nil
}

// items are the JSON texts in a stream.
func items(media, body string) (all [][]byte) {
	if media != "text/event-stream" {
		for line := range strings.Lines(body) {
			if strings.TrimSpace(line) != "" {
				all = append(all, []byte(line))
			}
		}
		return all
	}
	for event := range strings.SplitSeq(body, "\n\n") {
		if strings.Contains(event, "event: problem") {
			continue // the stream has broken off
		}
		for line := range strings.Lines(event) {
			if data, is := strings.CutPrefix(line, "data: "); is {
				all = append(all, []byte(data))
			}
		}
	}
	return all
}
