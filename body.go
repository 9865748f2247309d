package wicketway

import (
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

// An intake is the body of a request as it comes in from the connection. It counts,
// and it holds callers to a size, a rate and the route's time.
type intake struct {
	source io.ReadCloser
	state  *state
	limit  int64 // in bytes; 0: none here
	rate   int64 // in bytes a second; negative: none

	received int64
	start    time.Time
	renewed  time.Time // when the read deadline was last set
	ended    bool      // the body was read to its end
	err      error     // what ended it otherwise
	off      bool      // the connection takes no deadlines
}

func (in *intake) Read(p []byte) (int, error) {
	if in.err != nil {
		return 0, in.err
	}
	if in.limit > 0 {
		p = p[:min(int64(len(p)), in.limit+1-in.received)]
	}
	in.renew()
	n, err := in.source.Read(p)
	in.received += int64(n)
	switch {
	case err == io.EOF:
		in.ended = true
		in.setDeadline(time.Time{})
	case errors.Is(err, os.ErrDeadlineExceeded):
		in.err = in.late(err)
		return n, in.err
	case err != nil:
		in.err = err
	}
	if in.limit > 0 && in.received > in.limit {
		in.ended = false
		in.err = &http.MaxBytesError{Limit: in.limit}
		return n - 1, in.err
	}
	return n, err
}

// Close closes the body that the server gave.
func (in *intake) Close() error { return in.source.Close() }

// late is the problem of a body that did not come in time.
func (in *intake) late(cause error) error {
	if until, ok := in.state.Deadline(); ok && !time.Now().Before(until) {
		return problem.BodyTimeout.New("The body did not arrive within the time that the route has; %d bytes came.", in.received).Because(cause)
	}
	return problem.BodyTimeout.New("The body came too slowly: %d bytes in %.0f seconds; at least %d bytes a second are expected after the first %.0f seconds.",
		in.received, time.Since(in.start).Seconds(), in.rate, bodyGrace.Seconds()).Because(cause)
}

// renew sets the deadline for the next read. It need not be exact to the second.
func (in *intake) renew() {
	if in.off {
		return
	}
	now := time.Now()
	if in.start.IsZero() {
		in.start = now
	} else if now.Sub(in.renewed) < time.Second {
		return
	}
	in.renewed = now
	until, limited := in.state.Deadline()
	if in.rate > 0 {
		paced := in.start.Add(bodyGrace + time.Duration(in.received)*time.Second/time.Duration(in.rate))
		if !limited || paced.Before(until) {
			until, limited = paced, true
		}
	}
	if limited {
		in.setDeadline(until)
	}
}

// setDeadline does without http.ResponseController where it can: one is made for
// every request that has a body.
func (in *intake) setDeadline(t time.Time) {
	if in.off || t.IsZero() && in.renewed.IsZero() {
		return
	}
	if w, ok := in.state.ResponseWriter.(interface{ SetReadDeadline(time.Time) error }); ok {
		in.off = w.SetReadDeadline(t) != nil
		return
	}
	in.off = http.NewResponseController(in.state.ResponseWriter).SetReadDeadline(t) != nil
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
