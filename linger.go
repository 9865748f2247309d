package wicketway

import (
	"io"
	"net/http"
	"time"

	"github.com/wicketway/wicketway/problem"
)

// How much of a body that is too large is still received, and for how long.
const (
	lingerBytes = 8 << 20
	lingerTime  = 2 * time.Second
)

// prepareToLinger sees to it that a caller learns that his body is too large. A
// server that answers and closes while the caller still sends resets the
// connection, and with it the answer is often lost (RFC 9112, 9.6). So the answer
// goes out at once, and some of the rest is received after it. A caller who waits
// for 100 Continue sends nothing.
func (s *state) prepareToLinger(r *http.Request, p *problem.Problem) {
	if p.Kind() == problem.BodyTooLarge && r.Header.Get("Expect") == "" {
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
		io.CopyN(io.Discard, s.body, lingerBytes) // an error ends it as well
	}
}
