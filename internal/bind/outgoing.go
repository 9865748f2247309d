package bind

import (
	"io"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"sync"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/internal/check"
)

// An Outgoing input is what a request for it has, on the side of those who call.
type Outgoing struct {
	Path   []string // the values of the template's parameters, in their order
	Query  url.Values
	Header http.Header // with the cookies, and the media type of a body
	Body   []byte      // nil: none, or one of these:
	Reader io.Reader   // a body that is handed on as it is
	Form   url.Values  // of a form with files, which are with the caller
	Items  reflect.Value

	few [3]string // of the path, mostly
}

// Outgoing takes an input apart into o, as Write does, and holds it against the rules, as the other side would: the error is the
// problem that it would answer. Unchecked leaves that out.
func (in *Plan) Outgoing(o *Outgoing, v reflect.Value, parameters int, unchecked bool) error {
	o.Header = http.Header{}
	if o.Path = o.few[:min(parameters, len(o.few))]; parameters > len(o.few) {
		o.Path = make([]string, parameters)
	}
	found := faults{most: in.most}
	for i := range in.fields {
		f := &in.fields[i]
		field := v.FieldByIndex(f.index)
		if field.IsZero() && f.source != "path" {
			if wrong := f.schema.Absent(reflect.New(field.Type()).Elem()); wrong != nil && !unchecked {
				found.add(f.source, f.name, wrong...)
			}
			continue
		}
		texts, err := f.schema.Texts(field)
		if err != nil {
			return err
		}
		if !unchecked {
			pool := scratch(f.typ)
			read := pool.Get()
			into := reflect.ValueOf(read).Elem()
			if wrong := f.schema.ReadAll(texts, into, in.most); wrong != nil {
				found.add(f.source, f.name, wrong...)
			}
			into.SetZero()
			pool.Put(read)
		}
		o.put(f, texts)
	}
	if in.form != nil && in.form.files == nil {
		o.Body, o.Form = []byte(o.Form.Encode()), nil
		o.Header["Content-Type"] = []string{"application/x-www-form-urlencoded"}
	}
	if in.body != nil {
		if err := in.outgoingBody(o, in.body.of(v), unchecked, &found); err != nil {
			return err
		}
	}
	if in.judges && found.items == nil && !unchecked {
		in.judge(v, &found)
	}
	return found.problem()
}

// scratches are values that texts are read into to be judged, by their types.
var scratches sync.Map

func scratch(t reflect.Type) *sync.Pool {
	if pool, has := scratches.Load(t); has {
		return pool.(*sync.Pool)
	}
	pool, _ := scratches.LoadOrStore(t, &sync.Pool{New: func() any { return reflect.New(t).Interface() }})
	return pool.(*sync.Pool)
}

// put puts the texts of a field where they belong.
func (o *Outgoing) put(f *field, texts []string) {
	switch f.source {
	case "path":
		if len(texts) == 1 && f.parameter < len(o.Path) {
			o.Path[f.parameter] = texts[0]
		}
	case "query":
		if o.Query == nil {
			o.Query = url.Values{}
		}
		o.Query[f.name] = texts
	case "header":
		o.Header[f.name] = texts
	case "cookie":
		for _, text := range texts {
			one := (&http.Cookie{Name: f.name, Value: text}).String()
			if before := o.Header.Get("Cookie"); before != "" {
				one = before + "; " + one
			}
			o.Header["Cookie"] = []string{one}
		}
	case "form":
		if o.Form == nil {
			o.Form = url.Values{}
		}
		o.Form[f.name] = texts
	}
}

func (in *Plan) outgoingBody(o *Outgoing, body reflect.Value, unchecked bool, found *faults) error {
	b := in.body
	switch {
	case b.stream != nil:
		o.Items = body
		o.Header["Content-Type"] = []string{lines}
		return nil
	case b.schema == nil:
		if !body.IsNil() {
			o.Reader = body.Interface().(io.Reader)
		}
		return nil
	case b.optional && body.IsNil():
		return nil
	}
	text, err := json.Marshal(body.Interface())
	if err != nil {
		return err
	}
	if !unchecked {
		wrong, more := b.schema.Decode(text, reflect.New(body.Type()).Interface(), check.Reading{Lenient: check.ReadOnlyMembers, Most: in.most})
		found.add("body", "", wrong...)
		found.more = found.more || more
	}
	o.Header["Content-Type"] = []string{strings.TrimSpace(b.accepts[0])}
	o.Body, err = b.schema.ForServers(text)
	return err
}

// Item writes an item of a stream as a line.
func (in *Plan) Item(item any) ([]byte, error) {
	text, err := json.Marshal(item)
	if err == nil {
		text, err = in.body.stream.Item.ForServers(text)
	}
	return append(text, '\n'), err
}

// Files are the fields that are files: their names, and where they are in the input.
func (in *Plan) Files() (all []struct {
	Name  string
	Index []int
}) {
	if in.form == nil {
		return nil
	}
	for _, f := range in.form.files {
		all = append(all, struct {
			Name  string
			Index []int
		}{f.name, f.index})
	}
	return all
}
