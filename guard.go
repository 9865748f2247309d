package wicketway

import (
	"net/http"
	"reflect"

	"github.com/wicketway/wicketway/problem"
)

// An Authenticator decides who sent a request. Package chain/auth has some. It
// must be safe for concurrent use. Where it has a method Check() error, Build asks
// it and reports what it says.
type Authenticator interface {
	// Authenticate gives the caller, never nil. Where it refuses, the error is a problem of
	// status 401 that carries the field WWW-Authenticate (RFC 9110, 11.6.1).
	Authenticate(r *http.Request) (*Identity, error)
	// Challenge is the field WWW-Authenticate for a known caller who lacks the
	// scopes that are given (RFC 6750, 3.1).
	Challenge(scopes []string) string
	// Scheme says how callers prove who they are. It is the same every time.
	Scheme() Scheme
}

// A Scheme says how callers prove who they are, in the terms of OpenAPI 3.1 (4.8.27).
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
	// In and Field say where a key is sent, where the type is apiKey: header and
	// X-Api-Key.
	In, Field string
	// Raises are the kinds of problem that the guard refuses callers with.
	Raises []*problem.Kind
	// Reads are the types of attached values that the guard reads (see [Attach]).
	Reads []reflect.Type
}

// An Identity is who sent a request. It must not be changed once a guard has
// returned it.
type Identity struct {
	// Subject names the caller; "" is nobody.
	Subject string
	// Scopes are what the caller may do.
	Scopes []string
}

// ErrScopeMissing is raised where the caller lacks a scope that a route needs.
var ErrScopeMissing = problem.Forbidden.Define(http.StatusForbidden, "scope-missing", "The caller lacks a scope").
	Carries("scopes", []string{"locks:operate"})
