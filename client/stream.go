package client

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/problem"
)

// Items sends an input, and gives the items of the answer as they come: lines of JSON, events, or a JSON array, of which no
// more than one item is in memory. A stream of events that breaks off goes on behind the last one that came, if events have
// ids (Last-Event-ID); any other ends in an error. So does one that ends in a problem.
func Items[In, T any](ctx context.Context, c *Client, o *Operation[In, T], in In) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		var none T
		s, err := o.sending(c, in)
		if err != nil {
			yield(none, err)
			return
		}
		if o.Accept == "" {
			s.accept = "application/x-ndjson, text/event-stream;q=0.9, application/json;q=0.8"
		}
		last, wait := "", time.Duration(0)
		for broken := 0; ; broken++ {
			if last != "" {
				s.extra = http.Header{"Last-Event-Id": {last}}
			}
			resp, err := s.send(ctx)
			if err != nil {
				yield(none, err)
				return
			}
			before := last
			more, err := readItems(s, resp, &last, &wait, yield)
			resp.Body.Close()
			if !more || err == nil {
				return
			}
			if last != before {
				broken = 0
			}
			if last == "" || broken > 2 || ctx.Err() != nil {
				yield(none, s.named(err))
				return
			}
			select {
			case <-time.After(wait):
			case <-ctx.Done():
				yield(none, ctx.Err())
				return
			}
		}
	}
}

// readItems gives the items of one answer. It reports whether more are wanted, and the error that ended it.
func readItems[T any](s *sending, resp *http.Response, last *string, wait *time.Duration, yield func(T, error) bool) (more bool, err error) {
	give := func(text []byte) bool {
		var item T
		if err := json.Unmarshal(text, &item); err != nil {
			yield(item, s.named(fmt.Errorf("an item cannot be read: %w", err)))
			return false
		}
		return yield(item, nil)
	}
	fail := func(text []byte) bool {
		var none T
		r := &http.Response{StatusCode: resp.StatusCode, Status: resp.Status, Body: io.NopCloser(bytes.NewReader(text)), Header: http.Header{"Content-Type": {problem.MediaType}}}
		p, err := problem.Read(r, s.client.settings.Kinds...)
		if err != nil {
			yield(none, s.named(err))
		} else {
			yield(none, p)
		}
		return false
	}
	media, _, _ := strings.Cut(resp.Header.Get("Content-Type"), ";")
	switch strings.TrimSpace(media) {
	case "text/event-stream":
		return s.events(resp.Body, last, wait, give, fail)
	case "application/json":
		return s.array(resp.Body, give)
	}
	return s.lines(resp.Body, give)
}

// lines reads JSON values one after another.
func (s *sending) lines(body io.Reader, give func([]byte) bool) (bool, error) {
	in := bufio.NewReaderSize(body, 32<<10)
	for {
		line, err := s.line(in)
		if len(bytes.TrimSpace(line)) > 0 && (err == nil || err == io.EOF) && !give(line) {
			return false, nil
		}
		if err == io.EOF {
			return true, nil
		}
		if err != nil {
			return true, err
		}
	}
}

// line reads one line of bounded length.
func (s *sending) line(in *bufio.Reader) (line []byte, err error) {
	for {
		piece, err := in.ReadSlice('\n')
		if line = append(line, piece...); int64(len(line)) > s.client.settings.Most {
			return nil, errTooLarge
		}
		if err != bufio.ErrBufferFull {
			return line, err
		}
	}
}

// array reads the items of a JSON array. One that does not close has broken off.
func (s *sending) array(body io.Reader, give func([]byte) bool) (bool, error) {
	bounded := &bounded{from: body, most: s.client.settings.Most}
	in := jsontext.NewDecoder(bounded)
	if token, err := in.ReadToken(); err != nil || token.Kind() != jsontext.KindBeginArray {
		return true, errors.Join(errors.New("the answer is not an array"), err)
	}
	for in.PeekKind() != jsontext.KindEndArray {
		bounded.left = bounded.most
		item, err := in.ReadValue()
		if err != nil {
			return true, err
		}
		if !give(item) {
			return false, nil
		}
	}
	_, err := in.ReadToken()
	return true, err
}

// bounded reads no more than most until left is set again.
type bounded struct {
	from       io.Reader
	most, left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left == 0 {
		b.left = b.most
	}
	n, err := b.from.Read(p)
	if b.left -= int64(n); b.left <= 0 {
		return n, errTooLarge
	}
	return n, err
}

// events reads an event stream (HTML, 9.2.6). One that ends has broken off, if its events have ids.
func (s *sending) events(body io.Reader, last *string, wait *time.Duration, give, fail func([]byte) bool) (bool, error) {
	in := bufio.NewReaderSize(body, 32<<10)
	var data []byte
	name, id, has := "", *last, false
	for {
		line, err := s.line(in)
		if err != nil {
			if err == io.EOF && *last == "" {
				return true, nil
			}
			return true, errors.Join(errors.New("the stream has broken off"), err)
		}
		text := strings.TrimRight(string(line), "\r\n")
		field, value, _ := strings.Cut(text, ":")
		value = strings.TrimPrefix(value, " ")
		switch {
		case text == "" && name == "problem":
			return fail(data), nil
		case text == "":
			if *last = id; has && !give(data) {
				return false, nil
			}
			data, name, has = data[:0], "", false
		case field == "data":
			if has {
				data = append(data, '\n')
			}
			if data, has = append(data, value...), true; int64(len(data)) > s.client.settings.Most {
				return true, errTooLarge
			}
		case field == "event":
			name = value
		case field == "id" && !strings.Contains(value, "\x00"):
			id = value
		case field == "retry":
			if n, err := strconv.Atoi(value); err == nil && n >= 0 && n < 1<<30 {
				*wait = time.Duration(n) * time.Millisecond
			}
		}
	}
}
