// Package chain_test tries the middleware of the folders below it on one API.
package chain_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/golang-jwt/jwt/v5"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/requestid"
)

var secret = []byte(strings.Repeat("k", 32))

type size struct {
	Bytes int `from:"query bytes"`
}

func text(_ context.Context, in size) (string, error) { return strings.Repeat("a", in.Bytes), nil }

func build(t *testing.T, log io.Writer, parts ...wicketway.Part) *wicketway.API {
	api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"}, append(parts,
		wicketway.Chain(requestid.Assign(), accesslog.To(slog.New(slog.NewJSONHandler(log, nil))), compress.Bodies()))...)
	if err != nil {
		t.Fatal(err)
	}
	return api
}

func sign(t *testing.T, method jwt.SigningMethod, key any, claims jwt.MapClaims) string {
	text, err := jwt.NewWithClaims(method, claims).SignedString(key)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

func TestBearer(t *testing.T) {
	api := build(t, io.Discard,
		wicketway.Guard(auth.Bearer(auth.HS256(secret))),
		wicketway.Route("GET /me", func(ctx context.Context, _ wicketway.None) (string, error) {
			return wicketway.Caller(ctx).Subject, nil
		}, wicketway.Scopes("read")),
	)
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
		wicketway.Route("GET /", text)); err == nil || !strings.Contains(err.Error(), "the secret has 5 bytes") {
		t.Errorf("a short secret: %v", err)
	}
}

func TestBodiesAreCompressedWhereItHelps(t *testing.T) {
	plain := func(set string) func(w http.ResponseWriter, r *http.Request) {
		name, value, _ := strings.Cut(set, ": ")
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/plain")
			w.Header().Set(name, value)
			io.WriteString(w, strings.Repeat("a", 2000))
		}
	}
	answer := func(set string) wicketway.Middleware {
		return wicketway.Wrap("answer", func(http.Handler) http.Handler { return http.HandlerFunc(plain(set)) })
	}
	api := build(t, io.Discard,
		wicketway.Route("GET /text", text),
		wicketway.Route("GET /png", text, wicketway.Chain(answer("Content-Type: image/png"))),
		wicketway.Route("GET /part", text, wicketway.Chain(answer("Content-Range: bytes 0-1999/9000"))),
		wicketway.Route("GET /fixed", text, wicketway.Chain(answer("Cache-Control: max-age=5, No-Transform"))),
		wicketway.Route("GET /tagged", text, wicketway.Chain(answer(`Etag: "v1"`))),
		wicketway.Route("GET /panic", func(context.Context, wicketway.None) (string, error) { panic("x") }),
	)
	for _, c := range []struct {
		line, accept string
		zipped       bool
		body         int
		etag         string
	}{
		{"GET /text?bytes=2000", "gzip, br", true, 2003, ""},
		{"GET /text?bytes=2000", "", false, 2003, ""},
		{"GET /text?bytes=2000", "br", false, 2003, ""},
		{"GET /text?bytes=2000", "gzip;q=0", false, 2003, ""},
		{"GET /text?bytes=2000", "*", true, 2003, ""},
		{"GET /text?bytes=2000", "gzip;q=0.5, identity", false, 2003, ""},
		{"GET /text?bytes=100", "gzip", false, 103, ""},
		{"HEAD /text?bytes=2000", "gzip", true, 0, ""},
		{"GET /png", "gzip", false, 2000, ""},
		{"GET /part", "gzip", false, 2000, ""},
		{"GET /fixed", "gzip", false, 2000, ""}, // directives know no case (RFC 9111, 5.2)
		{"GET /tagged", "gzip", true, 2000, `W/"v1"`},
		{"HEAD /tagged", "gzip", true, 0, `W/"v1"`},
	} {
		method, target, _ := strings.Cut(c.line, " ")
		r := httptest.NewRequest(method, target, nil)
		if c.accept != "" {
			r.Header.Set("Accept-Encoding", c.accept)
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		zipped := w.Header().Get("Content-Encoding") == "gzip"
		body := w.Body.Bytes()
		if zipped && method != "HEAD" {
			unzip, err := gzip.NewReader(w.Body)
			if err == nil {
				body, err = io.ReadAll(unzip)
			}
			if err != nil {
				t.Error(err)
			}
		}
		if zipped != c.zipped || len(body) != c.body || w.Header().Get("Vary") != "Accept-Encoding" || c.etag != "" && w.Header().Get("Etag") != c.etag {
			t.Errorf("%s for %q: zipped %v, %d bytes, %v", c.line, c.accept, zipped, len(body), w.Header())
		}
	}
}

// One line for each request, with the cause that the caller is not told.
func TestAccessLog(t *testing.T) {
	var log bytes.Buffer
	api := build(t, &log,
		wicketway.Route("GET /text/{n}", func(_ context.Context, in struct {
			N int `from:"path n"`
		}) (string, error) {
			if in.N == 0 {
				panic("no water")
			}
			return "x", nil
		}),
	)
	gone, leave := context.WithCancel(context.Background())
	leave()
	for _, c := range []struct {
		path   string
		ctx    context.Context
		status int
		level  string
		route  string
		err    string
		stack  bool
	}{
		{"/text/1", context.Background(), 200, "INFO", "/text/{n}", "", false},
		{"/text/x", context.Background(), 400, "INFO", "/text/{n}", "path n must be a whole number", false},
		{"/text/0", context.Background(), 500, "ERROR", "/text/{n}", "panic: no water", true},
		{"/none", context.Background(), 404, "INFO", "", "not-found", false},
		{"/text/1", gone, 200, "INFO", "/text/{n}", "", false}, // the answer was ready all the same
	} {
		log.Reset()
		w := httptest.NewRecorder()
		api.ServeHTTP(w, httptest.NewRequest("GET", c.path, nil).WithContext(c.ctx))
		var line struct {
			Level, Method, Path, Route, Request, Caller, Error, Stack string
			Status, Bytes                                             int
			Duration                                                  int64
		}
		if err := json.Unmarshal(log.Bytes(), &line, json.MatchCaseInsensitiveNames(true)); err != nil {
			t.Errorf("%s: not one line: %v\n%s", c.path, err, log.String())
		}
		if line.Status != c.status || line.Level != c.level || line.Route != c.route || line.Path != c.path || line.Method != "GET" ||
			!strings.Contains(line.Error, c.err) || (line.Error == "") != (c.err == "") || (line.Stack != "") != c.stack ||
			line.Bytes != w.Body.Len() || line.Request != w.Header().Get("X-Request-Id") || line.Duration <= 0 {
			t.Errorf("%s: %s", c.path, log.String())
		}
	}
}

type vessel struct {
	Plate     string         `json:"plate"`
	Telephone string         `json:"telephone"`
	Code      string         `json:"code" rule:"writeOnly"`
	Owner     *vessel        `json:"owner"`
	Extra     map[string]any `json:"extra"`
	private   string
	pin       string
	*Mooring
	crew map[any]any
}

type Mooring struct {
	Secret string
	Name   string
}

// No secret reaches the log, whatever it is in; what is none stays as it was.
func TestRedact(t *testing.T) {
	const hidden = "hush"
	v := &vessel{Plate: "OB-1001", Telephone: hidden, Code: hidden, private: "kept private", pin: hidden, Mooring: &Mooring{hidden, "Wharf 7"}, crew: map[any]any{"token": hidden, 7: "x"},
		Owner: &vessel{Plate: "OB-1038", Telephone: hidden}, Extra: map[string]any{"API-Key": hidden, "list": []any{map[string]string{"e_mail": hidden, "name": "Grebe"}}}}
	v.Owner.Owner = v // a value that contains itself ends
	var out bytes.Buffer
	log := slog.New(accesslog.Redact(slog.NewJSONHandler(&out, nil), "berth"))
	log.With("PIN", hidden, "kept", 1).WithGroup("request").With("cookie", hidden).Info("hello",
		"vessel", v, "header", http.Header{"Authorization": {hidden}, "Accept": {"text/html"}}, "Berth", hidden,
		slog.Group("inner", "access_token", hidden, "name", "Grebe"), "plain", struct{ A int }{7}, "bytes", []byte("abc"), "error", io.EOF)
	log.WithGroup("secret").Info("all", "a", hidden)
	byText := slog.New(accesslog.Redact(slog.NewTextHandler(&out, nil)))
	byText.Info("text", "vessel", struct{ pin, name string }{hidden, "x"}, "crew", map[any]string{"api_key": hidden, 3: "third"}, "at", time.Date(2027, 5, 4, 0, 0, 0, 0, time.UTC),
		"deep", struct{ in struct{ Token string } }{struct{ Token string }{hidden}}, "keys", map[[2]string]any{{"a", "b"}: map[string]string{"password": hidden}})
	text := out.String()
	if strings.Contains(text, hidden) {
		t.Errorf("a secret is in the log: %s", text)
	}
	for _, kept := range []string{"OB-1001", "OB-1038", "Grebe", "text/html", "third", "2027-05-04", "Wharf 7", `"kept":1`, `{"A":7}`, "YWJj", "EOF", accesslog.Blank} {
		if !strings.Contains(text, kept) {
			t.Errorf("%s is not in the log: %s", kept, text)
		}
	}
}

func TestRequestsAreUnpacked(t *testing.T) {
	api := build(t, io.Discard, wicketway.Chain(compress.Requests()), wicketway.Route("POST /size", func(_ context.Context, in struct {
		Body io.Reader `from:"body"`
	}) (int64, error) {
		return io.Copy(io.Discard, in.Body)
	}))
	var zipped bytes.Buffer
	w := gzip.NewWriter(&zipped)
	io.WriteString(w, strings.Repeat("a", 5000))
	w.Close()
	for _, c := range []struct {
		coding, body string
		status       int
		want         string
	}{
		{"gzip", zipped.String(), 200, "5000"},
		{"x-gzip", zipped.String(), 200, "5000"},
		{"", "abc", 200, "3"},
		{"gzip", zipped.String()[:20], 400, "not well-formed gzip"},
		{"zstd", "abc", 400, "not well-formed zstd"},
		{"br", "abc", 415, "accepted is one of gzip and zstd"},
	} {
		r := httptest.NewRequest("POST", "/size", strings.NewReader(c.body))
		r.Header.Set("Content-Encoding", c.coding)
		rec := httptest.NewRecorder()
		api.ServeHTTP(rec, r)
		if rec.Code != c.status || !strings.Contains(rec.Body.String(), c.want) {
			t.Errorf("%s: %d %s, want %d %s", c.coding, rec.Code, rec.Body, c.status, c.want)
		}
	}
}
