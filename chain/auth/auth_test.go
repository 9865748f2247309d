package auth_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/auth"
)

var secret = []byte(strings.Repeat("k", 32))

func sign(t *testing.T, method jwt.SigningMethod, key any, claims jwt.MapClaims) string {
	text, err := jwt.NewWithClaims(method, claims).SignedString(key)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

func TestBearer(t *testing.T) {
	api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"},
		wicketway.Guard(auth.Bearer(auth.HS256(secret))),
		wicketway.Route("GET /me", func(ctx context.Context, _ wicketway.None) (string, error) {
			return wicketway.Caller(ctx).Subject, nil
		}, wicketway.Scopes("read")),
	)
	if err != nil {
		t.Fatal(err)
	}
	soon, past := time.Now().Add(time.Hour).Unix(), time.Now().Add(-time.Hour).Unix()
	good := jwt.MapClaims{"sub": "OB-1001", "scope": "read write", "exp": soon}
	for _, c := range []struct {
		name, field string
		status      int
		code        string
		challenge   string
	}{
		{"good", "Bearer " + sign(t, jwt.SigningMethodHS256, secret, good), 200, "", ""},
		{"the scheme in another case", "bearer " + sign(t, jwt.SigningMethodHS256, secret, good), 200, "", ""},
		{"none", "", 401, "token-missing", "Bearer"},
		{"twice", "Bearer " + sign(t, jwt.SigningMethodHS256, secret, good) + "\nBearer x", 401, "token-malformed", `Bearer error="invalid_token"`},
		{"another scheme", "Basic eDp5", 401, "token-missing", "Bearer"},
		{"no JWT", "Bearer x.y", 401, "token-malformed", `Bearer error="invalid_token"`},
		{"expired", "Bearer " + sign(t, jwt.SigningMethodHS256, secret, jwt.MapClaims{"sub": "a", "exp": past}), 401, "token-expired", `Bearer error="invalid_token"`},
		{"no expiry", "Bearer " + sign(t, jwt.SigningMethodHS256, secret, jwt.MapClaims{"sub": "a"}), 401, "token-rejected", `Bearer error="invalid_token"`},
		{"no subject", "Bearer " + sign(t, jwt.SigningMethodHS256, secret, jwt.MapClaims{"exp": soon}), 401, "token-rejected", `Bearer error="invalid_token"`},
		{"not yet", "Bearer " + sign(t, jwt.SigningMethodHS256, secret, jwt.MapClaims{"sub": "a", "exp": soon, "nbf": soon}), 401, "token-rejected", `Bearer error="invalid_token"`},
		{"another key", "Bearer " + sign(t, jwt.SigningMethodHS256, []byte("x"), good), 401, "token-rejected", `Bearer error="invalid_token"`},
		{"another algorithm", "Bearer " + sign(t, jwt.SigningMethodHS512, secret, good), 401, "token-rejected", `Bearer error="invalid_token"`},
		{"no algorithm", "Bearer " + sign(t, jwt.SigningMethodNone, jwt.UnsafeAllowNoneSignatureType, good), 401, "token-rejected", `Bearer error="invalid_token"`},
		{"no scope", "Bearer " + sign(t, jwt.SigningMethodHS256, secret, jwt.MapClaims{"sub": "a", "exp": soon}), 403, "scope-missing", `Bearer error="insufficient_scope", scope="read"`},
	} {
		r := httptest.NewRequest("GET", "/me", nil)
		for one := range strings.SplitSeq(c.field, "\n") {
			if one != "" {
				r.Header.Add("Authorization", one)
			}
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		if w.Code != c.status || !strings.Contains(w.Body.String(), c.code) || !strings.HasPrefix(w.Header().Get("WWW-Authenticate"), c.challenge) {
			t.Errorf("%s: %d %s %s, want %d %s %s", c.name, w.Code, w.Header().Get("WWW-Authenticate"), w.Body, c.status, c.code, c.challenge)
		}
	}
	if _, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Guard(auth.Bearer(auth.HS256([]byte("short")))),
		wicketway.Route("GET /", func(context.Context, wicketway.None) (string, error) { return "", nil })); err == nil || !strings.Contains(err.Error(), "the secret has 5 bytes") {
		t.Errorf("a short secret: %v", err)
	}
}

func ExampleBearer() {
	api, err := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"},
		wicketway.Guard(auth.Bearer(auth.HS256(secret))),
		wicketway.Route("GET /passages", func(context.Context, wicketway.None) (string, error) { return "", nil }))
	if err != nil {
		fmt.Println(err)
	}
	r := httptest.NewRequest("GET", "/passages", nil)
	r.Header.Set("Authorization", "Bearer rusty")
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	fmt.Println(w.Code, w.Header().Get("WWW-Authenticate"))
	// Output: 401 Bearer error="invalid_token", error_description="The token is not a JWT"
}
