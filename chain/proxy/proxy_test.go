package proxy_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/chain/proxy"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/wicketwaytest"
)

// RFC 7239 and the fields before it: who is the client, seen from the server.
func TestTrust(t *testing.T) {
	networks, err := proxy.Networks("10.0.0.0/8", "2001:db8:1::/48", "192.0.2.1")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := proxy.Networks("10.0.0.0/8", "ten"); err == nil {
		t.Error("a network that is none")
	}
	const older = proxy.XForwardedFor | proxy.XForwardedProto | proxy.XForwardedHost
	wicketwaytest.Middleware(t, proxy.Trust(older, networks...))
	tell := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := exchange.ClientOf(r)
		fmt.Fprint(w, c.Addr, " ", c.Scheme, " ", c.Host)
	})
	for _, c := range []struct{ name, peer, fields, want string }{
		{"no proxy", "198.51.100.7:1", "", "198.51.100.7 http canal"},
		{"a stranger says he is a proxy", "198.51.100.7:1", "X-Forwarded-For: 203.0.113.9\nForwarded: for=203.0.113.9", "198.51.100.7 http canal"},
		{"one proxy", "10.1.1.1:1", "X-Forwarded-For: 203.0.113.9\nX-Forwarded-Proto: https\nX-Forwarded-Host: public", "203.0.113.9 https public"},
		{"the client lies", "10.1.1.1:1", "X-Forwarded-For: 127.0.0.1, 203.0.113.9", "203.0.113.9 http canal"},
		{"two proxies, in two lines", "10.1.1.1:1", "X-Forwarded-For: 203.0.113.9\nX-Forwarded-For: 10.2.2.2", "203.0.113.9 http canal"},
		{"all are proxies", "10.1.1.1:1", "X-Forwarded-For: 10.3.3.3, 10.2.2.2", "10.3.3.3 http canal"},
		{"no address", "10.1.1.1:1", "X-Forwarded-For: unknown", "invalid IP http canal"},
		{"mapped into IPv6", "[::ffff:10.1.1.1]:1", "X-Forwarded-For: ::ffff:203.0.113.9", "203.0.113.9 http canal"},
		{"an address of its own", "192.0.2.1:1", "Forwarded: for=203.0.113.9", "203.0.113.9 http canal"},
		{"the standard field", "10.1.1.1:1", `Forwarded: For="[2001:db8::7]:4711";Proto=HTTPS;Host="a\"b", for=10.2.2.2`, "2001:db8::7 https canal"},
		{"a host", "10.1.1.1:1", `Forwarded: for=203.0.113.9;host="canal.example:8443"`, "203.0.113.9 http canal.example:8443"},
		{"a host from end to end of the alphabet", "10.1.1.1:1", "X-Forwarded-For: 203.0.113.9\nX-Forwarded-Host: az-AZ.09_", "203.0.113.9 http az-AZ.09_"},
		{"a host in brackets", "10.1.1.1:1", "X-Forwarded-For: 203.0.113.9\nX-Forwarded-Host: [2001:db8::1]:80", "203.0.113.9 http [2001:db8::1]:80"},
		{"over lines, with an obfuscated node", "10.1.1.1:1", "Forwarded: for=_hidden\nForwarded: for=10.2.2.2", "invalid IP http canal"},
		{"a field of the caller beside it", "10.1.1.1:1", "X-Forwarded-For: 203.0.113.9\nX-Forwarded-Proto: https\nForwarded: for=203.0.113.8;proto=http;host=evil", "203.0.113.9 https canal"},
		{"an empty one", "10.1.1.1:1", "X-Forwarded-For: 203.0.113.9\nForwarded: ", "203.0.113.9 http canal"},
		{"a torn one", "10.1.1.1:1", `Forwarded: for="203.0.113.7, for=203.0.113.9;proto=https`, "203.0.113.9 https canal"},
		{"a torn one, and brackets", "10.1.1.1:1", `Forwarded: for="\, for="[2001:db8::7]"`, "2001:db8::7 http canal"},
		{"a comma in quotes", "10.1.1.1:1", `Forwarded: host="a,b";for=203.0.113.9`, "203.0.113.9 http canal"},
		{"hosts that are none", "10.1.1.1:1", `Forwarded: for=203.0.113.9;host="a/b?c", for=10.2.2.2;host="a:b", for=10.2.2.2;host="[::1", for=10.2.2.2;host=":80"`, "203.0.113.9 http canal"},
		{"an unknown scheme", "10.1.1.1:1", "Forwarded: for=203.0.113.9;proto=javascript", "203.0.113.9 http canal"},
		{"an empty field", "10.1.1.1:1", "X-Forwarded-For: ,", "10.1.1.1 http canal"},
		{"a thousand proxies", "10.1.1.1:1", "X-Forwarded-For: 203.0.113.9" + strings.Repeat(", 10.2.2.2", 1000), "10.2.2.2 http canal"},
		{"a socket", "@", "X-Forwarded-For: 203.0.113.9", "invalid IP http canal"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.Host, r.RemoteAddr = "canal", c.peer
		for field := range strings.Lines(c.fields) {
			name, value, _ := strings.Cut(strings.TrimSpace(field), ": ")
			r.Header.Add(name, value)
		}
		fields := older
		if strings.HasPrefix(c.fields, "Forwarded") {
			fields = proxy.Forwarded
		}
		w := httptest.NewRecorder()
		if proxy.Trust(fields, networks...).Wrap(tell).ServeHTTP(w, r); w.Body.String() != c.want {
			t.Errorf("%s: %s, want %s", c.name, w.Body, c.want)
		}
	}
	for want, bad := range map[string]exchange.Middleware{
		"no field says":                 proxy.Trust(proxy.XForwardedProto, networks...),
		"the others say Forwarded says": proxy.Trust(proxy.Forwarded|proxy.XForwardedFor, networks...),
		"no network":                    proxy.Trust(proxy.Forwarded),
	} {
		if err := bad.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}

func FuzzForwarded(f *testing.F) {
	networks, _ := proxy.Networks("10.0.0.0/8")
	look := http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { exchange.ClientOf(r) })
	f.Add(`for="[::1]:1;x`, "a,,b")
	f.Fuzz(func(_ *testing.T, standard, other string) {
		for name, value := range map[string]string{"Forwarded": standard, "X-Forwarded-For": other} {
			r := httptest.NewRequest("GET", "/", nil)
			r.RemoteAddr, r.Header = "10.1.1.1:1", http.Header{name: {value}, "X-Forwarded-Proto": {other}}
			fields := proxy.XForwardedFor | proxy.XForwardedProto
			if name == "Forwarded" {
				fields = proxy.Forwarded
			}
			proxy.Trust(fields, networks...).Wrap(look).ServeHTTP(httptest.NewRecorder(), r)
		}
	})
}
