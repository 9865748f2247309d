package answer

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/wicketway/wicketway/internal/writer"
)

// A StreamForm is how the items of a stream are written.
type StreamForm int

// The forms, in the order in which they are offered.
const (
	StreamArray  StreamForm = iota // a JSON array
	StreamLines                    // newline-delimited JSON
	StreamEvents                   // server-sent events, as the HTML standard has them
)

// StreamMedia are the media types of the forms.
var StreamMedia = []string{"application/json", "application/x-ndjson", "text/event-stream"}

// StreamChoice is how callers choose: by Accept, and whatever is accepted they get something.
var StreamChoice = NewChoice(Choice{
	Offers: []Offer{{Name: "json", Media: StreamMedia[0]}, {Name: "ndjson", Media: StreamMedia[1]},
		{Name: "events", Media: StreamMedia[2]}},
	Accept: true,
	First:  true,
})

// How long items may wait for others, how many bytes are sent at once, and after what time
// without any a listener to events is shown that the connection lives.
const (
	streamPatience  = 50 * time.Millisecond
	streamPiece     = 16 << 10
	streamHeartbeat = 15 * time.Second
)

// A Stream is an answer that goes out as it comes. Its items are written by the goroutine that
// makes them, and sent by that one or by a timer.
type Stream struct {
	Plan   *Plan
	Form   StreamForm
	Status int
	Header http.Header
	// Begins is called once, when the first item is there or the end: from then on the header
	// has gone out.
	Begins func()
	// Problem writes the problem of what failed after that, for an event; nil where nobody is there to read it.
	Problem func(error) []byte
	// Broken is told what in an item breaks its own rules, in development.
	Broken func(text string)

	w       http.ResponseWriter
	control *http.ResponseController
	ctx     context.Context
	head    bool

	mu     sync.Mutex
	state  streamState
	buffer sheet
	timer  *time.Timer
	lost   error // of the connection
	failed error // of an item
}

// A streamState is how far a stream is:
//
//	empty ──first item──▶ waiting ◀──item── idle ──end──▶ over
//	                         └───── sent ─────▲
type streamState uint8

const (
	streamEmpty   streamState = iota // the header waits for the first item, or the end
	streamIdle                       // the header has gone out, and all items
	streamWaiting                    // the buffer holds items that the timer is to send
	streamOver                       // nothing is written any more
)

// Send sends the items that each gives, until there are no more, one fails, or the caller has
// left. An [Unwritten] error comes before anything was sent, a [Broken] one after a part of it;
// any other is that of the connection.
func (s *Stream) Send(w http.ResponseWriter, r *http.Request, each func(yield func(item any, err error) bool)) error {
	status, err := s.Plan.status(s.Status)
	if err == nil && HasNoContent(status) {
		err = unwritten("the route answered with a stream and the status %d, which has no content (RFC 9110, 15.3)", status)
	}
	if err != nil {
		return err
	}
	s.Status = status
	s.w, s.ctx, s.head = w, r.Context(), r.Method == http.MethodHead
	s.control = http.NewResponseController(w)
	s.timer = time.AfterFunc(time.Hour, s.tick)
	defer s.end()
	each(s.take)
	return s.conclude()
}

// end sees to it that no timer writes any more, also where the items end in a panic.
func (s *Stream) end() {
	s.mu.Lock()
	s.state = streamOver
	s.mu.Unlock()
	s.timer.Stop()
}

// take takes an item, given by a pointer, and reports whether another one is wanted.
func (s *Stream) take(item any, err error) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state == streamOver || s.lost != nil || s.failed != nil || s.ctx.Err() != nil {
		return false
	}
	mark := s.buffer.Len()
	if err == nil {
		err = s.write(item)
	}
	if err != nil {
		s.buffer.Truncate(mark)
		s.failed = err
		return false
	}
	if s.state == streamEmpty {
		s.begin()
		if s.head {
			return false
		}
		if s.Form == StreamEvents {
			s.timer.Reset(streamHeartbeat)
		}
	}
	switch {
	case s.buffer.Len() >= streamPiece:
		s.flush()
	case s.state == streamIdle:
		s.state = streamWaiting
		s.timer.Reset(streamPatience)
	}
	return s.lost == nil
}

// write puts an item into the buffer.
func (s *Stream) write(item any) error {
	if s.state == streamEmpty && s.Form == StreamArray {
		s.buffer.WriteString(s.Plan.envelope + "[")
	} else if s.Form == StreamArray {
		s.buffer.WriteString(",\n")
	}
	if s.Form == StreamEvents {
		return s.writeEvent(item)
	}
	err := s.Plan.writeJSON(&s.buffer, item, s.Broken)
	if s.Form == StreamLines {
		s.buffer.WriteByte('\n')
	}
	return err
}

// writeEvent writes an item as an event. What it is called and its id are on a line each, so
// they have no line breaks, and an id with a NUL would be passed over by whoever listens.
func (s *Stream) writeEvent(item any) error {
	if e, ok := item.(interface{ EventName() string }); ok && e.EventName() != "" {
		if name := e.EventName(); strings.ContainsAny(name, "\r\n") {
			return fmt.Errorf("the name of an event %q has a line break", name)
		}
		s.buffer.WriteString("event: " + e.EventName() + "\n")
	}
	if e, ok := item.(interface{ EventID() string }); ok && e.EventID() != "" {
		if id := e.EventID(); strings.ContainsAny(id, "\r\n\x00") {
			return fmt.Errorf("the id of an event %q has a line break or a NUL", id)
		}
		s.buffer.WriteString("id: " + e.EventID() + "\n")
	}
	s.buffer.WriteString("data: ")
	start := s.buffer.Len()
	if err := s.Plan.writeJSON(&s.buffer, item, s.Broken); err != nil {
		return err
	}
	if data := s.buffer.Bytes()[start:]; bytes.ContainsAny(data, "\r\n") { // between its tokens
		lines := strings.NewReplacer("\r\n", "\ndata: ", "\r", "\ndata: ", "\n", "\ndata: ").Replace(string(data))
		s.buffer.Truncate(start)
		s.buffer.WriteString(lines)
	}
	s.buffer.WriteString("\n\n")
	return nil
}

// begin announces the header.
func (s *Stream) begin() {
	s.state = streamIdle
	s.Begins()
	h := s.w.Header()
	addFields(h, s.Header)
	varyByAccept(h)
	h["Content-Type"] = s.Plan.Choice.Offers[s.Form].header
	if s.Form == StreamEvents && h["Cache-Control"] == nil {
		h["Cache-Control"] = []string{"no-store"}
	}
	s.w.WriteHeader(s.Status)
	if own := writer.Direct(s.w); own != nil {
		s.lost = own.Streams()
	}
}

// flush sends what there is.
func (s *Stream) flush() {
	s.state = streamIdle
	if s.buffer.Len() > 0 {
		_, s.lost = s.w.Write(s.buffer.Bytes())
		s.buffer.Reset()
	}
	if s.lost == nil {
		s.lost = s.control.Flush()
	}
	if s.Form == StreamEvents && s.lost == nil {
		s.timer.Reset(streamHeartbeat)
	}
}

// tick sends what has waited long enough, or shows that the connection lives: a comment, which
// listeners pass over.
func (s *Stream) tick() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state == streamOver || s.state == streamEmpty || s.lost != nil {
		return
	}
	defer func() {
		if v := recover(); v != nil { // of a middleware's writer: there is no handler to catch it
			s.lost = fmt.Errorf("sending a piece of a stream panicked: %v", v)
		}
	}()
	if s.state == streamIdle && s.Form == StreamEvents {
		s.buffer.WriteString(":\n\n")
	}
	s.flush()
}

// conclude writes the end, or what failed.
func (s *Stream) conclude() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	defer func() { s.state = streamOver }()
	switch {
	case s.lost != nil:
		return s.lost
	case s.failed == nil && s.ctx.Err() != nil:
		s.failed = s.ctx.Err()
	}
	if s.failed != nil && s.state == streamEmpty {
		return Unwritten{s.failed}
	}
	if s.state == streamEmpty {
		s.begin()
		if s.Form == StreamArray {
			s.buffer.WriteString(s.Plan.envelope + "[")
		}
	}
	switch {
	case s.head && s.failed == nil:
		return nil
	case s.failed != nil && s.Form == StreamEvents:
		if text := s.Problem(s.failed); text != nil {
			fmt.Fprintf(&s.buffer, "event: problem\ndata: %s\n\n", text)
		}
	case s.failed == nil && s.Form == StreamArray:
		s.buffer.WriteByte(']')
		if s.Plan.envelope != "" {
			s.buffer.WriteByte('}')
		}
		s.buffer.WriteByte('\n')
	}
	if s.failed != nil || s.Form == StreamEvents {
		s.flush()
		s.timer.Stop()
	} else if s.buffer.Len() > 0 {
		_, s.lost = s.w.Write(s.buffer.Bytes())
	}
	if s.failed != nil {
		return Broken{s.failed}
	}
	return s.lost
}
