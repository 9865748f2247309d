package answer

import (
	"bytes"
	"cmp"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/check"
)

// A Plan says how the values of a route's output type are sent. It is immutable.
type Plan struct {
	Type        reflect.Type // of the value; nil where there is none
	Schema      *check.Type
	Status      int
	Conditional bool   // a GET has a tag and answers 304
	envelope    string // what stands before a value
	development bool
}

// Config is what a Plan is made from, beside the type.
type Config struct {
	Status      int // 0: 200, or 204 where there is no value
	Envelope    string
	Conditional bool
	Development bool
	Schemas     *check.Set
	Mistake     func(format string, args ...any)
}

// Compile plans how values of a type are sent; nil stands for no value.
func Compile(t reflect.Type, c Config) *Plan {
	p := &Plan{
		Type:        t,
		Status:      c.Status,
		Conditional: c.Conditional,
		development: c.Development,
	}
	if c.Envelope != "" {
		quoted, _ := jsontext.AppendQuote(nil, c.Envelope) // it is valid UTF-8
		p.envelope = "{" + string(quoted) + ":"
	}
	switch {
	case t == nil:
		p.Status = cmp.Or(p.Status, http.StatusNoContent)
		return p
	case hasNoContent(c.Status):
		c.Mistake("Answers: %d has no content (RFC 9110, 15.3), but the output is %s: use wicketway.None", c.Status, t)
	}
	p.Status = cmp.Or(p.Status, http.StatusOK)
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

// hasNoContent are the successes that end with their header (RFC 9110, 15.3.5 and
// 15.3.6).
func hasNoContent(status int) bool {
	return status == http.StatusNoContent || status == http.StatusResetContent
}

// An Unwritten error says that nothing has been sent: another answer can be.
type Unwritten struct{ error }

func (e Unwritten) Unwrap() error { return e.error }

func unwritten(format string, args ...any) error { return Unwritten{fmt.Errorf(format, args...)} }

// Send answers with a value, under a status of its own where that is not 0, and with
// header fields of its own. An [Unwritten] error comes before anything was sent; any other
// is that of the connection.
func (p *Plan) Send(w http.ResponseWriter, r *http.Request, status int, own http.Header, value any) error {
	chosen := cmp.Or(status, p.Status)
	if chosen < 200 || chosen > 299 {
		return unwritten("the route answered with a Reply of status %d, which is no success: return a problem instead",
			chosen)
	}
	h := w.Header()
	if p.Type == nil {
		addFields(h, own)
		w.WriteHeader(chosen)
		return nil
	}
	if hasNoContent(chosen) {
		return unwritten("the route answered with a Reply of status %d, which has no content (RFC 9110, 15.3), and a value", chosen)
	}
	buffer := buffers.Get().(*bytes.Buffer)
	defer recycle(buffer)
	if err := p.write(buffer, value); err != nil {
		return Unwritten{err}
	}
	addFields(h, own)
	h["Content-Type"] = contentTypeJSON
	if p.Conditional && chosen == http.StatusOK && unchanged(h, r, buffer.Bytes(), value) {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	if own := Direct(w); buffer.Len() > serverBuffer || own == nil || own.Limit > 0 {
		h["Content-Length"] = []string{strconv.Itoa(buffer.Len())}
	}
	w.WriteHeader(chosen)
	_, err := w.Write(buffer.Bytes())
	return err
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

// write encodes an output. In development it is indented, and an output that
// breaks its own rules is an error.
func (p *Plan) write(buffer *bytes.Buffer, value any) error {
	buffer.WriteString(p.envelope)
	start := buffer.Len()
	if err := writeJSON(buffer, value, p.development); err != nil {
		return fmt.Errorf("the output cannot be written as JSON: %w", err)
	}
	if p.development {
		if broken := p.Schema.Check(buffer.Bytes()[start:]); broken != nil {
			var list []string
			for _, f := range broken {
				list = append(list, strconv.Quote(f.Pointer)+" "+f.Detail)
			}
			return fmt.Errorf("the output breaks what its type promises: %s", strings.Join(list, "; "))
		}
	}
	if p.envelope != "" {
		buffer.WriteByte('}')
	}
	buffer.WriteByte('\n')
	return nil
}

func writeJSON(buffer *bytes.Buffer, value any, indent bool) error {
	if indent {
		return json.MarshalWrite(buffer, value, indented)
	}
	return json.MarshalWrite(buffer, value)
}
