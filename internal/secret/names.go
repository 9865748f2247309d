// Package secret knows the names that secrets have, and blanks the values that a request had under them.
package secret

import (
	"bytes"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"

	"github.com/wicketway/wicketway/internal/members"
)

// Blank replaces a secret.
const Blank = "[redacted]"

// known are the names of secrets, in lower case without hyphens, underscores and spaces.
var known = []string{"password", "passphrase", "pin", "token", "accesstoken", "refreshtoken", "idtoken", "secret",
	"clientsecret",
	"apikey", "authorization", "proxyauthorization", "cookie", "setcookie", "telephone", "phone", "email", "mail"}

// within are the words that make a name a secret's wherever they are in it, as in new_password,
// X-Api-Key and sessionToken.
var within = [][]byte{
	[]byte("password"),
	[]byte("passphrase"),
	[]byte("secret"),
	[]byte("apikey"),
	[]byte("authorization"),
	[]byte("cookie"),
	[]byte("credential"),
}

// Names are those of secrets. The zero value has none. They are immutable.
type Names struct{ plain map[string]bool }

// With gives the names that are known, and more.
func With(more ...string) Names {
	n := Names{make(map[string]bool, len(known)+len(more))}
	for _, name := range slices.Concat(known, more) {
		n.plain[string(appendPlain(nil, name))] = true
	}
	return n
}

// Known are the names that are known.
var Known = With()

// contacts are those of them that name ways to reach a person. That is no secret to the programmer who has
// sent it.
var contacts = []string{"telephone", "phone", "email", "mail"}

// Credentials are the names that are known without those.
var Credentials = func() Names {
	n := With()
	for _, name := range contacts {
		delete(n.plain, name)
	}
	return n
}()

var credentialsIn sync.Map // of a type, with the names of its own

// CredentialsIn are Credentials, and the names of the members of a type that are only ever written; nil is no type.
func CredentialsIn(t reflect.Type) Names {
	if t == nil {
		return Credentials
	}
	if known, is := credentialsIn.Load(t); is {
		return known.(Names)
	}
	n := Names{maps.Clone(Credentials.plain)}
	seen := map[reflect.Type]bool{}
	var add func(reflect.Type)
	add = func(t reflect.Type) {
		if seen[t] {
			return
		}
		seen[t] = true
		switch t.Kind() {
		case reflect.Pointer, reflect.Slice, reflect.Array, reflect.Map:
			add(t.Elem())
		case reflect.Struct:
			for sf := range t.Fields() {
				if isWriteOnly(sf) {
					_, from, _ := strings.Cut(sf.Tag.Get("from"), " ")
					for _, name := range []string{members.Read(sf).Name, sf.Name, from} {
						n.plain[string(appendPlain(nil, name))] = true
					}
				}
				add(sf.Type)
			}
		}
	}
	add(t)
	credentialsIn.Store(t, n)
	return n
}

func isWriteOnly(sf reflect.StructField) bool {
	return slices.Contains(strings.Fields(sf.Tag.Get("rule")), "writeOnly")
}

// Has reports whether a name is one of a secret, however it is written.
func (n Names) Has(name string) bool {
	if n.plain == nil {
		return false
	}
	if isUsual(name) {
		return n.plain[name]
	}
	var room [64]byte
	plain := appendPlain(room[:0], name)
	if n.plain[string(plain)] || bytes.HasSuffix(plain, []byte("token")) {
		return true
	}
	for _, word := range within {
		if bytes.Contains(plain, word) {
			return true
		}
	}
	return false
}

// isUsual reports whether a name is one that most requests and records have, and no secret's.
func isUsual(name string) bool {
	switch name {
	case "Accept",
		"Accept-Encoding",
		"Accept-Language",
		"Cache-Control",
		"Connection",
		"Content-Length",
		"Content-Type",
		"Host",
		"If-Match",
		"If-None-Match",
		"Origin",
		"Referer",
		"Traceparent",
		"Tracestate",
		"User-Agent",
		"X-Forwarded-For",
		"X-Request-Id",
		"method",
		"path",
		"route",
		"status",
		"duration_ms",
		"sent",
		"request",
		"remote",
		"caller",
		"issuer",
		"code",
		"error",
		"version",
		"trace":
		return true
	}
	return false
}

// HasField reports whether a field of a struct holds a secret: by its name in Go or in JSON, by that in its
// from tag, or since it is only ever written.
func (n Names) HasField(sf reflect.StructField) bool {
	if n.plain == nil {
		return false
	}
	_, from, _ := strings.Cut(sf.Tag.Get("from"), " ")
	return n.Has(members.Read(sf).Name) || n.Has(sf.Name) || n.Has(from) || isWriteOnly(sf)
}

// appendPlain adds a name in lower case, without what separates its words.
func appendPlain(to []byte, name string) []byte {
	for i := range len(name) {
		switch c := name[i]; {
		case c == '-', c == '_', c == ' ':
		case 'A' <= c && c <= 'Z':
			to = append(to, c+'a'-'A')
		default:
			to = append(to, c)
		}
	}
	return to
}

// Types knows which types can hold secrets. It is not safe for concurrent use.
type Types map[reflect.Type]Holding

// A Holding says whether values of a type hold secrets under names that are known.
type Holding uint8

const (
	None Holding = iota
	Maybe
	Certain
)

// Holding is that of a type: of maps and interfaces it is not known before.
func (ts Types) Holding(t reflect.Type) (h Holding) {
	if known, ok := ts[t]; ok {
		return known
	}
	ts[t] = None // where it contains itself that adds nothing
	switch t.Kind() {
	case reflect.Map, reflect.Interface:
		h = Maybe
	case reflect.Pointer, reflect.Slice, reflect.Array:
		h = ts.Holding(t.Elem())
	case reflect.Struct:
		for sf := range t.Fields() {
			if h = max(h, ts.Holding(sf.Type)); Known.HasField(sf) {
				h = Certain
			}
			if h == Certain {
				break
			}
		}
	}
	ts[t] = h
	return h
}
