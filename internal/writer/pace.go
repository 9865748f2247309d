package writer

import (
	"io"
	"net/http"
	"time"
)

// A caller who does not read holds the handler, and whatever seat it has, in its next write. So an answer
// has a least rate, as a body has: it is asked of what goes beyond the buffers of the server.

const (
	paceGrace  = 10 * time.Second // before the rate counts
	paceSlack  = time.Second      // by which a deadline may be earlier
	unpaced    = 4 << 10          // bytes that the server keeps without waiting for the caller
	pacedPiece = 64 << 10         // bytes of one write that have a deadline
	pacedFile  = 128 << 10        // the same of a file, which the system sends
)

var programStart = time.Now()

// keepPace sets the deadline for the next bytes: what the handler has taken for itself does not count. It
// need not be exact to the second.
func (w *Writer) keepPace(next int) {
	if w.Rate <= 0 || w.deadline.none || w.phase == givenAway {
		return
	}
	by := time.Since(programStart) + paceGrace + time.Duration(int64(next)/w.Rate)*time.Second
	if w.Limit > 0 {
		by = min(by, w.deadline.until)
	}
	if w.deadline.paced == 0 || w.deadline.paced < by-paceSlack {
		w.deadline.paced = by
		w.setWriteDeadline(programStart.Add(by))
	}
}

// setWriteDeadline does without http.ResponseController where it can.
func (w *Writer) setWriteDeadline(t time.Time) {
	switch to := w.ResponseWriter.(type) {
	case interface{ SetWriteDeadline(time.Time) error }:
		w.deadline.none = to.SetWriteDeadline(t) != nil
	case interface{ Unwrap() http.ResponseWriter }:
		w.deadline.none = http.NewResponseController(w.ResponseWriter).SetWriteDeadline(t) != nil
	default:
		w.deadline.none = true
	}
}

// restPace ends the time of a piece: what comes next has its own, however long it is waited for.
func (w *Writer) restPace() {
	if w.deadline.bounded || w.deadline.paced != 0 {
		w.setWriteDeadline(time.Time{})
	}
	w.deadline.bounded, w.deadline.paced = false, 0
}

// pausePace is called when bytes have gone out, and the handler goes on. Over HTTP/2 a deadline that
// passes meanwhile would end the stream.
func (w *Writer) pausePace() {
	if w.deadline.shared && w.deadline.paced != 0 && w.Limit == 0 {
		w.deadline.paced = 0
		w.setWriteDeadline(time.Time{})
	}
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
	w.pausePace()
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
			w.pausePace()
			return n, err
		}
	}
}
