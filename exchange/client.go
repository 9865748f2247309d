package exchange

import (
	"net"
	"net/http"
	"net/netip"
)

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

// Deprecated are the parameters and members of a request that were sent though they are deprecated, such as query notify
// and body /remark. They are kept where an input without faults has been read: Kept[Deprecated] gives them.
type Deprecated []string

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

// Trace gives the place of the request in a trace; false where nothing keeps one.
func (x Exchange) Trace() (Trace, bool) { return Kept[Trace](x.ctx) }
