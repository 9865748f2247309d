package client

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"mime/multipart"
	"net"
	"net/http"
	"net/textproto"
	"reflect"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/problem"
)

// Retry says how often a request is sent again that failed for now: the connection broke, or the answer is 429, 502, 503
// or 504. Only what may be repeated is: a method that is idempotent (RFC 9110, 9.2.2), or a request with an
// Idempotency-Key; and no body that can be read but once. What Retry-After says is waited for, else a time that doubles,
// with chance in it. The context ends it all.
type Retry struct {
	Times int           // again; 0: 2; -1: never
	Most  time.Duration // that is waited for in all; 0: 20 seconds
	First time.Duration // that is waited for before the first one; 0: 200 milliseconds
}

// A sending is one call on its way.
type sending struct {
	client   *Client
	name     string
	method   string
	target   string
	accept   string
	public   bool
	outgoing bind.Outgoing
	plan     *plan
	in       reflect.Value
	media    string
	extra    http.Header // for this call alone, such as Range
	sent     bool        // a request was made
}

var asJSON = []string{"application/json"}

func (o *Operation[In, Out]) sending(c *Client, in In) (*sending, error) {
	p, err := o.compiled()
	if err != nil {
		return nil, err
	}
	v := reflect.ValueOf(&in).Elem()
	if v.Kind() == reflect.Pointer {
		if v.IsNil() {
			return nil, fmt.Errorf("client: the input of %s is nil", o.Name)
		}
		v = v.Elem()
	}
	s := &sending{client: c, name: o.Name, method: o.Method, accept: cmp.Or(o.Accept, "application/json"), public: o.Public, plan: p, in: v, media: o.Media}
	if err := p.bind.Outgoing(&s.outgoing, v, len(p.texts)-1, c.settings.Unchecked); err != nil {
		return nil, err
	}
	s.target = p.target(c.base, &s.outgoing)
	return s, nil
}

// hasFiles reports whether the body is a form with files.
func (s *sending) hasFiles() bool { return s.plan != nil && s.plan.files != nil }

// body gives the body once more; once says that it cannot be read twice.
func (s *sending) body() (body io.Reader, media string, once bool) {
	o := &s.outgoing
	media = cmp.Or(s.media, o.Header.Get("Content-Type"))
	switch {
	case s.hasFiles():
		body, media = s.form()
		return body, media, true
	case o.Reader != nil:
		return o.Reader, cmp.Or(media, "application/octet-stream"), true
	case o.Items.IsValid():
		return s.items(), media, true
	case o.Body != nil:
		return bytes.NewReader(o.Body), media, false
	}
	return nil, "", false
}

// request makes the request.
func (s *sending) request(ctx context.Context, again bool) (*http.Request, error) {
	body, media, _ := s.body()
	r, err := http.NewRequestWithContext(ctx, s.method, s.target, body)
	if err != nil {
		if pipe, is := body.(io.Closer); is { // or else who writes into it would wait for ever
			pipe.Close()
		}
		return nil, fmt.Errorf("client: %w", err)
	}
	if !s.sent && s.client.settings.Header == nil && s.extra == nil { // nobody else has it
		r.Header = s.outgoing.Header
	} else {
		for _, fields := range []http.Header{s.client.settings.Header, s.outgoing.Header, s.extra} {
			for name, values := range fields {
				r.Header[name] = values
			}
		}
	}
	s.sent = true
	if r.Header["Accept"] == nil {
		if r.Header["Accept"] = asJSON; s.accept != asJSON[0] {
			r.Header["Accept"] = []string{s.accept}
		}
	}
	if media != "" {
		r.Header["Content-Type"] = []string{media}
	}
	if c := s.client.settings.Credentials; c != nil && !s.public {
		if err = c.Apply(r, again); err != nil && r.Body != nil {
			r.Body.Close()
		}
	}
	return r, err
}

// items writes a stream item by item, as it is read.
func (s *sending) items() io.Reader {
	from, to := io.Pipe()
	go func() {
		var failed error
		for item, err := range s.outgoing.Items.Seq2() {
			if failed, _ = err.Interface().(error); failed != nil {
				break
			}
			var line []byte
			if line, failed = s.plan.bind.Item(item.Interface()); failed == nil {
				_, failed = to.Write(line)
			}
			if failed != nil {
				break
			}
		}
		to.CloseWithError(failed)
	}()
	return from
}

// form writes a form with files part by part (RFC 7578): none is in memory as a whole.
func (s *sending) form() (io.Reader, string) {
	from, to := io.Pipe()
	w := multipart.NewWriter(to)
	go func() {
		to.CloseWithError(errors.Join(s.writeForm(w), w.Close()))
	}()
	return from, w.FormDataContentType()
}

func (s *sending) writeForm(w *multipart.Writer) error {
	for name, texts := range s.outgoing.Form {
		for _, text := range texts {
			if err := w.WriteField(name, text); err != nil {
				return err
			}
		}
	}
	for _, f := range s.plan.files {
		field := s.in.FieldByIndex(f.Index)
		files, several := field.Interface().([]File)
		if !several {
			files = []File{field.Interface().(File)}
		}
		for _, file := range files {
			if file.Body == nil {
				continue
			}
			h := textproto.MIMEHeader{}
			h.Set("Content-Disposition", fmt.Sprintf("form-data; name=%q; filename=%q", f.Name, cmp.Or(file.Name, f.Name)))
			h.Set("Content-Type", cmp.Or(file.Type, "application/octet-stream"))
			part, err := w.CreatePart(h)
			if err == nil {
				_, err = io.Copy(part, file.Body)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// send sends the request, as often as it may be, and gives the answer: a success, or another that is no error.
func (s *sending) send(ctx context.Context) (*http.Response, error) {
	retry := s.client.settings.Retry
	times, most, wait := cmp.Or(retry.Times, 2), cmp.Or(retry.Most, 20*time.Second), cmp.Or(retry.First, 200*time.Millisecond)
	asked := false // for other credentials
	for n := 0; ; {
		r, err := s.request(ctx, asked)
		if err != nil {
			return nil, err
		}
		resp, err := s.client.http.Do(r)
		if err == nil {
			s.noteEnding(resp)
		}
		if err == nil && resp.StatusCode < 400 {
			return resp, nil
		}
		pause, again := s.again(resp, err)
		if err == nil {
			err = s.failure(resp)
		}
		if expired(err) && !asked && !s.once() && s.client.settings.Credentials != nil && !s.public {
			asked = true
			continue
		}
		if n++; !again || n > times || ctx.Err() != nil {
			return nil, s.named(err)
		}
		if pause < 0 {
			pause = time.Duration(float64(wait) * (0.5 + rand.Float64()))
			wait *= 2
		}
		if most -= pause; most < 0 {
			return nil, s.named(err)
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (s *sending) once() bool {
	return s.hasFiles() || s.outgoing.Reader != nil || s.outgoing.Items.IsValid()
}

// named says which operation an error is about, where it is not that of the other side.
func (s *sending) named(err error) error {
	if problem.In(err) != nil {
		return err
	}
	return fmt.Errorf("client: %s: %w", s.name, err)
}

// again reports whether a request may be sent again, and after what time; a negative one is not said.
func (s *sending) again(resp *http.Response, err error) (time.Duration, bool) {
	if s.once() {
		return 0, false
	}
	switch s.method {
	case http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodPut, http.MethodDelete, http.MethodTrace, "QUERY":
	default:
		if s.outgoing.Header["Idempotency-Key"] == nil {
			return 0, false
		}
	}
	if err != nil {
		return -1, errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNREFUSED) ||
			errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || isTimeout(err)
	}
	switch resp.StatusCode {
	case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		return retryAfter(resp.Header.Get("Retry-After")), true
	}
	return 0, false
}

func isTimeout(err error) bool {
	e, is := errors.AsType[net.Error](err)
	return is && e.Timeout() && !errors.Is(err, context.DeadlineExceeded)
}

// retryAfter is how long an answer asks to wait (RFC 9110, 10.2.3); negative where it does not say.
func retryAfter(text string) time.Duration {
	if seconds, err := strconv.Atoi(text); err == nil && seconds >= 0 && seconds < 1<<30 {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, time.Until(at))
	}
	return -1
}

// expired reports whether the credentials were refused because their time was over.
func expired(err error) bool {
	p := problem.In(err)
	return p != nil && p.Kind().Code() == "token-expired"
}

// failure is the error that an answer is.
func (s *sending) failure(resp *http.Response) error {
	media, _, _ := strings.Cut(resp.Header.Get("Content-Type"), ";")
	if strings.EqualFold(strings.TrimSpace(media), problem.MediaType) {
		if p, err := problem.Read(resp, s.client.settings.Kinds...); err == nil {
			return p
		}
	}
	defer resp.Body.Close()
	begin, _ := io.ReadAll(io.LimitReader(resp.Body, mostShown+1))
	f := &Foreign{Status: resp.StatusCode, Media: media, Beginning: strings.ToValidUTF8(string(begin[:min(len(begin), mostShown)]), "\uFFFD")}
	f.Whole = len(begin) <= mostShown
	return f
}

// mostShown is how much of an answer that is no problem an error shows, in bytes.
const mostShown = 512

// Foreign is the error of an answer that is neither a success nor a problem: of a proxy, or of another API.
type Foreign struct {
	Status    int
	Media     string
	Beginning string // of its body, at most 512 bytes
	Whole     bool   // that is all of it
}

func (f *Foreign) Error() string {
	text := fmt.Sprintf("%d %s", f.Status, http.StatusText(f.Status))
	if f.Beginning == "" {
		return text + " without a problem"
	}
	more := ""
	if !f.Whole {
		more = "..."
	}
	return fmt.Sprintf("%s, which is no problem but %s: %q%s", text, cmp.Or(f.Media, "of no media type"), f.Beginning, more)
}

// noteEnding tells once that an operation is deprecated, or ends.
func (s *sending) noteEnding(resp *http.Response) {
	tell := s.client.settings.Ending
	deprecated, sunset := resp.Header.Get("Deprecation"), resp.Header.Get("Sunset")
	if tell == nil || deprecated == "" && sunset == "" {
		return
	}
	if _, told := s.client.ended.LoadOrStore(s.name, true); told {
		return
	}
	e := Ending{Operation: s.name, Successor: linked(resp, "successor-version")}
	if seconds, err := strconv.ParseInt(strings.TrimPrefix(deprecated, "@"), 10, 64); err == nil {
		e.Deprecated = time.Unix(seconds, 0)
	}
	e.Sunset, _ = http.ParseTime(sunset)
	tell(e)
}

// linked is the address of a link with a relation (RFC 8288); "" where there is none.
func linked(resp *http.Response, relation string) string {
	for link := range strings.SplitSeq(strings.Join(resp.Header.Values("Link"), ","), ",") {
		to, parameters, is := strings.Cut(strings.TrimSpace(link), ">")
		for parameter := range strings.SplitSeq(parameters, ";") {
			name, value, _ := strings.Cut(strings.TrimSpace(parameter), "=")
			if !is || !strings.EqualFold(name, "rel") || !strings.HasPrefix(to, "<") {
				continue
			}
			for one := range strings.FieldsSeq(strings.Trim(value, `"`)) {
				if at, err := resp.Request.URL.Parse(to[1:]); err == nil && strings.EqualFold(one, relation) {
					return at.String()
				}
			}
		}
	}
	return ""
}

// A Raw request is one for an operation that is known by its name alone: calls by name make it of a contract.
type Raw struct {
	Name, Method string
	Target       string // path and query, below the address of the client
	Header       http.Header
	Body         []byte    // nil: none, or
	Reader       io.Reader // one that is read but once
	Public       bool      // no credentials are sent
}

// Send sends a request as it is, with the credentials of the client, and as often as others are. The body of the answer is
// to be closed; one that is an error becomes one.
func (c *Client) Send(ctx context.Context, r Raw) (*http.Response, error) {
	return c.raw(r).send(ctx)
}

// Request makes that request, with its credentials, without sending it.
func (c *Client) Request(ctx context.Context, r Raw) (*http.Request, error) {
	return c.raw(r).request(ctx, false)
}

func (c *Client) raw(r Raw) *sending {
	header := r.Header.Clone()
	if header == nil {
		header = http.Header{}
	}
	return &sending{client: c, name: r.Name, method: r.Method, target: c.base + r.Target, accept: "application/json", public: r.Public,
		outgoing: bind.Outgoing{Header: header, Body: r.Body, Reader: r.Reader}}
}
