// Package identity is a small stand-in for an identity service: it signs tokens, and changes its
// keys while it runs. A new key is published before it signs, and an old one stays until the
// tokens that it has signed are over.
package identity

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/chain/auth"
)

// Issuer is what its tokens have in iss, and Audience what they have in aud.
const (
	Issuer   = "https://identity.osterbeck.example"
	Audience = "osterbeck-canal"
)

// A Service signs tokens. It is safe for concurrent use.
type Service struct {
	lifetime time.Duration

	mu   sync.Mutex
	next *signer
	keys []*signer // the first signs
	made int
	seen int // how often the published key was fetched
}

type signer struct {
	kid     string
	private *ecdsa.PrivateKey
	until   time.Time // when its tokens are over; zero while it signs
}

// New makes a service whose tokens last for a time.
func New(lifetime time.Duration) (*Service, error) {
	s := &Service{lifetime: lifetime}
	first, err := s.key()
	if err != nil {
		return nil, err
	}
	s.keys = []*signer{first}
	return s, nil
}

func (s *Service) key() (*signer, error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	s.made++
	return &signer{kid: fmt.Sprintf("key-%d", s.made), private: private}, nil
}

// Publish shows the next key to those who verify; Rotate lets it sign.
func (s *Service) Publish() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var err error
	if s.next == nil {
		s.next, err = s.key()
		s.seen = 0
	}
	return err
}

// Rotate has the key sign that was published.
func (s *Service) Rotate() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.next == nil {
		return
	}
	now := time.Now()
	s.keys[0].until = now.Add(s.lifetime + time.Minute)
	keep := []*signer{s.next}
	for _, k := range s.keys {
		if now.Before(k.until) {
			keep = append(keep, k)
		}
	}
	s.keys, s.next = keep, nil
}

// Run changes the key again and again until the context ends: it is published, and signs after
// a time in which those who verify fetch it. That may take longer on a busy machine: who fetches it
// for the second time has stored it the first time.
func (s *Service) Run(ctx context.Context, every, lead time.Duration) error {
	for {
		for _, step := range []struct {
			after time.Duration
			do    func() error
		}{{every - lead, s.Publish}, {lead, func() error { s.awaitFetch(ctx); s.Rotate(); return nil }}} {
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(step.after):
			}
			if err := step.do(); err != nil {
				return err
			}
		}
	}
}

// awaitFetch waits until the published key was fetched twice.
func (s *Service) awaitFetch(ctx context.Context) {
	for ctx.Err() == nil {
		s.mu.Lock()
		seen := s.seen
		s.mu.Unlock()
		if seen >= 2 {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// Token signs a token for a subject.
func (s *Service) Token(subject, audience string, scopes ...string) (string, error) {
	s.mu.Lock()
	key := s.keys[0]
	s.mu.Unlock()
	guard := auth.Bearer(auth.Trust("ES256", key.private).Named(key.kid).IssuedBy(Issuer), auth.Settings{})
	return auth.Issue(guard, auth.NewToken{Subject: subject, Scopes: scopes, Lifetime: s.lifetime, Audience: audience})
}

// ServeHTTP answers with the keys, as a JWK set (RFC 7517).
func (s *Service) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	type jwk struct {
		Type  string `json:"kty"`
		Use   string `json:"use"`
		Curve string `json:"crv"`
		Key   string `json:"kid"`
		X     string `json:"x"`
		Y     string `json:"y"`
	}
	var set struct {
		Keys []jwk `json:"keys"`
	}
	s.mu.Lock()
	all := append([]*signer(nil), s.keys...)
	if s.next != nil {
		all = append(all, s.next)
		s.seen++
	}
	s.mu.Unlock()
	for _, k := range all {
		point, err := k.private.PublicKey.Bytes() // 4, x, y (SEC 1, 2.3.3)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		set.Keys = append(set.Keys, jwk{"EC", "sig", "P-256", k.kid, base64.RawURLEncoding.EncodeToString(point[1:33]),
			base64.RawURLEncoding.EncodeToString(point[33:])})
	}
	w.Header().Set("Content-Type", "application/jwk-set+json")
	json.MarshalWrite(w, set) // an error is the caller's, who is gone
}
