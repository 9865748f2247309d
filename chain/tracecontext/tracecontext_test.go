package tracecontext_test

import (
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/chain/tracecontext"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/wicketwaytest"
)

// W3C Trace Context, 3.2 and 3.3: what is taken over, and what begins a trace.
func TestRead(t *testing.T) {
	const trace, span = "4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7"
	const good = "00-" + trace + "-" + span + "-01"
	for _, c := range []struct {
		parent, state string
		taken         bool
		want          string // of the state
	}{
		{good, "", true, ""},
		{" " + good + "\t", "rojo=00f067aa0ba902b7,congo=t61", true, "rojo=00f067aa0ba902b7,congo=t61"},
		{good, "a=1\nb=2", true, "a=1,b=2"},
		{good, "a=1,a=2", true, ""},
		{good, "A=1", true, ""},
		{good, "0t@v=1,a@b=2", true, "0t@v=1,a@b=2"},
		{good, "0a=1", true, ""}, {good, "@a=1", true, ""}, {good, "a@=1", true, ""}, {good, "a@b@c=1", true, ""}, {good, "a@0=1", true, ""},
		{good, strings.Repeat("k", 256) + "=1", true, strings.Repeat("k", 256) + "=1"},
		{good, strings.Repeat("k", 257) + "=1", true, ""}, {good, strings.Repeat("k", 242) + "@v=1", true, ""}, {good, "t@" + strings.Repeat("v", 15) + "=1", true, ""},
		{good, "a", true, ""},
		{good, "a=" + strings.Repeat("x", 600), true, ""},
		{good, strings.Repeat("a=1,", 33), true, ""},
		{"cc-" + trace + "-" + span + "-01", "", true, ""},
		{"cc-" + trace + "-" + span + "-01-what-comes", "", true, ""},
		{"cc-" + trace + "-" + span + "-01what", "", false, ""},
		{"ff-" + trace + "-" + span + "-01", "", false, ""},
		{good + "-x", "", false, ""},
		{strings.ToUpper(good), "", false, ""},
		{"00-00000000000000000000000000000000-" + span + "-01", "", false, ""},
		{"00-" + trace + "-0000000000000000-01", "", false, ""},
		{"00-" + trace + "-" + span + "-0", "", false, ""},
		{"00_" + trace + "-" + span + "-01", "", false, ""},
		{"00-" + trace[:31] + "x-" + span + "-01", "", false, ""},
		{good + "\n" + good, "", false, ""},
		{"", "a=1", false, ""},
	} {
		h := http.Header{}
		for line := range strings.SplitSeq(c.parent, "\n") {
			if line != "" {
				h.Add("Traceparent", line)
			}
		}
		for line := range strings.Lines(c.state) {
			h.Add("Tracestate", strings.TrimSpace(line))
		}
		got := tracecontext.Begin(h)
		id := hex.EncodeToString(got.ID[:])
		if (id == trace) != c.taken || got.State != c.want || got.Span == [8]byte{} || (got.Parent != [8]byte{}) != c.taken || c.taken && got.Flags != 1 ||
			hex.EncodeToString(got.Span[:]) == span {
			t.Errorf("%q %q: %+v", c.parent, c.state, got)
		}
	}
}

// What goes out says where it comes from, and the trace that somebody else keeps holds.
func TestKeepAndTransport(t *testing.T) {
	wicketwaytest.Middleware(t, tracecontext.Keep())
	var seen http.Header
	far := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { seen = r.Header }))
	defer far.Close()
	client := &http.Client{Transport: tracecontext.Transport(nil)}
	var here exchange.Trace
	h := tracecontext.Keep().Wrap(tracecontext.Keep().Wrap(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		here, _ = exchange.Of(r.Context()).Trace()
		for _, own := range []string{"", "00-own"} {
			out, _ := http.NewRequestWithContext(r.Context(), "GET", far.URL, nil)
			if own != "" {
				out.Header.Set("Traceparent", own)
			}
			before := len(out.Header)
			if _, err := client.Do(out); err != nil || len(out.Header) != before {
				t.Errorf("%v %v", err, out.Header)
			}
			want := own
			if own == "" {
				want = "00-" + hex.EncodeToString(here.ID[:]) + "-" + hex.EncodeToString(here.Span[:]) + "-01"
			}
			if seen.Get("Traceparent") != want || own == "" && seen.Get("Tracestate") != "a=1" {
				t.Errorf("sent %v, want %s", seen, want)
			}
		}
	})))
	r := httptest.NewRequest("GET", "/", nil)
	r.Header.Set("Traceparent", "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")
	r.Header.Set("Tracestate", "a=1")
	h.ServeHTTP(httptest.NewRecorder(), r)
	out, _ := http.NewRequest("GET", far.URL, nil)
	if _, err := client.Do(out); err != nil || seen.Get("Traceparent") != "" {
		t.Errorf("outside of a request: %v %v", err, seen)
	}
}
