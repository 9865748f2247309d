// Package sent keeps what a request brought as it arrived, for the log and the trail in development.
package sent

import (
	"bytes"
	"cmp"
	"io"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/secret"
)

// usual is how much of a body is kept, in bytes, where nobody wants more.
const usual = 1500

// A Request is what arrived. It is safe for concurrent use.
type Request struct {
	// Of is the request as the chain got it.
	Of *http.Request
	// Reads reports whether the route's input reads a header field.
	Reads func(field string) bool
	// Rest receives a body of a known size that nobody has read; nil where there is none.
	Rest func(size int64) []byte

	mu   sync.Mutex
	most int // of the body; 0: as usual
	body []byte
	size int64 // of what was read
}

// KeepMore has so many bytes of the body kept, where it has not been read yet.
func (q *Request) KeepMore(bytes int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.most = max(q.most, bytes)
}

// Watch keeps the start of what is read from a body.
func (q *Request) Watch(body io.ReadCloser) io.ReadCloser { return &watched{body, q} }

type watched struct {
	io.ReadCloser
	by *Request
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.ReadCloser.Read(p)
	w.by.mu.Lock()
	defer w.by.mu.Unlock()
	w.by.body = append(w.by.body, p[:max(0, min(n, cmp.Or(w.by.most, usual)-len(w.by.body)))]...)
	w.by.size += int64(n)
	return n, err
}

// Query is that of the request, with credentials blanked; "" where there is none.
func (q *Request) Query() string {
	if q.Of.URL.RawQuery == "" {
		return ""
	}
	return "?" + blankPairs(q.Of.URL.RawQuery)
}

// blankPairs blanks credentials in a query or a form.
func blankPairs(text string) string {
	pairs := strings.Split(text, "&")
	for i, pair := range pairs {
		name, _, has := strings.Cut(pair, "=")
		if plain, err := url.QueryUnescape(name); has && err == nil && secret.Credentials.Has(plain) {
			pairs[i] = name + "=" + secret.Blank
		}
	}
	return strings.Join(pairs, "&")
}

// Body is the start of the body as it arrived, with credentials blanked, and a remark where that is not all; "" where there is
// none.
func (q *Request) Body() string {
	text, left, about := q.Content()
	if text != "" && left > 0 {
		about = " … " + sized(left) + " more"
	}
	return text + about
}

// Content is the start of the body as it arrived, with credentials blanked, and how many bytes are left out; "" where it is no
// text, or was not read: about says so.
func (q *Request) Content() (text string, left int64, about string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.size == 0 && q.Rest != nil && q.Of.ContentLength > 0 && q.Of.ContentLength <= int64(cmp.Or(q.most, usual)) {
		q.body = q.Rest(q.Of.ContentLength)
		q.size = int64(len(q.body))
	}
	length := max(q.size, q.Of.ContentLength)
	media, _, _ := mime.ParseMediaType(q.Of.Header.Get("Content-Type"))
	left = max(0, length-int64(len(q.body)))
	switch {
	case length <= 0:
		return "", 0, ""
	case q.size == 0:
		return "", length, "(" + sized(length) + " of " + media + ", not read)"
	case strings.HasPrefix(media, "multipart/"), slices.Contains(q.body, 0):
		return "", length, "(" + sized(length) + " of " + media + ")"
	case media == "application/x-www-form-urlencoded":
		return blankPairs(string(q.body)), left, ""
	}
	return BlankJSON(q.body), left, ""
}

func sized(n int64) string { return strconv.FormatInt(n, 10) + " bytes" }

// member is one in a text that may be broken JSON, with a value that is no object or array.
var member = regexp.MustCompile(`"((?:[^"\\]|\\.)*)"\s*:\s*("(?:[^"\\]|\\.)*"?|[^\s,{}\[\]"]+)`)

// BlankJSON blanks credentials in JSON; in what is none it blanks what looks like members.
func BlankJSON(text []byte) string {
	if whole, ok := blankTokens(text); ok {
		return whole
	}
	return member.ReplaceAllStringFunc(string(text), func(one string) string {
		parts := member.FindStringSubmatchIndex(one)
		if !secret.Credentials.Has(one[parts[2]:parts[3]]) {
			return one
		}
		return one[:parts[4]] + `"` + secret.Blank + `"`
	})
}

// blankTokens does so token by token; false where the text is no JSON.
func blankTokens(text []byte) (string, bool) {
	var out bytes.Buffer
	d := jsontext.NewDecoder(bytes.NewReader(text), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	e := jsontext.NewEncoder(
		&out, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true), jsontext.PreserveRawStrings(true),
	)
	for {
		kind, n := d.StackIndex(d.StackDepth())
		if kind == jsontext.KindBeginObject && n%2 == 1 { // a value; its name is the last one
			if pointer := d.StackPointer(); secret.Credentials.Has(pointer.LastToken()) {
				if d.SkipValue() != nil || e.WriteToken(jsontext.String(secret.Blank)) != nil {
					return "", false
				}
				continue
			}
		}
		token, err := d.ReadToken()
		if err == io.EOF && d.StackDepth() == 0 && out.Len() > 0 {
			return strings.TrimRight(out.String(), "\n"), true
		}
		if err != nil || e.WriteToken(token) != nil {
			return "", false
		}
	}
}

// BlankHeader is a copy of a header with credentials blanked.
func BlankHeader(h http.Header) http.Header {
	h = h.Clone()
	for name, values := range h {
		if !secret.Credentials.Has(name) {
			continue
		}
		for i, text := range values {
			if scheme, _, has := strings.Cut(text, " "); has && name == "Authorization" {
				values[i] = scheme + " " + secret.Blank
			} else {
				values[i] = secret.Blank
			}
		}
	}
	return h
}

// Fields are the header fields that no input reads, on one line, by name, with credentials blanked.
func (q *Request) Fields() string {
	var all []string
	for name, values := range BlankHeader(q.Of.Header) {
		if q.Reads == nil || !q.Reads(name) {
			all = append(all, name+": "+strings.Join(values, ", "))
		}
	}
	slices.Sort(all)
	return strings.Join(all, "  ")
}
