// Package auth has guards: they find out who sent a request.
package auth

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/golang-jwt/jwt/v5"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
)

// What a guard refuses a caller for. All belong to problem.Unauthorized.
var (
	ErrTokenMissing = problem.Unauthorized.Define(http.StatusUnauthorized, "token-missing",
		"The request has no token")
	ErrTokenMalformed = problem.Unauthorized.Define(http.StatusUnauthorized, "token-malformed",
		"The token cannot be read")
	ErrTokenExpired  = problem.Unauthorized.Define(http.StatusUnauthorized, "token-expired", "The token has expired")
	ErrTokenRejected = problem.Unauthorized.Define(http.StatusUnauthorized, "token-rejected",
		"The token is not accepted")
)

// Keys say which tokens are trusted: the algorithms, which are never read from
// the token alone, and the key for each.
type Keys struct {
	algorithms []string
	key        any
	wrong      error // what is wrong with the key
}

// HS256 trusts tokens signed with a shared secret (RFC 7518, 3.2), which must
// have 32 bytes at least.
func HS256(secret []byte) Keys {
	k := Keys{algorithms: []string{jwt.SigningMethodHS256.Alg()}, key: secret}
	if len(secret) < 32 {
		k.wrong = fmt.Errorf("auth.HS256: the secret has %d bytes, 32 at least are needed (RFC 7518, 3.2)", len(secret))
	}
	return k
}

// Bearer asks for a bearer token (RFC 6750) that is a JWT (RFC 7519) with a
// subject and an expiry. The claim scope holds the scopes, separated by spaces
// (RFC 8693, 4.2). The token is read from the field Authorization alone.
func Bearer(keys Keys) wicketway.Authenticator {
	return &bearer{
		keys:   keys,
		parser: jwt.NewParser(jwt.WithValidMethods(keys.algorithms), jwt.WithExpirationRequired()),
	}
}

type bearer struct {
	keys   Keys
	parser *jwt.Parser
}

// Scheme is for listings, the catalogue of problems and the contract.
func (b *bearer) Scheme() wicketway.Scheme {
	return wicketway.Scheme{
		Name:   "bearer",
		Type:   "http",
		Scheme: "Bearer",
		Format: "JWT",
		Raises: []*problem.Kind{ErrTokenMissing, ErrTokenMalformed, ErrTokenExpired, ErrTokenRejected},
	}
}

// Check is asked by Build.
func (b *bearer) Check() error { return b.keys.wrong }

func (b *bearer) find(*jwt.Token) (any, error) { return b.keys.key, b.keys.wrong }

func (b *bearer) Authenticate(r *http.Request) (*wicketway.Identity, error) {
	fields := r.Header["Authorization"]
	if len(fields) > 1 { // RFC 9110, 5.3: it is no list, so nobody knows which counts
		return nil, refuse(ErrTokenMalformed, "The field Authorization stands more than once.", nil)
	}
	field := r.Header.Get("Authorization")
	if field == "" {
		return nil, refuse(ErrTokenMissing, "Send a token in the field Authorization: Bearer TOKEN.", nil)
	}
	scheme, token, _ := strings.Cut(field, " ")
	if !strings.EqualFold(scheme, "Bearer") {
		return nil, refuse(ErrTokenMissing, "The field Authorization has another scheme than Bearer.", nil)
	}
	var c claims
	if _, err := b.parser.ParseWithClaims(strings.TrimLeft(token, " "), &c, b.find); err != nil {
		return nil, explain(err)
	}
	if c.Subject == "" {
		return nil, refuse(ErrTokenRejected, "The token names no subject.", nil)
	}
	return &wicketway.Identity{Subject: c.Subject, Scopes: strings.Fields(c.Scope)}, nil
}

type claims struct {
	jwt.RegisteredClaims
	Scope string `json:"scope"`
}

// explain finds the kind for what the JWT package refuses.
func explain(err error) error {
	switch {
	case errors.Is(err, jwt.ErrTokenMalformed):
		return refuse(ErrTokenMalformed, "The token is not a JWT.", err)
	case errors.Is(err, jwt.ErrTokenExpired):
		return refuse(ErrTokenExpired, "The token has expired; get a new one.", err)
	case errors.Is(err, jwt.ErrTokenNotValidYet), errors.Is(err, jwt.ErrTokenUsedBeforeIssued):
		return refuse(ErrTokenRejected, "The token is not valid yet.", err)
	case errors.Is(err, jwt.ErrTokenRequiredClaimMissing):
		return refuse(ErrTokenRejected, "The token has no expiry.", err)
	}
	return refuse(ErrTokenRejected, "The token's signature or algorithm is not accepted.", err)
}

// refuse makes the problem and its challenge. Where no token was sent the
// challenge names no error (RFC 6750, 3.1).
func refuse(kind *problem.Kind, detail string, cause error) error {
	challenge := "Bearer"
	if kind != ErrTokenMissing {
		challenge = `Bearer error="invalid_token", error_description="` + strings.TrimSuffix(detail, ".") + `"`
	}
	return kind.New(detail).Because(cause).WithHeader("WWW-Authenticate", challenge)
}

func (b *bearer) Challenge(scopes []string) string {
	return `Bearer error="insufficient_scope", scope="` + strings.Join(scopes, " ") + `"`
}
