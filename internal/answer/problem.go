package answer

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"sync"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/negotiate"
	"github.com/wicketway/wicketway/problem"
)

// The values of header fields that all answers share. They must never be changed
// in place; nothing that uses http.Header's methods does.
var (
	contentTypeJSON    = []string{"application/json"}
	contentTypeProblem = []string{"application/problem+json"}
	contentTypeHTML    = []string{"text/html; charset=utf-8"}
	varyAccept         = []string{"Accept"}
)

var indented = jsontext.WithIndent("  ")

// sheets are for what is sent.
var sheets = sync.Pool{New: func() any { return new(sheet) }}

func recycle(b *sheet) {
	if b.Cap() <= 64<<10 { // a rare large one would stay in memory for nothing
		b.Reset()
		sheets.Put(b)
	}
}

// A Rendering is how a problem is written.
type Rendering struct {
	problem.Rendering
	Indent bool
	Length bool // says how long it is, so that callers need not wait for the end
	JSON   bool // whatever the caller accepts
	Page   bool // a page, whatever the caller accepts
	// NoStore keeps caches from keeping it (RFC 9111, 5.2.2.5).
	NoStore bool
	// Offer is the format that the caller gets values in; nil: JSON. Chosen says that it is the
	// path or the query that chose it.
	Offer  *Offer
	Chosen bool
	Near   []string // routes that may have been meant; nil: those that the problem names
	// Of fills in what is shown of the request; nil: nothing is.
	Of interface{ Show(*format.Problem) }
}

// Show is what callers may see of a problem.
func (how *Rendering) Show(p *problem.Problem) format.Problem {
	k := p.Kind()
	title, _ := how.Texts.Title(k)
	detail, _ := how.Texts.Detail(p)
	shown := format.Problem{
		Type:     how.Base + k.Code(),
		Title:    title,
		Detail:   detail,
		Instance: how.Instance,
		Code:     k.Code(),
		Status:   k.Status(),
		Errors:   how.Texts.Items(p),
		Members:  p.Members(),
		Debug:    string(how.Debug),
	}
	if how.Texts != nil {
		shown.Language = how.Texts.Language
	}
	if shown.Near = how.Near; shown.Near == nil {
		shown.Near, _ = shown.Members["near"].([]string)
	}
	if how.Of != nil {
		how.Of.Show(&shown)
	}
	return shown
}

// Problem answers with a problem, as a page for callers that prefer one. The error says
// which of its members JSON could not carry; the problem is sent all the same.
func Problem(w http.ResponseWriter, r *http.Request, p *problem.Problem, how Rendering) (lost error) {
	h := w.Header()
	failure.ForgetContent(h)
	for name, values := range p.Header() {
		h[name] = append(h[name], values...)
	}
	if how.NoStore {
		h["Cache-Control"] = []string{"no-store"}
	}
	if !how.JSON && !how.Chosen {
		varyByAccept(h)
	}
	buffer := sheets.Get().(*sheet)
	defer recycle(buffer)
	if how.Offer != nil && how.Offer.Problem != nil {
		if lost = how.Offer.Problem(&buffer.Buffer, how.Show(p)); lost != nil {
			lost = fmt.Errorf("the problem cannot be written as %s: %w", how.Offer.Name, lost)
			how.Page = how.Offer.header[0] == contentTypeHTML[0] // callers that get pages get ours
			how.Offer, how.Chosen = nil, true
			buffer.Reset()
		}
	}
	switch {
	case how.Offer != nil && how.Offer.Problem != nil:
		h["Content-Type"] = how.Offer.header
		if text := jsontext.Value(buffer.Bytes()).Clone(); how.Indent && how.Offer.Write == nil && text.Indent(indented) == nil {
			buffer.Reset() // a shape of the group's own
			buffer.Write(append(text, '\n'))
		}
	case how.Page, !how.JSON && !how.Chosen && prefersHTML(r.Header["Accept"]):
		h["Content-Type"] = contentTypeHTML
		WriteProblemPage(&buffer.Buffer, how.Show(p))
	default:
		h["Content-Type"] = contentTypeProblem
		text, without := p.Append(buffer.AvailableBuffer(), how.Rendering)
		lost = errors.Join(lost, without)
		if how.Indent {
			if value := jsontext.Value(text).Clone(); value.Indent(indented) == nil && len(value) < problem.MaxSize {
				text = value
			}
		}
		buffer.Write(append(text, '\n'))
	}
	if how.Length {
		h["Content-Length"] = []string{strconv.Itoa(buffer.Len())}
	}
	w.WriteHeader(p.Kind().Status())
	w.Write(buffer.Bytes())
	return lost
}

// varyByAccept lets caches know that the answer depends on Accept (RFC 9110, 12.5.5).
func varyByAccept(h http.Header) {
	switch {
	case h["Vary"] == nil:
		h["Vary"] = varyAccept
	case !slices.Contains(h["Vary"], "Accept"):
		h.Add("Vary", "Accept")
	}
}

// prefersHTML reports whether a caller ranks a page above JSON; callers without a
// preference get JSON.
func prefersHTML(accept []string) bool {
	return accept != nil && negotiate.MediaType(accept, "application/json", problem.MediaType,
		"text/html") == "text/html"
}

// PrefersPage reports whether a request is for a page rather than for JSON.
func PrefersPage(r *http.Request) bool { return prefersHTML(r.Header["Accept"]) }

// JSONOrPage answers with a value as JSON, or with a page for callers that prefer one.
func JSONOrPage(w http.ResponseWriter, r *http.Request, value any, page func(*bytes.Buffer)) error {
	var body bytes.Buffer
	h := w.Header()
	varyByAccept(h)
	if prefersHTML(r.Header["Accept"]) {
		h["Content-Type"] = contentTypeHTML
		page(&body)
	} else {
		h["Content-Type"] = contentTypeJSON
		if err := json.MarshalWrite(&body, value, indented); err != nil {
			return err
		}
		body.WriteByte('\n')
	}
	_, err := w.Write(body.Bytes())
	return err
}
