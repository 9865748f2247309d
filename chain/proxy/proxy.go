// Package proxy finds out where requests come from behind proxies.
package proxy

import (
	"errors"
	"net/http"
	"net/netip"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/exchange"
)

// Networks reads networks as they are written: 10.0.0.0/8, ::1, 192.0.2.7. It is for settings that
// come from outside of the program.
func Networks(texts ...string) ([]netip.Prefix, error) {
	var all []netip.Prefix
	var errs []error
	for _, text := range texts {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			var a netip.Addr
			if a, err = netip.ParseAddr(text); err == nil {
				p = netip.PrefixFrom(a, a.BitLen())
			}
		}
		errs = append(errs, err)
		all = append(all, p)
	}
	return all, errors.Join(errs...)
}

// Within reports whether an address is in one of some networks. An IPv4 address counts as itself
// where it comes mapped into IPv6.
func Within(a netip.Addr, networks []netip.Prefix) bool {
	a = a.Unmap()
	for _, n := range networks {
		if n.Contains(a) {
			return true
		}
	}
	return false
}

// mostHops bounds how many proxies are gone through.
const mostHops = 32

// Fields are the header fields that proxies write. Name those that yours writes, and no other: what
// it leaves alone comes from callers as they like.
type Fields uint8

const (
	// Forwarded is the field of RFC 7239, for the address, the scheme and the host.
	Forwarded Fields = 1 << iota
	// XForwardedFor, XForwardedProto and XForwardedHost are the three that came before it.
	XForwardedFor
	XForwardedProto
	XForwardedHost
)

// Trust reads the fields that are named, if the request comes from one of the networks: those of your
// own proxies. The client is the address nearest to the server that is not one of them; what stands
// before it anybody can write. A host or scheme that is none is passed over. exchange.ClientOf gives
// the result to the middleware behind it, and to handlers.
//
//	proxy.Trust(proxy.XForwardedFor|proxy.XForwardedProto, networks...)
func Trust(fields Fields, networks ...netip.Prefix) exchange.Middleware {
	return exchange.Middleware{
		Name:        "proxy",
		FindsClient: true,
		Does:        "finds out where requests come from behind proxies",
		Check:       func() error { return fields.check(networks) },
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				peer := exchange.Peer(r)
				if Within(peer.Addr, networks) {
					ctx := exchange.Keep(r.Context(), fields.behind(peer, r.Header, networks))
					if ctx != r.Context() {
						r = r.WithContext(ctx)
					}
				}
				next.ServeHTTP(w, r)
			})
		},
	}
}

func (f Fields) check(networks []netip.Prefix) error {
	switch {
	case f&(Forwarded|XForwardedFor) == 0:
		return errors.New(
			"no field says where requests come from: name the one that your proxy writes, Forwarded or XForwardedFor",
		)
	case f&Forwarded != 0 && f != Forwarded:
		return errors.New(
			"all that the others say Forwarded says: name the one that your proxy writes, since the others come from callers",
		)
	case len(networks) == 0:
		return errors.New("no network is given, so no proxy is trusted")
	}
	for _, n := range networks {
		if !n.IsValid() {
			return errors.New("a network is not valid: netip.MustParsePrefix and Networks make good ones")
		}
	}
	return nil
}

// behind goes through the proxies, from the nearest.
func (f Fields) behind(peer exchange.Client, h http.Header, networks []netip.Prefix) exchange.Client {
	client := peer
	hops := f.hops(h)
	for i := len(hops) - 1; i >= 0 && i >= len(hops)-mostHops && Within(client.Addr, networks); i-- {
		hop := hops[i]
		client.Addr = hop.addr
		if s := proto(hop.proto); s != "" {
			client.Scheme = s
		}
		if isHost(hop.host) {
			client.Host = hop.host
		}
	}
	return client
}

// isHost reports whether a text has the form of Host (RFC 9110, 7.2): a name or an address, and a port
// perhaps.
func isHost(text string) bool {
	if text == "" || len(text) > 255+len(":65535") {
		return false
	}
	name, port, ok := strings.Cut(text, ":")
	if strings.HasPrefix(text, "[") {
		name, port, ok = strings.Cut(text[1:], "]")
		if a, err := netip.ParseAddr(name); err != nil || !a.Is6() || a.Zone() != "" {
			return false
		}
		if port == "" {
			return ok
		}
		name, ok = "v6", strings.HasPrefix(port, ":")
		port = strings.TrimPrefix(port, ":")
	} else if !ok {
		return isName(name)
	}
	n, err := strconv.ParseUint(port, 10, 16)
	return ok && isName(name) && err == nil && n > 0
}

// isName reports whether a text can be a registered name or an IPv4 address (RFC 3986, 3.2.2), as they
// are used: letters, digits, - . _
func isName(text string) bool {
	return text != "" && !strings.ContainsFunc(text, func(c rune) bool {
		return (c|0x20 < 'a' || c|0x20 > 'z') && (c < '0' || c > '9') && c != '-' && c != '.' && c != '_'
	})
}

// A hop is what one proxy says about the request that it has got.
type hop struct {
	addr        netip.Addr // zero: it does not say, or in words
	proto, host string
}

func (f Fields) hops(h http.Header) (hops []hop) {
	if f&Forwarded != 0 {
		return standard(h["Forwarded"])
	}
	for _, one := range list(h["X-Forwarded-For"]) {
		hops = append(hops, hop{addr: address(one)})
	}
	// These two speak of the request that the client has sent, which the proxy nearest to it got.
	// One value speaks for all.
	var protos, hosts []string
	if f&XForwardedProto != 0 {
		protos = list(h["X-Forwarded-Proto"])
	}
	if f&XForwardedHost != 0 {
		hosts = list(h["X-Forwarded-Host"])
	}
	for i := range hops {
		hops[i].proto, hops[i].host = at(protos, i, len(hops)), at(hosts, i, len(hops))
	}
	return hops
}

// at is the i-th of n values, where there are so many, and else the last.
func at(values []string, i, n int) string {
	switch {
	case len(values) == 0:
		return ""
	case len(values) == n:
		return values[i]
	}
	return values[len(values)-1]
}

func list(lines []string) (items []string) {
	for _, line := range lines {
		for one := range strings.SplitSeq(line, ",") {
			if one = strings.TrimSpace(one); one != "" {
				items = append(items, one)
			}
		}
	}
	return items
}

// standard reads the field Forwarded (RFC 7239, 4): elements with commas between, of pairs with
// semicolons between, whose values may be quoted.
func standard(lines []string) (hops []hop) {
	for _, line := range lines {
		for _, element := range split(line, ',') {
			var one hop
			for _, pair := range split(element, ';') {
				name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
				value = unquote(value)
				switch strings.ToLower(name) {
				case "for":
					one.addr = address(value)
				case "proto":
					one.proto = value
				case "host":
					one.host = value
				}
			}
			if strings.TrimSpace(element) != "" {
				hops = append(hops, one)
			}
		}
	}
	return hops
}

// split cuts a text at separators that are not quoted. Where a quoted string has no end, a caller has
// written it so that it takes in what the proxy has added: then quotes count for nothing.
func split(s string, separator byte) (parts []string) {
	start, quoted := 0, false
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '"':
			quoted = !quoted
		case s[i] == '\\' && quoted:
			i++
		case s[i] == separator && !quoted:
			parts = append(parts, s[start:i])
			start = i + 1
		}
	}
	if quoted {
		return strings.Split(s, string(separator))
	}
	return append(parts, s[start:])
}

func unquote(s string) string {
	if len(s) < 2 || s[0] != '"' || s[len(s)-1] != '"' {
		return s
	}
	var b strings.Builder
	for i := 1; i < len(s)-1; i++ {
		if s[i] == '\\' && i+1 < len(s)-1 {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// address reads a node (RFC 7239, 6): an address, in brackets where it is of IPv6, with a port
// perhaps. What is obfuscated or unknown gives the zero address.
func address(text string) netip.Addr {
	if a, err := netip.ParseAddrPort(text); err == nil {
		return a.Addr().Unmap()
	}
	a, _ := netip.ParseAddr(strings.TrimSuffix(strings.TrimPrefix(text, "["), "]"))
	return a.Unmap()
}

func proto(text string) string {
	switch strings.ToLower(text) {
	case "http":
		return "http"
	case "https":
		return "https"
	}
	return ""
}
