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
	"strings"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// A File is a file of a form. Its content is read with Open, and is gone when
// the route's function has returned.
type File struct {
	// Name is what the caller calls the file. It is never to be used as a path.
	Name string
	// Type is the media type, found from the content, not from what was claimed, but
	// for kinds of text, which the content does not tell apart.
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
	// mostParts is how many parts a multipart form may have, whoever reads them.
	mostParts = 1000
)

var fileType = reflect.TypeFor[File]()

func (in *inputPlan) takesForm(at *site) *inputForm {
	if in.form == nil && at.hasBody() {
		in.form = &inputForm{limit: at.target.limits.Body}
	}
	return in.form
}

// takeFile plans a field for a file.
func (in *inputPlan) takeFile(at *site, where, name string, sf reflect.StructField, index []int) {
	rules, err := schema.ParseFileRules(sf.Tag)
	if err != nil {
		for _, e := range unjoin(err) {
			at.mistakef("%s: %v", where, e)
		}
	}
	if sf.Type != fileType && sf.Type != reflect.SliceOf(fileType) {
		at.mistakef("%s: a file is read into a wicketway.File or a list of them, not into %s", where, sf.Type)
		return
	}
	form := in.takesForm(at)
	if form == nil {
		return
	}
	for _, other := range form.files {
		if other.name == name {
			at.mistakef("%s: file %s is read by another field already", where, name)
		}
	}
	form.files = append(form.files, inputFile{
		name:     name,
		index:    index,
		many:     sf.Type.Kind() == reflect.Slice,
		required: rules.Required,
		most:     rules.MaxLength,
		types:    rules.MediaTypes,
	})
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
	body := limited(r, p.limit)
	if media == "multipart/form-data" {
		if params["boundary"] == "" {
			return nil, unsupported("The Content-Type has no boundary (RFC 2046, 5.1.1).", p.accepts())
		}
		whole := io.MultiReader(body, strings.NewReader("\r\n"), cutShort{})
		return p.parts(v, multipart.NewReader(whole, params["boundary"]), r, s, found)
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return nil, bodyFault(r, err)
	}
	form, err := url.ParseQuery(string(text))
	if err != nil {
		found.add("form", "", schema.Fault{Rule: "syntax", Detail: "is not well-formed: " + clip.Text(err.Error(), longestReason), Unreadable: true})
	}
	return form, nil
}

// cutShort stands behind a multipart body. Whoever reads so far has missed the closing
// delimiter (RFC 2046, 5.1.1), which package multipart does not insist on.
type cutShort struct{}

func (cutShort) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// parts reads a multipart form (RFC 7578) part by part, so that nothing is kept
// of a file that is too large.
func (p *inputForm) parts(v reflect.Value, in *multipart.Reader, r *http.Request, s *state, found *faults) (url.Values, error) {
	form := url.Values{}
	counts := make([]int, len(p.files))
	for n := 0; ; n++ {
		part, err := in.NextPart()
		if err == io.EOF {
			break
		}
		if err == nil && n == mostParts {
			return nil, problem.BodyTooLarge.New("The form has more than %d parts.", mostParts).With("limit", mostParts)
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
		if storage, ok := errors.AsType[*storageError](err); ok {
			return nil, storage
		}
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
	_, large := errors.AsType[*http.MaxBytesError](err)
	_, known := errors.AsType[*problem.Problem](err)
	if large || known || r.Context().Err() != nil {
		return bodyFault(r, err)
	}
	found.add("form", "", schema.Fault{Rule: "syntax", Detail: "is not a well-formed multipart body (RFC 7578): it has no closing delimiter, or a part is broken", Unreadable: true})
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
		err = s.spoolFile(&file, start.Bytes(), limited)
	}
	if err != nil && err != io.EOF {
		return file, nil, err
	}
	var found []schema.Fault
	if f.most > 0 && file.Size > f.most {
		found = append(found, schema.Fault{Rule: "maxLength", Want: f.most, Detail: fmt.Sprintf("must have at most %d bytes", f.most)})
	}
	file.Type = mediaType(start.Bytes(), part.Header.Get("Content-Type"))
	if f.types != nil && !slices.ContainsFunc(f.types, file.is) {
		found = append(found, schema.Fault{Rule: "contentMediaType", Want: f.types,
			Detail: "must be " + strings.Join(f.types, " or ") + ", and is " + file.Type})
	}
	return file, found, nil
}

// mediaType finds a file's type from its content. Of text nothing more can be told, so
// what was claimed counts where it is a kind of text.
func mediaType(start []byte, claimed string) string {
	found, _, _ := mime.ParseMediaType(http.DetectContentType(start[:min(len(start), 512)]))
	if own, _, err := mime.ParseMediaType(claimed); err == nil && found == "text/plain" && strings.HasPrefix(own, "text/") {
		return clip.Text(own, longestReason)
	}
	return found
}

// is reports whether the file is of a type such as image/png or image/*.
func (f *File) is(media string) bool {
	major, all := strings.CutSuffix(media, "*")
	return media == f.Type || all && strings.HasPrefix(f.Type, major)
}

// A spool is the one temporary file that holds the larger files of a form. Where the
// system lets it, it is removed from its folder while it is still open, so that
// nothing is left whatever becomes of the program.
type spool struct {
	kept *os.File
	name string // "" once removed
	size int64
}

// A storageError is a failure of the server's own disk.
type storageError struct{ cause error }

func (e *storageError) Error() string { return "keeping a file of a form: " + e.cause.Error() }
func (e *storageError) Unwrap() error { return e.cause }

// spoolFile keeps a file on disk until the request ends.
func (s *state) spoolFile(f *File, start []byte, rest io.Reader) error {
	if s.spool == nil {
		kept, err := os.CreateTemp("", "wicketway-")
		if err != nil {
			return &storageError{err}
		}
		s.spool = &spool{kept: kept, name: kept.Name()}
		if os.Remove(kept.Name()) == nil {
			s.spool.name = ""
		}
	}
	from := s.spool.size
	n, err := io.Copy(storing{s.spool}, io.MultiReader(bytes.NewReader(start), rest))
	f.Size, f.content = n, io.NewSectionReader(s.spool.kept, from, n)
	return err
}

// storing writes behind what a spool has.
type storing struct{ *spool }

func (s storing) Write(p []byte) (int, error) {
	n, err := s.kept.WriteAt(p, s.size)
	s.spool.size += int64(n)
	if err != nil {
		return n, &storageError{err}
	}
	return n, nil
}

func (s *spool) remove() {
	if s == nil {
		return
	}
	s.kept.Close()
	if s.name != "" {
		os.Remove(s.name)
	}
}
