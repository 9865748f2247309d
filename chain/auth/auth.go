// Package auth has guards: they identify the callers of requests.
//
//	wicketway.Guard(auth.Bearer(auth.PEM("ES256", publicKey).IssuedBy("https://id.canal.example"),
//		auth.Settings{Audience: []string{"canal"}, Account: desk.account}))
//
// [Bearer] takes tokens (JWT), [Key] keys for programs, [Basic] names with passwords,
// [Certificate] client certificates and [Sessions] cookies; [Any] offers several. Their settings
// are [Settings]. A refusal names its reason in its code and in the field
// WWW-Authenticate, and never whether an account exists.
//
// All guards are safe for concurrent use.
package auth

import (
	"cmp"
	"context"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/problem"
)

// Kinds of problem that guards raise.
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

// Settings say how a guard decides. The zero Settings are the usual ones. A field that means nothing to a guard
// is a mistake at Build.
type Settings struct {
	// Realm names the protection space in WWW-Authenticate (RFC 9110, 11.5); "api" where it is "".
	Realm string
	// Detail replaces the detail of refusals, by their kind; "" leaves one as it is. It is called for every
	// refusal, and must be safe for concurrent use.
	Detail func(kind *problem.Kind) string
	// Account loads the account of a caller, once a request; exchange.AccountOf gives it to
	// handlers. Where it is nil, or the error is [ErrAccountUnavailable], the caller is refused with
	// that kind; any other error fails the request. It must be safe for concurrent use.
	Account func(ctx context.Context, caller exchange.Identity) (any, error)
	// Clock returns the time; nil: time.Now. It is for tests, and must be safe for concurrent use.
	Clock func() time.Time

	// Audience names this service to those who issue tokens, for [Bearer]: one whose claim aud names none of them
	// is refused (RFC 7519, 4.1.3), and so is one without the claim. Without an Audience a token that
	// is for anybody by name is refused.
	Audience []string
	// Leeway is by how much clocks may differ where [Bearer] asks for exp, nbf and iat; 30 seconds where it is 0,
	// nothing where it is negative.
	Leeway time.Duration
	// Require names claims that a token must have for [Bearer], in addition to sub and exp.
	Require []string
	// Type is the member typ that the header of a token must have (RFC 8725, 3.11), for [Bearer]: at+jwt for RFC 9068.
	Type string
	// Claims decodes further claims of a token, for [Bearer]: ClaimsAs[T](). exchange.ClaimsOf[T] gives them to handlers.
	// A token whose claims are no T is refused.
	Claims Claims
	// Revocations are asked at every request whether a token or a session was taken back, for [Bearer] and
	// [NewSessions]. Nil: no token ever is, and sessions that were ended are kept in memory.
	Revocations Revocations
	// Remember is how many verified tokens, or passwords, [Bearer] and [Basic] keep in memory, so that they need not
	// be verified again; 4,096 where it is 0, none where it is negative.
	Remember int
	// Field is the header field that a [Key] comes in; X-Api-Key where it is "".
	Field string
}

// meaningless are the fields of Settings that mean nothing to a guard.
var meaningless = map[string][]string{
	"bearer":      {"Field"},
	"basic":       {"Audience", "Leeway", "Require", "Type", "Claims", "Revocations", "Field"},
	"key":         {"Audience", "Leeway", "Require", "Type", "Claims", "Revocations", "Remember"},
	"certificate": {"Audience", "Leeway", "Require", "Type", "Claims", "Revocations", "Remember", "Field"},
	"session":     {"Audience", "Leeway", "Require", "Type", "Claims", "Remember", "Field"},
}

// A guard is what all of them have: the settings with what is usual filled in.
type guard struct {
	Settings
	name  string // bearer
	wrong []error
}

func newGuard(name string, s Settings) guard {
	g := guard{name: name, Settings: s}
	for _, field := range meaningless[name] {
		if !reflect.ValueOf(s).FieldByName(field).IsZero() {
			g.wrongf("%s means nothing to it", field)
		}
	}
	g.Realm, g.Field = cmp.Or(s.Realm, "api"), cmp.Or(s.Field, "X-Api-Key")
	g.Leeway, g.Remember = max(cmp.Or(s.Leeway, 30*time.Second), 0), max(cmp.Or(s.Remember, 4096), 0)
	if g.Clock == nil {
		g.Clock = time.Now
	}
	if !bind.IsToken(g.Field) {
		g.wrongf("Field is %q, which is not a field name (RFC 9110, 5.1)", g.Field)
	}
	return g
}

// refuse makes the problem for a refusal, with its challenge.
func (g *guard) refuse(kind *problem.Kind, detail, challenge string, cause error) error {
	if g.Detail != nil {
		if own := g.Detail(kind); own != "" {
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
	if g.Account == nil {
		return caller, nil
	}
	own := *caller
	var err error
	own.Account, err = g.Account(r.Context(), own)
	if err != nil {
		return nil, err
	}
	if own.Account == nil {
		return nil, g.refuse(ErrAccountUnavailable, "The caller's account is inactive.", "", nil)
	}
	return &own, nil
}

// raises adds the kinds that settings bring.
func (g *guard) raises(kinds ...*problem.Kind) []*problem.Kind {
	if g.Account != nil {
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
