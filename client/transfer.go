package client

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"
)

// A File is a field of an input that is uploaded. Its body is read while it is sent.
type File struct {
	Name string // "": that of the field
	Type string // its media type; "": application/octet-stream
	Body io.Reader
}

// Content is a body that is read while it comes: it is never in memory as a whole, and is to be closed.
type Content struct {
	io.ReadCloser
	Type string // its media type
	Name string // that the answer gives it; "": none
	Size int64  // -1 where it is not known
	Tag  string
}

// Download sends an input, and gives the body of the answer. Where the connection breaks, it goes on behind what has come,
// if the answer has a strong tag and takes ranges (RFC 9110, 14): reading notices nothing but the time that takes.
func Download[In any](ctx context.Context, c *Client, o *Operation[In, *Content], in In) (*Content, error) {
	s, err := o.sending(c, in)
	if err != nil {
		return nil, err
	}
	if o.Accept == "" {
		s.accept = "*/*"
	}
	s.extra = http.Header{"Accept-Encoding": {"identity"}} // ranges are of the bytes that are sent
	resp, err := s.send(ctx)
	if err != nil {
		return nil, err
	}
	_, parameters, _ := mime.ParseMediaType(resp.Header.Get("Content-Disposition"))
	d := &download{ctx: ctx, s: s, body: resp.Body, tag: resp.Header.Get("ETag"), size: resp.ContentLength}
	d.goesOn = s.method == http.MethodGet && strings.HasPrefix(d.tag, `"`) && resp.Header.Get("Accept-Ranges") == "bytes" && resp.StatusCode == http.StatusOK
	return &Content{d, resp.Header.Get("Content-Type"), parameters["filename"], resp.ContentLength, d.tag}, nil
}

// A download reads a body, whose rest it asks for where it breaks off.
type download struct {
	ctx    context.Context
	s      *sending
	body   io.ReadCloser
	tag    string
	size   int64
	read   int64
	goesOn bool
	broken int // times in a row without a byte
}

func (d *download) Close() error { return d.body.Close() }

func (d *download) Read(p []byte) (int, error) {
	n, err := d.body.Read(p)
	if d.read += int64(n); n > 0 {
		d.broken = 0
	}
	if err == nil || err == io.EOF && (d.size < 0 || d.read >= d.size) || !d.goesOn || d.ctx.Err() != nil {
		return n, err
	}
	if d.broken++; d.broken > 3 {
		return n, err
	}
	return n, d.goOn(err)
}

// goOn asks for the rest of what has broken off.
func (d *download) goOn(broke error) error {
	select {
	case <-time.After(cmp.Or(d.s.client.settings.Retry.First, 200*time.Millisecond)):
	case <-d.ctx.Done():
		return d.ctx.Err()
	}
	d.body.Close()
	d.s.extra = http.Header{"Accept-Encoding": {"identity"}, "Range": {fmt.Sprintf("bytes=%d-", d.read)}, "If-Range": {d.tag}}
	resp, err := d.s.send(d.ctx)
	if err != nil {
		return errors.Join(broke, err)
	}
	if want := fmt.Sprintf("bytes %d-", d.read); resp.StatusCode != http.StatusPartialContent || !strings.HasPrefix(resp.Header.Get("Content-Range"), want) {
		resp.Body.Close()
		d.goesOn = false
		return errors.Join(broke, errors.New("client: it has changed meanwhile"))
	}
	d.body = resp.Body
	return nil
}
