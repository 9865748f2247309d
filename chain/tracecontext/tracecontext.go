// Package tracecontext continues the caller's trace: W3C Trace Context.
package tracecontext

import (
	"crypto/rand"
	"encoding/hex"
	"net/http"
	"regexp"
	"strings"

	"github.com/wicketway/wicketway/exchange"
)

// The names of the fields (W3C Trace Context, 3.2 and 3.3).
const (
	parentField = "Traceparent"
	stateField  = "Tracestate"
)

// longestState bounds tracestate, in bytes: a longer one is left out (3.3.1.5).
const longestState = 512

// Keep reads traceparent and tracestate, and gives the request a span of its own in that trace; a
// request without them, or with broken ones, begins a trace. exchange.Exchange.Trace gives what is kept,
// [Transport] passes it on. Where a package that records traces is further out, such as
// observe/trace, its ids hold and this does nothing.
func Keep() exchange.Middleware {
	return exchange.Middleware{
		Name: "tracecontext",
		Does: "continues the caller's trace",
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if _, kept := exchange.Of(r.Context()).Trace(); !kept {
					if ctx := exchange.Keep(r.Context(), Begin(r.Header)); ctx != r.Context() {
						r = r.WithContext(ctx)
					}
				}
				next.ServeHTTP(w, r)
			})
		},
	}
}

// Begin makes the place of a request in the trace that its header fields name, or in a new one.
func Begin(h http.Header) exchange.Trace {
	t, ok := Read(h)
	if ok {
		t.Parent = t.Span
	} else {
		t = exchange.Trace{}
		rand.Read(t.ID[:]) // never fails (crypto/rand)
	}
	rand.Read(t.Span[:])
	return t
}

// Read reads the fields of a caller, whose own span is in Span; false where they are missing or
// broken (W3C Trace Context, 3.2.2 and 4.3).
func Read(h http.Header) (t exchange.Trace, ok bool) {
	fields := h[parentField]
	if len(fields) != 1 {
		return t, false
	}
	text := strings.Trim(fields[0], " \t")
	if len(text) < 55 || text[2] != '-' || text[35] != '-' || text[52] != '-' {
		return t, false
	}
	var version, flags [1]byte
	if !lowerHex(version[:], text[:2]) || !lowerHex(t.ID[:], text[3:35]) || !lowerHex(t.Span[:], text[36:52]) ||
		!lowerHex(flags[:], text[53:55]) {
		return t, false
	}
	switch {
	case version[0] == 0xff, version[0] == 0 && len(text) != 55, version[0] > 0 && len(text) > 55 && text[55] != '-':
		return t, false
	case t.ID == [16]byte{} || t.Span == [8]byte{}:
		return t, false
	}
	t.Flags = flags[0]
	if state := strings.Join(h[stateField], ","); len(state) <= longestState && validState(state) {
		t.State = state
	}
	return t, true
}

func lowerHex(into []byte, text string) bool {
	if strings.ToLower(text) != text {
		return false
	}
	_, err := hex.Decode(into, []byte(text))
	return err == nil
}

// validState reports whether a tracestate is a list of at most 32 members, none with a key twice
// (W3C Trace Context, 3.3.1).
func validState(state string) bool {
	keys := map[string]bool{}
	for member := range strings.SplitSeq(state, ",") {
		if member = strings.Trim(member, " \t"); member == "" {
			continue
		}
		key, value, ok := strings.Cut(member, "=")
		if !ok || !stateKey.MatchString(key) || value == "" || len(value) > 256 || keys[key] || len(keys) == 32 ||
			strings.ContainsFunc(value, func(c rune) bool { return c < ' ' || c > '~' || c == '=' }) {
			return false
		}
		keys[key] = true
	}
	return true
}

// stateKey is a key of tracestate (3.3.1.3.1): of one vendor, or of a tenant of one.
var stateKey = regexp.MustCompile(`^([a-z][a-z0-9_*/-]{0,255}|[a-z0-9][a-z0-9_*/-]{0,240}@[a-z][a-z0-9_*/-]{0,13})$`)

// Write sets the fields for a request that goes out from a place in a trace.
func Write(h http.Header, t exchange.Trace) {
	h[parentField] = []string{
		"00-" + hex.EncodeToString(t.ID[:]) + "-" + hex.EncodeToString(t.Span[:]) + "-" + hex.EncodeToString(
			[]byte{t.Flags & 3},
		),
	}
	if t.State != "" {
		h[stateField] = []string{t.State}
	}
}

// Transport passes the trace of the request that is being served on with requests that go out
// with its context; one that has the field already keeps it. A nil base is
// http.DefaultTransport. It is safe for concurrent use.
func Transport(base http.RoundTripper) http.RoundTripper {
	if base == nil {
		base = http.DefaultTransport
	}
	return &transport{base}
}

type transport struct{ base http.RoundTripper }

func (t *transport) RoundTrip(r *http.Request) (*http.Response, error) {
	if trace, ok := exchange.Of(r.Context()).Trace(); ok && r.Header[parentField] == nil {
		own := *r // a RoundTripper must not change the request
		own.Header = r.Header.Clone()
		if own.Header == nil {
			own.Header = http.Header{}
		}
		Write(own.Header, trace)
		r = &own
	}
	return t.base.RoundTrip(r)
}
