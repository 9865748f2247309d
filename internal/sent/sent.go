// Package sent keeps what a request brought as it arrived, for the log and the trail in development.
package sent

import (
	"bytes"
	"cmp"
	"io"
	"mime"
	"net/http"
	"net/url"
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
	// Secret are the names of what is blanked.
	Secret secret.Names
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
	return "?" + blankPairs(q.Of.URL.RawQuery, q.Secret)
}

// blankPairs blanks credentials in a query or a form.
func blankPairs(text string, names secret.Names) string {
	pairs := strings.Split(text, "&")
	for i, pair := range pairs {
		name, _, has := strings.Cut(pair, "=")
		if plain, err := url.QueryUnescape(name); has && err == nil && names.Has(plain) {
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
		return blankPairs(string(q.body), q.Secret), left, ""
	}
	return BlankJSON(q.body, q.Secret), left, ""
}

func sized(n int64) string { return strconv.FormatInt(n, 10) + " bytes" }

// BlankJSON blanks the values under some names in JSON, which it also writes without white space. From where it is none, or ends, it blanks
// what looks like members.
func BlankJSON(text []byte, names secret.Names) string {
	var out bytes.Buffer
	end := 0 // of what was written
	var name string
	d := jsontext.NewDecoder(bytes.NewReader(text), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	for {
		depth := d.StackDepth()
		kind, n := d.StackIndex(depth)
		inObject := kind == jsontext.KindBeginObject
		if inObject && n%2 == 1 && names.Has(name) {
			out.WriteString(`:"` + secret.Blank + `"`)
			if d.SkipValue() != nil { // who knows where it ends
				return out.String()
			}
			end = int(d.InputOffset())
			continue
		}
		read, err := d.ReadToken()
		if err != nil {
			break
		}
		if inObject && n%2 == 0 && read.Kind() == '"' {
			name = read.String()
		}
		if depth == 0 && out.Len() > 0 {
			out.WriteByte('\n')
		}
		next := int(d.InputOffset())
		token := bytes.TrimLeft(text[end:next], " \t\r\n")
		if token[0] == ',' || token[0] == ':' {
			out.WriteByte(token[0])
			token = bytes.TrimLeft(token[1:], " \t\r\n")
		}
		out.Write(token)
		end = next
	}
	text = bytes.TrimRight(text, "\n")
	blankMembers(&out, text, min(end, len(text)), names)
	return out.String()
}

// blankMembers writes a text from a place on that may be broken JSON, or the middle of some, without the values of what looks
// like members with some names. A quotation mark before that place may be the first one of such a name.
func blankMembers(out *bytes.Buffer, text []byte, written int, names secret.Names) {
	for i := max(0, written-1); i < len(text); i++ {
		if text[i] != '"' {
			continue
		}
		end := quoted(text, i)
		colon := skipSpace(text, end)
		if colon >= len(text) || text[colon] != ':' {
			continue // it can be the end of a text
		}
		name, err := jsontext.AppendUnquote(nil, text[i:end])
		if err != nil {
			name = bytes.Trim(text[i:end], `"`)
		}
		i = end - 1
		from := skipSpace(text, colon+1)
		if from == len(text) || !names.Has(string(name)) {
			continue
		}
		out.Write(text[written:from])
		out.WriteString(`"` + secret.Blank + `"`)
		switch next := bytes.IndexAny(text[from:], " \t\r\n,]}"); {
		case text[from] == '"':
			written = quoted(text, from)
		case text[from] == '{' || text[from] == '[' || next < 0:
			return // who knows where it ends
		default:
			written = from + next
		}
		i = written - 1
	}
	out.Write(text[written:])
}

// quoted is the end of a string that begins at a place, or of the text where it has none.
func quoted(text []byte, from int) int {
	for i := from + 1; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case '"':
			return i + 1
		}
	}
	return len(text)
}

func skipSpace(text []byte, from int) int {
	for from < len(text) && strings.IndexByte(" \t\r\n", text[from]) >= 0 {
		from++
	}
	return from
}

// BlankHeader is a copy of a header with the values under some names blanked.
func BlankHeader(h http.Header, names secret.Names) http.Header {
	h = h.Clone()
	for name, values := range h {
		if !names.Has(name) {
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
	for name, values := range BlankHeader(q.Of.Header, q.Secret) {
		if q.Reads == nil || !q.Reads(name) {
			all = append(all, name+": "+strings.Join(values, ", "))
		}
	}
	slices.Sort(all)
	return strings.Join(all, "  ")
}
