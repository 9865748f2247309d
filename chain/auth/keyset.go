package auth

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"sync"
	"sync/atomic"
	"time"
)

// A Source is an address with a JWK set (RFC 7517, 5), such as an identity service has.
type Source struct {
	// Address is an https URL; http is for this machine alone.
	Address string
	// Algorithms are those that keys of the set are trusted for.
	Algorithms []string
	// Issuer is whose tokens the keys are trusted for, as the claim iss has it; "": anybody's.
	Issuer string
	// Every is how often the set is fetched; 5 minutes where it is 0.
	Every time.Duration
	// AtMost is the least time between two fetches, however many tokens name keys that are not
	// known; 10 seconds where it is 0.
	AtMost time.Duration
	// Client fetches; nil: one that gives up after 10 seconds.
	Client *http.Client
	// Log is told where the set cannot be had; nil: slog's default.
	Log *slog.Logger
}

// A KeySet is a JWK set that is fetched again in the background. No request ever waits for it. A
// set that is empty, too large or broken is refused, and so is an address that does not answer:
// the keys that there are go on to hold. It is safe for concurrent use.
type KeySet struct {
	source  Source
	wrong   error
	current atomic.Pointer[[]*trusted]
	want    chan struct{} // somebody has seen a key that is not there
	done    chan struct{}

	mu      sync.Mutex
	failure error // of the last fetch
}

// largestSet bounds what is read from an address, in bytes.
const largestSet = 256 << 10

// Fetch begins to fetch a set, and goes on until the context ends.
func Fetch(ctx context.Context, from Source) *KeySet {
	s := &KeySet{
		source:  from,
		want:    make(chan struct{}, 1),
		done:    make(chan struct{}),
		failure: errors.New("not fetched yet"),
	}
	s.source.Every = cmp.Or(from.Every, 5*time.Minute)
	s.source.AtMost = min(cmp.Or(from.AtMost, 10*time.Second), s.source.Every)
	if s.source.Client == nil {
		s.source.Client = &http.Client{Timeout: 10 * time.Second, CheckRedirect: stayPrivate}
	}
	if s.wrong = s.check(); s.wrong != nil {
		close(s.done)
		return s
	}
	go s.run(ctx)
	return s
}

func (s *KeySet) check() error {
	u, err := url.Parse(s.source.Address)
	if err == nil {
		err = private(u)
	}
	if err != nil {
		return fmt.Errorf("auth.Fetch: %q: %w", s.source.Address, err)
	}
	if s.source.Every < 0 || s.source.AtMost < 0 {
		return fmt.Errorf(
			"auth.Fetch: %q: fetched every %v, and at most every %v: times are not negative", s.source.Address,
			s.source.Every, s.source.AtMost,
		)
	}
	if len(s.source.Algorithms) == 0 {
		return fmt.Errorf("auth.Fetch: %q: no algorithm is named", s.source.Address)
	}
	return nil
}

// private reports mistakes in an address: who listens on the way to it could put keys of
// their own in.
func private(u *url.URL) error {
	ip := net.ParseIP(u.Hostname())
	if u.Scheme == "https" || u.Scheme == "http" && (u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()) {
		return nil
	}
	return errors.New("the address must be one of https")
}

func stayPrivate(r *http.Request, via []*http.Request) error {
	if len(via) > 5 {
		return errors.New("too many redirects")
	}
	return private(r.URL)
}

// Keys trusts the keys that are in the set at the moment of a request.
func (s *KeySet) Keys() Keys {
	k := Keys{remote: []*KeySet{s}}
	if s.wrong != nil {
		k.wrong = []error{s.wrong}
	}
	return k
}

// Ready is a check of readiness: its error says that there are no keys yet, or that the last
// fetch failed.
func (s *KeySet) Ready(context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.failure != nil {
		return fmt.Errorf("keys of %s: %w", s.source.Address, s.failure)
	}
	return nil
}

// Done is closed when the context has ended, and nothing is fetched any more.
func (s *KeySet) Done() <-chan struct{} { return s.done }

func (s *KeySet) keys() []*trusted {
	if list := s.current.Load(); list != nil {
		return *list
	}
	return nil
}

// ask has the set fetched as soon as it may be. However many ask for keys that nobody has, the
// next fetch serves all of them, good ones too.
func (s *KeySet) ask() {
	select {
	case s.want <- struct{}{}:
	default:
	}
}

func (s *KeySet) run(ctx context.Context) {
	defer close(s.done)
	for {
		rest := s.source.Every - s.source.AtMost
		if err := s.refresh(ctx); err != nil {
			rest = 0
		}
		if !wait(ctx, s.source.AtMost, nil) || !wait(ctx, rest, s.want) {
			return
		}
	}
}

// wait waits for a time, or less if it is wanted; false where the context has ended.
func wait(ctx context.Context, d time.Duration, wanted <-chan struct{}) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
	case <-wanted:
	}
	return ctx.Err() == nil
}

func (s *KeySet) refresh(ctx context.Context) error {
	list, err := s.fetch(ctx)
	if ctx.Err() != nil {
		return nil
	}
	s.mu.Lock()
	s.failure = err
	s.mu.Unlock()
	if err != nil {
		log := s.source.Log
		if log == nil {
			log = slog.Default()
		}
		log.WarnContext(ctx, "cannot fetch the key set; keeping the previous keys", "address", s.source.Address, "error", err,
			"keys", len(s.keys()))
		return err
	}
	s.replace(list)
	return nil
}

// replace puts new keys in the place of the old ones. A key that stays is the same as before, so
// that what it has verified stays remembered; one that goes is forgotten at once.
func (s *KeySet) replace(list []*trusted) {
	old := s.keys()
	stays := map[*trusted]bool{}
	for i, k := range list {
		k.issuer = s.source.Issuer
		for _, o := range old {
			if k.same(o) {
				list[i] = o
				stays[o] = true
			}
		}
	}
	s.current.Store(&list)
	for _, o := range old {
		if !stays[o] {
			o.gone.Store(true)
		}
	}
}

func (s *KeySet) fetch(ctx context.Context) ([]*trusted, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, s.source.Address, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/jwk-set+json, application/json")
	resp, err := s.source.Client.Do(r)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the answer is %s", resp.Status)
	}
	text, err := io.ReadAll(io.LimitReader(resp.Body, largestSet+1))
	if err != nil {
		return nil, err
	}
	if len(text) > largestSet {
		return nil, fmt.Errorf("the set has more than %d bytes", largestSet)
	}
	return parseJWKs(text, s.source.Algorithms)
}
