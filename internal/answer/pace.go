package answer

import (
	"io"
	"net/http"
	"time"
)

// A caller who does not read holds the handler, and whatever seat it has, in its next write. So an answer
// has a least rate, as a body has: it is asked of what goes beyond the buffers of the server.

const (
	paceGrace    = 10 * time.Second // before the rate counts
	unpaced      = 4 << 10          // bytes that the server keeps without waiting for the caller
	pacedPiece   = 64 << 10         // bytes of one write that have a deadline
	pacedFile    = 128 << 10        // the same of a file, which the system sends
	paceRenewals = time.Second      // the least time between two deadlines
)

// pace is how an answer, or the piece of a stream that is being sent, keeps up.
type pace struct {
	begun   time.Duration // since the program began; 0: not yet
	renewed time.Duration
	from    int64 // bytes that were passed on before it
}

var programStart = time.Now()

// keepPace sets the deadline for the next bytes. It need not be exact to the second.
func (w *Writer) keepPace(next int) {
	if w.Rate <= 0 || w.free || w.hijacked {
		return
	}
	now := time.Since(programStart)
	switch {
	case w.pace.begun == 0:
		w.pace.begun, w.pace.from = now, w.passed
	case now-w.pace.renewed < paceRenewals:
		return
	}
	w.pace.renewed = now
	earned := time.Duration(min((w.passed-w.pace.from+int64(next))/w.Rate, 1<<32)) * time.Second
	by := w.pace.begun + paceGrace + earned
	if w.Limit > 0 {
		by = min(by, w.until)
	}
	w.setWriteDeadline(programStart.Add(by))
}

// setWriteDeadline does without http.ResponseController where it can.
func (w *Writer) setWriteDeadline(t time.Time) {
	switch to := w.ResponseWriter.(type) {
	case interface{ SetWriteDeadline(time.Time) error }:
		w.free = to.SetWriteDeadline(t) != nil
	case interface{ Unwrap() http.ResponseWriter }:
		w.free = http.NewResponseController(w.ResponseWriter).SetWriteDeadline(t) != nil
	default:
		w.free = true
	}
}

// restPace ends the time of a piece: what comes next has its own, however long it is waited for. Over
// HTTP/2 a deadline that passes meanwhile would end the stream.
func (w *Writer) restPace() {
	if w.bounded || w.pace.begun != 0 {
		w.setWriteDeadline(time.Time{})
	}
	w.bounded, w.pace.begun = false, 0
}

// write passes bytes on in pieces, each of which has a deadline.
func (w *Writer) write(p []byte) (n int, err error) {
	for len(p) > 0 && err == nil {
		piece := p[:min(len(p), pacedPiece)]
		w.keepPace(len(piece))
		var m int
		m, err = w.ResponseWriter.Write(piece)
		n, w.passed, p = n+m, w.passed+int64(m), p[len(piece):]
	}
	return n, err
}

// readFrom lets the system send a file, in pieces.
func (w *Writer) readFrom(to io.ReaderFrom, from io.Reader) (n int64, err error) {
	rest, limited := from.(*io.LimitedReader) // one within another would keep the system from it
	for {
		w.keepPace(pacedFile)
		part := io.LimitedReader{R: from, N: pacedFile}
		if limited {
			part = io.LimitedReader{R: rest.R, N: min(rest.N, pacedFile)}
		}
		asked := part.N
		m, err := to.ReadFrom(&part)
		n, w.passed = n+m, w.passed+m
		if limited {
			rest.N -= m
		}
		if err != nil || m < asked || limited && rest.N == 0 {
			return n, err
		}
	}
}
