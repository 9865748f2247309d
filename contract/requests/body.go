package requests

import (
	"bytes"
	"fmt"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
)

const multipartForm = "multipart/form-data"

func isForm(media string) bool { return strings.HasPrefix(media, "application/x-www-form-urlencoded") }

// boundary is between the parts of a form: the same each time, as all of a request is.
const boundary = "part-of-a-form"

// put has a request carry a value, in the media type of the operation.
func (o *operation) put(r *Request, value jsontext.Value) {
	media := o.media
	switch {
	case isJSON(media):
		r.Body = compact(value)
	case isForm(media):
		r.Body = []byte(o.form(value))
	case strings.HasPrefix(media, multipartForm):
		media, r.Body = multipartForm+"; boundary="+boundary, o.parts(value)
	default:
		r.Body = []byte(written(value))
	}
	media = strings.NewReplacer("*/*", "application/octet-stream", "/*", "/plain").Replace(media)
	r.Header = append(r.Header, Field{"Content-Type", media})
}

// form is an object as a form has it: of a list each item is a field.
func (o *operation) form(value jsontext.Value) string {
	fields := url.Values{}
	for name, one := range contract.SchemaOf(value).Members() {
		var list []jsontext.Value
		if json.Unmarshal(one, &list) != nil {
			list = []jsontext.Value{one}
		}
		for _, item := range list {
			fields.Add(name, written(item))
		}
	}
	return fields.Encode()
}

// parts is an object as the parts of a form (RFC 7578). Members whose schema says that they are bytes are files.
func (o *operation) parts(value jsontext.Value) []byte {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	w.SetBoundary(boundary)
	schemas := o.d.Follow(o.body.Schema).Schemas("properties")
	for name, one := range contract.SchemaOf(value).Members() {
		schema, _ := schemas.Get(name)
		schema = o.d.Follow(schema)
		var list []jsontext.Value
		if json.Unmarshal(one, &list) != nil {
			list = []jsontext.Value{one}
		} else {
			schema = o.d.Follow(schema.One("items"))
		}
		for _, item := range list {
			h := textproto.MIMEHeader{"Content-Disposition": {fmt.Sprintf("form-data; name=%q", name)}}
			if media := o.fileType(name, schema); media != "" {
				h.Set("Content-Disposition", fmt.Sprintf("form-data; name=%q; filename=%q", name, name))
				h.Set("Content-Type", media)
			}
			if part, err := w.CreatePart(h); err == nil { // to memory
				part.Write([]byte(written(item)))
			}
		}
	}
	w.Close()
	return b.Bytes()
}

// fileType is the media type of a member that is a file; "" for others.
func (o *operation) fileType(name string, s contract.Schema) string {
	if e, has := o.body.Encoding.Get(name); has && e.ContentType != "" {
		media, _, _ := strings.Cut(e.ContentType, ",")
		return strings.TrimSpace(media)
	}
	if media := s.String("contentMediaType"); media != "" {
		return media
	}
	if _, said := s.Get("type"); s.String("format") == "binary" || !said && !s.IsZero() && s.Reference() == "" && string(s.Text()) == "{}" {
		return "application/octet-stream"
	}
	return ""
}
