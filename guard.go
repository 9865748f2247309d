package wicketway

import (
	"context"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

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

// Caller is who sent the request, in handlers and in middleware alike: the zero
// Identity as long as no guard has said so.
func Caller(ctx context.Context) Identity {
	if s := stateOf(ctx); s != nil {
		if id := s.caller.Load(); id != nil {
			return *id
		}
	}
	return Identity{}
}

// ErrScopeMissing is raised where the caller lacks a scope that a route needs.
var ErrScopeMissing = problem.Forbidden.Define(http.StatusForbidden, "scope-missing", "The caller lacks a scope").
	Carries("scopes", []string{"locks:operate"})

// admit asks the guard about a request.
func (t *terms) admit(r *http.Request, s *state) error {
	caller, err := t.guard.Authenticate(r)
	if err != nil {
		return err
	}
	if caller == nil {
		return fmt.Errorf("the guard %s gave neither a caller nor an error", t.guard.Scheme().Name)
	}
	s.caller.Store(caller)
	for _, scope := range t.scopes {
		if !slices.Contains(caller.Scopes, scope) {
			return ErrScopeMissing.Newf("This needs %s; the caller has %s.", scopeList(t.scopes), scopeList(caller.Scopes)).
				With("scopes", t.scopes).
				WithHeader("WWW-Authenticate", t.guard.Challenge(t.scopes))
		}
	}
	return nil
}

func scopeList(scopes []string) string {
	switch len(scopes) {
	case 0:
		return "no scope"
	case 1:
		return "the scope " + scopes[0]
	}
	return "the scopes " + strings.Join(scopes, ", ")
}
