package bind

import (
	"cmp"
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"os"
	"sync/atomic"
	"time"

	"github.com/wicketway/wicketway/problem"
)

// How a body must arrive, and an answer be taken, where Limits does not say otherwise.
const (
	bodyGrace = 10 * time.Second // before the least rate counts
	LeastRate = 1 << 10          // bytes a second
)

// How much of a body that is too large is still received, and for how long.
const (
	lingerBytes = 8 << 20
	lingerTime  = 2 * time.Second
)

// A Body is between the connection and its reader. It counts, and it holds callers
// to a size, a rate and the time of the route. It is read by one goroutine at a time; what is
// asked about it can be asked by any. A nil Body is that of a request without one.
type Body struct {
	// Files keeps those of a form as long as the request lasts.
	Files Spool
	// Keep has the text of a JSON body kept.
	Keep bool

	kept       []byte
	form       url.Values
	deprecated []string // members that were sent

	source     io.ReadCloser
	connection Connection
	ctx        context.Context
	limit      int64 // bytes; 0: none
	least      int64 // bytes a second
	received   int64
	counted    atomic.Int64  // what was received, for others
	begun      time.Duration // when reading began, since the program did
	renewed    time.Duration // when the read deadline was last set
	err        error         // what ended the body, if not its end
	off        bool          // the connection takes no deadlines
	http1      bool

	ended, late atomic.Bool
}

// A Connection is the writer of the answer, with those that it wraps.
type Connection interface {
	// CloseAfter closes the connection after the answer.
	CloseAfter()
	// Unwrap gives the server's own writer, which takes deadlines.
	Unwrap() http.ResponseWriter
}

var programStart = time.Now()

// Take puts a Body in the place of the server's, bounded by a size in bytes and a rate in
// bytes a second (0: the default). It gives nil for a request without a body.
func Take(r *http.Request, connection Connection, limit, rate int64) *Body {
	if r.Body == nil || r.Body == http.NoBody || r.ContentLength == 0 {
		return nil
	}
	b := &Body{
		source:     r.Body,
		connection: connection,
		ctx:        r.Context(),
		limit:      limit,
		least:      cmp.Or(rate, LeastRate),
		http1:      r.ProtoMajor == 1,
	}
	r.Body = b
	return b
}

func (b *Body) Read(p []byte) (int, error) {
	if b.err != nil {
		return 0, b.err
	}
	if b.limit > 0 {
		p = p[:min(int64(len(p)), b.limit+1-b.received)]
	}
	b.renew()
	n, err := b.source.Read(p)
	b.received += int64(n)
	b.counted.Store(b.received)
	switch {
	case b.limit > 0 && b.received > b.limit:
		b.giveUp(&http.MaxBytesError{Limit: b.limit})
		return n - 1, b.err
	case err == io.EOF:
		b.ended.Store(true)
		b.setDeadline(time.Time{})
	case errors.Is(err, os.ErrDeadlineExceeded):
		b.late.Store(true)
		b.giveUp(b.tooLate(err))
		return n, b.err
	case err != nil:
		b.giveUp(err)
	}
	return n, err
}

// giveUp sees to it that nothing that is still sent is taken for the next request
// (RFC 9112, 9.3), whatever the reader makes of the failure. Up to 256 KiB the server
// reads itself in order to go on, but not where reading has failed.
func (b *Body) giveUp(err error) {
	b.err = err
	if b.http1 {
		b.connection.CloseAfter()
	}
}

// Close closes the body that the server gave.
func (b *Body) Close() error { return b.source.Close() }

// peekTime is how long a body that nobody reads is waited for in development.
const peekTime = 50 * time.Millisecond

// Peek receives what a body of a size has, where nobody has read it, so that it can be shown.
func (b *Body) Peek(size int64) []byte {
	if b.received > 0 || b.err != nil {
		return nil
	}
	b.setDeadline(time.Now().Add(peekTime))
	defer b.setDeadline(time.Time{})
	text := make([]byte, size)
	n, _ := io.ReadFull(b.source, text) // what has come is enough
	return text[:n]
}

// tooLate is the problem of a body that did not come in time.
func (b *Body) tooLate(cause error) error {
	if until, ok := b.ctx.Deadline(); ok && !time.Now().Before(until) {
		return problem.BodyTimeout.Newf("The body did not arrive within the time that the route has; %d bytes came.",
			b.received).Because(cause)
	}
	return problem.BodyTimeout.Newf("The body came too slowly: %d bytes in %.0f seconds; at least %d bytes a second are expected after the first %.0f seconds.",
		b.received, (time.Since(programStart) - b.begun).Seconds(), b.least, bodyGrace.Seconds()).
		Because(cause)
}

// earned is the time that so many bytes may have taken, in whole seconds. Bodies for
// plain handlers have no limit, so a product of bytes and nanoseconds could overflow.
func earned(received, rate int64) time.Duration {
	return time.Duration(min(received/rate, 1<<32)) * time.Second
}

// renew sets the deadline for the next read. It need not be exact to the second.
func (b *Body) renew() {
	if b.off {
		return
	}
	now := time.Since(programStart)
	if b.begun == 0 {
		b.begun = now
	} else if now-b.renewed < time.Second {
		return
	}
	b.renewed = now
	by := programStart.Add(b.begun + bodyGrace + earned(b.received, b.least))
	if until, ok := b.ctx.Deadline(); ok && until.Before(by) {
		by = until
	}
	b.setDeadline(by)
}

// setDeadline does without http.ResponseController where it can: one is made for
// every request that has a body.
func (b *Body) setDeadline(t time.Time) {
	if b.off {
		return
	}
	if w, ok := b.connection.Unwrap().(interface{ SetReadDeadline(time.Time) error }); ok {
		b.off = w.SetReadDeadline(t) != nil
		return
	}
	b.off = http.NewResponseController(b.connection.Unwrap()).SetReadDeadline(t) != nil
}

// Kept is the text of a body that was to be kept; nil where there was none.
func (b *Body) Kept() []byte { return b.kept }

// BytesReceived is how many bytes have come in so far.
func (b *Body) BytesReceived() int64 {
	if b == nil {
		return 0
	}
	return b.counted.Load()
}

// Open reports whether the caller may still be sending.
func (b *Body) Open() bool { return b != nil && !b.ended.Load() }

// WasLate reports whether reading was given up since the body did not come in time.
func (b *Body) WasLate() bool { return b != nil && b.late.Load() }

// ReceiveRest receives what the caller is still sending after the answer, up to 8 MiB and two
// seconds: a server that answers and closes at once resets the connection, and with it the
// answer is often lost (RFC 9112, 9.6).
func (b *Body) ReceiveRest() {
	if b == nil {
		return
	}
	control := http.NewResponseController(b.connection.Unwrap())
	if control.Flush() == nil && control.SetReadDeadline(time.Now().Add(lingerTime)) == nil {
		io.CopyN(io.Discard, b.source, lingerBytes) // an error ends it as well
	}
}
