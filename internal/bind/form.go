package bind

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
	"sync"

	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// A Received file of a form.
type Received struct {
	Name    string // what the caller calls it
	Type    string // the media type
	Size    int64  // in bytes
	Content io.ReaderAt
}

// A FileType is the Go type that files are read into.
type FileType struct {
	Type reflect.Type
	Make func(Received) reflect.Value
}

// A form is a body of fields, and of files.
type form struct {
	texts []string // the names of the other fields
	files []fileField
	make  func(Received) reflect.Value
	limit int64
}

// A fileField is a field that takes a file, or a list of them.
type fileField struct {
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
	// mostParts is how many parts a multipart form may have, however they are read.
	mostParts = 1000
)

func (in *Plan) takesForm(c *Config) *form {
	if in.form == nil && c.hasBody() {
		in.form = &form{limit: c.Limit, make: c.Files.Make}
	}
	return in.form
}

// takeFile plans a field for a file.
func (in *Plan) takeFile(c *Config, where, name string, sf reflect.StructField, index []int) {
	rules, err := check.ParseFileRules(sf.Tag)
	if err != nil {
		for _, e := range check.Unjoin(err) {
			c.Mistake("%s: %v", where, e)
		}
	}
	if sf.Type != c.Files.Type && sf.Type != reflect.SliceOf(c.Files.Type) {
		c.Mistake("%s: a file is read into a wicketway.File or a list of them, not into %s", where, sf.Type)
		return
	}
	into := in.takesForm(c)
	if into == nil {
		return
	}
	for _, other := range into.files {
		if other.name == name {
			c.Mistake("%s: file %s is read by another field already", where, name)
		}
	}
	into.files = append(into.files, fileField{
		name:     name,
		index:    index,
		many:     sf.Type.Kind() == reflect.Slice,
		required: rules.Required,
		most:     rules.MaxLength,
		types:    rules.MediaTypes,
	})
}

func (p *form) accepts() []string {
	if len(p.files) > 0 {
		return []string{"multipart/form-data"}
	}
	return []string{"application/x-www-form-urlencoded", "multipart/form-data"}
}

// read reads the form: it gives the texts, and puts the files into v.
func (p *form) read(v reflect.Value, r *http.Request, received *Body, found *faults) (url.Values, error) {
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
		return nil, failure.TooLarge(p.limit, nil)
	}
	body := limited(r, p.limit)
	if media == "multipart/form-data" {
		if params["boundary"] == "" {
			return nil, unsupported("The Content-Type has no boundary (RFC 2046, 5.1.1).", p.accepts())
		}
		whole := io.MultiReader(body, strings.NewReader("\r\n"), cutShort{})
		return p.parts(v, multipart.NewReader(whole, params["boundary"]), r, received, found)
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return nil, bodyFault(r, err)
	}
	form, err := url.ParseQuery(string(text))
	if err != nil {
		found.add("form", "", schema.Fault{Rule: "syntax", Detail: malformed(string(text), err), Unreadable: true})
	}
	return form, nil
}

// cutShort is behind a multipart body. A reader that comes so far has missed the closing
// delimiter (RFC 2046, 5.1.1), which package multipart does not insist on.
type cutShort struct{}

func (cutShort) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// parts reads a multipart form (RFC 7578) part by part, so that nothing is kept
// of a file that is too large.
func (p *form) parts(v reflect.Value, in *multipart.Reader, r *http.Request, received *Body, found *faults) (url.Values,
	error) {
	form := url.Values{}
	counts := make([]int, len(p.files))
	for n := 0; ; n++ {
		part, err := in.NextPart()
		if err == io.EOF {
			break
		}
		if err == nil && n == mostParts {
			return nil, problem.BodyTooLarge.Newf("The form has more than %d parts.", mostParts).With("limit",
				mostParts)
		}
		if err != nil {
			return nil, p.broken(r, err, found)
		}
		i := slices.IndexFunc(p.files, func(f fileField) bool { return f.name == part.FormName() })
		if i < 0 {
			if err := p.text(part, form, found); err != nil {
				return nil, p.broken(r, err, found)
			}
			continue
		}
		f := p.files[i]
		if counts[i]++; counts[i] > 1 && !f.many {
			found.add("file", f.name, schema.Fault{Rule: "unique", Detail: "is given more than once", Unreadable: true})
			continue
		}
		file, wrong, err := f.receive(part, received)
		if storage, ok := errors.AsType[*storageError](err); ok {
			return nil, storage
		}
		if err != nil {
			return nil, p.broken(r, err, found)
		}
		found.add("file", f.name, wrong...)
		if into := v.FieldByIndex(f.index); f.many {
			into.Set(reflect.Append(into, p.make(file)))
		} else {
			into.Set(p.make(file))
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
func (p *form) text(part *multipart.Part, form url.Values, found *faults) error {
	name := part.FormName()
	if !slices.Contains(p.texts, name) {
		return nil
	}
	text, err := io.ReadAll(io.LimitReader(part, longestText+1))
	if len(text) > longestText {
		found.add("form", name, schema.Fault{Rule: "maxLength", Want: longestText,
			Detail: fmt.Sprintf("must have at most %d bytes", longestText)})
		return err
	}
	form.Add(name, string(text))
	return err
}

// broken distinguishes a body that ended or was too large from one that is no form.
func (p *form) broken(r *http.Request, err error, found *faults) error {
	_, large := errors.AsType[*http.MaxBytesError](err)
	_, known := errors.AsType[*problem.Problem](err)
	if large || known || r.Context().Err() != nil {
		return bodyFault(r, err)
	}
	found.add(
		"form",
		"",
		schema.Fault{
			Rule:       "syntax",
			Detail:     "is not a well-formed multipart body (RFC 7578): it has no closing delimiter, or a part is broken",
			Unreadable: true,
		},
	)
	return found.problem()
}

// receive takes one file in, up to its limit.
func (f *fileField) receive(part *multipart.Part, received *Body) (Received, []schema.Fault, error) {
	file := Received{Name: part.FileName()}
	var start bytes.Buffer
	limited := io.Reader(part)
	if f.most > 0 {
		limited = io.LimitReader(part, f.most+1)
	}
	n, err := io.CopyN(&start, limited, inMemory)
	file.Size, file.Content = n, bytes.NewReader(start.Bytes())
	if err == nil {
		err = received.Files.keep(&file, start.Bytes(), limited)
	}
	if err != nil && err != io.EOF {
		return file, nil, err
	}
	var found []schema.Fault
	if f.most > 0 && file.Size > f.most {
		found = append(found, schema.Fault{Rule: "maxLength", Want: f.most,
			Detail: fmt.Sprintf("must have at most %d bytes", f.most)})
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
	if own, _, err := mime.ParseMediaType(claimed); err == nil && found == "text/plain" &&
		strings.HasPrefix(own, "text/") {
		return clip.Text(own, longestReason)
	}
	return found
}

// is reports whether the file is of a type such as image/png or image/*.
func (f *Received) is(media string) bool {
	major, all := strings.CutSuffix(media, "*")
	return media == f.Type || all && strings.HasPrefix(f.Type, major)
}

// A Spool is the one temporary file that holds the larger files of a form. It is made with
// the first of them, and where the system lets it, it is removed from its folder while it is
// still open, so that nothing is left whatever becomes of the program. The zero Spool is
// ready. Close may be called while another goroutine still reads the form.
type Spool struct {
	size int64

	mu     sync.Mutex
	kept   *os.File
	name   string // "" once removed
	closed bool
}

// A storageError is a failure of the server's own disk.
type storageError struct{ cause error }

func (e *storageError) Error() string { return "keeping a file of a form: " + e.cause.Error() }
func (e *storageError) Unwrap() error { return e.cause }

// open gives the file, made if it is not there.
func (s *Spool) open() (*os.File, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return nil, os.ErrClosed // the request has ended without us
	}
	if s.kept != nil {
		return s.kept, nil
	}
	kept, err := os.CreateTemp("", "wicketway-")
	if err != nil {
		return nil, err
	}
	s.kept, s.name = kept, kept.Name()
	if os.Remove(s.name) == nil {
		s.name = ""
	}
	return kept, nil
}

// keep writes a file behind what the spool has.
func (s *Spool) keep(f *Received, start []byte, rest io.Reader) error {
	kept, err := s.open()
	if err != nil {
		return &storageError{err}
	}
	from := s.size
	n, err := io.Copy(storing{s, kept}, io.MultiReader(bytes.NewReader(start), rest))
	f.Size, f.Content = n, io.NewSectionReader(kept, from, n)
	return err
}

// storing writes at the end of a spool.
type storing struct {
	*Spool
	to *os.File
}

func (s storing) Write(p []byte) (int, error) {
	n, err := s.to.WriteAt(p, s.size)
	s.Spool.size += int64(n)
	if err != nil {
		return n, &storageError{err}
	}
	return n, nil
}

// Close removes the file, if there is one.
func (s *Spool) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	if s.kept == nil {
		return
	}
	s.kept.Close()
	if s.name != "" {
		os.Remove(s.name)
	}
}
