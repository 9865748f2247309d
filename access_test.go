package wicketway_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
)

type ownedIn struct {
	Owner string `from:"path owner"`
	Limit int    `from:"query limit" rule:"maximum=5"`
}

// A cookieGuard renews something with each answer.
type cookieGuard struct{ plate }

func (c cookieGuard) AuthenticateTo(h http.Header, r *http.Request) (*wicketway.Identity, error) {
	h.Set("Set-Cookie", "renewed")
	return c.Authenticate(r)
}

// Scopes, one of some scopes, and rules that see the input and the caller.
func TestScopesAndRules(t *testing.T) {
	errNotYours := problem.NotFound.Define(404, "not-yours", "There is no such thing")
	var told []string
	owns := wicketway.Allow(errNotYours, func(ctx context.Context, caller wicketway.Identity, in ownedIn) (bool, error) {
		told = append(told, fmt.Sprint(caller.Subject, in.Owner, in.Limit))
		if in.Owner == "broken" {
			return false, errors.New("the store is wet")
		}
		return caller.Subject == in.Owner, nil
	})
	find := func(ctx context.Context, in ownedIn) (string, error) { return in.Owner, nil }
	inner := build(t, wicketway.Route("GET /inner", whoami))
	api := build(t, wicketway.Guard(plate("p")),
		wicketway.Group(wicketway.Scopes("a"), wicketway.AnyScope("b", "c"),
			wicketway.Route("GET /both", whoami), wicketway.Route("GET /more", whoami, wicketway.AnyScope("d"))),
		wicketway.Group(owns, wicketway.Route("GET /owned/{owner}", find), wicketway.Route("GET /open/{owner}", find, wicketway.Public()),
			wicketway.Route("PUT /owned/{owner}", find, wicketway.Allow(problem.Forbidden, func(context.Context, wicketway.Identity, ownedIn) (bool, error) { return false, nil }))),
		wicketway.Mount("/mounted", inner),
		wicketway.Route("GET /cookie", whoami, wicketway.Guard(cookieGuard{"p"})),
	)
	for _, c := range []struct {
		line, caller string
		status       int
		want         string
	}{
		{"GET /both", "grebe a b", 200, "grebe"},
		{"GET /both", "grebe a c", 200, "grebe"},
		{"GET /both", "grebe a", 403, "one of the scopes b, c"},
		{"GET /both", "grebe b", 403, "This needs the scope a"},
		{"GET /more", "grebe a b", 403, "This needs the scope d"},
		{"GET /owned/grebe", "grebe ", 200, "grebe"},
		{"GET /owned/tern", "grebe ", 404, "not-yours"},
		{"GET /owned/tern?limit=9", "grebe ", 422, "input-invalid"},
		{"GET /owned/broken", "grebe ", 500, "internal"},
		{"GET /open/tern", "", 200, "tern"},
		{"PUT /owned/grebe", "grebe ", 403, "forbidden"},
		{"GET /mounted/inner", "grebe ", 200, "grebe"},
		{"GET /cookie", "grebe ", 200, "grebe"},
	} {
		w := ask(api, c.line, "Plate: "+c.caller, "")
		if w.Code != c.status || !strings.Contains(w.Body.String(), c.want) || (w.Header().Get("Set-Cookie") != "") != (c.line == "GET /cookie") {
			t.Errorf("%s as %q: %d %v %s, want %d %s", c.line, c.caller, w.Code, w.Header(), w.Body, c.status, c.want)
		}
	}
	if got := strings.Join(told, " "); got != "grebegrebe0 grebetern0 grebebroken0 grebegrebe0" {
		t.Errorf("the rule was asked about %s", got)
	}
	for want, part := range map[string]wicketway.Part{
		"the rule decides about wicketway_test.ownedIn, but the input of the route is wicketway.None": wicketway.Group(wicketway.Guard(plate("p")), owns, wicketway.Route("GET /x", whoami)),
		"no route here has a function and a guard":                                                    wicketway.Group(owns, wicketway.Route("GET /x/{owner}", find)),
		"Allow: the rule is nil":      wicketway.Route("GET /x/{owner}", find, wicketway.Guard(plate("p")), wicketway.Allow[ownedIn](errNotYours, nil)),
		"Allow: the kind is nil":      wicketway.Route("GET /x/{owner}", find, wicketway.Guard(plate("p")), wicketway.Allow(nil, func(context.Context, wicketway.Identity, ownedIn) (bool, error) { return true, nil })),
		`AnyScope: "a b" is no scope`: wicketway.Route("GET /x", whoami, wicketway.Guard(plate("p")), wicketway.AnyScope("a b")),
		"so there is no caller to have scopes: add Guard, or leave AnyScope": wicketway.Route("GET /x", whoami, wicketway.AnyScope("a")),
	} {
		if _, err := wicketway.Build(about, part); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}
