// Package requestid gives every request an id, by which its answer, its problem
// and its line in the log can be brought together.
package requestid

import (
	"net/http"
	"net/netip"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/google/uuid"

	"github.com/wicketway/wicketway/chain/proxy"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/clip"
)

// Header is the field that carries the id of the answer.
const Header = "X-Request-Id"

// A CallerRequest is an id that a caller has sent and that was not taken over, cut to 128 bytes
// and without control characters. It is kept for logs (exchange.Kept).
type CallerRequest string

// Assign gives each request a UUID that begins with the time (RFC 9562, 5.7), and sends it with the
// answer. One that comes with a request from the networks that are named, such as those of your
// own services, is taken over if it is a UUID. Any other is kept as a [CallerRequest]: callers
// who choose the ids could make the log say what they want.
func Assign(networks ...netip.Prefix) exchange.Middleware {
	return exchange.Middleware{
		Name: "requestid",
		Does: "gives each request an id, and sends it with the answer",
		Sets: []facts.Field{
			{Name: Header, Note: "The id of the request, a UUID", Schema: jsontext.Value(`{"type":"string","format":"uuid"}`)},
		},
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				id, sent := own(r, networks)
				ctx := exchange.WithID(r.Context(), id)
				if sent != "" {
					ctx = exchange.Keep(ctx, sent)
				}
				if ctx != r.Context() { // it stands alone
					r = r.WithContext(ctx)
				}
				w.Header()[Header] = []string{exchange.Of(ctx).ID()}
				next.ServeHTTP(w, r)
			})
		},
	}
}

// own chooses the id of a request, and gives what the caller has sent instead.
func own(r *http.Request, networks []netip.Prefix) (uuid.UUID, CallerRequest) {
	sent := r.Header[Header]
	if len(sent) == 1 && len(sent[0]) == 36 && networks != nil && proxy.Within(exchange.Peer(r).Addr, networks) {
		if id, err := uuid.Parse(sent[0]); err == nil && id != uuid.Nil {
			return id, ""
		}
	}
	id, err := uuid.NewV7()
	if err != nil {
		id = uuid.New()
	}
	return id, CallerRequest(safe(strings.Join(sent, ", ")))
}

func safe(text string) string {
	return clip.Text(strings.Map(func(c rune) rune {
		if c < ' ' || c >= 0x7f {
			return -1
		}
		return c
	}, text), 128)
}
