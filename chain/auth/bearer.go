package auth

import (
	"cmp"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// Bearer asks for a bearer token (RFC 6750) that is a JWT (RFC 7519) with a subject and an
// expiry, signed by one of the keys. The claim scope holds the scopes, as a text with spaces
// between (RFC 8693, 4.2) or as a list. The token is read from the field Authorization alone.
//
// A token that was verified is remembered by its SHA-256 until it expires or its key is no longer
// trusted; its times, and whether it was revoked, are asked at every request.
func Bearer(keys Keys, settings Settings) exchange.Authenticator {
	b := &bearer{guard: newGuard("bearer", settings), keys: keys}
	b.wrong = append(b.wrong, keys.wrong...)
	if len(keys.fixed)+len(keys.remote)+len(keys.wrong) == 0 {
		b.wrongf("no key is trusted, so nobody can call")
	}
	b.wrong = append(b.wrong, keys.tooMany()...)
	b.memory = newMemory[knownToken](b.Remember)
	return b
}

type bearer struct {
	guard
	keys   Keys
	memory *memory[knownToken]
}

// A knownToken has been verified.
type knownToken struct {
	identity  exchange.Identity
	token     Token
	notBefore time.Time
	by        *trusted
	raw       []byte // the claims, where they are decoded for each request
}

func (g *guard) wrongf(format string, args ...any) {
	g.wrong = append(g.wrong, fmt.Errorf("auth: %s: "+format, append([]any{g.name}, args...)...))
}

// Check is asked by Build.
func (g *guard) Check() error { return errors.Join(g.wrong...) }

// Scheme is for listings, the catalogue of problems and the contract.
func (b *bearer) Scheme() exchange.Scheme {
	raises := b.raises(ErrTokenMissing, ErrTokenMalformed, ErrTokenExpired, ErrTokenRejected)
	if len(b.keys.remote) > 0 {
		raises = append(raises, ErrKeysUnavailable)
	}
	return exchange.Scheme{Name: "bearer", Type: "http", Scheme: "Bearer", Format: "JWT", Raises: raises}
}

// Sent reports whether the request has a bearer token, good or bad.
func (b *bearer) Sent(r *http.Request) bool { return sentBy(r, "Bearer") }

// sentBy reports whether a request has credentials of a scheme, or several fields that nobody can
// choose between.
func sentBy(r *http.Request, scheme string) bool {
	fields := r.Header["Authorization"]
	return len(fields) > 1 || len(fields) == 1 && isScheme(fields[0], scheme)
}

func isScheme(field, scheme string) bool {
	return len(field) >= len(scheme) && strings.EqualFold(field[:len(scheme)], scheme) &&
		(len(field) == len(scheme) || field[len(scheme)] == ' ')
}

func (b *bearer) Authenticate(r *http.Request) (*exchange.Identity, error) {
	fields := r.Header["Authorization"]
	switch {
	case len(fields) == 0 || fields[0] == "":
		return nil, b.reject(ErrTokenMissing, "Send a token in the field Authorization: Bearer TOKEN.", nil)
	case len(fields) > 1: // RFC 9110, 5.3: it is not a list, so nobody knows which counts
		return nil, b.reject(ErrTokenMalformed, "The request has more than one Authorization field.", nil)
	case !isScheme(fields[0], "Bearer"):
		return nil, b.reject(ErrTokenMissing, "The field Authorization has another scheme than Bearer.", nil)
	}
	text := strings.TrimLeft(fields[0][len("Bearer"):], " ")
	known, err := b.known(text)
	if err != nil {
		return nil, err
	}
	if err := b.holds(known); err != nil {
		return nil, err
	}
	return b.identity(r, known)
}

// known gives a token that was verified, now or before.
func (b *bearer) known(text string) (*knownToken, error) {
	if len(text) > longestToken {
		return nil, b.reject(ErrTokenMalformed, "The token is too long.", errTooLong)
	}
	var short [1024]byte
	hash := sha256.Sum256(append(short[:0], text...))
	if known := b.memory.find(&hash); known != nil {
		if !known.by.gone.Load() {
			return known, nil
		}
		b.memory.forget(&hash)
	}
	known, err := b.verify(text)
	if err != nil {
		return nil, err
	}
	return b.memory.keep(&hash, *known), nil
}

// verify reads a token and asks whether it is good, except for its times.
func (b *bearer) verify(text string) (*knownToken, error) {
	t, err := parseToken(text)
	if errors.Is(err, errCritical) {
		return nil, b.reject(ErrTokenRejected, "The token asks for extensions that are not known.", err)
	}
	if err != nil {
		return nil, b.reject(ErrTokenMalformed, "The token is not a JWT.", err)
	}
	if b.Type != "" && !isType(t.header.Type, b.Type) {
		return nil, b.reject(ErrTokenRejected, "The token is of another type.", nil)
	}
	by, unknown := b.keys.verify(t.header.Algorithm, t.header.Key, t.signed, t.signature)
	if by == nil {
		return nil, b.unverified(unknown)
	}
	raw, p, err := t.decoded()
	if err != nil {
		return nil, b.reject(ErrTokenMalformed, "The claims of the token cannot be read.", err)
	}
	return b.accept(raw, &p, by)
}

// isType compares media types, which may lack their application/ (RFC 7515, 4.1.9).
func isType(have, want string) bool {
	const prefix = "application/"
	short := func(s string) string {
		if len(s) > len(prefix) && strings.EqualFold(s[:len(prefix)], prefix) && !strings.Contains(s[len(prefix):], "/") {
			return s[len(prefix):]
		}
		return s
	}
	return strings.EqualFold(short(have), short(want))
}

// unverified refuses a token that no key has signed. One that names a key which nobody knows has
// the sets fetched again.
func (b *bearer) unverified(unknown bool) error {
	empty := len(b.keys.fixed) == 0
	for _, set := range b.keys.remote {
		if unknown {
			set.ask()
		}
		empty = empty && set.keys() == nil
	}
	if empty {
		return ErrKeysUnavailable.New("The keys have not been fetched yet.").RetryAfter(time.Second)
	}
	return b.reject(ErrTokenRejected, "The token's signature, key or algorithm is not accepted.", nil)
}

// accept holds the claims of a token that was signed by a key.
func (b *bearer) accept(raw []byte, p *payload, by *trusted) (*knownToken, error) {
	expires, err := date(p.Expires)
	notBefore, err2 := date(p.NotBefore)
	issued, err3 := date(p.Issued)
	switch {
	case errors.Join(err, err2, err3) != nil:
		return nil, b.reject(ErrTokenMalformed, "A date of the token cannot be read.", errors.Join(err, err2, err3))
	case p.Expires == nil:
		return nil, b.reject(ErrTokenRejected, "The token has no expiry.", nil)
	case p.Subject == "":
		return nil, b.reject(ErrTokenRejected, "The token names no subject.", nil)
	case by.issuer != "" && p.Issuer != by.issuer:
		return nil, b.reject(ErrTokenRejected, "The token is of another issuer.", nil)
	case !b.isFor(p.Audience):
		return nil, b.reject(ErrTokenRejected, "The token is for another service.", nil)
	}
	if name := missing(raw, b.Require); name != "" {
		return nil, b.reject(ErrTokenRejected, "The token lacks the claim "+name+".", nil)
	}
	var scopes []string
	for _, s := range p.Scope {
		scopes = append(scopes, strings.Fields(s)...)
	}
	k := &knownToken{
		token:     Token{p.ID, p.Subject, p.Issuer, strings.Join(scopes, " "), issued, expires},
		notBefore: notBefore,
		by:        by,
	}
	k.identity = exchange.Identity{Subject: p.Subject, Issuer: cmp.Or(p.Issuer, b.name), Scopes: scopes, Proof: k.token}
	if b.Claims.decode != nil {
		if k.identity.Claims, err = b.Claims.decode(raw); err != nil {
			return nil, b.reject(ErrTokenMalformed, "The claims of the token cannot be read.", err)
		}
		if !b.Claims.shared {
			k.raw = raw
		}
	}
	return k, nil
}

// isFor reports whether the audience of a token names this service.
func (b *bearer) isFor(audience texts) bool {
	if len(b.Audience) == 0 {
		return audience == nil
	}
	return slices.ContainsFunc(audience, func(name string) bool { return slices.Contains(b.Audience, name) })
}

// holds asks the times of a token.
func (b *bearer) holds(k *knownToken) error {
	now := b.Clock()
	switch {
	case !now.Before(k.token.Expires.Add(b.Leeway)):
		return b.reject(ErrTokenExpired, "The token has expired; get a new one.", nil)
	case now.Add(b.Leeway).Before(k.notBefore):
		return b.reject(ErrTokenRejected, "The token is not valid yet.", nil)
	case now.Add(b.Leeway).Before(k.token.Issued):
		return b.reject(ErrTokenRejected, "The token was issued later than now.", nil)
	}
	return nil
}

// identity gives the caller, as this request sees it.
func (b *bearer) identity(r *http.Request, k *knownToken) (*exchange.Identity, error) {
	if b.Revocations != nil {
		taken, err := b.Revocations.IsRevoked(r.Context(), k.token)
		if err != nil {
			return nil, fmt.Errorf("whether a token was revoked: %w", err)
		}
		if taken {
			return nil, b.reject(ErrTokenRejected, "The token has been revoked.", nil)
		}
	}
	caller := &k.identity
	if k.raw != nil {
		own := k.identity
		claims, err := b.Claims.decode(k.raw)
		if err != nil {
			return nil, b.reject(ErrTokenMalformed, "The claims of the token cannot be read.", err)
		}
		own.Claims = claims
		caller = &own
	}
	return b.account(r, caller)
}

// reject makes a refusal and its challenge. Where no token was sent the challenge names no error
// (RFC 6750, 3.1).
func (b *bearer) reject(kind *problem.Kind, detail string, cause error) error {
	challenge := "Bearer realm=" + quoted(b.Realm)
	if kind != ErrTokenMissing {
		said := detail
		if b.Detail != nil {
			if own := b.Detail(kind); own != "" {
				said = own
			}
		}
		challenge += `, error="invalid_token", error_description=` + quoted(strings.TrimSuffix(said, "."))
	}
	return b.refuse(kind, detail, challenge, cause)
}

func (b *bearer) Challenge(scopes []string) string {
	challenge := "Bearer realm=" + quoted(b.Realm)
	if len(scopes) > 0 {
		challenge += `, error="insufficient_scope", scope=` + quoted(strings.Join(scopes, " "))
	}
	return challenge
}
