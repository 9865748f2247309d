package auth

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// A StoredKey is the record of a key for programs, without the key itself. Guards put it into
// wicketway.Identity.Proof.
type StoredKey struct {
	Prefix  string
	Hash    [sha256.Size]byte // SHA-256 of the whole key
	Subject string
	Scopes  []string
	Expires time.Time // zero: never
}

// NewKey makes a key with a prefix, by which it is found again, and the record to store. The
// key is shown to its owner once. The prefix has letters, digits, - and _.
func NewKey(prefix string) (key string, stored StoredKey, err error) {
	if !isPrefix(prefix) {
		return "", stored, fmt.Errorf("auth.NewKey: %q is not a prefix: it has letters, digits, - and _", prefix)
	}
	secret := make([]byte, 32)
	rand.Read(secret) // never fails (crypto/rand)
	key = prefix + "." + base64.RawURLEncoding.EncodeToString(secret)
	return key, StoredKey{Prefix: prefix, Hash: sha256.Sum256([]byte(key))}, nil
}

func isPrefix(s string) bool {
	return s != "" && len(s) <= 64 && !strings.ContainsFunc(s, func(c rune) bool {
		return (c|0x20 < 'a' || c|0x20 > 'z') && (c < '0' || c > '9') && c != '-' && c != '_'
	})
}

// longestKey bounds a key, in bytes.
const longestKey = 256

// Key asks for a key in a header field. Find looks the stored one up by its prefix, and reports
// whether there is one; keys are compared by their hash in constant time, also where there is
// none.
func Key(find func(ctx context.Context, prefix string) (StoredKey, bool, error), settings Settings) exchange.Authenticator {
	k := &keyGuard{guard: newGuard("key", settings), find: find}
	if find == nil {
		k.wrongf("the function that finds keys is nil")
	}
	return k
}

type keyGuard struct {
	guard
	find func(ctx context.Context, prefix string) (StoredKey, bool, error)
}

func (k *keyGuard) Scheme() exchange.Scheme {
	return exchange.Scheme{Name: "key", Type: "apiKey", In: "header", Field: http.CanonicalHeaderKey(k.Field),
		Raises: k.raises(ErrKeyMissing, ErrKeyRejected)}
}

func (k *keyGuard) Sent(r *http.Request) bool { return len(r.Header.Values(k.Field)) > 0 }

func (k *keyGuard) Authenticate(r *http.Request) (*exchange.Identity, error) {
	fields := r.Header.Values(k.Field)
	if len(fields) == 0 {
		return nil, k.reject(ErrKeyMissing, "Send a key in the field "+k.Field+".")
	}
	rejected := func() error { return k.reject(ErrKeyRejected, "The key is not known, or has ended.") }
	prefix, _, dotted := strings.Cut(fields[0], ".")
	if len(fields) > 1 || len(fields[0]) > longestKey || !dotted || !isPrefix(prefix) {
		return nil, rejected()
	}
	stored, there, err := k.find(r.Context(), prefix)
	if err != nil {
		return nil, err
	}
	hash := sha256.Sum256([]byte(fields[0]))
	same := subtle.ConstantTimeCompare(hash[:], stored.Hash[:]) == 1
	if !there || !same || !stored.Expires.IsZero() && !k.Clock().Before(stored.Expires) {
		return nil, rejected()
	}
	return k.account(r, &exchange.Identity{Subject: stored.Subject, Issuer: k.name, Scopes: stored.Scopes, Proof: stored})
}

func (k *keyGuard) reject(kind *problem.Kind, detail string) error {
	return k.refuse(kind, detail, k.Challenge(nil), nil)
}

// Challenge has a scheme of no standard, since there is none for keys in a field of their own.
func (k *keyGuard) Challenge([]string) string {
	return "Key realm=" + quoted(k.Realm) + ", field=" + quoted(http.CanonicalHeaderKey(k.Field))
}
