// Package client calls HTTP APIs: it is what generated clients share, which wicketway client writes of a contract.
//
// An [Operation] is described once, by its method, its path and two Go types. The input says where each field goes, and the
// rules that it keeps, as an input of package wicketway does, so that a call with a wrong value fails with the same faults
// before anything is sent:
//
//	type findPassage struct {
//		Passage int64 `from:"path passage" rule:"minimum=1"`
//	}
//
//	var find = client.Describe[findPassage, Passage]("passages.find", "GET", "/api/v2/passages/{passage}")
//
//	c, err := client.New("https://canal.example", client.Settings{Credentials: client.Bearer(token)})
//	passage, err := client.Call(ctx, c, find, findPassage{61})
//
// An answer that is an error is a *problem.Problem, of the kinds that the settings name, so that
// errors.Is(err, ErrSlotTaken) holds where it is called as where it is raised. One that is no problem is a [Foreign] error.
package client

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/wicketway/wicketway/problem"
)

// Settings say how an API is called. The zero value is right for one that everybody may call.
type Settings struct {
	// HTTP sends the requests; nil: a client of its own, without a limit in time but that of the context. It follows
	// redirects as HTTP says; neither tokens nor keys are sent to another host. The trace of a request that is served goes on with it if
	// its transport is tracecontext.Transport.
	HTTP *http.Client
	// Credentials say who calls; nil: nobody.
	Credentials Credentials
	// Kinds are the kinds of problem that are known, besides those of package problem.
	Kinds []*problem.Kind
	// Retry says how often a request is sent again.
	Retry Retry
	// Most bounds the body of an answer that is read as a whole, and of an item of a stream, in bytes; 0: 16 MiB.
	Most int64
	// Ending is told once of each operation whose answers say that it is deprecated (RFC 9745) or ends (RFC 8594); nil: nobody
	// is. It must be safe for concurrent use.
	Ending func(Ending)
	// Checked holds answers against the rules of their types: one that breaks them is a [Broken] error.
	Checked bool
	// Unchecked sends inputs that break rules, for those who want to see what comes back.
	Unchecked bool
	// Header has fields for every request, such as User-Agent.
	Header http.Header
}

// defaultMost is how much of an answer is read.
const defaultMost = 16 << 20

// An Ending is what an answer says about the end of its operation.
type Ending struct {
	Operation  string
	Deprecated time.Time // zero: it is not
	Sunset     time.Time // zero: it does not end
	Successor  string    // the address of what comes after it; "" where that is not said
}

// A Client calls one API. It is safe for concurrent use.
type Client struct {
	at       url.URL
	base     string // of the address, without a slash at its end
	settings Settings
	http     *http.Client
	ended    sync.Map // names of operations whose end has been told of
}

// New makes a client for the API at an http or https address, below which the paths of its operations are.
func New(address string, s Settings) (*Client, error) {
	at, err := url.Parse(address)
	if err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https" || at.RawQuery != "" || at.Fragment != "" {
		return nil, fmt.Errorf("client: %q is not the http or https address of an API", address)
	}
	if at.User != nil {
		return nil, errors.New("client: the address holds a password: use client.Basic")
	}
	c := &Client{at: *at, base: strings.TrimSuffix(at.String(), "/"), settings: s, http: s.HTTP}
	c.settings.Most = cmp.Or(s.Most, defaultMost)
	certificate := certificateOf(s.Credentials)
	if c.http != nil && certificate != nil {
		return nil, errors.New("client: a certificate and an HTTP client are given: put the certificate into its transport")
	}
	if c.http == nil {
		c.http = &http.Client{Transport: ownTransport(certificate)}
	}
	own := *c.http
	own.CheckRedirect = staying(c.http.CheckRedirect, s.Credentials)
	c.http = &own
	return c, nil
}

// mostRedirects is how many redirects are followed, where nobody else says.
const mostRedirects = 10

// staying takes keys out of requests that a redirect leads to another host; with tokens and cookies net/http does so itself.
func staying(next func(*http.Request, []*http.Request) error, s Credentials) func(*http.Request, []*http.Request) error {
	return func(r *http.Request, via []*http.Request) error {
		if from := via[0].URL; r.URL.Host != from.Host || r.URL.Scheme != from.Scheme {
			r.Header.Del("Authorization")
			for _, name := range keysIn(s) {
				r.Header.Del(name)
			}
		}
		if next != nil {
			return next(r, via)
		}
		if len(via) >= mostRedirects {
			return fmt.Errorf("%d redirects lead nowhere", len(via))
		}
		return nil
	}
}

// keysIn are the header fields that credentials have keys in.
func keysIn(c Credentials) (names []string) {
	switch c := c.(type) {
	case keyed:
		return []string{c.field}
	case several:
		for _, one := range c {
			names = append(names, keysIn(one)...)
		}
	}
	return names
}

// ownTransport is that of a client of its own, so that its certificate is nobody else's.
func ownTransport(certificate *tls.Certificate) http.RoundTripper {
	if certificate == nil {
		return http.DefaultTransport
	}
	own := http.DefaultTransport.(*http.Transport).Clone()
	own.TLSClientConfig = &tls.Config{Certificates: []tls.Certificate{*certificate}}
	return own
}

// Credentials say who calls: [Bearer], [Key], [Basic], [Certificate], or several of them by [All].
type Credentials interface {
	// Apply adds them to a request. Again says that the ones before were refused because their time was over.
	Apply(r *http.Request, again bool) error
}

// Bearer sends a token (RFC 6750). The function is asked for it at the first call, and once more where an answer says that
// it has expired; what it gives in between is kept.
func Bearer(token func(context.Context) (string, error)) Credentials { return &bearer{get: token} }

type bearer struct {
	get  func(context.Context) (string, error)
	mu   sync.Mutex
	kept string
}

func (b *bearer) Apply(r *http.Request, again bool) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if sent, is := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); b.kept == "" || again && (!is || sent == b.kept) {
		token, err := b.get(r.Context())
		if err != nil {
			return fmt.Errorf("client: no token: %w", err)
		}
		b.kept = token
	}
	r.Header.Set("Authorization", "Bearer "+b.kept)
	return nil
}

// Key sends a key in a header field.
func Key(field, key string) Credentials { return keyed{field, key} }

type keyed struct{ field, value string }

func (k keyed) Apply(r *http.Request, _ bool) error {
	r.Header.Set(k.field, k.value)
	return nil
}

// Basic sends a name and a password (RFC 7617).
func Basic(name, password string) Credentials { return basic{name, password} }

type basic struct{ name, password string }

func (b basic) Apply(r *http.Request, _ bool) error {
	r.SetBasicAuth(b.name, b.password)
	return nil
}

// Certificate is that of the client (TLS).
func Certificate(c tls.Certificate) Credentials { return certified{&c} }

type certified struct{ *tls.Certificate }

func (certified) Apply(*http.Request, bool) error { return nil }

// All are several credentials at once.
func All(all ...Credentials) Credentials { return several(all) }

type several []Credentials

func (s several) Apply(r *http.Request, again bool) error {
	for _, one := range s {
		if err := one.Apply(r, again); err != nil {
			return err
		}
	}
	return nil
}

func certificateOf(c Credentials) *tls.Certificate {
	switch c := c.(type) {
	case certified:
		return c.Certificate
	case several:
		for _, one := range c {
			if found := certificateOf(one); found != nil {
				return found
			}
		}
	}
	return nil
}
