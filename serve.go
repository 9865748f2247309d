package wicketway

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/handover"
)

// Serving says how an API is served. The zero Serving, with an address, is right for the open
// internet.
type Serving struct {
	// Addresses are listened on: ":8080", "127.0.0.1:8080", "[::1]:0", or "unix:/run/canal.sock".
	Addresses []string
	// Listeners are served as well, and closed in the end. Others may wait at them, so that their door stays open in a
	// drain.
	Listeners []net.Listener
	// Activated also serves the sockets that a service manager has opened for this process (LISTEN_PID and LISTEN_FDS in
	// the environment), where it has.
	Activated bool
	// Certificate and Key are files in PEM: with them TCP is served over TLS, by HTTP/1.1 and
	// HTTP/2. They are read again when they change; files that cannot be used are logged, and the
	// certificate before them stays.
	Certificate, Key string
	// TLS is the configuration for TLS in addition to that; nil: Go's defaults.
	TLS *tls.Config
	// UnencryptedHTTP2 takes HTTP/2 without TLS as well, from callers with prior knowledge (RFC 9113, 3.3).
	UnencryptedHTTP2 bool
	// ReadHeaderTimeout is how long a header may take to arrive; 10 seconds where it is 0. Bodies have
	// a rate (see [Limits]), and streams no end.
	ReadHeaderTimeout time.Duration
	// IdleTimeout is how long a connection may wait for its next request; 2 minutes where it is 0.
	IdleTimeout time.Duration
	// MaxHeaderBytes is how large a header may be; 64 KiB where it is 0. A larger one is refused with
	// 431 by net/http.
	MaxHeaderBytes int
	// Notice is how long the server goes on as before once the context has ended, except for saying
	// that it is not ready (chain/health): a load balancer sees it meanwhile. 0: not at all.
	Notice time.Duration
	// Drain is how long requests that are under way may take after that; 15 seconds where it is 0.
	Drain time.Duration
	// Ready is called once all addresses are open and served, with those that are listened on: it may
	// call the server.
	Ready func(addresses []net.Addr)
}

// Serve is [API.ServeWith] for one TCP address. Each of ready is called once the port is open, with
// the address listened on.
func (a *API) Serve(ctx context.Context, address string, ready ...func(net.Addr)) error {
	return a.ServeWith(ctx, Serving{Addresses: []string{address}, Ready: func(at []net.Addr) {
		for _, f := range ready {
			f(at[0])
		}
	}})
}

// ServeOn is [API.ServeWith] for one listener, which it closes.
func (a *API) ServeOn(ctx context.Context, l net.Listener) error {
	return a.ServeWith(ctx, Serving{Listeners: []net.Listener{l}})
}

// ServeWith answers until ctx ends. Then it says that it is not ready, tells streams (exchange.Exchange.Draining)
// and connections that are kept alive, takes what has reached its listeners before it closes them,
// waits for the requests under way, and returns nil. It returns an error if it cannot listen, or if
// requests had to be cut off, which is logged as well.
//
// On Linux no connection that has reached a TCP address of its own is lost: the kernel lets no new ones
// in, those in its queue are taken, and those that have sent nothing yet have 5 seconds for a request.
// On other systems, where the kernel takes no filter, and at other listeners the queue is emptied as
// far as that can be seen, for a second at most: of connections that come in that very moment some
// are reset.
//
// With WICKETWAY_DESCRIBE=FILE in the environment it writes the API's
// description (package facts) into that file as JSON instead, and returns nil.
func (a *API) ServeWith(ctx context.Context, s Serving) error {
	listeners := slices.Clone(s.Listeners)
	closeAll := func() {
		for _, l := range listeners {
			l.Close()
		}
	}
	if asked, err := a.describing(); asked {
		closeAll()
		return err
	}
	if s.ReadHeaderTimeout < 0 || s.IdleTimeout < 0 || s.MaxHeaderBytes < 0 || s.Notice < 0 || s.Drain < 0 {
		closeAll()
		return fmt.Errorf(
			"serve: %v for a header of %d bytes, %v idle, %v of notice, %v to drain: none of them is negative",
			s.ReadHeaderTimeout, s.MaxHeaderBytes, s.IdleTimeout, s.Notice, s.Drain,
		)
	}
	if s.Activated {
		opened, err := activated()
		listeners = append(listeners, opened...)
		if err != nil {
			closeAll()
			return err
		}
	}
	own, keeper := len(s.Addresses), handover.Inherited()
	for _, address := range s.Addresses {
		l, err := keeper.Listen(address)
		if err != nil {
			closeAll()
			return err
		}
		listeners = append(listeners, l)
	}
	if len(listeners) == 0 {
		return errors.New("serve: neither an address nor a listener is given")
	}
	config, err := s.tls(a.fallbacks[0].terms().logger())
	if err != nil {
		closeAll()
		return err
	}
	ctx, cancel := until(ctx, keeper)
	defer cancel()
	return a.serve(ctx, s, listeners, own, config)
}

// activated are the sockets that a service manager has opened for this process
// (LISTEN_PID and LISTEN_FDS in the environment); none where it has not.
func activated() ([]net.Listener, error) {
	if os.Getenv("LISTEN_PID") != strconv.Itoa(os.Getpid()) {
		return nil, nil
	}
	n, err := strconv.Atoi(os.Getenv("LISTEN_FDS"))
	if err != nil || n < 0 || n > 256 {
		return nil, fmt.Errorf("LISTEN_FDS is %q, which is not a number of sockets", os.Getenv("LISTEN_FDS"))
	}
	var all []net.Listener
	for i := range n {
		file := os.NewFile(uintptr(3+i), "inherited") // 0 to 2 are the standard streams
		l, err := net.FileListener(file)
		file.Close()
		if err != nil {
			return all, fmt.Errorf("inherited socket %d: %w", i, err)
		}
		all = append(all, l)
	}
	return all, nil
}

// serve serves on listeners, of which the last are our own.
func (a *API) serve(ctx context.Context, s Serving, listeners []net.Listener, own int, config *tls.Config) error {
	r := &run{api: a, settings: s, log: a.fallbacks[0].terms().logger(), draining: make(chan struct{}),
		keeper: handover.Inherited()}
	r.server = &http.Server{
		Handler: a,
		BaseContext: func(net.Listener) context.Context {
			return exchange.WithDraining(context.Background(), r.draining)
		},
		ReadHeaderTimeout:            cmp.Or(s.ReadHeaderTimeout, 10*time.Second),
		IdleTimeout:                  cmp.Or(s.IdleTimeout, 2*time.Minute),
		MaxHeaderBytes:               cmp.Or(s.MaxHeaderBytes, 64<<10),
		DisableGeneralOptionsHandler: true, // OPTIONS * passes the chain as well
		TLSConfig:                    config,
		Protocols:                    new(http.Protocols),
		ErrorLog:                     slog.NewLogLogger(r.log.Handler(), slog.LevelDebug),
		ConnState:                    r.follow,
	}
	if r.keeper != nil {
		r.server.Handler = handed{a, r.keeper, r.draining}
	}
	r.server.Protocols.SetHTTP1(true)
	r.server.Protocols.SetHTTP2(config != nil)
	r.server.Protocols.SetUnencryptedHTTP2(s.UnencryptedHTTP2)
	urls := r.urls(listeners) // before the server sets its configuration up
	r.announce(listeners, urls)
	emptied := make(chan error, len(listeners))
	draining := make([]*drained, len(listeners))
	for i, l := range listeners {
		d := &drained{Listener: l, own: i >= len(listeners)-own}
		d.kept = d.own && r.keeper != nil
		draining[i] = d
		go func() {
			if config != nil && l.Addr().Network() != "unix" {
				emptied <- r.server.ServeTLS(d, "", "")
			} else {
				emptied <- r.server.Serve(d)
			}
		}()
	}
	r.keeper.Ready(a.info.Title, urls)
	if s.Ready != nil {
		addresses := make([]net.Addr, len(listeners))
		for i, l := range listeners {
			addresses[i] = l.Addr()
		}
		s.Ready(addresses)
	}
	if r.keeper != nil {
		r.running.Go(handed{a, r.keeper, r.draining}.describe)
		defer r.running.Wait()
	}
	select {
	case err := <-emptied: // a listener broke
		r.server.Close()
		for range len(listeners) - 1 {
			<-emptied
		}
		return err
	case <-ctx.Done():
	}
	return r.drain(draining, emptied)
}

// offering says itself that HTTP/2 is spoken: net/http sets that up once for all its listeners, and
// leaves it out where the first of them is a plain one.
func offering(config *tls.Config) *tls.Config {
	for _, name := range []string{"h2", "http/1.1"} {
		if !slices.Contains(config.NextProtos, name) {
			config.NextProtos = append(slices.Clip(config.NextProtos), name)
		}
	}
	return config
}

// drain ends a run: nobody who has reached a listener is turned away.
func (r *run) drain(listeners []*drained, emptied <-chan error) error {
	close(r.draining)
	begun := time.Now()
	most := cmp.Or(r.settings.Drain, 15*time.Second)
	limited, cancel := context.WithTimeout(context.Background(), r.settings.Notice+most)
	defer cancel()
	r.log.Log(
		limited, r.about(), "draining: no new connections, requests under way are finished", "requests", count(&r.active), "at_most",
		most.String(),
	)
	notice := r.settings.Notice
	if r.keeper != nil {
		notice = 0 // the next one is ready
	}
	sleep(limited, notice)
	for _, l := range listeners {
		l.drain()
	}
	for range listeners {
		<-emptied
	}
	if r.keeper != nil {
		sleep(limited, closeNotice)
	}
	r.waitForFresh(limited)
	err := r.server.Shutdown(limited)
	if err != nil {
		n := count(&r.active)
		r.log.Error("requests were cut off", "connections", n, "after", most)
		r.server.Close()
		return fmt.Errorf("%d connections were cut off: %w", n, err)
	}
	r.log.Log(limited, r.about(), "stopped", "drained_ms", time.Since(begun).Milliseconds())
	return nil
}

// urlOf is what to open in a browser on this machine to reach a listener.
func urlOf(l net.Listener, secure bool) string {
	at, ok := l.Addr().(*net.TCPAddr)
	if !ok {
		return l.Addr().Network() + ":" + l.Addr().String()
	}
	host := at.IP.String()
	if at.IP.IsUnspecified() {
		host = "localhost"
	}
	scheme := "http"
	if secure {
		scheme = "https"
	}
	return scheme + "://" + net.JoinHostPort(host, strconv.Itoa(at.Port)) + "/"
}

// urls are those of listeners.
func (r *run) urls(listeners []net.Listener) (urls []string) {
	for _, l := range listeners {
		urls = append(urls, urlOf(l, r.server.TLSConfig != nil))
	}
	return urls
}

// about is the level of what a server says about itself: its keeper says it, where it has one.
func (r *run) about() slog.Level {
	if r.keeper != nil {
		return slog.LevelDebug
	}
	return slog.LevelInfo
}

// follow notes what becomes of connections.
func (r *run) follow(c net.Conn, state http.ConnState) {
	switch state {
	case http.StateNew:
		r.fresh.Store(c, true)
		return
	case http.StateActive:
		r.active.Store(c, true)
	default:
		r.active.Delete(c)
	}
	r.fresh.Delete(c)
}

// announce says what is served.
func (r *run) announce(listeners []net.Listener, urls []string) {
	a := r.api
	mode := "production"
	if a.fallbacks[0].terms().development {
		mode = "development"
	}
	var addresses, versions []string
	for _, l := range listeners {
		addresses = append(addresses, l.Addr().String())
	}
	open, routes := 0, 0
	for i := range a.targets {
		t := &a.targets[i]
		if t.part.own {
			continue
		}
		routes++
		if !t.guarded() {
			open++
		}
		if v := t.terms().version; v != "" && !slices.Contains(versions, v) {
			versions = append(versions, v)
		}
	}
	slices.Sort(versions)
	r.log.Log(
		context.Background(), r.about(), "listening", "url", strings.Join(urls, " "), "api", a.info.Title, "address", strings.Join(addresses, " "), "tls",
		r.server.TLSConfig != nil, "mode", mode, "versions", strings.Join(versions, " "), "routes", routes, "open", open,
	)
}

// certificatePatience is the least time between two looks at the files.
const certificatePatience = time.Second

// A certificate is read again when its files change.
type certificate struct {
	certificate, key string
	log              *slog.Logger

	mu      sync.Mutex
	asked   time.Time // when the files were last looked at
	changed [2]time.Time
	loaded  *tls.Certificate
}

// tls is the configuration that the listeners use; nil for plain TCP.
func (s *Serving) tls(log *slog.Logger) (*tls.Config, error) {
	if s.Certificate == "" && s.Key == "" {
		if s.TLS != nil && (len(s.TLS.Certificates) > 0 || s.TLS.GetCertificate != nil) {
			return offering(s.TLS.Clone()), nil
		}
		return nil, nil
	}
	c := &certificate{certificate: s.Certificate, key: s.Key, log: log}
	if err := c.load(); err != nil {
		return nil, err
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if s.TLS != nil {
		config = s.TLS.Clone()
	}
	config.GetCertificate = c.get
	return offering(config), nil
}

func (c *certificate) load() error {
	changed := c.times()
	pair, err := tls.LoadX509KeyPair(c.certificate, c.key)
	if err != nil {
		return fmt.Errorf("certificate %s, key %s: %w", c.certificate, c.key, err)
	}
	c.loaded, c.changed = &pair, changed
	return nil
}

func (c *certificate) times() (changed [2]time.Time) {
	for i, name := range []string{c.certificate, c.key} {
		if about, err := os.Stat(name); err == nil {
			changed[i] = about.ModTime()
		}
	}
	return changed
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.asked) > certificatePatience {
		if c.asked = time.Now(); c.times() != c.changed {
			if err := c.load(); err != nil {
				c.log.Error("cannot load the certificate; keeping the previous one", "error", err)
			}
		}
	}
	return c.loaded, nil
}

// A run is one time that an API is served.
type run struct {
	api      *API
	settings Serving
	server   *http.Server
	log      *slog.Logger
	draining chan struct{}
	active   sync.Map // of connections with a request
	fresh    sync.Map // of connections that have sent nothing yet
	running  sync.WaitGroup
	keeper   *handover.Program // of the sockets; nil: nobody
}

func count(of *sync.Map) (n int) {
	of.Range(func(any, any) bool { n++; return true })
	return n
}

// waitForFresh waits for connections that have sent nothing yet.
func (r *run) waitForFresh(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, freshMost)
	defer cancel()
	for count(&r.fresh) > 0 && sleep(ctx, time.Millisecond) {
	}
}
