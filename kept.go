package wicketway

import (
	"context"
	"iter"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/problem"
)

// Keep keeps a value for a request, by its type: whoever has the request's context finds it with
// [Kept] from then on, middleware further out and observers too. In an API's request the context
// that comes back is the one that was given; outside of one it is another, which has the value.
func Keep[T any](ctx context.Context, value T) context.Context {
	s := stateOf(ctx)
	if s == nil {
		return context.WithValue(ctx, keptKey[T]{}, value)
	}
	own := &struct {
		keptNode
		held kept[T]
	}{held: kept[T]{value}}
	own.value = &own.held
	n := &own.keptNode
	for {
		n.next = s.kept.Load()
		if s.kept.CompareAndSwap(n.next, n) {
			return ctx
		}
	}
}

// Kept gives the value of a type that was kept last; false where none was.
func Kept[T any](ctx context.Context) (value T, ok bool) {
	for s := stateOf(ctx); s != nil; s = s.outer() {
		for n := s.kept.Load(); n != nil; n = n.next {
			if found, same := n.value.(*kept[T]); same {
				return found.value, true
			}
		}
	}
	value, ok = ctx.Value(keptKey[T]{}).(T)
	return value, ok
}

type keptKey[T any] struct{}

// A kept value has the type that it was kept as, which may be an interface.
type kept[T any] struct{ value T }

type keptNode struct {
	value any // a pointer to a kept value, which stands behind the node
	next  *keptNode
}

// A Client is where a request comes from. Behind proxies a middleware finds out and keeps it, such
// as chain/proxy.
type Client struct {
	Addr   netip.Addr // the zero Addr where it is not known
	Scheme string     // https or http, as the client sees it
	Host   string     // as the client has it
}

// Network is what a single client has of the address space, so that what is counted by address is
// counted by it: an IPv4 address, or a network of 64 bits of IPv6. It is the zero Prefix where the address
// is not known.
func (c Client) Network() netip.Prefix {
	a := c.Addr.Unmap().WithZone("")
	bits := a.BitLen()
	if a.Is6() {
		bits = 64
	}
	p, err := a.Prefix(bits)
	if err != nil {
		return netip.Prefix{} // the zero address has none
	}
	return p
}

// ClientOf says where a request comes from: as a middleware has found out, or else by the
// connection.
func ClientOf(r *http.Request) Client {
	if c, ok := Kept[Client](r.Context()); ok {
		return c
	}
	return Peer(r)
}

// Peer is the other end of the connection, a proxy perhaps.
func Peer(r *http.Request) Client {
	c := Client{Scheme: "http", Host: r.Host}
	if r.TLS != nil {
		c.Scheme = "https"
	}
	if a, err := netip.ParseAddrPort(r.RemoteAddr); err == nil {
		c.Addr = a.Addr().Unmap()
	} else if host, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
		c.Addr, _ = netip.ParseAddr(host) // of a socket that has none
	}
	return c
}

// A Trace says where in a trace a request stands (W3C Trace Context). A middleware keeps it, such
// as chain/tracecontext.
type Trace struct {
	ID     [16]byte
	Span   [8]byte // of this request
	Parent [8]byte // of the caller; zero where there is none
	Flags  byte    // trace-flags
	State  string  // tracestate
}

// TraceOf gives the trace of a request; false where nothing keeps one.
func TraceOf(ctx context.Context) (Trace, bool) { return Kept[Trace](ctx) }

// Told is the problem that the caller was told of; nil where the request did not fail.
func Told(ctx context.Context) *problem.Problem {
	if s := stateOf(ctx); s != nil {
		if f := s.failure.Load(); f != nil {
			return f.problem
		}
	}
	return nil
}

// BytesRead is how many bytes of the request's body were received, and how many came out of an
// unpacker; the same where none stands between.
func BytesRead(ctx context.Context) (received, unpacked int64) {
	s := stateOf(ctx)
	if s == nil || s.body == nil {
		return 0, 0
	}
	received = s.body.BytesReceived()
	if n := s.unpacked.Load(); n > 0 {
		return received, n
	}
	return received, received
}

// SetUnpacked says how many bytes have come out of an unpacker so far.
func SetUnpacked(ctx context.Context, bytes int64) {
	if s := stateOf(ctx); s != nil {
		s.unpacked.Store(bytes)
	}
}

// IsDevelopment reports whether the route of a request is in development.
func IsDevelopment(ctx context.Context) bool {
	s := stateOf(ctx)
	return s != nil && s.target.terms().development
}

// VersionOf is the version of the API that serves a request; "" where there is none.
func VersionOf(ctx context.Context) string {
	if s := stateOf(ctx); s != nil {
		return s.target.terms().version
	}
	return ""
}

// Causes lists an error and what it wraps, each with its type in Go, for people who look for what
// went wrong: never for callers.
func Causes(err error) []Cause { return causes(err) }

// Frames gives the frames of the stack that an error has kept, each as its function, a space, and file:line:
// those of the user's own code, and those of Go itself and of this module, the innermost first. There are
// none where it has kept no stack; of a problem without one there is the place where it was made.
func Frames(err error) (own, others []string) {
	own, others = frames(stackIn(err))
	if p := problem.In(err); own == nil && others == nil && p != nil {
		if place := p.Place(); place != "" && !isOurs(place[strings.LastIndexByte(place, ' ')+1:]) {
			own = []string{place}
		}
	}
	return own, others
}

// AllKept gives every value of a type that was kept, the first first.
func AllKept[T any](ctx context.Context) iter.Seq[T] {
	return func(yield func(T) bool) {
		var all []T
		for s := stateOf(ctx); s != nil; s = s.outer() {
			for n := s.kept.Load(); n != nil; n = n.next {
				if found, same := n.value.(*kept[T]); same {
					all = append(all, found.value)
				}
			}
		}
		for _, v := range slices.Backward(all) {
			if !yield(v) {
				return
			}
		}
	}
}
