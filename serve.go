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
// It returns an error if it cannot listen, or if requests had to be cut off.
func (a *API) Serve(ctx context.Context, address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	return a.ServeOn(ctx, l)
}

// ServeOn is Serve on a listener, which it closes.
func (a *API) ServeOn(ctx context.Context, l net.Listener) error {
	server := &http.Server{Handler: a, ReadHeaderTimeout: headerTimeout, IdleTimeout: idleTimeout}
	drained := make(chan error, 1)
	stop := context.AfterFunc(ctx, func() {
		limited, cancel := context.WithTimeout(context.Background(), drainTimeout)
		defer cancel()
		err := server.Shutdown(limited)
		if err != nil {
			server.Close()
		}
		drained <- err
	})
	err := server.Serve(l)
	if stop() { // ctx is still alive: the listener broke
		return err
	}
	if !errors.Is(err, http.ErrServerClosed) {
		return errors.Join(err, <-drained)
	}
	return <-drained
}
