// Package auth has guards: they find out who sent a request.
//
//	wicketway.Guard(auth.Bearer(auth.PEM("ES256", publicKey).IssuedBy("https://id.canal.example"),
//		auth.Audience("canal"), auth.Accounts(desk.account)))
//
// [Bearer] takes tokens (JWT), [Key] keys for programs, [Basic] names with passwords,
// [Certificate] client certificates and [Sessions] cookies; [Any] offers several. What they have
// in common is said by options. A refusal names its reason in its code and in the field
// WWW-Authenticate, and never whether an account exists.
//
// All guards are safe for concurrent use.
package auth

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/problem"
)

// What a guard refuses a caller for.
var (
	ErrTokenMissing = problem.Unauthorized.Define(http.StatusUnauthorized, "token-missing",
		"The request has no token")
	ErrTokenMalformed = problem.Unauthorized.Define(http.StatusUnauthorized, "token-malformed",
		"The token cannot be read")
	ErrTokenExpired = problem.Unauthorized.Define(http.StatusUnauthorized, "token-expired", "The token has expired").
			Means("Get a new one.")
	ErrTokenRejected = problem.Unauthorized.Define(http.StatusUnauthorized, "token-rejected",
		"The token is not accepted")
	ErrKeyMissing = problem.Unauthorized.Define(http.StatusUnauthorized, "key-missing",
		"The request has no key")
	ErrKeyRejected = problem.Unauthorized.Define(http.StatusUnauthorized, "key-rejected",
		"The key is not accepted")
	ErrPasswordMissing = problem.Unauthorized.Define(http.StatusUnauthorized, "password-missing",
		"The request has no name and password")
	ErrPasswordRejected = problem.Unauthorized.Define(http.StatusUnauthorized, "password-rejected",
		"Name and password are not accepted")
	ErrCertificateMissing = problem.Unauthorized.Define(http.StatusUnauthorized, "certificate-missing",
		"The connection has no certificate of the caller")
	ErrCertificateRejected = problem.Unauthorized.Define(http.StatusUnauthorized, "certificate-rejected",
		"The certificate is not accepted")
	ErrSessionMissing = problem.Unauthorized.Define(http.StatusUnauthorized, "session-missing",
		"The caller has not signed in")
	ErrSessionExpired = problem.Unauthorized.Define(http.StatusUnauthorized, "session-expired",
		"The session has ended").Means("Sign in again.")
	ErrCrossOrigin = problem.Forbidden.Define(http.StatusForbidden, "cross-origin",
		"The request comes from a page of another origin")
	ErrAccountUnavailable = problem.Forbidden.Define(http.StatusForbidden, "account-unavailable",
		"The caller's account cannot be used").Means("The account is locked or no longer exists.")
	ErrKeysUnavailable = problem.Define(http.StatusServiceUnavailable, "keys-unavailable",
		"The signing keys are not available").Means("Try again in a moment.").Sends("Retry-After")
)

// An Option says how a guard decides. One that means nothing to a guard is a mistake at Build.
type Option struct {
	name   string
	guards string // for which it is, by name
	set    func(*options)
}

// options are what all guards share.
type options struct {
	realm    string
	says     func(kind *problem.Kind) string
	accounts func(ctx context.Context, caller exchange.Identity) (any, error)
	now      func() time.Time

	audience []string
	leeway   time.Duration
	require  []string
	typ      string
	claims   *claimsType
	revoked  func(ctx context.Context, t Token) (bool, error)
	remember int
	header   string
}

const allGuards = "bearer key basic certificate session"

// Realm names what is protected, in WWW-Authenticate (RFC 9110, 11.5); "api" without it.
func Realm(name string) Option {
	return Option{"Realm", allGuards, func(o *options) { o.realm = name }}
}

// Says replaces the sentences that refused callers read, by kind; "" leaves one as it is. It is
// called for every refusal.
func Says(sentence func(kind *problem.Kind) string) Option {
	return Option{"Says", allGuards, func(o *options) { o.says = sentence }}
}

// Accounts loads the account of a caller, once a request; wicketway.AccountOf gives it to
// handlers. Where it is nil, or the error is [ErrAccountUnavailable], the caller is refused with
// that kind; any other error fails the request.
func Accounts(load func(ctx context.Context, caller exchange.Identity) (any, error)) Option {
	return Option{"Accounts", allGuards, func(o *options) { o.accounts = load }}
}

// Clock takes the place of time.Now, for tests.
func Clock(now func() time.Time) Option {
	return Option{"Clock", allGuards, func(o *options) { o.now = now }}
}

// Audience names this service to those who issue tokens: one whose claim aud names none of them
// is refused (RFC 7519, 4.1.3), and so is one without the claim. Without an Audience a token that
// is for anybody by name is refused.
func Audience(names ...string) Option {
	return Option{"Audience", "bearer", func(o *options) { o.audience = names }}
}

// Leeway is by how much clocks may differ where exp, nbf and iat are asked; 30 seconds without
// it.
func Leeway(d time.Duration) Option {
	return Option{"Leeway", "bearer", func(o *options) { o.leeway = d }}
}

// Require names claims that a token must have, in addition to sub and exp.
func Require(claims ...string) Option {
	return Option{"Require", "bearer", func(o *options) { o.require = claims }}
}

// Typ is what the header of a token must call it (RFC 8725, 3.11): at+jwt for RFC 9068.
func Typ(name string) Option {
	return Option{"Typ", "bearer", func(o *options) { o.typ = name }}
}

// Claims decodes what else a token says into a T; wicketway.ClaimsOf[T] gives it to handlers. A
// token whose claims are no T is refused.
func Claims[T any]() Option {
	return Option{"Claims", "bearer", func(o *options) { o.claims = claimsAs[T]() }}
}

// Revoked is asked at every request whether a token has been taken back.
func Revoked(ask func(ctx context.Context, t Token) (bool, error)) Option {
	return Option{"Revoked", "bearer", func(o *options) { o.revoked = ask }}
}

// Remember is how many verified tokens, or passwords, are kept in memory, so that they need not
// be verified again; 4,096 without it, and 0 keeps none.
func Remember(n int) Option {
	return Option{"Remember", "bearer basic", func(o *options) { o.remember = n }}
}

// Header is the field that a key comes in; X-Api-Key without it.
func Header(name string) Option {
	return Option{"Header", "key", func(o *options) { o.header = name }}
}

// A guard is what all of them have.
type guard struct {
	options
	name  string // bearer
	wrong []error
}

func newGuard(name string, settings []Option) guard {
	g := guard{
		name:    name,
		options: options{realm: "api", leeway: 30 * time.Second, now: time.Now, remember: 4096, header: "X-Api-Key"},
	}
	for _, s := range settings {
		if s.set == nil {
			continue
		}
		if !strings.Contains(s.guards, name) {
			g.wrongf("%s means nothing to it", s.name)
		}
		s.set(&g.options)
	}
	switch {
	case g.leeway < 0:
		g.wrongf("Leeway is %v: clocks do not differ by less than nothing", g.leeway)
	case g.remember < 0:
		g.wrongf("Remember is %d: 0 keeps none", g.remember)
	case !bind.IsToken(g.header):
		g.wrongf("Header is %q, which is not a field name (RFC 9110, 5.1)", g.header)
	case g.now == nil:
		g.wrongf("Clock has no function")
	}
	return g
}

// refuse makes the problem for a refusal, with its challenge.
func (g *guard) refuse(kind *problem.Kind, detail, challenge string, cause error) error {
	if g.says != nil {
		if own := g.says(kind); own != "" {
			detail = own
		}
	}
	p := kind.New(detail).Because(cause)
	if challenge != "" {
		p.WithHeader("WWW-Authenticate", challenge)
	}
	return p
}

// account gives a caller its account.
func (g *guard) account(r *http.Request, caller *exchange.Identity) (*exchange.Identity, error) {
	if g.accounts == nil {
		return caller, nil
	}
	own := *caller
	var err error
	own.Account, err = g.accounts(r.Context(), own)
	if err != nil {
		return nil, err
	}
	if own.Account == nil {
		return nil, g.refuse(ErrAccountUnavailable, "The caller's account is inactive.", "", nil)
	}
	return &own, nil
}

// raises adds the kinds that options bring.
func (g *guard) raises(kinds ...*problem.Kind) []*problem.Kind {
	if g.accounts != nil {
		kinds = append(kinds, ErrAccountUnavailable)
	}
	return kinds
}

// quoted writes a text as the value of a parameter (RFC 9110, 5.6.4); what RFC 6750, 3 does not
// leave there is left out.
func quoted(text string) string {
	return `"` + strings.Map(func(c rune) rune {
		if c < ' ' || c > '~' || c == '"' || c == '\\' {
			return -1
		}
		return c
	}, text) + `"`
}
