package bind

import (
	"bytes"
	"errors"
	"net/http"
	"net/url"
	"reflect"
	"strings"

	"github.com/go-json-experiment/json"
)

// A Written input is what a request for it has: the other way round from Read.
type Written struct {
	Path   map[string]string
	Query  url.Values
	Header http.Header // with the cookies, and the media type of the body
	Body   []byte      // nil: none
}

var errFiles = errors.New("a form with files cannot be written: make the request by hand")

// Write takes an input apart. Fields that are zero are left out, except those of the path
// and the body.
func (in *Plan) Write(input any) (Written, error) {
	w := Written{Header: http.Header{}}
	var err error
	if w.Path, w.Query, err = in.Values(input); err != nil {
		return w, err
	}
	v := reflect.ValueOf(input)
	if v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	form := url.Values{}
	for _, f := range in.fields {
		field := v.FieldByIndex(f.index)
		if f.source == "path" || f.source == "query" || field.IsZero() {
			continue
		}
		texts, err := f.schema.Texts(field)
		if err != nil {
			return w, err
		}
		for _, text := range texts {
			switch f.source {
			case "header":
				w.Header.Add(f.name, text)
			case "cookie":
				w.Header.Add("Cookie", (&http.Cookie{Name: f.name, Value: text}).String())
			case "form":
				form.Add(f.name, text)
			}
		}
	}
	if in.form != nil {
		if len(in.form.files) > 0 {
			return w, errFiles
		}
		w.Body = []byte(form.Encode())
		w.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	return w, in.writeBody(&w, v)
}

func (in *Plan) writeBody(w *Written, v reflect.Value) error {
	if in.body == nil {
		return nil
	}
	if in.body.index != nil {
		v = v.FieldByIndex(in.body.index)
	}
	if in.body.stream != nil {
		return in.body.writeItems(w, v)
	}
	if in.body.schema == nil {
		if v.IsNil() {
			return nil
		}
		var all bytes.Buffer
		_, err := all.ReadFrom(v.Interface().(interface{ Read([]byte) (int, error) }))
		w.Body = all.Bytes()
		return err
	}
	if in.body.optional && v.IsNil() {
		return nil
	}
	text, err := json.Marshal(v.Interface())
	if err == nil {
		w.Body, err = in.body.schema.ForServers(text)
	}
	w.Header.Set("Content-Type", strings.TrimSpace(in.body.accepts[0]))
	return err
}

// writeItems writes a stream as lines.
func (b *body) writeItems(w *Written, v reflect.Value) error {
	if v.IsNil() {
		return nil
	}
	w.Header.Set("Content-Type", lines)
	for item, failed := range v.Seq2() {
		if !failed.IsNil() {
			return failed.Interface().(error)
		}
		text, err := json.Marshal(item.Interface())
		if err == nil {
			text, err = b.stream.Item.ForServers(text)
		}
		if err != nil {
			return err
		}
		w.Body = append(append(w.Body, text...), '\n')
	}
	return nil
}
