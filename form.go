package wicketway

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/schema"
)

// A File is a file of a form. Its content is read with Open, and is gone when
// the route's function has returned.
type File struct {
	// Name is what the caller calls the file. It is never to be used as a path.
	Name string
	// Type is the media type, found from the content, not from what was claimed.
	Type string
	// Size is in bytes.
	Size int64

	content io.ReaderAt
}

// Open reads the file from its start. It can be called more than once.
func (f File) Open() *io.SectionReader { return io.NewSectionReader(f.content, 0, f.Size) }

// An inputForm is the plan for a body that is a form.
type inputForm struct {
	texts []string // the names of the other fields
	files []inputFile
	limit int64
}

// An inputFile is a field that takes a file, or a list of them.
type inputFile struct {
	name     string
	index    []int
	many     bool
	required bool
	most     int64    // bytes of one file; 0: no limit but the body's
	types    []string // media types, such as image/png or image/*
}

const (
	// inMemory is the size in bytes from which a file is kept on disk.
	inMemory = 64 << 10
	// longestText is the size in bytes of a text in a multipart form, however
	// large the form may be for its files' sake.
	longestText = 1 << 20
)

var fileType = reflect.TypeFor[File]()

func (in *inputPlan) takesForm(at *site) *inputForm {
	if in.form == nil && at.hasBody() {
		in.form = &inputForm{limit: at.target.limits.Body}
	}
	return in.form
}

// takeFile plans a field for a file. Its rules are JSON Schema's maxLength, here
// in bytes, and contentMediaType.
func (in *inputPlan) takeFile(at *site, where, name string, sf reflect.StructField, index []int) {
	f := inputFile{name: name, index: index, many: sf.Type.Kind() == reflect.Slice}
	if sf.Type != fileType && sf.Type != reflect.SliceOf(fileType) {
		at.mistakef("%s: a file is read into a wicketway.File or a list of them, not into %s", where, sf.Type)
		return
	}
	for word := range strings.FieldsSeq(sf.Tag.Get("rule")) {
		keyword, value, _ := strings.Cut(word, "=")
		var err error
		switch keyword {
		case "required":
			f.required = true
		case "maxLength":
			f.most, err = strconv.ParseInt(value, 10, 64)
		case "contentMediaType":
			f.types = strings.Split(value, "|")
		default:
			err = errors.New("unknown keyword for a file (required, maxLength, contentMediaType)")
		}
		if err != nil {
			at.mistakef("%s: rule %s: %v", where, keyword, err)
		}
	}
	if form := in.takesForm(at); form != nil {
		form.files = append(form.files, f)
	}
}

func (p *inputForm) accepts() []string {
	if len(p.files) > 0 {
		return []string{"multipart/form-data"}
	}
	return []string{"application/x-www-form-urlencoded", "multipart/form-data"}
}

// read reads the form: it gives the texts, and puts the files into v.
func (p *inputForm) read(v reflect.Value, r *http.Request, s *state, found *faults) (url.Values, error) {
	if err := checkCoding(r.Header); err != nil {
		return nil, err
	}
	media, params, err := parseMedia(r.Header.Get("Content-Type"), p.accepts())
	if err != nil {
		return nil, err
	}
	if !slices.Contains(p.accepts(), media) {
		return nil, unsupported("The body is "+media+".", p.accepts())
	}
	if r.ContentLength > p.limit {
		return nil, tooLarge(p.limit, nil)
	}
	body := http.MaxBytesReader(s.ResponseWriter, r.Body, p.limit)
	if media == "multipart/form-data" {
		return p.parts(v, multipart.NewReader(body, params["boundary"]), r, s, found)
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return nil, bodyFault(r, err)
	}
	form, err := url.ParseQuery(string(text))
	if err != nil {
		found.add("form", "", schema.Fault{Rule: "syntax", Detail: "is not well-formed: " + err.Error(), Unreadable: true})
	}
	return form, nil
}

// parts reads a multipart form (RFC 7578) part by part, so that nothing is kept
// of a file that is too large.
func (p *inputForm) parts(v reflect.Value, in *multipart.Reader, r *http.Request, s *state, found *faults) (url.Values, error) {
	form := url.Values{}
	counts := make([]int, len(p.files))
	for {
		part, err := in.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, p.broken(r, err, found)
		}
		i := slices.IndexFunc(p.files, func(f inputFile) bool { return f.name == part.FormName() })
		if i < 0 {
			if err := p.text(part, form, found); err != nil {
				return nil, p.broken(r, err, found)
			}
			continue
		}
		f := p.files[i]
		if counts[i]++; counts[i] > 1 && !f.many {
			found.add("file", f.name, schema.Fault{Rule: "unique", Detail: "stands more than once", Unreadable: true})
			continue
		}
		file, wrong, err := f.receive(part, s)
		if err != nil {
			return nil, p.broken(r, err, found)
		}
		found.add("file", f.name, wrong...)
		if into := v.FieldByIndex(f.index); f.many {
			into.Set(reflect.Append(into, reflect.ValueOf(file)))
		} else {
			into.Set(reflect.ValueOf(file))
		}
	}
	for i, f := range p.files {
		if f.required && counts[i] == 0 {
			found.add("file", f.name, schema.Fault{Rule: "required", Detail: "is missing"})
		}
	}
	return form, nil
}

// text takes one text in; what no field reads is passed over.
func (p *inputForm) text(part *multipart.Part, form url.Values, found *faults) error {
	name := part.FormName()
	if !slices.Contains(p.texts, name) {
		return nil
	}
	text, err := io.ReadAll(io.LimitReader(part, longestText+1))
	if len(text) > longestText {
		found.add("form", name, schema.Fault{Rule: "maxLength", Want: longestText, Detail: fmt.Sprintf("must have at most %d bytes", longestText)})
		return err
	}
	form.Add(name, string(text))
	return err
}

// broken tells a body that ended or was too large from one that is no form.
func (p *inputForm) broken(r *http.Request, err error, found *faults) error {
	if _, large := errors.AsType[*http.MaxBytesError](err); large || r.Context().Err() != nil {
		return bodyFault(r, err)
	}
	found.add("form", "", schema.Fault{Rule: "syntax", Detail: "is not a well-formed multipart body (RFC 7578)", Unreadable: true})
	return found.problem()
}

// receive takes one file in, up to its limit.
func (f *inputFile) receive(part *multipart.Part, s *state) (File, []schema.Fault, error) {
	file := File{Name: part.FileName()}
	var start bytes.Buffer
	limited := io.Reader(part)
	if f.most > 0 {
		limited = io.LimitReader(part, f.most+1)
	}
	n, err := io.CopyN(&start, limited, inMemory)
	file.Size, file.content = n, bytes.NewReader(start.Bytes())
	if err == nil {
		err = file.spool(&start, limited, s)
	}
	if err != nil && err != io.EOF {
		return file, nil, err
	}
	var found []schema.Fault
	if f.most > 0 && file.Size > f.most {
		found = append(found, schema.Fault{Rule: "maxLength", Want: f.most, Detail: fmt.Sprintf("must have at most %d bytes", f.most)})
	}
	file.Type, _, _ = mime.ParseMediaType(http.DetectContentType(start.Bytes()[:min(start.Len(), 512)]))
	if f.types != nil && !slices.ContainsFunc(f.types, file.is) {
		found = append(found, schema.Fault{Rule: "contentMediaType", Want: f.types,
			Detail: "must be " + strings.Join(f.types, " or ") + ", and is " + file.Type})
	}
	return file, found, nil
}

// is reports whether the file is of a type such as image/png or image/*.
func (f *File) is(media string) bool {
	major, all := strings.CutSuffix(media, "*")
	return media == f.Type || all && strings.HasPrefix(f.Type, major)
}

// spool keeps a file on disk until the request ends.
func (f *File) spool(start *bytes.Buffer, rest io.Reader, s *state) error {
	kept, err := os.CreateTemp("", "wicketway-")
	if err != nil {
		return err
	}
	s.cleanup = append(s.cleanup, func() {
		kept.Close()
		os.Remove(kept.Name())
	})
	if _, err := kept.Write(start.Bytes()); err != nil {
		return err
	}
	n, err := io.Copy(kept, rest)
	f.Size, f.content = f.Size+n, kept
	return err
}
