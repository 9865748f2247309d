// Package secure sets security header fields for browsers with answers.
package secure

import (
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
)

// Settings say which fields are set. The zero Settings are right for an API that has no pages but
// those of its problems.
type Settings struct {
	// Policy is the content security policy of pages (text/html); "" allows styles in the page
	// itself and nothing else: no scripts, no frames, no forms, nothing from elsewhere. "-" sets
	// none, for handlers that set their own.
	Policy string
	// Strict is for how long browsers must come back over TLS (RFC 6797); 0 sets nothing. It is
	// sent only over TLS.
	Strict time.Duration
	// StrictBelow has it hold for all sub-domains.
	StrictBelow bool
	// Referrer is the Referrer-Policy of pages; no-referrer where it is "".
	Referrer string
}

// plainPolicy is for pages without scripts.
const plainPolicy = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

// A Page is what holds for the pages of a route or a group in the place of what [Settings] say; "" leaves that.
type Page struct {
	Policy   string
	Referrer string
}

// FormPolicy is a content security policy of a page with a form that is sent to this host.
const FormPolicy = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// Pages is the setting for the pages of a route or a group:
//
//	wicketway.Route("GET /sign-in", desk.signIn, secure.Pages(secure.Page{Policy: secure.FormPolicy}))
func Pages(p Page) wicketway.Setting { return wicketway.Attach(p) }

// Check is asked by Build.
func (p Page) Check() error {
	if p == (Page{}) {
		return errors.New("neither Policy nor Referrer is set")
	}
	return Settings{Policy: p.Policy, Referrer: p.Referrer}.check()
}

// Headers sets:
//
//   - X-Content-Type-Options: nosniff on all answers: a browser takes them for what they say they
//     are (the Fetch standard, 3.6), so that no upload becomes a script
//   - Content-Security-Policy, Referrer-Policy and Cross-Origin-Opener-Policy on pages
//   - Strict-Transport-Security over TLS, if so set
//
// A field that a handler has set stays. [Pages] is about single routes.
func Headers(settings Settings) exchange.Middleware {
	if settings.Policy == "" {
		settings.Policy = plainPolicy
	}
	if settings.Referrer == "" {
		settings.Referrer = "no-referrer"
	}
	strict := fmt.Sprintf("max-age=%d", int(settings.Strict.Seconds()))
	if settings.StrictBelow {
		strict += "; includeSubDomains"
	}
	return exchange.Middleware{
		Name: "secure",
		Does: "sets security header fields for browsers",
		Sets: facts.Fields("X-Content-Type-Options", "Content-Security-Policy", "Referrer-Policy",
			"Cross-Origin-Opener-Policy", "Strict-Transport-Security"),
		Reads: []reflect.Type{reflect.TypeFor[Page]()},
		Check: settings.check,
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				set(w.Header(), "X-Content-Type-Options", "nosniff")
				if settings.Strict > 0 && exchange.ClientOf(r).Scheme == "https" {
					set(w.Header(), "Strict-Transport-Security", strict)
				}
				w = exchange.BeforeHeader(w, func(_ int, h http.Header) {
					media, _, _ := strings.Cut(h.Get("Content-Type"), ";")
					if !strings.EqualFold(strings.TrimSpace(media), "text/html") {
						return
					}
					own, _ := exchange.Attached[Page](r.Context())
					if policy := cmp.Or(own.Policy, settings.Policy); policy != "-" {
						set(h, "Content-Security-Policy", policy)
					}
					set(h, "Referrer-Policy", cmp.Or(own.Referrer, settings.Referrer))
					set(h, "Cross-Origin-Opener-Policy", "same-origin")
				})
				next.ServeHTTP(w, r)
			})
		},
	}
}

func (s Settings) check() error {
	var wrong []error
	fault := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	if s.Strict < 0 || s.Strict > 0 && s.Strict < time.Second {
		fault("Strict is %v: it is at least a second, and 0 sets nothing", s.Strict)
	}
	if s.StrictBelow && s.Strict == 0 {
		fault("StrictBelow has no effect without Strict")
	}
	for name, value := range map[string]string{"Policy": s.Policy, "Referrer": s.Referrer} {
		if strings.ContainsFunc(value, func(c rune) bool { return c < ' ' || c == 0x7f }) {
			fault("%s: %q has a control character, which no header field can have (RFC 9110, 5.5)", name, value)
		}
	}
	return errors.Join(wrong...)
}

func set(h http.Header, name, value string) {
	if h[name] == nil {
		h[name] = []string{value}
	}
}
