package wicketway

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/problem"
)

// Guard sets the authenticator that decides about callers. It is asked after the chain of the
// list in which it is, so that refused requests are logged too. Under it
// every route needs a caller, except those that are [Public].
//
// Below the prefix of a group or a mount under a guard, and at the prefix itself, no request is served
// by a mount, files or {+rest} of a shorter prefix that does not ask for the same guard and scopes: what
// the routes there do not take is not found.
func Guard(by exchange.Authenticator) Setting { return guardKind.say(&guarding{by}) }

var guardKind = &kindOf[*guarding]{
	name: "Guard",
	mode: replaces,
	apply: func(in *reading, said *guarding) {
		in.guardSaid, in.guardAt, in.public, in.open, in.after = said, in.of.at, false, nil, -1
		if in.guard = said.by; isNil(said.by) {
			in.wrong("the guard is nil; Public() opens a route")
			in.guard = noGuard{}
			return
		}
		in.askWrong(said.by)
		for _, k := range said.by.Scheme().Raises {
			in.kindOfProblem(k)
		}
	},
	where: (*resolved).guarded,
	none:  "every route here is public, so it is never asked",
	fits: func(r *resolved, _ *guarding) error {
		if t := r.terms(); t.guard.Scheme().DevelopmentOnly && !t.development {
			return errors.New("is for the programmer's machine alone, and this is production: Development() says otherwise")
		}
		return nil
	},
}

// noGuard takes the place of one that is nil, so that what needs a guard is no mistake of its own.
type noGuard struct{ exchange.Authenticator }

func (noGuard) Scheme() exchange.Scheme { return exchange.Scheme{} }

// Public opens routes that a guard around them closes: for all methods, or for those that are
// given. Under Guard(...) and Public("GET") reading is open, with HEAD, and all else is
// not.
func Public(methods ...string) Setting {
	if len(methods) > 0 {
		return openKind.say(methods)
	}
	return publicKind.say(struct{}{})
}

var publicKind = &kindOf[struct{}]{
	name:  "Public",
	about: guardKind,
	mode:  replaces,
	apply: func(in *reading, _ struct{}) { in.terms.openToAll() },
	where: func(r *resolved) bool {
		for l := r.list; l != nil; l = l.outer {
			if l.terms.guard != nil {
				return true
			}
		}
		return false
	},
	none: "no guard is around it, so everyone may call anyway",
}

// openKind is of a Public that names methods.
var openKind = &kindOf[[]string]{
	name: "Public",
	apply: func(in *reading, methods []string) {
		for _, m := range methods {
			if strings.ToUpper(m) != m || m == "" {
				in.wrong("%q is not a method, such as GET", m)
			}
		}
		twice(in, methods)
		in.open = append(in.open, methods...)
	},
	parts: func(methods []string) (all []piece) {
		for _, m := range methods {
			all = append(all, piece{m, func(_ *list, r *resolved) bool {
				return r.terms().guard != nil &&
					(r.method == m || r.method == anyMethod || m == http.MethodGet && r.method == http.MethodHead)
			}, "no route here has the method and a guard"})
		}
		return all
	},
}

// Scopes lists the scopes that the caller needs: all of them, with those of
// outer groups.
func Scopes(needed ...string) Setting { return scopesKind.say(needed) }

var scopesKind = &kindOf[[]string]{
	name: "Scopes",
	apply: func(in *reading, needed []string) {
		checkScopes(in, needed)
		in.scopes = append(in.scopes, needed...)
	},
	where: (*resolved).guarded,
	none:  "no guard holds here, so there is no caller to have scopes: add Guard, or leave Scopes out",
}

// AnyScope lists scopes of which the caller needs one, in addition to those of [Scopes] and other
// AnyScopes.
func AnyScope(oneOf ...string) Setting { return anyScopeKind.say(oneOf) }

var anyScopeKind = &kindOf[[]string]{
	name: "AnyScope",
	apply: func(in *reading, oneOf []string) {
		checkScopes(in, oneOf)
		in.anyScope = append(in.anyScope[:len(in.anyScope):len(in.anyScope)], oneOf)
	},
	where: (*resolved).guarded,
	picks: func(r *resolved, oneOf []string) bool {
		return !slices.ContainsFunc(oneOf, func(s string) bool { return slices.Contains(r.terms().scopes, s) })
	},
	none: "no guard holds here, so there is no caller to have scopes, or Scopes asks for one of them anyway",
}

func checkScopes(in *reading, scopes []string) {
	some(in, scopes)
	for _, scope := range scopes {
		if scope == "" || strings.ContainsFunc(scope, func(c rune) bool { return c <= ' ' || c > '~' || c == '"' || c == '\\' }) {
			in.wrong("%q is not a scope: scopes are words without spaces, quotes and backslashes (RFC 6749, 3.3); "+
				`write %s("a", "b") for two`, scope, in.of.name)
		}
	}
}

// Allow lets a rule decide, once the input has been read and checked, whether the caller may do
// what it asks for. Where the rule says false the route is not called, and the kind is raised: one
// of status 403, or of 404 where callers are not to know what is there. All rules must hold. The
// input is that of the route, or a struct embedded in it.
//
//	wicketway.Allow(ErrNoSuchPassage, func(ctx context.Context, caller wicketway.Identity, in onePassage) (bool, error) {
//		return desk.owns(ctx, caller.Subject, in.Passage)
//	})
func Allow[In any](kind *problem.Kind, rule func(ctx context.Context, caller Identity, in In) (bool, error)) Setting {
	said := allowRule{kind: kind, in: reflect.TypeFor[In]()}
	if rule != nil {
		said.ask = func(ctx context.Context, caller Identity, in any) (bool, error) {
			of, is := in.(*In)
			if !is {
				of = shape.At[In](reflect.ValueOf(in).Elem().FieldByIndex(embedding(reflect.TypeOf(in).Elem(), said.in)))
			}
			return rule(ctx, caller, *of)
		}
	}
	return allowKind.say(said)
}

var allowKind = &kindOf[allowRule]{
	name: "Allow",
	wrong: func(in *reading, said allowRule) {
		in.kindOfProblem(said.kind)
		if said.kind.Check() == nil && said.kind.Status() >= 500 {
			in.wrong("the kind %q has the status %d, which blames the server: use one of status 403, or 404",
				said.kind.Code(), said.kind.Status())
		}
		if said.ask == nil {
			in.wrong("the rule is nil")
		}
	},
	apply: func(in *reading, said allowRule) { in.rules = append(in.rules[:len(in.rules):len(in.rules)], said) },
	where: func(r *resolved) bool { return r.guarded() && isTyped(r) },
	none:  "no route here has a function and a guard, so there is no input and no caller to decide about",
	fits: func(r *resolved, said allowRule) error {
		if r.part.in != said.in && isTyped(r) && embedding(r.part.in, said.in) == nil {
			return fmt.Errorf("the rule decides about %s, but the input of the route is %s, and has it not embedded", said.in,
				r.part.in)
		}
		return nil
	},
}

// embedding is the way to a struct that is embedded in another one, not by a pointer; nil where it is not.
func embedding(in, of reflect.Type) []int {
	if in.Kind() != reflect.Struct {
		return nil
	}
	for i := range in.NumField() {
		switch f := in.Field(i); {
		case !f.Anonymous:
		case f.Type == of:
			return []int{i}
		default:
			if inner := embedding(f.Type, of); inner != nil {
				return append([]int{i}, inner...)
			}
		}
	}
	return nil
}

// Caller returns the caller, in handlers and in middleware alike: the zero Identity as long as no
// guard has said so. In an API that is mounted in another one and has no guard of its own it is the
// caller of that one.
func Caller(ctx context.Context) Identity { return exchange.Of(ctx).Caller() }
