package auth

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/method"
	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/problem"
)

// Sessions keep callers signed in with a browser, by a cookie that is encrypted with AES-256-GCM: it
// has the prefix __Host-, and is Secure, HttpOnly and SameSite=Lax (RFC 6265bis). It ends after a
// time without requests, and after a time in all; the cookie is renewed while it is used. Requests
// that change something and come from pages of another origin are refused
// (net/http.CrossOriginProtection).
type Sessions struct {
	guard
	name, signIn   string
	plainHTTP      bool
	sealers        []cipher.AEAD // the first seals
	idle, absolute time.Duration
	origins        *http.CrossOriginProtection
}

// SessionSettings say how sessions are kept.
type SessionSettings struct {
	// Secrets seal the cookies; each has 32 bytes at least. The first seals new ones, the others
	// open those that were sealed before it came.
	Secrets [][]byte
	// Name is that of the cookie, after __Host-; "session" where it is "".
	Name string
	// Idle is how long a session lasts without a request; 30 minutes where it is 0.
	Idle time.Duration
	// Absolute is how long it lasts in all; 12 hours where it is 0.
	Absolute time.Duration
	// PlainHTTP is for the programmer's machine, where a browser has no TLS: the cookie is not Secure and has no prefix.
	// Outside of development it is a mistake at Build.
	PlainHTTP bool
	// SignIn is the path of the page where people sign in, such as /sign-in: [exchange.Scheme] says who is led there. The
	// page reads where they come from as a [Back].
	SignIn string
	// Origins are trusted though they are others: https://canal.example.
	Origins []string
}

// NewSessions makes a guard that takes sessions.
func NewSessions(s SessionSettings, settings Settings) *Sessions {
	g := &Sessions{
		guard:    newGuard("session", settings),
		name:     "__Host-session",
		idle:     30 * time.Minute,
		absolute: 12 * time.Hour,
		origins:  http.NewCrossOriginProtection(),
	}
	if g.Revocations == nil {
		g.Revocations = &MemoryRevocations{now: g.Clock}
	}
	if s.Name != "" {
		g.name = "__Host-" + s.Name
	}
	if g.plainHTTP = s.PlainHTTP; s.PlainHTTP {
		g.name = strings.TrimPrefix(g.name, "__Host-")
	}
	if err := (&http.Cookie{Name: g.name, Value: "x"}).Valid(); err != nil {
		g.wrongf("the name %q: %v", s.Name, err)
	}
	if g.signIn = s.SignIn; s.SignIn != "" && (!segment.IsOwnPath(s.SignIn) || strings.Contains(s.SignIn, "?")) {
		g.wrongf("the sign-in page %q is not a path of this host, such as /sign-in", s.SignIn)
	}
	if s.Idle > 0 {
		g.idle = s.Idle
	}
	if s.Absolute > 0 {
		g.absolute = s.Absolute
	}
	if s.Idle < 0 || s.Absolute < 0 || g.idle > g.absolute {
		g.wrongf(
			"a session ends after %v without a request and after %v in all: times are not negative, and the first is not the longer one",
			g.idle,
			g.absolute,
		)
	}
	for _, origin := range s.Origins {
		if err := g.origins.AddTrustedOrigin(origin); err != nil {
			g.wrongf("the origin %q: %v", origin, err)
		}
	}
	if len(s.Secrets) == 0 {
		g.wrongf("no secret is given to seal cookies with")
	}
	for i, secret := range s.Secrets {
		if len(secret) < 32 {
			g.wrongf("secret %d has %d bytes, 32 at least are needed", i+1, len(secret))
			continue
		}
		key := sha256.Sum256(secret)
		block, err := aes.NewCipher(key[:])
		if err == nil {
			var sealer cipher.AEAD
			if sealer, err = cipher.NewGCMWithRandomNonce(block); err == nil {
				g.sealers = append(g.sealers, sealer)
			}
		}
		if err != nil {
			g.wrongf("secret %d: %v", i+1, err)
		}
	}
	return g
}

// A session is what a cookie holds.
type session struct {
	ID      string    `json:"id"`
	Subject string    `json:"sub"`
	Scopes  []string  `json:"scopes,omitzero"`
	Began   time.Time `json:"began"`
	Seen    time.Time `json:"seen"`
}

// A Session describes the session of a request. Guards put it into
// wicketway.Identity.Proof.
type Session struct {
	ID          string
	Began, Ends time.Time
}

// Back is where somebody goes who has signed in: a path of this host, with its query, as a sign-in page gets it in the
// parameter back. It is read by UnmarshalText, which refuses whatever could lead to another host.
//
//	type signIn struct {
//		PIN  string    `from:"form pin"`
//		Back auth.Back `from:"form back" rule:"default=/"`
//	}
type Back string

// UnmarshalText takes a path of this host.
func (b *Back) UnmarshalText(text []byte) error {
	path := string(text)
	if !segment.IsOwnPath(path) {
		return errors.New("write a path of this host, such as /passages?limit=2")
	}
	*b = Back(path)
	return nil
}

// MarshalText gives the path.
func (b Back) MarshalText() ([]byte, error) { return []byte(b), nil }

// Begin signs a caller in, in answer to a request: it sets the cookie of a new session. A page of
// another origin cannot sign its visitor in: requests that change something are refused with [ErrCrossOrigin],
// as behind the guard. A route that takes GET for it must make sure of that itself, since browsers go
// there from anywhere. A typed route has its request from wicketway.Request.
func (s *Sessions) Begin(answer http.Header, r *http.Request, subject string, scopes ...string) error {
	switch {
	case r == nil:
		return errors.New("auth: a session begins with a request: exchange.Of(ctx).Request()")
	case subject == "":
		return errors.New("auth: a session needs a subject")
	}
	if err := s.checkOrigin(r); err != nil {
		return err
	}
	now := s.Clock()
	return s.set(answer, session{rand.Text(), subject, scopes, now, now})
}

func (s *Sessions) checkOrigin(r *http.Request) error {
	if method.IsSafe(r.Method) { // CrossOriginProtection does not know all of them
		return nil
	}
	if err := s.origins.Check(r); err != nil {
		return s.refuse(ErrCrossOrigin, "A page of another origin may not change anything here.", "", err)
	}
	return nil
}

// End signs the caller of a request out: the session is refused from then on, wherever its cookie
// has been kept, and the cookie is removed. Without a session it does nothing. A page of another
// origin is refused as by [Sessions.Begin].
func (s *Sessions) End(answer http.Header, r *http.Request) error {
	if r == nil {
		return errors.New("auth: a session ends with a request: exchange.Of(ctx).Request()")
	}
	if err := s.checkOrigin(r); err != nil {
		return err
	}
	http.SetCookie(
		headerWriter{answer},
		&http.Cookie{Name: s.name, Path: "/", MaxAge: -1, Secure: !s.plainHTTP, HttpOnly: true, SameSite: http.SameSiteLaxMode},
	)
	held, err := s.read(r)
	if err != nil {
		return nil //nolint:nilerr // there is nothing to end
	}
	return s.Revocations.Revoke(r.Context(), held.ID, held.Began.Add(s.absolute))
}

// headerWriter lets http.SetCookie write to a header.
type headerWriter struct{ header http.Header }

func (h headerWriter) Header() http.Header         { return h.header }
func (h headerWriter) Write(p []byte) (int, error) { return len(p), nil }
func (h headerWriter) WriteHeader(int)             {}

func (s *Sessions) set(answer http.Header, held session) error {
	text, err := json.Marshal(held)
	if err != nil {
		return err
	}
	if len(s.sealers) == 0 {
		return errors.New("auth: the sessions have no secret")
	}
	sealed := s.sealers[0].Seal(nil, nil, text, []byte(s.name))
	c := &http.Cookie{
		Name:     s.name,
		Value:    base64.RawURLEncoding.EncodeToString(sealed),
		Path:     "/",
		Secure:   !s.plainHTTP,
		HttpOnly: true,
		SameSite: http.SameSiteLaxMode,
		MaxAge:   int(min(s.idle, held.Began.Add(s.absolute).Sub(s.Clock())).Seconds()),
	}
	if len(c.Value) > 3800 {
		return fmt.Errorf("auth: the session of %q is larger than a cookie can be", held.Subject)
	}
	http.SetCookie(headerWriter{answer}, c)
	return nil
}

var errNoSession = errors.New("the request has no session")

// read opens the cookie of a request.
func (s *Sessions) read(r *http.Request) (held session, err error) {
	cookies := r.CookiesNamed(s.name)
	if len(cookies) != 1 {
		return held, errNoSession
	}
	sealed, err := base64.RawURLEncoding.DecodeString(cookies[0].Value)
	if err != nil {
		return held, err
	}
	for _, sealer := range s.sealers {
		var text []byte
		if text, err = sealer.Open(nil, nil, sealed, []byte(s.name)); err == nil {
			return held, json.Unmarshal(text, &held)
		}
	}
	return held, err
}

// Scheme is for listings, the catalogue of problems and the contract.
func (s *Sessions) Scheme() exchange.Scheme {
	return exchange.Scheme{Name: "session", Type: "apiKey", In: "cookie", Field: s.name, SignIn: s.signIn, DevelopmentOnly: s.plainHTTP,
		Raises: s.raises(ErrSessionMissing, ErrSessionExpired, ErrCrossOrigin)}
}

// Sent reports whether the request has a session's cookie, good or bad.
func (s *Sessions) Sent(r *http.Request) bool { return len(r.CookiesNamed(s.name)) > 0 }

// Authenticate is AuthenticateTo without an answer: the cookie is not renewed.
func (s *Sessions) Authenticate(r *http.Request) (*exchange.Identity, error) {
	return s.AuthenticateTo(http.Header{}, r)
}

// AuthenticateTo finds the caller of a session, and renews its cookie once a tenth of the idle
// time has passed.
func (s *Sessions) AuthenticateTo(answer http.Header, r *http.Request) (*exchange.Identity, error) {
	if !s.Sent(r) {
		return nil, s.reject(ErrSessionMissing, "Sign in first.", nil)
	}
	held, err := s.read(r)
	if err != nil {
		return nil, s.reject(ErrSessionMissing, "The session cannot be read; sign in again.", err)
	}
	now := s.Clock()
	revoked, err := s.Revocations.IsRevoked(r.Context(), Token{
		ID:      held.ID,
		Subject: held.Subject,
		Issuer:  s.guard.name,
		Scopes:  strings.Join(held.Scopes, " "),
		Issued:  held.Began,
		Expires: held.Began.Add(s.absolute),
	})
	if err != nil {
		return nil, err
	}
	if revoked || now.Sub(held.Seen) > s.idle || now.Sub(held.Began) > s.absolute ||
		held.Seen.After(now.Add(time.Minute)) {
		return nil, s.reject(ErrSessionExpired, "The session has ended; sign in again.", nil)
	}
	if err := s.checkOrigin(r); err != nil {
		return nil, err
	}
	caller, err := s.account(r, &exchange.Identity{Subject: held.Subject, Issuer: s.guard.name, Scopes: held.Scopes,
		Proof: Session{held.ID, held.Began, held.Began.Add(s.absolute)}})
	if err != nil {
		return nil, err
	}
	if now.Sub(held.Seen) > s.idle/10 {
		held.Seen = now
		if err := s.set(answer, held); err != nil {
			return nil, err
		}
	}
	return caller, nil
}

func (s *Sessions) reject(kind *problem.Kind, detail string, cause error) error {
	return s.refuse(kind, detail, s.Challenge(nil), cause)
}

// Challenge has a scheme of no standard, since there is none for cookies.
func (s *Sessions) Challenge([]string) string { return "Session realm=" + quoted(s.Realm) }
