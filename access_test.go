package wicketway_test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
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
			wicketway.Route("GET /pages/{owner}", func(ctx context.Context, in struct {
				ownedIn
				Page int `from:"query page"`
			}) (string, error) {
				return in.Owner, nil
			}),
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
		{"GET /pages/grebe", "grebe ", 200, "grebe"}, // the rule is about a struct embedded in the input
		{"GET /pages/heron", "grebe ", 404, "not-yours"},
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
	if got := strings.Join(told, " "); got != "grebegrebe0 grebegrebe0 grebeheron0 grebetern0 grebebroken0 grebegrebe0" {
		t.Errorf("the rule was asked about %s", got)
	}
	for want, part := range map[string]wicketway.Part{
		"the rule decides about wicketway_test.ownedIn, but the input of the route is wicketway.None": wicketway.Group(wicketway.Guard(plate("p")), owns, wicketway.Route("GET /x", whoami)),
		"no route here has a function and a guard":                                                    wicketway.Group(owns, wicketway.Route("GET /x/{owner}", find)),
		"Allow: the rule is nil":                               wicketway.Route("GET /x/{owner}", find, wicketway.Guard(plate("p")), wicketway.Allow[ownedIn](errNotYours, nil)),
		"Allow: the kind is nil":                               wicketway.Route("GET /x/{owner}", find, wicketway.Guard(plate("p")), wicketway.Allow(nil, func(context.Context, wicketway.Identity, ownedIn) (bool, error) { return true, nil })),
		`AnyScope: "a b" is not a scope`:                       wicketway.Route("GET /x", whoami, wicketway.Guard(plate("p")), wicketway.AnyScope("a b")),
		"so there is no caller to have scopes, or Scopes asks": wicketway.Route("GET /x", whoami, wicketway.AnyScope("a")),
	} {
		if _, err := wicketway.Build(about, part); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}

// A closed guard refuses everybody, and says which it is.
type closed string

func (c closed) Scheme() exchange.Scheme   { return exchange.Scheme{Name: string(c)} }
func (c closed) Challenge([]string) string { return string(c) }
func (c closed) Authenticate(*http.Request) (*wicketway.Identity, error) {
	return nil, problem.Unauthorized.New("").WithHeader("WWW-Authenticate", string(c))
}

// Whatever prefixes, mounts and guards there are: below a guarded prefix nothing is served by what has a
// shorter prefix without that guard.
func TestGuardsHoldBelowTheirPrefix(t *testing.T) {
	random := rand.New(rand.NewPCG(19, 1))
	prefixes := []string{"", "/a", "/a/b", "/a/b/c", "/{x}", "/{x}/b", "/a/{y}/c", "/b"}
	paths := []string{"/a", "/a/", "/a/b", "/a/b?x", "/a/b/", "/a/b/c", "/a/b/c/d", "/a/z/c/d", "/z/b", "/z/b/c", "/b/b/x", "/b", "/%61/b", "/a/%62/c"}
	refused, open := 0, 0
	for range 3000 {
		type declared struct {
			prefix string
			guard  closed // that holds below the prefix
			asks   closed
		}
		var parts []wicketway.Part
		var all []declared
		for _, prefix := range prefixes {
			d := declared{prefix: prefix, asks: []closed{"", "", "one", "two"}[random.IntN(4)]}
			d.guard = d.asks
			access := []wicketway.Setting{wicketway.Guard(d.guard)}
			if d.guard == "" {
				access = []wicketway.Setting{wicketway.Summary("open")}
			}
			serve := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, prefix) })
			switch random.IntN(4) {
			case 0:
				parts = append(parts, wicketway.Mount(cmp.Or(prefix, "/"), serve, access...))
			case 1:
				parts = append(parts, wicketway.Handle("* "+prefix+"/{+rest}", serve, access...))
				d.guard = "" // it is one route
			case 2:
				if d.guard == "" || prefix == "" {
					continue
				}
				parts = append(parts, wicketway.At(prefix, access[0], wicketway.Handle("GET /only", serve)))
			default:
				continue
			}
			all = append(all, d)
		}
		api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, append(parts, wicketway.Handle("GET /always", http.NotFoundHandler()))...)
		if err != nil {
			t.Fatal(err)
		}
		for _, path := range paths {
			w := httptest.NewRecorder()
			api.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
			by, asked := w.Body.String(), closed(w.Header().Get("WWW-Authenticate"))
			if w.Code == 401 {
				refused++
			} else if w.Code == 200 {
				open++
			}
			for _, d := range all {
				if d.guard != "" && isUnder(path, d.prefix) && (w.Code == 200 && strings.Count(by, "/") < strings.Count(d.prefix, "/") || w.Code == 401 && asked != d.guard && !slices.ContainsFunc(all, func(o declared) bool {
					return o.asks == asked && strings.Count(o.prefix, "/") >= strings.Count(d.prefix, "/") && isUnder(path, o.prefix)
				})) {
					t.Fatalf("%v: %s is answered %d by %q, guard %q, though %+v is around it", all, path, w.Code, by, asked, d)
				}
			}
		}
	}
	if refused < 5000 || open < 5000 {
		t.Errorf("%d were refused, %d served: the draw says little", refused, open)
	}
}

// isUnder reports whether a path is below a prefix, or at it.
func isUnder(path, prefix string) bool {
	path, _, _ = strings.Cut(path, "?")
	path, _ = url.PathUnescape(path)
	have, want := strings.Split(path, "/"), strings.Split(prefix, "/")
	for i, s := range want {
		if i >= len(have) || s != have[i] && !strings.HasPrefix(s, "{") {
			return false
		}
	}
	return true
}
