package named

import (
	"bytes"
	"cmp"
	"encoding"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/client"
	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/problem"
)

// A making is one request that is made of values.
type making struct {
	o     *Operation
	of    *read
	raw   client.Raw
	found []problem.Item
	loose bool
}

// make puts the values where they belong. The error is a problem that lists every fault.
func (m *making) make(values map[string]any, loose bool) error {
	m.loose = loose
	rest := maps.Clone(values)
	query, path := url.Values{}, m.o.Path
	for _, in := range m.o.Inputs {
		value, given := rest[in.Name]
		delete(rest, in.Name)
		if !given {
			if in.Required && (in.In == "path" || !loose) {
				m.fault(problem.Item{In: in.In, Name: in.Name, Rule: "required", Detail: "is missing"})
			}
			continue
		}
		texts, err := m.texts(in, value)
		if err != nil {
			return fmt.Errorf("%s: %s %s: %w", m.o.Name, in.In, in.Name, err)
		}
		switch in.In {
		case "path":
			text := strings.Join(texts, ",")
			if text == "." || text == ".." {
				text = strings.ReplaceAll(text, ".", "%2E")
			} else {
				text = url.PathEscape(text)
			}
			path = strings.NewReplacer("{"+in.Name+"}", text, "{+"+in.Name+"}", strings.ReplaceAll(text, "%2F", "/")).Replace(path)
		case "query":
			query[in.Name] = texts
		case "header":
			m.raw.Header[http.CanonicalHeaderKey(in.Name)] = []string{strings.Join(texts, ", ")}
		case "cookie":
			m.raw.Header.Add("Cookie", (&http.Cookie{Name: in.Name, Value: strings.Join(texts, ",")}).String())
		}
	}
	if err := m.body(rest); err != nil {
		return err
	}
	if m.found != nil {
		detail := "One value breaks a rule."
		if n := len(m.found); n > 1 {
			detail = fmt.Sprintf("%d values are invalid.", n)
		}
		return problem.Invalid.New(detail).WithItems(m.found...)
	}
	if m.raw.Target = path; len(query) > 0 {
		m.raw.Target += "?" + query.Encode()
	}
	return nil
}

func (m *making) fault(item problem.Item) {
	if len(m.found) < 100 {
		m.found = append(m.found, item)
	}
}

// hold holds a value against a schema, and notes what it breaks.
func (m *making) hold(in, name string, s contract.Schema, value jsontext.Value) error {
	if m.loose {
		return nil
	}
	err := m.of.held.Check(s, value)
	faults, is := errors.AsType[contract.Faults](err)
	if !is {
		return err
	}
	for _, f := range faults {
		item := problem.Item{In: in, Name: name, Detail: f.Text}
		if in == "body" || f.Pointer != "" {
			pointer := f.Pointer
			item.Pointer = &pointer
		}
		m.fault(item)
	}
	return nil
}

// asJSON is a value as JSON.
func asJSON(value any) (jsontext.Value, error) {
	text, err := json.Marshal(value, json.Deterministic(true))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errNoValue, err)
	}
	return text, nil
}

// texts are those that a parameter is sent as: of a list one for each item.
func (m *making) texts(in Input, value any) ([]string, error) {
	if text, is := value.(encoding.TextMarshaler); is {
		b, err := text.MarshalText()
		if err != nil {
			return nil, err
		}
		value = string(b)
	}
	held, err := asJSON(value)
	if err != nil {
		return nil, err
	}
	if err := m.hold(in.In, in.Name, in.Schema, held); err != nil {
		return nil, err
	}
	var items []jsontext.Value
	if json.Unmarshal(held, &items) != nil || held.Kind() != jsontext.KindBeginArray {
		items = []jsontext.Value{held}
	}
	var texts []string
	for _, item := range items {
		var text string
		if json.Unmarshal(item, &text) != nil {
			text = string(item)
		}
		texts = append(texts, text)
	}
	return texts, nil
}

// body makes the body of what is no parameter.
func (m *making) body(rest map[string]any) error {
	b := m.o.Body
	if b == nil {
		for _, name := range slices.Sorted(maps.Keys(rest)) {
			m.fault(problem.Item{In: "body", Name: name, Rule: "additionalProperties", Detail: "is not known; known: " + cmp.Or(strings.Join(m.o.names(), ", "), "none")})
		}
		return nil
	}
	if len(rest) == 0 && !b.Required {
		return nil
	}
	var whole any = rest
	if value, given := rest["body"]; given && len(rest) == 1 {
		whole = value
	}
	base, _, _ := strings.Cut(b.Media, ";")
	if reader, is := whole.(io.Reader); is && base != "multipart/form-data" {
		m.raw.Reader, m.raw.Header["Content-Type"] = reader, []string{b.Media}
		return nil
	}
	if base == "multipart/form-data" {
		return m.form(rest)
	}
	text, err := asJSON(whole)
	if err != nil {
		return fmt.Errorf("%s: the body: %w", m.o.Name, err)
	}
	if err := m.hold("body", "", b.Schema, text); err != nil {
		return err
	}
	m.raw.Header["Content-Type"] = []string{b.Media}
	switch {
	case isJSON(base):
		m.raw.Body = text
	case base == "application/x-www-form-urlencoded":
		fields := url.Values{}
		for name, value := range rest {
			texts, err := (&making{o: m.o, of: m.of, loose: true}).texts(Input{}, value)
			if err != nil {
				return err
			}
			fields[name] = texts
		}
		m.raw.Body = []byte(fields.Encode())
	default:
		var plain string
		if json.Unmarshal(text, &plain) != nil {
			plain = string(text)
		}
		m.raw.Body = []byte(plain)
	}
	return nil
}

// form makes a form with files: what can be read is a file.
func (m *making) form(rest map[string]any) error {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(rest)) {
		value := rest[name]
		if file, is := value.(client.File); is {
			h := textproto.MIMEHeader{}
			h.Set("Content-Disposition", fmt.Sprintf("form-data; name=%q; filename=%q", name, cmp.Or(file.Name, name)))
			h.Set("Content-Type", cmp.Or(file.Type, "application/octet-stream"))
			part, err := w.CreatePart(h)
			if err == nil {
				_, err = io.Copy(part, file.Body)
			}
			if err != nil {
				return err
			}
			continue
		}
		texts, err := (&making{o: m.o, of: m.of, loose: true}).texts(Input{}, value)
		if err != nil {
			return err
		}
		for _, text := range texts {
			if err := w.WriteField(name, text); err != nil {
				return err
			}
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	m.raw.Body, m.raw.Header["Content-Type"] = b.Bytes(), []string{w.FormDataContentType()}
	return nil
}

// names are those of the inputs.
func (o *Operation) names() (all []string) {
	for _, in := range o.Inputs {
		all = append(all, in.Name)
	}
	return all
}
