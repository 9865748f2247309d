package wicketway

import (
	"context"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
)

// Guard says who decides about the caller. It is asked after the chain of the
// list in which it is, so that refused requests are logged too. Under it
// every route needs a caller, except those that are [Public].
//
// Below the prefix of a group or a mount under a guard, and at the prefix itself, no request is served
// by a mount, files or {+rest} of a shorter prefix that does not ask for the same guard and scopes: what
// the routes there do not take is not found.
func Guard(by exchange.Authenticator) Setting {
	return setting{
		at:   here.Here(0),
		name: "Guard",
		slot: slotAccess,
		mode: replaces,
		apply: func(b reporter, at here.Place, t *terms) {
			t.guardAt, t.public, t.open, t.after = at, false, nil, -1
			if t.guard = by; isNil(by) {
				b.mistake(at, "Guard: the guard is nil; Public() opens a route")
				t.guard = noGuard{}
				return
			}
			askWrong(b, at, "Guard", by)
			for _, k := range by.Scheme().Raises {
				b.kind(at, "Guard", k)
			}
		},
		acts:  (*resolved).guarded,
		lacks: "every route here is public, so it is never asked",
	}
}

// noGuard takes the place of one that is nil, so that what needs a guard is no mistake of its own.
type noGuard struct{ exchange.Authenticator }

func (noGuard) Scheme() exchange.Scheme { return exchange.Scheme{} }

// Public opens what a guard around it closes: for all methods, or for those that are
// given. Under Guard(...) and Public("GET") reading is open, with HEAD, and all else is
// not.
func Public(methods ...string) Setting {
	if len(methods) > 0 {
		return publicMethods(here.Here(0), methods)
	}
	return setting{
		at:   here.Here(0),
		name: "Public",
		slot: slotAccess,
		mode: replaces,
		apply: func(_ reporter, _ here.Place, t *terms) {
			t.guard, t.public, t.open, t.scopes, t.anyScope, t.rules = nil, true, nil, nil, nil, nil
		},
		acts: func(r *resolved) bool {
			for l := r.list; l != nil; l = l.outer {
				if l.terms.guard != nil {
					return true
				}
			}
			return false
		},
		lacks: "no guard is around it, so everyone may call anyway",
	}
}

func publicMethods(at here.Place, methods []string) Setting {
	var pieces []piece
	for _, m := range methods {
		pieces = append(pieces, piece{m, func(_ *list, r *resolved) bool {
			return r.terms().guard != nil &&
				(r.method == m || r.method == anyMethod || m == http.MethodGet && r.method == http.MethodHead)
		}, "no route here has the method and a guard"})
	}
	return setting{
		at:   at,
		name: "Public",
		slot: slotPublicMethods,
		apply: func(b reporter, at here.Place, t *terms) {
			for _, m := range methods {
				if strings.ToUpper(m) != m || m == "" {
					b.mistake(at, "Public: %q is not a method, such as GET", m)
				}
			}
			twice(b, at, "Public", methods)
			t.open = append(t.open, methods...)
		},
		pieces: pieces,
	}
}

// Scopes are what the caller must have been granted: all of them, with those of
// outer groups.
func Scopes(needed ...string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Scopes",
		slot: slotScopes,
		apply: func(b reporter, at here.Place, t *terms) {
			checkScopes(b, at, "Scopes", needed)
			t.scopes = append(t.scopes, needed...)
		},
		acts:  (*resolved).guarded,
		lacks: "no guard holds here, so there is no caller to have scopes: add Guard, or leave Scopes out",
	}
}

// AnyScope is what the caller must have been granted one of, in addition to what [Scopes] and other
// AnyScopes ask for.
func AnyScope(oneOf ...string) Setting {
	return setting{
		at:   here.Here(0),
		name: "AnyScope",
		slot: slotAnyScope,
		apply: func(b reporter, at here.Place, t *terms) {
			checkScopes(b, at, "AnyScope", oneOf)
			t.anyScope = append(t.anyScope[:len(t.anyScope):len(t.anyScope)], oneOf)
		},
		acts: func(r *resolved) bool {
			return r.guarded() &&
				!slices.ContainsFunc(oneOf, func(s string) bool { return slices.Contains(r.terms().scopes, s) })
		},
		lacks: "no guard holds here, so there is no caller to have scopes, or Scopes asks for one of them anyway",
	}
}

func checkScopes(b reporter, at here.Place, setting string, scopes []string) {
	some(b, at, setting, scopes)
	for _, scope := range scopes {
		if scope == "" || strings.ContainsFunc(scope,
			func(c rune) bool { return c <= ' ' || c > '~' || c == '"' || c == '\\' }) {
			b.mistake(
				at,
				"%s: %q is not a scope: scopes are words without spaces, quotes and backslashes (RFC 6749, 3.3); write %s(\"a\", \"b\") for two",
				setting,
				scope,
				setting,
			)
		}
	}
}

// Allow lets a rule decide, once the input has been read and checked, whether the caller may do
// what it asks for. Where the rule says false the route is not called, and the kind is raised: one
// of status 403, or of 404 where callers are not to know what is there. All rules must hold. The
// input is that of the route.
//
//	wicketway.Allow(ErrNoSuchPassage, func(ctx context.Context, caller wicketway.Identity, in onePassage) (bool, error) {
//		return desk.owns(ctx, caller.Subject, in.Passage)
//	})
func Allow[In any](kind *problem.Kind, rule func(ctx context.Context, caller Identity, in In) (bool, error)) Setting {
	in := reflect.TypeFor[In]()
	return setting{
		at:   here.Here(0),
		name: "Allow",
		slot: slotAllow,
		apply: func(b reporter, at here.Place, t *terms) {
			b.kind(at, "Allow", kind)
			if kind.Check() == nil && kind.Status() >= 500 {
				b.mistake(
					at, "Allow: the kind %q has the status %d, which blames the server: use one of status 403, or 404",
					kind.Code(), kind.Status(),
				)
			}
			if rule == nil {
				b.mistake(at, "Allow: the rule is nil")
				return
			}
			t.rules = append(
				t.rules[:len(t.rules):len(t.rules)],
				allowRule{kind, func(ctx context.Context, caller Identity, in any) (bool, error) {
					return rule(ctx, caller, *in.(*In))
				}},
			)
		},
		acts:  func(r *resolved) bool { return r.guarded() && isTyped(r) },
		lacks: "no route here has a function and a guard, so there is no input and no caller to decide about",
		suits: func(r *resolved) error {
			if r.part.in != in && isTyped(r) {
				return fmt.Errorf("the rule decides about %s, but the input of the route is %s", in, r.part.in)
			}
			return nil
		},
	}
}

// Caller is who sent the request, in handlers and in middleware alike: the zero Identity as long as no
// guard has said so. In an API that is mounted in another one and has no guard of its own it is the
// caller of that one.
func Caller(ctx context.Context) Identity { return exchange.Of(ctx).Caller() }

// ClaimsOf gives the claims of the caller's token; false where they are of another type.
func ClaimsOf[T any](ctx context.Context) (claims T, ok bool) {
	claims, ok = Caller(ctx).Claims.(T)
	return claims, ok
}

// AccountOf gives the account of the caller, as the guard has loaded it; false where it is of
// another type.
func AccountOf[T any](ctx context.Context) (account T, ok bool) {
	account, ok = Caller(ctx).Account.(T)
	return account, ok
}
