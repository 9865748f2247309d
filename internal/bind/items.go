package bind

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/peek"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// lines is the media type of JSON values that line breaks separate.
const lines = "application/x-ndjson"

// firstPiece is how much of a stream is received at first, in bytes; more only where an item has more.
const firstPiece = 16 << 10

// Items are those of a body that is read as a stream: of a JSON array, or of lines. One item at a time is in memory.
// They are read by one goroutine at a time.
type Items struct {
	of       *check.Sequence
	how      check.Reading
	first    check.First
	most     int64 // bytes of an item
	request  *http.Request
	from     io.Reader
	lines    bool
	storage  []byte
	received []byte // what was not read, in storage up to end
	end      int
	n        int  // items that were read
	begun    bool // of an array: its bracket was read
	ended    bool // of the body: all has come
	over     bool
}

// ErrReadTwice is the error of a stream that is gone through a second time: its items are not kept.
var ErrReadTwice = errors.New("the body is a stream that was read already: go through it once")

// Begin is asked before the first item.
func (i *Items) Begin() error {
	if i.over || i.n > 0 {
		return ErrReadTwice
	}
	return nil
}

// Next reads the next item into the value that into points to. More says that there was one: with an error it is the
// problem of the item's faults, and the next can be read. Without more the stream is over, with an error before its end.
func (i *Items) Next(into any) (more bool, err error) {
	if i.over {
		return false, nil
	}
	text, err := i.next(into)
	if err == io.EOF {
		i.over = true
		return false, i.refuse("", i.of.TooFew(i.n))
	}
	if err == nil {
		err = i.refuse("", i.of.TooMany(i.n+1))
	}
	if err != nil {
		i.over = true
		return false, err
	}
	if text == nil { // it was read already
		i.n++
		return true, nil
	}
	found := faults{most: i.how.Most}
	wrong, beyond := i.of.Item.Decode(text, into, i.how)
	if wrong == nil {
		i.n++
		return true, nil
	}
	at := "/" + strconv.Itoa(i.n)
	for n := range wrong {
		wrong[n].Pointer = at + wrong[n].Pointer
	}
	found.add("body", "", wrong...)
	found.more = beyond
	i.n++
	// Where an item of an array is no JSON, nobody knows what the text behind it belongs to.
	i.over = !i.lines && slices.ContainsFunc(wrong, func(f schema.Fault) bool { return f.Rule == "syntax" })
	return !i.over, found.problem()
}

// refuse is the problem of a fault; nil for none.
func (i *Items) refuse(at string, f schema.Fault) error {
	if f.Rule == "" {
		return nil
	}
	f.Pointer = at
	found := faults{most: i.how.Most}
	found.add("body", "", f)
	return found.problem()
}

func (i *Items) malformed(detail string) error {
	return i.refuse("", schema.Fault{Rule: "syntax", Detail: detail, Unreadable: true})
}

// next gives the text of the next item, which holds until the one after it, or nil where it was read without a fault;
// io.EOF where there is none.
func (i *Items) next(into any) ([]byte, error) {
	if i.lines {
		return i.nextLine()
	}
	c, err := i.nextByte()
	switch {
	case err == io.EOF && !i.begun:
		return nil, i.malformed("is empty; a JSON array was expected")
	case err == io.EOF:
		return nil, i.malformed("is incomplete JSON")
	case err != nil:
		return nil, err
	case !i.begun && c != '[':
		return nil, i.refuse("", schema.Fault{Rule: "type", Want: "array", Detail: "must be a list", Unreadable: true})
	case !i.begun:
		i.begun = true
		i.received = i.received[1:]
		if c, err = i.nextByte(); err == nil && c != ']' {
			return i.value(into)
		}
	case c == ',':
		i.received = i.received[1:]
		if c, err = i.nextByte(); err == nil && c != ']' {
			return i.value(into)
		}
		if err == nil {
			return nil, i.malformed("is not valid JSON: an item is missing behind item " + strconv.Itoa(i.n-1))
		}
	}
	switch {
	case err == io.EOF:
		return nil, i.malformed("is incomplete JSON")
	case err != nil:
		return nil, err
	case c != ']':
		return nil, i.malformed("is not valid JSON: a comma or the end of the list is missing behind item " + strconv.Itoa(i.n-1))
	}
	i.received = i.received[1:]
	if _, err = i.nextByte(); err == nil {
		return nil, i.malformed("is followed by something more; a body is one JSON value")
	}
	return nil, err
}

// nextByte gives the next byte that is no white space.
func (i *Items) nextByte() (byte, error) {
	for {
		i.received = i.received[peek.Space(i.received, 0):]
		if len(i.received) > 0 {
			return i.received[0], nil
		}
		if err := i.receive(); err != nil {
			return 0, err
		}
	}
}

// value takes a value.
func (i *Items) value(into any) ([]byte, error) {
	piece := i.received
	if int64(len(piece)) > i.most {
		piece = piece[:i.most+1]
	}
	if n := i.first.Decode(i.of.Item, piece, into, i.how); n > 0 {
		i.received = i.received[n:]
		return nil, nil
	}
	var span peek.Span
	for {
		end, found := span.End(i.received)
		if int64(end) > i.most {
			return nil, i.tooLarge()
		}
		if found {
			text := i.received[:end]
			i.received = i.received[end:]
			return text, nil
		}
		if err := i.receive(); err == io.EOF {
			return nil, i.malformed("is incomplete JSON")
		} else if err != nil {
			return nil, err
		}
	}
}

// nextLine takes a line that is not empty.
func (i *Items) nextLine() ([]byte, error) {
	seen := 0 // bytes without a line break
	for {
		end := bytes.IndexByte(i.received[seen:], '\n')
		line := i.received
		if end >= 0 {
			line = i.received[:seen+end]
		}
		if int64(len(line)) > i.most {
			return nil, i.tooLarge()
		}
		if end < 0 && !i.ended {
			seen = len(i.received)
			if err := i.receive(); err != nil && err != io.EOF {
				return nil, err
			}
			continue
		}
		i.received = i.received[len(line):]
		if end >= 0 {
			i.received = i.received[1:]
		}
		if peek.Space(line, 0) < len(line) {
			return line, nil
		}
		if seen = 0; i.ended && len(i.received) == 0 {
			return nil, io.EOF
		}
	}
}

func (i *Items) tooLarge() error {
	return problem.BodyTooLarge.Newf("Item %d of the body is larger than %d bytes.", i.n, i.most).With("limit", i.most)
}

// receive has more come, behind what was not read. That moves to the beginning where the storage is full, and gets
// twice as much where it fills all of it.
func (i *Items) receive() error {
	if i.ended {
		return io.EOF
	}
	if i.end == len(i.storage) {
		from := i.storage
		if len(i.received) == len(from) {
			i.storage = make([]byte, max(firstPiece, 2*len(from)))
		}
		i.end = copy(i.storage, i.received)
	}
	start := i.end - len(i.received)
	for {
		n, err := i.from.Read(i.storage[i.end:])
		i.end += n
		i.received = i.storage[start:i.end]
		i.ended = err == io.EOF
		switch {
		case n > 0 && (err == nil || i.ended):
			return nil
		case i.ended:
			return io.EOF
		case err != nil:
			return bodyFault(i.request, err)
		}
	}
}

// isLines reports whether a body is lines of JSON; one without a media type, which must be empty, counts as such.
func isLines(h http.Header) bool {
	media, _, _ := strings.Cut(h.Get("Content-Type"), ";")
	return media == "" || strings.EqualFold(strings.TrimSpace(media), lines)
}
