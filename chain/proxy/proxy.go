// Package proxy finds out where requests come from behind proxies.
package proxy

import (
	"errors"
	"net/http"
	"net/netip"
	"strings"

	"github.com/wicketway/wicketway"
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

// Trust reads the fields Forwarded (RFC 7239) or X-Forwarded-For, -Proto and -Host, if the request
// comes from one of the networks: those of your own proxies. The client is the address nearest to
// the server that is not one of them; what stands before it anybody can write. Where both kinds of
// field are there Forwarded counts. wicketway.ClientOf gives what was found to the middleware
// behind it, and to handlers.
func Trust(networks ...netip.Prefix) wicketway.Middleware {
	return wicketway.Middleware{
		Name: "proxy",
		Does: "finds out where requests come from behind proxies",
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				peer := wicketway.Peer(r)
				if Within(peer.Addr, networks) {
					ctx := wicketway.Keep(r.Context(), behind(peer, r.Header, networks))
					if ctx != r.Context() {
						r = r.WithContext(ctx)
					}
				}
				next.ServeHTTP(w, r)
			})
		},
	}
}

// behind goes through the proxies, from the nearest.
func behind(peer wicketway.Client, h http.Header, networks []netip.Prefix) wicketway.Client {
	client := peer
	hops := forwarded(h)
	for i := len(hops) - 1; i >= 0 && i >= len(hops)-mostHops && Within(client.Addr, networks); i-- {
		hop := hops[i]
		client.Addr = hop.addr
		if hop.proto != "" {
			client.Scheme = hop.proto
		}
		if hop.host != "" {
			client.Host = hop.host
		}
	}
	return client
}

// A hop is what one proxy says about the request that it has got.
type hop struct {
	addr        netip.Addr // zero: it does not say, or in words
	proto, host string
}

func forwarded(h http.Header) []hop {
	if lines := h["Forwarded"]; lines != nil {
		return standard(lines)
	}
	var hops []hop
	for _, one := range list(h["X-Forwarded-For"]) {
		hops = append(hops, hop{addr: address(one)})
	}
	// These two speak of the request that the client has sent, which the proxy nearest to it got.
	// One value speaks for all.
	for i := range hops {
		hops[i].proto = proto(at(list(h["X-Forwarded-Proto"]), i, len(hops)))
		hops[i].host = at(list(h["X-Forwarded-Host"]), i, len(hops))
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
					one.proto = proto(value)
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
