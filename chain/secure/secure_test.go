package secure_test

import (
	"crypto/tls"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/secure"
	"github.com/wicketway/wicketway/wicketwaytest"
)

// What an answer has, by its type, the settings and the connection.
func TestHeaders(t *testing.T) {
	const plain = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
	for _, c := range []struct {
		settings                       secure.Settings
		media                          string
		tls                            bool
		own                            string
		nosniff, policy, referrer, hst string
	}{
		{secure.Settings{}, "application/json", false, "", "nosniff", "", "", ""},
		{secure.Settings{}, "text/html; charset=utf-8", false, "", "nosniff", plain, "no-referrer", ""},
		{secure.Settings{Policy: "default-src 'self'", Referrer: "origin"}, "Text/HTML", true, "", "nosniff", "default-src 'self'", "origin", ""},
		{secure.Settings{Policy: "-"}, "text/html", true, "", "nosniff", "", "no-referrer", ""},
		{secure.Settings{Strict: time.Hour}, "application/json", true, "", "nosniff", "", "", "max-age=3600"},
		{secure.Settings{Strict: time.Hour, StrictBelow: true}, "application/json", true, "", "nosniff", "", "", "max-age=3600; includeSubDomains"},
		{secure.Settings{Strict: time.Hour}, "application/json", false, "", "nosniff", "", "", ""},
		{secure.Settings{}, "text/html", false, "script-src 'self'", "nosniff", "script-src 'self'", "no-referrer", ""},
	} {
		m := secure.Headers(c.settings)
		wicketwaytest.Middleware(t, m)
		r := httptest.NewRequest("GET", "/", nil)
		if c.tls {
			r.TLS = &tls.ConnectionState{}
		}
		w := httptest.NewRecorder()
		m.Wrap(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", c.media)
			if c.own != "" {
				w.Header().Set("Content-Security-Policy", c.own)
			}
			fmt.Fprint(w, "x")
		})).ServeHTTP(w, r)
		h := w.Header()
		if h.Get("X-Content-Type-Options") != c.nosniff || h.Get("Content-Security-Policy") != c.policy || h.Get("Referrer-Policy") != c.referrer || h.Get("Strict-Transport-Security") != c.hst {
			t.Errorf("%+v: %v", c, h)
		}
	}
	for _, bad := range []secure.Settings{{Strict: -1}, {StrictBelow: true}, {Policy: "a\nb"}} {
		if _, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Chain(secure.Headers(bad)), wicketway.Handle("GET /", http.NotFoundHandler())); err == nil {
			t.Errorf("%+v: no mistake", bad)
		}
	}
	page := wicketway.Handle("GET /sign-in", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Content-Type", "text/html") }),
		secure.Pages(secure.Page{Policy: secure.FormPolicy}))
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Chain(secure.Headers(secure.Settings{})), page)
	if err != nil {
		t.Fatal(err)
	}
	for path, policy := range map[string]string{"/sign-in": secure.FormPolicy, "/none": plain} {
		r, w := httptest.NewRequest("GET", path, nil), httptest.NewRecorder()
		r.Header.Set("Accept", "text/html")
		if api.ServeHTTP(w, r); w.Header().Get("Content-Security-Policy") != policy || w.Header().Get("Referrer-Policy") != "no-referrer" {
			t.Errorf("%s: %v", path, w.Header())
		}
	}
	if _, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, page); err == nil {
		t.Error("a policy that no middleware reads is no mistake")
	}
}
