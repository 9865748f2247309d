package auth

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// Any offers several guards of this package. The caller is the one whose credentials were sent;
// where credentials for several were, all must be good, and the first counts. A refusal names all
// guards in WWW-Authenticate.
func Any(guards ...exchange.Authenticator) exchange.Authenticator {
	a := &anyGuard{guards: guards}
	var names []string
	for i, g := range guards {
		if g != nil && slices.Contains(guards[:i], g) {
			a.wrong = append(a.wrong, fmt.Errorf("auth.Any: the guard %s is named twice: once is enough", g.Scheme().Name))
			continue
		}
		if s, ok := g.(sender); ok {
			a.senders = append(a.senders, s)
			names = append(names, g.Scheme().Name)
		} else {
			a.wrong = append(a.wrong, fmt.Errorf("auth.Any: %T is not a guard of this package", g))
		}
		if c, ok := g.(interface{ Check() error }); ok {
			a.wrong = append(a.wrong, c.Check())
		}
	}
	if len(guards) < 2 {
		a.wrong = append(a.wrong, errors.New("auth.Any: less than two guards are no choice"))
	}
	a.name = strings.Join(names, " or ")
	return a
}

// A sender can say whether a request has credentials for it.
type sender interface {
	exchange.Authenticator
	Sent(*http.Request) bool
}

type anyGuard struct {
	guards  []exchange.Authenticator
	senders []sender
	name    string
	wrong   []error
}

func (a *anyGuard) Check() error { return errors.Join(a.wrong...) }

func (a *anyGuard) Scheme() exchange.Scheme {
	s := exchange.Scheme{Name: a.name}
	for _, g := range a.senders {
		one := g.Scheme()
		s.Any = append(s.Any, one)
		for _, k := range one.Raises {
			if !slices.Contains(s.Raises, k) {
				s.Raises = append(s.Raises, k)
			}
		}
	}
	return s
}

func (a *anyGuard) Authenticate(r *http.Request) (*exchange.Identity, error) {
	return a.AuthenticateTo(http.Header{}, r)
}

// AuthenticateTo lets a guard set header fields, such as a cookie.
func (a *anyGuard) AuthenticateTo(h http.Header, r *http.Request) (*exchange.Identity, error) {
	var first *exchange.Identity
	for _, g := range a.senders {
		if !g.Sent(r) {
			continue
		}
		caller, err := authenticate(g, h, r)
		if err != nil {
			return nil, a.refused(err)
		}
		if first == nil {
			first = caller
		}
	}
	if first != nil {
		return first, nil
	}
	_, err := authenticate(a.senders[0], h, r)
	if err == nil {
		err = errors.New("a guard found credentials that were not sent")
	}
	return nil, a.refused(err)
}

func authenticate(g exchange.Authenticator, h http.Header, r *http.Request) (*exchange.Identity, error) {
	if s, ok := g.(exchange.HeaderAuthenticator); ok {
		return s.AuthenticateTo(h, r)
	}
	return g.Authenticate(r)
}

// refused adds the challenges of the other guards to a refusal (RFC 9110, 11.6.1).
func (a *anyGuard) refused(err error) error {
	p, ok := errors.AsType[*problem.Problem](err)
	if !ok || p.Kind().Status() != http.StatusUnauthorized {
		return err
	}
	said := p.Header().Get("WWW-Authenticate")
	scheme, _, _ := strings.Cut(said, " ")
	for _, g := range a.senders {
		if c := g.Challenge(nil); !strings.HasPrefix(c, scheme+" ") {
			p.WithHeader("WWW-Authenticate", c)
		}
	}
	return p
}

func (a *anyGuard) Challenge(scopes []string) string {
	var all []string
	for _, g := range a.senders {
		all = append(all, g.Challenge(scopes))
	}
	return strings.Join(all, ", ")
}
