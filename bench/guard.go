package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/exchange"
)

// A verifier is a guard written by hand with the same library.
type verifier struct {
	parser *jwt.Parser
	key    any
}

var errNotLetIn = errors.New("not let in")

func (v *verifier) authenticate(r *http.Request) (subject string, scopes []string, err error) {
	scheme, text, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(scheme, "Bearer") {
		return "", nil, errNotLetIn
	}
	var claims struct {
		jwt.RegisteredClaims
		Scope string `json:"scope"`
	}
	if _, err := v.parser.ParseWithClaims(text, &claims, func(*jwt.Token) (any, error) { return v.key, nil }); err != nil {
		return "", nil, err
	}
	if claims.Subject == "" {
		return "", nil, errNotLetIn
	}
	return claims.Subject, strings.Fields(claims.Scope), nil
}

// tokensBy makes n tokens of a guard.
func tokensBy(guard exchange.Authenticator, n int) []*http.Request {
	requests := make([]*http.Request, n)
	for i := range requests {
		text, err := auth.Issue(
			guard, auth.NewToken{Subject: fmt.Sprint("OB-", i), Scopes: []string{"passages"}, Lifetime: time.Hour},
		)
		if err != nil {
			panic(err)
		}
		requests[i] = &http.Request{Header: http.Header{"Authorization": {"Bearer " + text}}}
	}
	return requests
}

// guarding compares a guard with a verifier written by hand, over some tokens again and again.
func guarding(m meter, keys auth.Keys, algorithm string, key any, limit float64, remember int) result {
	guard := auth.Bearer(keys, auth.Settings{Audience: []string{"bench"}, Remember: remember})
	byHand := &verifier{
		jwt.NewParser(jwt.WithValidMethods([]string{algorithm}), jwt.WithExpirationRequired(), jwt.WithAudience("bench")),
		key,
	}
	requests := tokensBy(guard, 64)
	ratio, a, b := m.compare(func(n int) {
		for i := range n {
			if _, err := guard.Authenticate(requests[i%len(requests)]); err != nil {
				panic(err)
			}
		}
	}, func(n int) {
		for i := range n {
			if _, _, err := byHand.authenticate(requests[i%len(requests)]); err != nil {
				panic(err)
			}
		}
	})
	return holds("", ratio, limit, "%.1f µs to %.1f µs", a/1000, b/1000)
}

func guardSeen(m meter) result {
	return guarding(m, auth.HS256(secret), "HS256", secret, 0.2, 0)
}

func guardNew(m meter) result {
	return guarding(m, auth.HS256(secret), "HS256", secret, 1.2, -1)
}

func guardES256(m meter) result {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	return guarding(m, auth.Trust("ES256", key), "ES256", &key.PublicKey, 1.05, -1)
}

// guardFlooded is the time for tokens that were seen before, after a flood of a hundred thousand
// bad ones, against the time before it.
func guardFlooded(m meter) result {
	guard := auth.Bearer(auth.HS256(secret), auth.Settings{})
	requests := tokensBy(guard, 512)
	work := func(n int) {
		for i := range n {
			if _, err := guard.Authenticate(requests[i%len(requests)]); err != nil {
				panic(err)
			}
		}
	}
	before := m.alone(work)
	bad := &http.Request{Header: http.Header{}}
	good := requests[0].Header.Get("Authorization")
	for i := range 100_000 {
		bad.Header.Set("Authorization", good+fmt.Sprint(i))
		if _, err := guard.Authenticate(bad); err == nil {
			panic("a bad token was let in")
		}
	}
	after := m.alone(work)
	return holds("", after/before, 1.5, "%.2f µs to %.2f µs", after/1000, before/1000)
}
