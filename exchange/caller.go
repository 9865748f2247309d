package exchange

import (
	"net/http"
	"reflect"
	"strconv"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// An Authenticator identifies the caller of a request. Package chain/auth has some. It
// must be safe for concurrent use. Where it has a method Check() error, Build asks
// it and reports the error.
type Authenticator interface {
	// Authenticate gives the caller, never nil. Where it refuses, the error is a problem of
	// status 401 that carries the field WWW-Authenticate (RFC 9110, 11.6.1).
	Authenticate(r *http.Request) (*Identity, error)
	// Challenge is the field WWW-Authenticate for a known caller who lacks the
	// scopes that are given (RFC 6750, 3.1).
	Challenge(scopes []string) string
	// Scheme describes how callers authenticate. It is the same every time.
	Scheme() Scheme
}

// A Scheme describes how callers authenticate, in the terms of OpenAPI 3.1 (4.8.27).
type Scheme struct {
	// Name is for listings: bearer.
	Name string
	// Type is http, apiKey, mutualTLS, oauth2 or openIdConnect.
	Type string
	// Scheme is the authentication scheme (RFC 9110, 11.1) where the type is http:
	// Bearer, Basic.
	Scheme string
	// Format is a hint for readers: JWT.
	Format string
	// SignIn is the path of a page where people sign in. One who has no credentials, asks by GET and prefers HTML is led
	// there by a 303, with the path and query that they asked for as the query parameter back; all others get 401. The
	// page itself must be open to everyone.
	SignIn string
	// DevelopmentOnly says that the guard is for the programmer's machine: outside of development it is a mistake.
	DevelopmentOnly bool
	// In and Field say where a key is sent, where the type is apiKey: header and
	// X-Api-Key.
	In, Field string
	// Address is that of the discovery document, where the type is openIdConnect.
	Address string
	// Flows say how callers get a token, where the type is oauth2.
	Flows []facts.Flow
	// Note says in a line for people how callers get their credentials.
	Note string
	// Any are the schemes of which one is enough, where the guard takes several.
	Any []Scheme
	// Raises are the kinds of problem that the guard refuses callers with.
	Raises []*problem.Kind
	// Reads are the types of attached values that the guard reads (see wicketway.Attach).
	Reads []reflect.Type
}

// Fields are the header fields that carry credentials, in addition to Authorization.
func (s Scheme) Fields() (all []string) {
	if s.In == "header" {
		all = append(all, http.CanonicalHeaderKey(s.Field))
	}
	for _, one := range s.Any {
		all = append(all, one.Fields()...)
	}
	return all
}

// A HeaderGuard is an Authenticator that sets header fields of the answer as well, such as a
// cookie that goes on for longer. Where a guard has the method it is asked instead of
// Authenticate.
type HeaderAuthenticator interface {
	Authenticator
	AuthenticateTo(answer http.Header, r *http.Request) (*Identity, error)
}

// An Identity is the caller of a request. A guard must not change it once it has returned it, nor
// anything in it: it may give the same one to many requests.
type Identity struct {
	// Subject names the caller, among those of the issuer; "" is nobody.
	Subject string
	// Issuer is the authority that vouches for the subject: two issuers may give one to different callers
	// (RFC 7519, 4.1.2). Where a guard gives none it is the name of the guard's scheme.
	Issuer string
	// Scopes are those that the caller was granted. Handlers get a copy.
	Scopes []string
	// Claims are further claims of a token, in a type of the user's (see [ClaimsOf]).
	Claims any
	// Account is the caller's account that the guard has loaded (see [AccountOf]).
	Account any
	// Proof is the verified credential, in a type of the guard's: auth.Token.
	Proof any
}

// Key tells callers apart: it is the same text for the same issuer and subject, and "" for nobody. It
// is what counters and stores go by.
func (i Identity) Key() string {
	if i.Subject == "" {
		return ""
	}
	return strconv.Itoa(len(i.Issuer)) + ":" + i.Issuer + " " + i.Subject
}
