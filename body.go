package wicketway

import (
	"cmp"
	"errors"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/wicketway/wicketway/problem"
)

// How a body must arrive where Limits does not say otherwise.
const (
	bodyGrace = 10 * time.Second // before the least rate counts
	leastRate = 1 << 10          // bytes a second
)

// How much of a body that is too large is still received, and for how long.
const (
	lingerBytes = 8 << 20
	lingerTime  = 2 * time.Second
)

// An intake is what is known of the body of a request as it comes in.
type intake struct {
	source   io.ReadCloser
	received int64
	begun    time.Duration // when reading began, since the program did
	renewed  time.Duration // when the read deadline was last set
	err      error         // what ended the body, if not its end
	ended    bool          // it was read to its end
	off      bool          // the connection takes no deadlines
	http1    bool
}

// A received body stands between the connection and whoever reads. It counts, and it
// holds callers to a size, a rate and the route's time. It is the state by another
// name, so that it takes no memory of its own.
type received state

var programStart = time.Now()

// takeBody puts the received body in the place of the server's.
func (s *state) takeBody(r *http.Request) {
	if r.Body == nil || r.Body == http.NoBody || r.ContentLength == 0 {
		return
	}
	s.in.source, s.in.http1 = r.Body, r.ProtoMajor == 1
	r.Body = (*received)(s)
}

func (b *received) Read(p []byte) (int, error) {
	in := &b.in
	if in.err != nil {
		return 0, in.err
	}
	limit := int64(0)
	if b.target.reads {
		limit = b.target.limits.Body
		p = p[:min(int64(len(p)), limit+1-in.received)]
	}
	b.renew()
	n, err := in.source.Read(p)
	in.received += int64(n)
	switch {
	case err == io.EOF:
		in.ended = true
		b.setDeadline(time.Time{})
	case errors.Is(err, os.ErrDeadlineExceeded):
		in.err = b.late(err)
		b.giveUp()
		return n, in.err
	case err != nil:
		in.err = err
	}
	if limit > 0 && in.received > limit {
		in.ended = false
		in.err = &http.MaxBytesError{Limit: limit}
		return n - 1, in.err
	}
	return n, err
}

// giveUp sees to it that nothing that is still sent is taken for the next request,
// whatever whoever reads makes of the failure.
func (b *received) giveUp() {
	switch {
	case !b.in.http1:
	case b.sent:
		b.cut.Store(true)
	default:
		b.response.Header().Set("Connection", "close")
	}
}

// Close closes the body that the server gave.
func (b *received) Close() error { return b.in.source.Close() }

func (b *received) rate() int64 { return cmp.Or(b.target.limits.Rate, leastRate) }

// late is the problem of a body that did not come in time.
func (b *received) late(cause error) error {
	if until, ok := b.Deadline(); ok && !time.Now().Before(until) {
		return problem.BodyTimeout.New("The body did not arrive within the time that the route has; %d bytes came.", b.in.received).Because(cause)
	}
	return problem.BodyTimeout.New("The body came too slowly: %d bytes in %.0f seconds; at least %d bytes a second are expected after the first %.0f seconds.",
		b.in.received, (time.Since(programStart) - b.in.begun).Seconds(), b.rate(), bodyGrace.Seconds()).Because(cause)
}

// earned is the time that so many bytes may have taken, in whole seconds. Bodies for
// plain handlers have no limit, so a product of bytes and nanoseconds could overflow.
func earned(received, rate int64) time.Duration {
	return time.Duration(min(received/rate, 1<<32)) * time.Second
}

// renew sets the deadline for the next read. It need not be exact to the second.
func (b *received) renew() {
	if b.in.off {
		return
	}
	now := time.Since(programStart)
	if b.in.begun == 0 {
		b.in.begun = now
	} else if now-b.in.renewed < time.Second {
		return
	}
	b.in.renewed = now
	paced := programStart.Add(b.in.begun + bodyGrace + earned(b.in.received, b.rate()))
	if until, ok := b.Deadline(); ok && until.Before(paced) {
		paced = until
	}
	b.setDeadline(paced)
}

// setDeadline does without http.ResponseController where it can: one is made for
// every request that has a body.
func (b *received) setDeadline(t time.Time) {
	if b.in.off {
		return
	}
	if w, ok := b.ResponseWriter.(interface{ SetReadDeadline(time.Time) error }); ok {
		b.in.off = w.SetReadDeadline(t) != nil
		return
	}
	b.in.off = http.NewResponseController(b.ResponseWriter).SetReadDeadline(t) != nil
}

// open reports whether the caller may still be sending.
func (in *intake) open() bool { return in.source != nil && !in.ended }

// closeIfOpen sees to it that a connection whose request was not read to its end is
// closed after the answer (RFC 9112, 9.3): what is left of the body would be taken
// for the next request. Up to 256 KiB the server reads itself in order to go on, but
// not where reading has failed.
func (s *state) closeIfOpen(r *http.Request) {
	if r.ProtoMajor == 1 && s.in.open() && (s.in.err != nil || s.linger) {
		s.Header().Set("Connection", "close")
	}
}

// prepareToLinger sees to it that callers learn that their body is too large. A
// server that answers and closes while the caller still sends resets the
// connection, and with it the answer is often lost (RFC 9112, 9.6). So the answer
// goes out at once, and some of the rest is received after it. A caller who waits
// for 100 Continue sends nothing, and on HTTP/2 a stream ends without the connection.
func (s *state) prepareToLinger(r *http.Request, p *problem.Problem) {
	if p.Kind() == problem.BodyTooLarge && r.ProtoMajor == 1 && r.Header.Get("Expect") == "" && s.in.open() {
		s.linger = http.NewResponseController(s.ResponseWriter).EnableFullDuplex() == nil
	}
}

// receiveRest receives what the caller is still sending, up to a limit.
func (s *state) receiveRest() {
	if !s.linger {
		return
	}
	control := http.NewResponseController(s.ResponseWriter)
	if control.Flush() == nil && control.SetReadDeadline(time.Now().Add(lingerTime)) == nil {
		io.CopyN(io.Discard, s.in.source, lingerBytes) // an error ends it as well
	}
}
