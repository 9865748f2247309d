package auth

import (
	"container/heap"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/golang-jwt/jwt/v5"
	"github.com/google/uuid"
	"github.com/wicketway/wicketway/exchange"
)

// A NewToken describes a token for [Issue].
type NewToken struct {
	Subject  string
	Scopes   []string
	Lifetime time.Duration // more than 0
	// Audience is for whom it is; without it the first of the guard's own.
	Audience string
	// Claims are further claims: a value that JSON writes as an object. It cannot take the
	// place of a registered claim.
	Claims any
}

// Issue makes a token that a guard made by [Bearer] takes, with the first of its keys that can
// sign, for a route that signs callers in. It has an id of its own (jti), by which it can be
// revoked.
func Issue(by exchange.Authenticator, t NewToken) (string, error) {
	b, ok := by.(*bearer)
	if !ok {
		return "", fmt.Errorf("auth.Issue: %T takes no tokens", by)
	}
	key := b.keys.signer()
	switch {
	case key == nil:
		return "", errors.New("auth.Issue: the guard has no key that can sign: a secret or a private key")
	case t.Subject == "":
		return "", errors.New("auth.Issue: the token names no subject")
	case t.Lifetime <= 0:
		return "", fmt.Errorf("auth.Issue: the lifetime %v is over already", t.Lifetime)
	}
	claims := jwt.MapClaims{}
	if t.Claims != nil {
		text, err := json.Marshal(t.Claims)
		if err == nil {
			err = json.Unmarshal(text, &claims)
		}
		if err != nil {
			return "", fmt.Errorf("auth.Issue: the claims: %w", err)
		}
	}
	id, err := uuid.NewV7()
	if err != nil {
		return "", err
	}
	now := b.Clock()
	claims["sub"], claims["exp"], claims["iat"], claims["jti"] = t.Subject, now.Add(t.Lifetime).
		Unix(),
		now.Unix(), id.String()
	if len(t.Scopes) > 0 {
		claims["scope"] = strings.Join(t.Scopes, " ")
	}
	if key.issuer != "" {
		claims["iss"] = key.issuer
	}
	if t.Audience == "" && len(b.Audience) > 0 {
		t.Audience = b.Audience[0]
	}
	if t.Audience != "" {
		claims["aud"] = t.Audience
	}
	token := jwt.NewWithClaims(key.method, claims)
	if key.kid != "" {
		token.Header["kid"] = key.kid
	}
	if b.Type != "" {
		token.Header["typ"] = b.Type
	}
	return token.SignedString(key.private)
}

// Revocations keep which tokens and sessions were taken back, until they would have ended by themselves:
// [MemoryRevocations] those of one server, a store of the user's those of several. They are safe for concurrent use.
type Revocations interface {
	// Revoke takes the token or the session with an id back, until a time after which it is refused anyway.
	Revoke(ctx context.Context, id string, until time.Time) error
	// IsRevoked is asked at every request. A session is passed as a Token, too. An error fails the
	// request.
	IsRevoked(ctx context.Context, t Token) (bool, error)
}

// MemoryRevocations keep ids in memory. The zero value is empty and ready; nothing in it takes longer the more there
// are.
type MemoryRevocations struct {
	mu     sync.RWMutex
	ids    map[string]time.Time // until when
	ending revoked
	now    func() time.Time // nil: time.Now
}

// Revoked ids, the one that ends first at the top of the heap.
type revoked []revokedID

type revokedID struct {
	id    string
	until time.Time
}

func (r revoked) Len() int           { return len(r) }
func (r revoked) Less(i, j int) bool { return r[i].until.Before(r[j].until) }
func (r revoked) Swap(i, j int)      { r[i], r[j] = r[j], r[i] }
func (r *revoked) Push(one any)      { *r = append(*r, one.(revokedID)) }
func (r *revoked) Pop() any {
	last := (*r)[len(*r)-1]
	(*r)[len(*r)-1] = revokedID{}
	*r = (*r)[:len(*r)-1]
	return last
}

// Revoke takes an id back. It does not fail.
func (r *MemoryRevocations) Revoke(_ context.Context, id string, until time.Time) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ids == nil {
		r.ids = map[string]time.Time{}
	}
	now := time.Now
	if r.now != nil {
		now = r.now
	}
	for range 2 { // for each that comes two that have ended go
		if len(r.ending) > 0 && r.ending[0].until.Before(now()) {
			old := heap.Pop(&r.ending).(revokedID)
			if !r.ids[old.id].After(old.until) {
				delete(r.ids, old.id)
			}
		}
	}
	if r.ids[id].Before(until) {
		r.ids[id] = until
		heap.Push(&r.ending, revokedID{id, until})
	}
	return nil
}

// IsRevoked reports whether the id of a token was taken back; one without an id cannot be.
func (r *MemoryRevocations) IsRevoked(_ context.Context, t Token) (bool, error) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	_, there := r.ids[t.ID]
	return there && t.ID != "", nil
}
