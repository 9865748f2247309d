// Package secret knows the names that secrets have, and blanks the values that a request had under them.
package secret

import (
	"bytes"
	"reflect"
	"slices"
	"strings"

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
var within = [][]byte{[]byte("password"), []byte("passphrase"), []byte("secret"), []byte("apikey"), []byte("authorization"), []byte("cookie"),
	[]byte("credential")}

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

// Has reports whether a name is one of a secret, however it is written.
func (n Names) Has(name string) bool {
	if n.plain == nil {
		return false
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

// HasField reports whether a field of a struct holds a secret: by its name in Go or in JSON, by that in its
// from tag, or since it is only ever written.
func (n Names) HasField(sf reflect.StructField) bool {
	if n.plain == nil {
		return false
	}
	_, from, _ := strings.Cut(sf.Tag.Get("from"), " ")
	return n.Has(members.Read(sf).Name) || n.Has(sf.Name) || n.Has(from) ||
		slices.Contains(strings.Fields(sf.Tag.Get("rule")), "writeOnly")
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

// InType reports whether values of a type can hold secrets under names that are known. Of maps and
// interfaces that is not known before.
func InType(t reflect.Type) bool { return inType(t, map[reflect.Type]bool{}) }

func inType(t reflect.Type, seen map[reflect.Type]bool) bool {
	if seen[t] {
		return false
	}
	seen[t] = true
	switch t.Kind() {
	case reflect.Map, reflect.Interface:
		return true
	case reflect.Pointer, reflect.Slice, reflect.Array:
		return inType(t.Elem(), seen)
	case reflect.Struct:
		for sf := range t.Fields() {
			if Known.HasField(sf) || inType(sf.Type, seen) {
				return true
			}
		}
	}
	return false
}
