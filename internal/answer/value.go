package answer

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

// A Plan says how the values of a route's output type are sent. It is immutable.
type Plan struct {
	Type        reflect.Type // of the value, or of a stream's items; nil where there is none
	Schema      *check.Type
	Status      int
	Conditional bool    // a GET has a tag, and its conditions are held
	Choice      *Choice // nil: JSON alone
	Media       string  // what JSON is called
	envelope    string  // what comes before a value in an object with one member
	house       *House  // nil: it is sent as it is, or in an envelope
	omitNull    bool
	development bool
	header      []string // Content-Type of JSON
	encode      encoder
	options     json.Options
	adapt       func(value any) (any, error)
	variants    []string // of each offer, for tags
}

// Config is what a Plan is made from, in addition to the type.
type Config struct {
	Status    int // 0: 200, or 204 where there is no value
	Choice    *Choice
	Media     string // "": application/json
	Parameter string // that every media type has: ;version=v2
	Variant   string // what else makes the tags of one value differ
	// Adapt makes what is sent of what a function returned, both given by pointers; nil: that is
	// sent itself. What the value says of itself, such as its tag, is asked of what was returned.
	Adapt       func(value any) (any, error)
	House       *House // nil: values are sent as they are
	Conditional bool
	OmitNull    bool
	Development bool
	Schemas     *check.Set
	Encoders    *Encoders
	Mistake     func(format string, args ...any)
}

// Compile plans how values of a type are sent; nil stands for no value.
func Compile(t reflect.Type, c Config) *Plan {
	p := &Plan{
		Type:        t,
		Status:      c.Status,
		Conditional: c.Conditional,
		Choice:      c.Choice,
		Media:       cmp.Or(c.Media, contentTypeJSON[0]),
		omitNull:    c.OmitNull,
		development: c.Development,
		adapt:       c.Adapt,
		header:      contentTypeJSON,
	}
	if c.Media != "" || c.Parameter != "" {
		p.Media += c.Parameter
		p.header = []string{p.Media}
		p.Choice = c.Choice.calling(c.Media, c.Parameter)
	}
	switch {
	case c.House == nil:
	case c.House.Make == nil:
		quoted, _ := jsontext.AppendQuote(nil, c.House.Member) // it is valid UTF-8
		p.envelope = "{" + string(quoted) + ":"
	default:
		p.house = c.House
	}
	switch {
	case t == nil:
		p.Status = cmp.Or(p.Status, http.StatusNoContent)
		return p
	case HasNoContent(c.Status):
		c.Mistake("Answers: %d has no content (RFC 9110, 15.3), but the output is %s: use wicketway.None", c.Status, t)
	}
	p.Status = cmp.Or(p.Status, http.StatusOK)
	p.vary(c.Variant)
	p.encode, p.options = c.Encoders.encoder(t), json.Deterministic(c.Conditional) // the same value has the same bytes
	var err error
	if p.Schema, err = c.Schemas.Type(t); err != nil {
		for _, e := range check.Unjoin(err) {
			c.Mistake("output %v", e)
		}
		return p
	}
	if at := p.Schema.WriteOnly(); at != "" {
		c.Mistake("output %s: the member %s is writeOnly, so it must not be sent: leave it out of the output's type",
			t, at)
	}
	return p
}

// A House is the shape in which values are sent: an object with one member, or that of a function.
type House struct {
	Member string
	Of     reflect.Type
	Make   func(format.Success) any
}

// Raises are the kinds of problem that sending the value can raise.
func (p *Plan) Raises() (kinds []*problem.Kind) {
	if p.Conditional {
		kinds = append(kinds, problem.PreconditionFailed)
	}
	if c := p.Choice; c != nil && !c.First {
		kinds = append(kinds, problem.NotAcceptable)
	}
	return kinds
}

// Direction says how the schema of the value is written.
func (p *Plan) Direction() check.Direction { return check.Direction{Sent: true, OmitNull: p.omitNull} }

// vary notes what makes the tags of one value differ: its format, the version of that, and
// the envelope.
func (p *Plan) vary(more string) {
	variant := func(parts ...string) string {
		text := strings.Join(append(parts, more), "\x00")
		if strings.Trim(text, "\x00") == "" {
			return ""
		}
		sum := sha256.Sum256([]byte(text))
		return "-" + hex.EncodeToString(sum[:4])
	}
	around := p.envelope
	if p.house != nil {
		around = p.house.Of.String()
	}
	if p.Choice == nil {
		p.variants = []string{variant(around)}
		return
	}
	for _, o := range p.Choice.Offers {
		if o.Write == nil {
			p.variants = append(p.variants, variant(around))
		} else {
			p.variants = append(p.variants, variant(o.Name, o.Version))
		}
	}
}

// HasNoContent reports whether answers of a status end with their header (RFC 9110, 15.3.5, 15.3.6 and 15.4.5).
func HasNoContent(status int) bool {
	return status == http.StatusNoContent || status == http.StatusResetContent || status == http.StatusNotModified
}

// An Unwritten error says that nothing has been sent: another answer can be.
type Unwritten struct{ error }

func (e Unwritten) Unwrap() error { return e.error }

func unwritten(format string, args ...any) error { return Unwritten{fmt.Errorf(format, args...)} }

// A Route is what pages and shapes show of one.
type Route struct{ Name, Summary string }

// A Sending is a value on its way out.
type Sending struct {
	Status int         // 0: that of the plan
	Header http.Header // fields of its own
	Value  any         // a pointer to it
	Route  Route
	// Message is that of the Reply, for the shape.
	Message string
	Offer   int  // of the plan's choice
	Varies  bool // Accept had a say
	// Broken is told what in the output breaks its own rules, in development.
	Broken func(text string)
	// Readable makes a page of JSON, in development, for a caller that prefers one; nil: JSON is sent.
	Readable *Readable

	value []byte // its JSON, where it is in a shape that can depend on more
}

// Status gives the status of a success, as the route or else the plan says.
func (p *Plan) status(own int) (int, error) {
	status := cmp.Or(own, p.Status)
	if (status < 200 || status > 299) && status != http.StatusNotModified {
		return 0, unwritten("the route answered with a Reply of status %d, which is not a success: return a problem instead",
			status)
	}
	return status, nil
}

// isNil reports whether a pointer leads to a value that is nil.
func isNil(pointer any) bool {
	switch v := reflect.ValueOf(pointer).Elem(); v.Kind() {
	case reflect.Pointer, reflect.Interface, reflect.Slice, reflect.Map:
		return v.IsNil()
	}
	return false
}

// SendNone answers without content; the status is 204 where none is given.
func SendNone(w http.ResponseWriter, status int, header http.Header) error {
	if status = cmp.Or(status, http.StatusNoContent); status < 200 || status > 299 && status != http.StatusNotModified {
		return unwritten("the route answered with a Reply of status %d, which is not a success: return a problem instead",
			status)
	}
	addFields(w.Header(), header)
	w.WriteHeader(status)
	return nil
}

// Send answers with a value. An [Unwritten] error comes before anything was sent; any other
// is that of the connection.
func (p *Plan) Send(w http.ResponseWriter, r *http.Request, s *Sending) error {
	status, err := p.status(s.Status)
	if err != nil {
		return err
	}
	h := w.Header()
	if HasNoContent(status) && p.Type != nil && !isNil(s.Value) {
		return unwritten("the route answered with a Reply of status %d, which has no content (RFC 9110, 15.3), and a value",
			status)
	}
	if p.Type == nil || HasNoContent(status) {
		addFields(h, s.Header)
		w.WriteHeader(status)
		return nil
	}
	buffer := sheets.Get().(*sheet)
	defer recycle(buffer)
	s.Status = status
	if err := p.write(buffer, s); err != nil {
		return Unwritten{err}
	}
	addFields(h, s.Header)
	p.label(h, s)
	if p.Conditional && status == http.StatusOK && (r.Method == http.MethodGet || r.Method == http.MethodHead) {
		body := buffer.Bytes()
		if s.value != nil {
			body = s.value
		}
		if done, err := p.hold(w, r, body, s); done || err != nil {
			if err != nil {
				takeFields(h, s.Header)
			}
			return err
		}
	}
	p.finish(buffer, s.Offer)
	if s.Readable != nil && p.isJSONToAll(s) {
		if err := p.readable(w, buffer, s); err != nil {
			return err
		}
	}
	if own := writer.Direct(w); buffer.Len() > serverBuffer || own == nil || own.Limit > 0 {
		h["Content-Length"] = []string{strconv.Itoa(buffer.Len())}
	}
	w.WriteHeader(status)
	_, err = w.Write(buffer.Bytes())
	return err
}

// isJSONToAll reports whether a value goes out as JSON because callers who prefer HTML cannot get it as that.
func (p *Plan) isJSONToAll(s *Sending) bool {
	if p.Choice == nil {
		return true
	}
	return s.Varies && p.Choice.Offers[s.Offer].Write == nil &&
		!slices.ContainsFunc(p.Choice.Offers, func(o Offer) bool { return o.bare == "text/html" })
}

// readable puts a page in the place of JSON; an answer whose media type is the route's own stays.
func (p *Plan) readable(w http.ResponseWriter, buffer *sheet, s *Sending) error {
	h := w.Header()
	if len(h["Content-Type"]) != 1 || h["Content-Type"][0] != p.header[0] {
		return nil
	}
	varyByAccept(h) // not of the JSON: development changes nothing about that
	text := bytes.Clone(buffer.Bytes())
	page := *s.Readable
	page.Status, page.Header = s.Status, h.Clone()
	buffer.Reset()
	if err := page.Write(&buffer.Buffer, text); err != nil {
		return Unwritten{err}
	}
	h["Content-Type"] = contentTypeHTML
	if tag := h.Get("Etag"); tag != "" {
		h["Etag"] = []string{extended(tag, "-page")}
	}
	return nil
}

// label says what is sent. JSON may have a name that the route gives it.
func (p *Plan) label(h http.Header, s *Sending) {
	if s.Varies {
		varyByAccept(h)
	}
	switch {
	case p.Choice != nil && p.Choice.Offers[s.Offer].Write != nil:
		h["Content-Type"] = p.Choice.Offers[s.Offer].header
	case s.Header == nil || s.Header["Content-Type"] == nil:
		h["Content-Type"] = p.header
	}
}

// hold sets the validators of an answer, and holds the conditions of the request against
// them: it has answered where they end in 304.
func (p *Plan) hold(w http.ResponseWriter, r *http.Request, body []byte, s *Sending) (done bool, err error) {
	h := w.Header()
	state := State{Exists: true, Modified: modified(s.Value)}
	if h.Get("Etag") == "" {
		tag, err := p.tag(s.Value, body, s.Offer)
		if err != nil {
			return false, Unwritten{err}
		}
		h["Etag"] = []string{tag}
	}
	state.Tags = h["Etag"]
	if !state.Modified.IsZero() {
		h.Set("Last-Modified", state.Modified.UTC().Format(http.TimeFormat))
	}
	return ConcludeReading(w, PreconditionsOf(r.Header).Hold(state, true))
}

// ConcludeReading answers a GET as its conditions have it: with 304, or with the problem that
// is returned.
func ConcludeReading(w http.ResponseWriter, v Verdict) (done bool, err error) {
	switch v.Status {
	case http.StatusNotModified:
		delete(w.Header(), "Content-Type") // about the content, which the caller has (RFC 9110, 15.4.5)
		delete(w.Header(), "Content-Disposition")
		w.WriteHeader(http.StatusNotModified)
		return true, nil
	case http.StatusPreconditionFailed:
		return false, Unwritten{problem.PreconditionFailed.Newf("%s failed: the resource has changed.", v.Field)}
	}
	return false, nil
}

func modified(value any) (t time.Time) {
	value = held(value)
	if m, ok := value.(interface{ LastModified() time.Time }); ok {
		t = m.LastModified()
	}
	return t
}

// tag makes the entity tag of a value in one format: of what the value calls its own state,
// or else of its bytes, without indentation.
func (p *Plan) tag(value any, body []byte, offer int) (string, error) {
	variant := p.variants[offer]
	if own := ownTag(value); own != "" {
		tag, ok := asTag(own)
		if !ok {
			return "", fmt.Errorf("%T: its ETag %q is not an entity tag (RFC 9110, 8.8.3)", value, own)
		}
		return extended(tag, variant), nil
	}
	sum := sha256.Sum256(append(body[:len(body):len(body)], variant...))
	tag := make([]byte, 0, 26)
	return string(append(hex.AppendEncode(append(tag, '"'), sum[:12]), '"')), nil
}

// held is the value in an interface, where a pointer to one is given: a value has its methods there as well.
func held(pointer any) any {
	if v := reflect.ValueOf(pointer).Elem(); v.Kind() == reflect.Interface && !v.IsNil() {
		return v.Interface()
	}
	return pointer
}

// ownTag is what a value calls its own state; "" where it says nothing.
func ownTag(value any) string {
	value = held(value)
	if own, ok := value.(interface{ ETag() string }); ok {
		return own.ETag()
	}
	return ""
}

// TagOf makes the tag that a GET would answer with for a value, given by a pointer.
func (p *Plan) TagOf(value any, route Route, offer int) (string, error) {
	if ownTag(value) != "" {
		return p.tag(value, nil, offer)
	}
	var buffer sheet
	s := Sending{Value: value, Route: route, Offer: offer, Status: p.Status}
	if err := p.write(&buffer, &s); err != nil {
		return "", err
	}
	if s.value != nil {
		return p.tag(value, s.value, offer)
	}
	return p.tag(value, buffer.Bytes(), offer)
}

// StateOf makes the state that a GET would answer with, for conditions to be held against: in
// all its formats, since a caller may have read any.
func (p *Plan) StateOf(value any, route Route) (State, error) {
	s := State{Exists: true, Modified: modified(value)}
	for offer := range p.variants {
		tag, err := p.TagOf(value, route, offer)
		if err != nil {
			return s, err
		}
		s.Tags = append(s.Tags, tag)
	}
	return s, nil
}

// PlainJSON writes a value, given by a pointer, where that alone is what a GET answers.
func (p *Plan) PlainJSON(value any) ([]byte, error) {
	if p.envelope != "" || p.house != nil {
		return nil, fmt.Errorf("the value is in a shape")
	}
	var buffer sheet
	err := p.writeJSON(&buffer, value, nil)
	return buffer.Bytes(), err
}

// OfferLike is the place of the offer that has the same name as another plan's.
func (p *Plan) OfferLike(other *Plan, offer int) int {
	switch {
	case p.Choice == nil:
		return 0
	case other.Choice == nil:
		return p.Choice.json()
	}
	return max(p.Choice.named(other.Choice.Offers[offer].Name), 0)
}

// serverBuffer is the size in bytes up to which net/http finds the length of a body
// itself, since it has it as a whole when the handler returns: but not where a deadline
// makes it go out before.
const serverBuffer = 2048

func addFields(h, own http.Header) {
	for name, values := range own {
		for _, v := range values {
			h.Add(name, v)
		}
	}
}

// takeFields takes back what addFields has added.
func takeFields(h, own http.Header) {
	for name, values := range own {
		name = http.CanonicalHeaderKey(name)
		if h[name] = h[name][:max(0, len(h[name])-len(values))]; len(h[name]) == 0 {
			delete(h, name)
		}
	}
}

// write encodes an output in the format that was chosen. JSON is as short as it can be.
func (p *Plan) write(buffer *sheet, s *Sending) error {
	if p.Choice != nil {
		if o := &p.Choice.Offers[s.Offer]; o.Write != nil {
			value, err := p.wire(s.Value)
			if err == nil {
				err = o.Write(&buffer.Buffer, format.Value{Route: s.Route.Name, Summary: s.Route.Summary, Value: reflect.ValueOf(value).Elem().Interface()})
			}
			if err != nil {
				return fmt.Errorf("the output cannot be written as %s: %w", o.Name, err)
			}
			return nil
		}
	}
	buffer.WriteString(p.envelope)
	if err := p.writeJSON(buffer, s.Value, s.Broken); err != nil {
		return err
	}
	switch {
	case p.house != nil:
		return p.shape(buffer, s)
	case p.envelope != "":
		buffer.WriteByte('}')
	}
	return nil
}

// shape puts the value that was written into the shape of the house.
func (p *Plan) shape(buffer *sheet, s *Sending) (err error) {
	s.value = bytes.Clone(buffer.Bytes())
	buffer.Reset()
	defer func() {
		if v := recover(); v != nil {
			err = fmt.Errorf("the shape %s panicked: %v", p.house.Of, v)
		}
	}()
	whole := p.house.Make(format.Success{Value: format.NewPayload(s.value), Route: s.Route.Name,
		Summary: s.Route.Summary,
		Status:  s.Status, Message: s.Message})
	if err := json.MarshalWrite(buffer, whole, p.options); err != nil {
		return fmt.Errorf("the shape %s cannot be written as JSON: %w", p.house.Of, err)
	}
	return nil
}

// wire is what is sent of a value.
func (p *Plan) wire(value any) (any, error) {
	if p.adapt == nil {
		return value, nil
	}
	return p.adapt(value)
}

// writeJSON writes a value, given by a pointer, as JSON without an envelope.
func (p *Plan) writeJSON(buffer *sheet, value any, broken func(text string)) error {
	start := buffer.Len()
	value, err := p.wire(value)
	if err == nil {
		err = buffer.encode(p.encode, value, p.options)
	}
	if err != nil {
		return fmt.Errorf("the output cannot be written as JSON: %w", err)
	}
	if p.development && broken != nil {
		if faults := p.Schema.Check(buffer.Bytes()[start:]); faults != nil {
			var list []string
			for _, f := range faults {
				list = append(list, strconv.Quote(f.Pointer)+" "+f.Detail)
			}
			broken(strings.Join(list, "; "))
		}
	}
	if p.omitNull {
		buffer.Truncate(start + len(withoutNulls(buffer.Bytes()[start:])))
	}
	return nil
}

// finish is what JSON has for people: an end of the line, and in development indentation.
func (p *Plan) finish(buffer *sheet, offer int) {
	if p.Choice != nil && p.Choice.Offers[offer].Write != nil {
		return
	}
	if p.development {
		if text := jsontext.Value(buffer.Bytes()).Clone(); text.Indent(indented) == nil {
			buffer.Reset()
			buffer.Write(text)
		}
	}
	buffer.WriteByte('\n')
}

// withoutNulls removes the members of objects that are null, in place. The text is JSON
// without white space, where a colon outside of a string is behind a member's name.
func withoutNulls(text []byte) []byte {
	out := text[:0]
	name := 0 // where the last string begins in out
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			name = len(out)
			end := i + 1
			for text[end] != '"' {
				if text[end] == '\\' {
					end++
				}
				end++
			}
			out = append(out, text[i:end+1]...)
			i = end
		case c == ':' && bytes.HasPrefix(text[i:], []byte(":null")):
			out = out[:name]
			i += len(":null") - 1
			if text[i+1] == ',' {
				i++
			} else if out[len(out)-1] == ',' {
				out = out[:len(out)-1]
			}
		default:
			out = append(out, c)
		}
	}
	return out
}
