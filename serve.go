package wicketway

import (
	"context"
	"errors"
	"net"
	"net/http"
	"time"
)

// How long a connection may take. A body or an answer has no limit of its own
// here, since it may be a stream.
const (
	headerTimeout = 10 * time.Second
	idleTimeout   = 2 * time.Minute
	drainTimeout  = 15 * time.Second
)

// Serve listens on a TCP address and answers until ctx ends. Then it takes no
// more requests, waits up to 15 seconds for those under way, and returns nil.
// Each of ready is called once the port is open, with the address listened on.
// It returns an error if it cannot listen, or if requests had to be cut off.
//
// With WICKETWAY_DESCRIBE=FILE in the environment it writes the API's
// [Description] into that file as JSON instead, and returns nil.
func (a *API) Serve(ctx context.Context, address string, ready ...func(net.Addr)) error {
	if asked, err := a.describing(); asked {
		return err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	for _, f := range ready {
		f(l.Addr())
	}
	return a.serve(ctx, l)
}

// ServeOn is Serve on a listener, which it closes.
func (a *API) ServeOn(ctx context.Context, l net.Listener) error {
	if asked, err := a.describing(); asked {
		return errors.Join(err, l.Close())
	}
	return a.serve(ctx, l)
}

func (a *API) serve(ctx context.Context, l net.Listener) error {
	draining := make(chan struct{})
	server := &http.Server{
		Handler: a,
		BaseContext: func(net.Listener) context.Context {
			return context.WithValue(context.Background(), drainKey{}, draining)
		},
		ReadHeaderTimeout:            headerTimeout,
		IdleTimeout:                  idleTimeout,
		DisableGeneralOptionsHandler: true, // OPTIONS * passes the chain as well
	}
	drained := make(chan error, 1)
	stop := context.AfterFunc(ctx, func() {
		close(draining)
		limited, cancel := context.WithTimeout(context.Background(), drainTimeout)
		defer cancel()
		err := server.Shutdown(limited)
		if err != nil {
			server.Close()
		}
		drained <- err
	})
	mode := "production"
	if a.fallbacks[0].terms().development {
		mode = "development"
	}
	a.fallbacks[0].terms().logger().Info("listening", "api", a.info.Title, "address", l.Addr().String(), "mode", mode)
	err := server.Serve(l)
	if stop() { // ctx is still alive: the listener broke
		return err
	}
	if !errors.Is(err, http.ErrServerClosed) {
		return errors.Join(err, <-drained)
	}
	return <-drained
}
