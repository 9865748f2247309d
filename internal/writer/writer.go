// Package writer has the response writer that all that answer one request share: an API, the middleware and the
// handlers.
package writer

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// A Writer is around the server's own ResponseWriter, or around that of a middleware
// that hides it. It owns what is known of an answer: its status, the bytes before and
// after coding, whether its header went out, and whether the connection was given away. It
// answers HEAD without a body but with its length, and bounds the time that writing takes.
//
// Like any ResponseWriter it is for one goroutine at a time; only CloseAfter and
// LingerAfter may be called from any.
type Writer struct {
	http.ResponseWriter
	// Owner is whose answer this is; nil where a middleware stands alone.
	Owner any
	// Limit is the time for writing an answer, or a piece of a stream; 0: none.
	Limit time.Duration
	// Rate is how many bytes a second of each write the caller must take at least, after ten seconds; 0: as
	// slowly as they like.
	Rate int64

	// Small fields are side by side: eight bytes more, and the state of each request would need a larger piece of
	// memory.
	closing closing
	status  int32 // as announced, or of the answer that is held back; 0: none
	phase   phase
	coded   codedness
	head    bool  // the request is HEAD, so only the header goes out
	flushed bool  // before the end, so that the length was not known
	written int64 // bytes of the body as they were written
	passed  int64 // bytes of the body as they were passed on
	held    []byte

	divert  func(status int, h http.Header) bool
	first   func(status int, h http.Header)   // called before the header goes out
	before  []func(status int, h http.Header) // further ones
	watched func(p []byte)                    // is shown what is passed on
	flushes func()                            // is called before what there is is sent

	coder    Coder
	encoder  Encoder
	deadline deadline
}

// A phase is how far an answer is. Each is behind the one before it, and an answer goes back only from held to open:
//
//	open ──▶ held          Divert has its answer kept, until Diverted
//	open ──▶ announced     WriteHeader: the status is known, and the header waits for the length (HEAD), or for so much
//	                       of the body that it is known whether that is coded
//	     ──▶ sent          the header has gone out: what is written is passed on
//	     ──▶ givenAway     Hijack: the connection is the handler's
type phase uint8

const (
	open phase = iota
	held
	announced
	sent
	givenAway
)

// A codedness is what a Coder has said of a body.
type codedness uint8

const (
	undecided codedness = iota
	asItIs
	coded
)

// A deadline bounds how long writing takes.
type deadline struct {
	until   time.Duration // of the one that is set for Limit, since the program began
	paced   time.Duration // the same of the one that is set for Rate; 0: none
	bounded bool          // one is set for Limit
	none    bool          // the connection takes none
	shared  bool          // over HTTP/2, the connection is shared with others
}

// A closing is how the connection ends with the answer.
type closing struct {
	asked, askedToLinger atomic.Bool // by CloseAfter and LingerAfter
	said                 bool        // the header has said that it is closed
	lingers              bool        // what is left of the request's body is received after the answer
}

// Init makes the writer that answers a request.
func (w *Writer) Init(to http.ResponseWriter, r *http.Request, owner any) {
	w.ResponseWriter, w.Owner, w.head = to, owner, r.Method == http.MethodHead
	w.deadline.shared = r.ProtoMajor == 2
}

// Around makes a writer for a middleware that stands alone.
func Around(w http.ResponseWriter) *Writer { return &Writer{ResponseWriter: w} }

// Outside gives the writer as handlers get it: it has the methods Flush and Hijack where
// what it is around supports them, so that type assertions hold.
func (w *Writer) Outside() http.ResponseWriter {
	flush, hijack := false, false
	for to := w.ResponseWriter; to != nil; to = unwrap(to) {
		switch to.(type) {
		case interface{ FlushError() error }, http.Flusher:
			flush = true
		}
		if _, ok := to.(http.Hijacker); ok {
			hijack = true
		}
		if flush && hijack {
			return full{w}
		}
	}
	switch {
	case flush:
		return flusher{w}
	case hijack:
		return hijacker{w}
	}
	return w
}

type flusher struct{ *Writer }

func (f flusher) Flush() { f.FlushError() } // http.Flusher has no place for the error

type hijacker struct{ *Writer }

func (h hijacker) Hijack() (net.Conn, *bufio.ReadWriter, error) { return h.hijack() }

type full struct{ *Writer }

func (f full) Flush()                                       { f.FlushError() }
func (f full) Hijack() (net.Conn, *bufio.ReadWriter, error) { return f.hijack() }

// writer finds the Writer in whichever form it is passed on.
func (w *Writer) writer() *Writer { return w }

// Direct gives w as a Writer; nil where it is another one.
func Direct(w http.ResponseWriter) *Writer {
	if own, ok := w.(interface{ writer() *Writer }); ok {
		return own.writer()
	}
	return nil
}

// Behind finds the Writer that w is, or is around; nil where there is none.
func Behind(w http.ResponseWriter) *Writer {
	for ; w != nil; w = unwrap(w) {
		if own := Direct(w); own != nil {
			return own
		}
	}
	return nil
}

func unwrap(w http.ResponseWriter) http.ResponseWriter {
	if u, ok := w.(interface{ Unwrap() http.ResponseWriter }); ok {
		return u.Unwrap()
	}
	return nil
}

// Unwrap serves http.ResponseController.
func (w *Writer) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// Status is the status of the answer, as soon as it is announced; 0 before that. That of a
// connection that was given away is 101, unless another was announced.
func (w *Writer) Status() int {
	if w.phase == held {
		return 0
	}
	return int(w.status)
}

// Written is how many bytes of the body were written, before any coding.
func (w *Writer) Written() int64 { return w.written }

// Sent is how many bytes of the body were passed on, after coding.
func (w *Writer) Sent() int64 { return w.passed }

// Hijacked reports whether the connection was given away.
func (w *Writer) Hijacked() bool { return w.phase == givenAway }

// HeaderSent reports whether a status was announced: from then on it cannot be another.
func (w *Writer) HeaderSent() bool { return w.phase >= announced }

// HeaderSent asks a writer, and those that it wraps, whether the header has gone out or
// been announced.
func HeaderSent(w http.ResponseWriter) bool {
	for ; w != nil; w = unwrap(w) {
		if h, ok := w.(interface{ HeaderSent() bool }); ok && h.HeaderSent() {
			return true
		}
	}
	return false
}

// CloseAfter closes the connection after the answer (RFC 9112, 9.6).
func (w *Writer) CloseAfter() { w.closing.asked.Store(true) }

// LingerAfter keeps the connection open after the answer for what the caller is still
// sending, so that the answer is not lost (RFC 9112, 9.6); then it closes.
func (w *Writer) LingerAfter() { w.closing.askedToLinger.Store(true) }

// WillLinger reports whether LingerAfter was called.
func (w *Writer) WillLinger() bool { return w.closing.askedToLinger.Load() }

// StaysOpen reports whether the header has said that the connection can be used again,
// though CloseAfter was called after that.
func (w *Writer) StaysOpen() bool {
	return w.phase >= sent && w.closing.asked.Load() && !w.closing.said
}

// Lingers reports whether the connection is kept open after the answer.
func (w *Writer) Lingers() bool { return w.closing.lingers }

// WriteHeader announces the status of the answer. An interim one (RFC 9110, 15.2) goes out
// at once, and the final one is still to come; 101 is final.
func (w *Writer) WriteHeader(status int) {
	if status < 100 || status > 999 {
		panic(fmt.Sprintf("%d is not a status (RFC 9110, 15)", status))
	}
	switch {
	case w.phase != open: // the first one counts
		return
	case status < 200 && status != http.StatusSwitchingProtocols:
		w.ResponseWriter.WriteHeader(status)
		return
	case w.divert != nil && w.divert(status, w.Header()):
		w.phase, w.status = held, int32(status)
		return
	}
	w.phase, w.status = announced, int32(status)
	if !w.head && w.coder == nil { // else it waits for its length, or for the start of its body
		w.sendHeader()
	}
}

func (w *Writer) sendHeader() {
	w.phase = sent
	h := w.Header()
	if w.first != nil {
		w.completeHeader(int(w.status))
	}
	if w.head && w.written > 0 && !w.flushed && w.coded != coded && h.Get("Content-Length") == "" {
		h.Set("Content-Length", strconv.FormatInt(w.written, 10)) // RFC 9110, 9.3.2
	}
	if w.closing.askedToLinger.Load() {
		w.closing.lingers = http.NewResponseController(w.ResponseWriter).EnableFullDuplex() == nil
	}
	if w.closing.lingers || w.closing.asked.Load() {
		w.closing.said = true
		h.Set("Connection", "close")
	}
	w.bound()
	w.ResponseWriter.WriteHeader(int(w.status))
}

// completeHeader calls those that were waiting for the header, the innermost first.
func (w *Writer) completeHeader(status int) {
	for i := len(w.before) - 1; i >= 0; i-- {
		w.before[i](status, w.Header())
	}
	w.first(status, w.Header())
	w.first, w.before = nil, nil
}

func (w *Writer) Write(p []byte) (int, error) {
	switch w.phase {
	case givenAway:
		return 0, http.ErrHijacked
	case held:
		w.held = append(w.held, p[:min(len(p), mostDiverted-len(w.held))]...)
		return len(p), nil
	case open:
		w.WriteHeader(http.StatusOK)
		if w.phase == held {
			return w.Write(p)
		}
	}
	if (w.head || w.coder != nil) && w.written == 0 && len(p) > 0 {
		w.sniff(p)
	}
	if w.coder == nil && w.phase == sent {
		n, err := w.pass(p)
		w.written += int64(n)
		return n, err
	}
	w.written += int64(len(p))
	if w.coder == nil {
		return len(p), nil // the body of a HEAD
	}
	return w.code(p)
}

// sniff gives an answer the type that the server would give it, where the body does not get there as it is.
func (w *Writer) sniff(p []byte) {
	h := w.Header()
	if _, has := h["Content-Type"]; !has && h["Content-Encoding"] == nil && !hasNoBody(int(w.status)) {
		h["Content-Type"] = []string{http.DetectContentType(p)}
	}
}

func hasNoBody(status int) bool {
	return status < 200 || status == http.StatusNoContent || status == http.StatusNotModified
}

// pass hands bytes on.
func (w *Writer) pass(p []byte) (int, error) {
	if w.head {
		return len(p), nil
	}
	if w.watched != nil {
		w.watched(p)
	}
	w.bound()
	if w.Rate > 0 && w.passed+int64(len(p)) > unpaced {
		return w.write(p)
	}
	n, err := w.ResponseWriter.Write(p)
	w.passed += int64(n)
	return n, err
}

// ReadFrom lets a file go to the socket without a copy where nothing is between.
func (w *Writer) ReadFrom(from io.Reader) (int64, error) {
	direct, ok := w.ResponseWriter.(io.ReaderFrom)
	if w.phase == open {
		w.WriteHeader(http.StatusOK)
	}
	if !ok || w.phase != sent || w.head || w.coder != nil || w.watched != nil {
		return io.Copy(struct{ io.Writer }{w}, from)
	}
	w.bound()
	n, err := w.readFrom(direct, from)
	w.written += n
	return n, err
}

// bound sets the deadline of the answer, or of the piece of a stream, that begins.
func (w *Writer) bound() {
	if w.Limit > 0 && !w.deadline.bounded && w.phase != givenAway {
		w.deadline.bounded, w.deadline.until = true, time.Since(programStart)+w.Limit
		w.setWriteDeadline(programStart.Add(w.deadline.until))
	}
}

// FlushError sends what was written so far. What comes after it has a time of its own.
func (w *Writer) FlushError() error {
	if w.phase == open {
		w.WriteHeader(http.StatusOK)
	}
	if w.phase == held {
		return nil
	}
	w.flushed = true
	if w.flushes != nil {
		w.flushes()
	}
	if err := w.flushCoder(); err != nil {
		return err
	}
	if w.phase < sent {
		w.sendHeader()
	}
	w.bound()
	w.keepPace(0)
	err := http.NewResponseController(w.ResponseWriter).Flush()
	w.restPace()
	return err
}

// hijack gives the connection away, without a deadline: the server clears its own.
func (w *Writer) hijack() (net.Conn, *bufio.ReadWriter, error) {
	if w.phase == announced {
		w.sendHeader()
	}
	conn, rw, err := http.NewResponseController(w.ResponseWriter).Hijack()
	if err == nil {
		w.phase, w.status = givenAway, cmp.Or(int32(w.Status()), http.StatusSwitchingProtocols)
	}
	return conn, rw, err
}

// End sends what still waits, and takes the deadline back: the connection is used again.
// What the server still keeps is sent before that, so that its sending is bounded as well.
func (w *Writer) End() {
	switch {
	case w.phase == givenAway:
		return
	case w.phase == announced:
		w.sendHeader()
	case w.phase < announced && w.first != nil:
		w.completeHeader(http.StatusOK) // the server says so where nobody has written
	}
	if w.deadline.bounded || w.deadline.paced != 0 {
		if w.phase == sent && !w.deadline.none {
			http.NewResponseController(w.ResponseWriter).Flush()
		}
		w.restPace()
	}
}

// mostDiverted is how much is kept of the body of an answer that is held back, in bytes.
const mostDiverted = 512

// Before has f called when the header of the final answer is about to go out.
func (w *Writer) Before(f func(status int, h http.Header)) {
	if w.first == nil {
		w.first = f // mostly there is one
		return
	}
	w.before = append(w.before, f)
}

// Watch shows the body as it is passed on, and when it is sent in pieces.
func (w *Writer) Watch(passed func(p []byte), flushes func()) { w.watched, w.flushes = passed, flushes }

// Divert asks about the status of each answer to come; one for which it reports true is
// held back, and found by Diverted.
func (w *Writer) Divert(held func(status int, h http.Header) bool) { w.divert = held }

// Diverted ends what Divert began. It gives the status of an answer that was held back and
// the start of its body, and 0 where there is none.
func (w *Writer) Diverted() (status int, start []byte) {
	w.divert = nil
	if w.phase == held {
		status, start = int(w.status), w.held
		w.phase, w.status, w.held = open, 0, nil
	}
	return status, start
}

// AddVary adds fields to Vary (RFC 9110, 12.5.5) that are not in it: names, or lists of them.
func AddVary(h http.Header, lists ...string) {
	for _, list := range lists {
		if h["Vary"] == nil && strings.IndexByte(list, ',') < 0 {
			h["Vary"] = []string{list}
			continue
		}
		for field := range strings.SplitSeq(list, ",") {
			if field = strings.TrimSpace(field); field != "" && !hasToken(h["Vary"], field) {
				h["Vary"] = append(slices.Clip(h["Vary"]), field)
			}
		}
	}
}

// AddLinks adds links (RFC 8288, 3) that are not in the header.
func AddLinks(h http.Header, links ...string) {
	for _, link := range links {
		if !slices.Contains(h["Link"], link) {
			h["Link"] = append(slices.Clip(h["Link"]), link)
		}
	}
}

// hasToken reports whether a list has an element, whatever its case.
func hasToken(lines []string, token string) bool {
	for _, line := range lines {
		for one := range strings.SplitSeq(line, ",") {
			if strings.EqualFold(strings.TrimSpace(one), token) {
				return true
			}
		}
	}
	return false
}
