package answer

import (
	"bufio"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

// Content is what is sent as it is.
type Content struct {
	Status   int    // 0: 200, or what conditions and ranges ask for
	Type     string // media type; "": found by the name
	Name     string // of the file, for callers who keep it
	Download bool   // callers are asked to keep it
	Size     int64  // bytes; 0: not known
	Modified time.Time
	Tag      string // an entity tag, or what one is made of
	Body     io.Reader
	// Hashed content has a tag where it has none: of its size and time where both are known, else of its
	// bytes, if it can be read twice and has at most [MostHashed].
	Hashed bool
	// Sniffed content has the type that its bytes look like, where its name tells none.
	Sniffed bool
}

// SendContent answers with content, and with parts of it (RFC 9110, 14) where it can seek. An
// [Unwritten] error comes before anything was sent. It does not close the body.
func SendContent(w http.ResponseWriter, r *http.Request, c Content) error {
	if c.Status != 0 && c.Status != http.StatusOK {
		return c.sendAs(w, r)
	}
	c.complete()
	h := w.Header()
	if err := c.label(h); err != nil {
		return Unwritten{err}
	}
	if c.Modified.Unix() > 0 {
		h.Set("Last-Modified", c.Modified.UTC().Format(http.TimeFormat))
	} else {
		c.Modified = time.Time{} // as file systems without times have it
	}
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		state := State{Exists: true, Tags: h["Etag"], Modified: c.Modified}
		if done, err := ConcludeReading(w, PreconditionsOf(r.Header).Hold(state, true)); done || err != nil {
			return err
		}
	}
	seeker, ok := c.Body.(io.ReadSeeker)
	if !ok {
		return c.copy(w, r) // without parts: a server may ignore Range (RFC 9110, 14.2)
	}
	field, ok := rangeOf(r)
	if !ok {
		return Unwritten{c.tooManyRanges(seeker)}
	}
	if isEmpty(seeker) && strings.HasPrefix(field, "bytes=-") {
		field = "" // the end of nothing is all of it
	}
	return ranges(w, func(w http.ResponseWriter) {
		http.ServeContent(w, inParts(r, field), "", c.Modified, seeker)
	})
}

// sendAs sends content with another status than 200: as a whole, and whatever the conditions of the request are, which
// are about the content that 200 has (RFC 9110, 13.2.1 and 14.2).
func (c *Content) sendAs(w http.ResponseWriter, r *http.Request) error {
	if s := c.Status; s < 200 || s > 599 || s >= 300 && s < 400 || HasNoContent(s) || s == http.StatusPartialContent {
		return unwritten("the route answered with content and the status %d: content has a status of success or of an "+
			"error, and neither 204, 205 nor 206", s)
	}
	c.Hashed = false
	c.complete()
	if err := c.label(w.Header()); err != nil {
		return Unwritten{err}
	}
	return c.copy(w, r)
}

func isEmpty(body io.ReadSeeker) bool {
	size, err := body.Seek(0, io.SeekEnd)
	if _, back := body.Seek(0, io.SeekStart); err != nil || back != nil {
		return false // it is found out when it is sent
	}
	return size == 0
}

// tooManyRanges is the refusal of a request for more parts than are sent (RFC 9110, 15.5.17).
func (c *Content) tooManyRanges(body io.Seeker) error {
	size, err := body.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	return problem.OfStatus(http.StatusRequestedRangeNotSatisfiable).
		Newf("At most %d ranges are sent at a time, and none twice.", mostRanges).
		WithHeader("Content-Range", "bytes */"+strconv.FormatInt(size, 10))
}

// complete finds out what is not said, from the file that the body may be.
func (c *Content) complete() {
	name := c.Name
	if f, ok := c.Body.(fs.File); ok {
		if about, err := f.Stat(); err == nil {
			name = cmp.Or(name, about.Name())
			c.Size = cmp.Or(c.Size, about.Size())
			if c.Modified.IsZero() {
				c.Modified = about.ModTime()
			}
		}
	}
	if c.Body == nil {
		c.Body = strings.NewReader("")
	}
	c.Type = cmp.Or(c.Type, mime.TypeByExtension(path.Ext(name)))
	if c.Type == "" && c.Sniffed {
		if seeker, ok := c.Body.(io.ReadSeeker); ok {
			c.Type = sniff(seeker)
		} else {
			body := bufio.NewReaderSize(c.Body, peeked)
			start, _ := body.Peek(512) // what cannot be read is found out when it is sent
			c.Type, c.Body = http.DetectContentType(start), body
		}
	}
	c.Type = cmp.Or(c.Type, "application/octet-stream")
}

func sniff(content io.ReadSeeker) string {
	var start [512]byte
	n, _ := io.ReadFull(content, start[:]) // what cannot be read is found out when it is sent
	if _, err := content.Seek(0, io.SeekStart); err != nil {
		return ""
	}
	return http.DetectContentType(start[:n])
}

// label sets the fields that describe the content. Its type is what is said, whatever it
// looks like.
func (c *Content) label(h http.Header) error {
	if h["Content-Type"] == nil {
		h.Set("Content-Type", c.Type)
	}
	h["X-Content-Type-Options"] = nosniff
	if c.Name != "" || c.Download {
		how, parameters := "inline", map[string]string{}
		if c.Download {
			how = "attachment"
		}
		if name := path.Base(strings.ReplaceAll(c.Name, `\`, "/")); c.Name != "" && name != "/" {
			parameters["filename"] = name
		}
		h.Set("Content-Disposition", mime.FormatMediaType(how, parameters))
	}
	if c.Tag != "" {
		tag, ok := asTag(c.Tag)
		if !ok {
			return fmt.Errorf("%q is not an entity tag (RFC 9110, 8.8.3)", c.Tag)
		}
		h["Etag"] = []string{tag}
	}
	if seeker, ok := c.Body.(io.ReadSeeker); ok && c.Hashed && h["Etag"] == nil {
		tag, err := c.ownTag(seeker)
		if err != nil {
			return err
		}
		if tag != "" {
			h["Etag"] = []string{tag}
		}
	}
	return nil
}

var nosniff = []string{"nosniff"} // shared by all answers

// MostHashed is up to how many bytes content is read for its tag at each request.
const MostHashed = 1 << 20

// ownTag is the tag that hashed content has by itself; "" where that would cost more than it is worth.
func (c *Content) ownTag(body io.ReadSeeker) (string, error) {
	size, err := body.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = body.Seek(0, io.SeekStart)
	}
	switch {
	case err != nil:
		return "", err
	case c.Modified.Unix() > 0:
		return DatedTag(c.Modified, size), nil
	case size > MostHashed:
		return "", nil
	}
	return HashTag(body)
}

// DatedTag makes an entity tag of when content has changed last, and of its size.
func DatedTag(modified time.Time, size int64) string {
	return fmt.Sprintf("\"%x-%x\"", modified.UnixNano(), size)
}

// HashTag makes an entity tag of what can be read, and goes back to its start.
func HashTag(content io.ReadSeeker) (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, content); err != nil {
		return "", err
	}
	if _, err := content.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	return `"` + hex.EncodeToString(h.Sum(nil)[:16]) + `"`, nil
}

// peeked is how much is read before the header goes out, in bytes: what fails until then is a
// proper problem.
const peeked = 4 << 10

// copy sends what can be read once. What fails while it is read is returned; a caller who is
// gone is not.
func (c *Content) copy(w http.ResponseWriter, r *http.Request) error {
	h := w.Header()
	if c.Size > 0 {
		h["Content-Length"] = []string{strconv.FormatInt(c.Size, 10)}
	}
	status := cmp.Or(c.Status, http.StatusOK)
	if r.Method == http.MethodHead {
		w.WriteHeader(status)
		return nil
	}
	body := bufio.NewReaderSize(c.Body, peeked)
	if _, err := body.Peek(1); err != nil && err != io.EOF {
		delete(h, "Content-Length")
		return Unwritten{fmt.Errorf("the content cannot be read: %w", err)}
	}
	w.WriteHeader(status)
	watched := &watchedReader{body, nil}
	if _, err := io.Copy(w, watched); err != nil && watched.err == nil {
		return err
	}
	if watched.err != nil {
		return fmt.Errorf("the content broke off: %w", Broken{watched.err})
	}
	return nil
}

// Broken says that an answer failed after its start for a reason of ours, not of the
// connection.
type Broken struct{ error }

func (e Broken) Unwrap() error { return e.error }

type watchedReader struct {
	io.Reader
	err error
}

func (r *watchedReader) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if err != nil && err != io.EOF {
		r.err = err
	}
	return n, err
}

// ranges lets net/http answer a request for parts; where none can be sent (416) it returns the
// problem.
func ranges(w http.ResponseWriter, serve func(http.ResponseWriter)) error {
	if p := Reshape(w, func(status int, _ http.Header) bool { return status >= 400 }, serve); p != nil {
		return Unwritten{p}
	}
	return nil
}

// Reshape calls a handler, and gives the problem that an answer of it becomes which is to be
// held back; nil where it has answered.
func Reshape(
	w http.ResponseWriter, held func(status int, h http.Header) bool, serve func(http.ResponseWriter),
) *problem.Problem {
	own := writer.Direct(w)
	if own == nil {
		own = writer.Around(w)
		w = own.Outside()
	}
	own.Divert(held)
	serve(w)
	status, said := own.Diverted()
	if status == 0 {
		return nil
	}
	p := problem.OfStatus(status).New("").Because(errors.New(strings.TrimSpace(string(said))))
	if part := w.Header().Get("Content-Range"); part != "" { // what a 416 can offer (RFC 9110, 14.4)
		p.WithHeader("Content-Range", part)
	}
	return p
}

// inParts is a request as net/http needs it to send parts: its conditions have been held already, and
// If-Range is about the range.
func inParts(r *http.Request, field string) *http.Request {
	own := &http.Request{Method: r.Method, Header: noFields}
	if field != "" {
		own.Header = http.Header{"Range": {field}}
		switch condition := r.Header["If-Range"]; len(condition) {
		case 0:
		case 1:
			own.Header["If-Range"] = condition
		default: // it is not one that holds (RFC 9110, 13.1.5)
			own.Header = noFields
		}
	}
	return own
}

var noFields = http.Header{}

// mostRanges is how many parts are sent at a time.
const mostRanges = 16

// rangeOf gives the field Range without what does not count: "" where it does not count at all, as to
// a HEAD (RFC 9110, 14.2), of a unit that is not bytes, and malformed. Ranges of nothing (bytes=-0) are
// left as one that no file can satisfy (14.1.2). False where there are too many, or the same bytes are
// asked for more than twice: it would cost more than the whole.
func rangeOf(r *http.Request) (field string, ok bool) {
	lines := r.Header["Range"]
	if len(lines) != 1 || r.Method != http.MethodGet {
		return "", true
	}
	unit, list, _ := strings.Cut(lines[0], "=")
	if !strings.EqualFold(unit, "bytes") {
		return "", true
	}
	var kept []string
	var spans [][2]int64
	empty := true
	for one := range strings.SplitSeq(list, ",") {
		if one = strings.Trim(one, " \t"); one == "" {
			continue // RFC 9110, 5.6.1.2
		}
		empty = false
		first, last, dash := strings.Cut(one, "-")
		if strings.Trim(first+last, "0123456789") != "" || !dash || first+last == "" {
			return "", true
		}
		if len(kept) == mostRanges {
			return "", false
		}
		if first != "" || strings.Trim(last, "0") != "" {
			span := spanOf(first, last)
			if first != "" && last != "" && span[1] < span[0] {
				return "", true // it is no range (14.1.1)
			}
			kept, spans = append(kept, within(first)+"-"+within(last)), append(spans, span)
		}
	}
	switch {
	case empty:
		return "", true
	case kept == nil:
		return fmt.Sprintf("bytes=%d-", int64(math.MaxInt64)), true
	case overlaps(spans) > 2:
		return "", false
	}
	return "bytes=" + strings.Join(kept, ","), true
}

// within is a position that a file can have: larger ones are as good as the largest.
func within(position string) string {
	if _, err := strconv.ParseInt(position, 10, 64); err != nil && position != "" {
		return strconv.FormatInt(math.MaxInt64, 10)
	}
	return position
}

// spanOf is what a range asks for; a suffix is taken to be at the far end of any file.
func spanOf(first, last string) [2]int64 {
	number := func(text string, otherwise int64) int64 {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return otherwise // it is empty, or larger than any file
		}
		return n
	}
	if first == "" {
		return [2]int64{math.MaxInt64 - number(last, math.MaxInt64), math.MaxInt64}
	}
	return [2]int64{number(first, math.MaxInt64), number(last, math.MaxInt64)}
}

// overlaps counts the pairs of ranges that have bytes in common.
func overlaps(spans [][2]int64) (pairs int) {
	for i, a := range spans {
		for _, b := range spans[:i] {
			if a[0] <= b[1] && b[0] <= a[1] {
				pairs++
			}
		}
	}
	return pairs
}
