// Package secure sets header fields that keep browsers from doing harm with answers.
package secure

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/wicketway/wicketway"
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

// Headers sets:
//
//   - X-Content-Type-Options: nosniff on all answers: a browser takes them for what they say they
//     are (the Fetch standard, 3.6), so that no upload becomes a script
//   - Content-Security-Policy, Referrer-Policy and Cross-Origin-Opener-Policy on pages
//   - Strict-Transport-Security over TLS, if so set
//
// A field that a handler has set stays.
func Headers(settings Settings) wicketway.Middleware {
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
	return wicketway.Middleware{
		Name: "secure",
		Does: "sets header fields that keep browsers from doing harm",
		Sets: []string{"X-Content-Type-Options", "Content-Security-Policy", "Referrer-Policy", "Cross-Origin-Opener-Policy", "Strict-Transport-Security"},
		CheckRoute: func(wicketway.Facts) error {
			if settings.Strict < 0 || settings.Strict > 0 && settings.Strict < time.Second || settings.StrictBelow && settings.Strict == 0 {
				return fmt.Errorf("the strict period is %v, where a second is the least, and 0 is none", settings.Strict)
			}
			if strings.ContainsAny(settings.Policy+settings.Referrer, "\r\n") {
				return fmt.Errorf("a policy has a line break")
			}
			return nil
		},
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				set(w.Header(), "X-Content-Type-Options", "nosniff")
				if settings.Strict > 0 && wicketway.ClientOf(r).Scheme == "https" {
					set(w.Header(), "Strict-Transport-Security", strict)
				}
				w = wicketway.BeforeHeader(w, func(_ int, h http.Header) {
					media, _, _ := strings.Cut(h.Get("Content-Type"), ";")
					if !strings.EqualFold(strings.TrimSpace(media), "text/html") {
						return
					}
					if settings.Policy != "-" {
						set(h, "Content-Security-Policy", settings.Policy)
					}
					set(h, "Referrer-Policy", settings.Referrer)
					set(h, "Cross-Origin-Opener-Policy", "same-origin")
				})
				next.ServeHTTP(w, r)
			})
		},
	}
}

func set(h http.Header, name, value string) {
	if h[name] == nil {
		h[name] = []string{value}
	}
}
