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

	"github.com/wicketway/wicketway/problem"
)

// Content is what is sent as it is.
type Content struct {
	Type     string // media type; "": found by the name
	Name     string // of the file, for callers who keep it
	Download bool   // callers are asked to keep it
	Size     int64  // bytes; 0: not known
	Modified time.Time
	Tag      string // an entity tag, or what one is made of
	Body     io.Reader
	// Hashed content has a tag that is made of its bytes where it has none and can be read
	// twice.
	Hashed bool
	// Sniffed content has the type that its bytes look like, where its name tells none.
	Sniffed bool
}

// SendContent answers with content, and with parts of it (RFC 9110, 14) where it can seek. An
// [Unwritten] error comes before anything was sent. It does not close the body.
func SendContent(w http.ResponseWriter, r *http.Request, c Content) error {
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
		return c.copy(w, r)
	}
	return ranges(w, func(w http.ResponseWriter) {
		http.ServeContent(w, withoutConditions(ranged(r)), "", c.Modified, seeker)
	})
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
	if seeker, ok := c.Body.(io.ReadSeeker); ok && c.Type == "" && c.Sniffed {
		c.Type = sniff(seeker)
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
	h.Set("X-Content-Type-Options", "nosniff")
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
			return fmt.Errorf("%q is no entity tag (RFC 9110, 8.8.3)", c.Tag)
		}
		h["Etag"] = []string{tag}
	}
	if seeker, ok := c.Body.(io.ReadSeeker); ok && c.Hashed && h["Etag"] == nil {
		tag, err := HashTag(seeker)
		if err != nil {
			return err
		}
		h["Etag"] = []string{tag}
	}
	return nil
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
	if r.Method == http.MethodHead {
		w.WriteHeader(http.StatusOK)
		return nil
	}
	body := bufio.NewReaderSize(c.Body, peeked)
	if _, err := body.Peek(1); err != nil && err != io.EOF {
		delete(h, "Content-Length")
		return Unwritten{fmt.Errorf("the content cannot be read: %w", err)}
	}
	w.WriteHeader(http.StatusOK)
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
func Reshape(w http.ResponseWriter, held func(status int, h http.Header) bool, serve func(http.ResponseWriter)) *problem.Problem {
	own := Direct(w)
	if own == nil {
		own = Around(w)
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

// withoutConditions gives a request whose conditions have been held already. If-Range is about
// the range.
func withoutConditions(r *http.Request) *http.Request {
	own := *r
	own.Header = r.Header.Clone()
	for _, name := range []string{"If-Match", "If-None-Match", "If-Modified-Since", "If-Unmodified-Since"} {
		delete(own.Header, name)
	}
	return &own
}

// ranged gives the request without a Range that does not count: to a HEAD (RFC 9110,
// 14.2), of a unit that is not bytes, and of nothing (bytes=-0 is left as one that no
// file can satisfy, 14.1.2).
func ranged(r *http.Request) *http.Request {
	field := r.Header.Get("Range")
	if field == "" {
		return r
	}
	unit, ranges, _ := strings.Cut(field, "=")
	var kept []string
	for one := range strings.SplitSeq(ranges, ",") {
		first, last, dash := strings.Cut(strings.Trim(one, " \t"), "-")
		if strings.Trim(first+last, "0123456789") != "" || !dash || first+last == "" {
			kept = nil
			unit = "" // not well-formed, so there is no Range
			break
		}
		if first != "" || strings.Trim(last, "0") != "" {
			kept = append(kept, first+"-"+last)
		}
	}
	own := r.Clone(r.Context())
	switch {
	case r.Method != http.MethodGet || !strings.EqualFold(unit, "bytes"):
		own.Header.Del("Range")
	case kept == nil:
		own.Header.Set("Range", fmt.Sprintf("bytes=%d-", int64(math.MaxInt64)))
	default:
		own.Header.Set("Range", "bytes="+strings.Join(kept, ","))
	}
	return own
}
