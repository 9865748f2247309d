package watch

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/internal/handover"
	"github.com/wicketway/wicketway/problem"
)

var errNoProgram = problem.Define(http.StatusServiceUnavailable, "no-program", "The program does not run").
	Means("wicketway watch answers in its place until it does.")

// A standIn answers where no program does, so that callers see why rather than wait. Where a program spoke TLS its
// callers cannot read that.
type standIn struct {
	why    atomic.Pointer[string]
	server *http.Server
	open   []net.Listener
	fresh  sync.Map // connections that have sent nothing yet
}

type anyPath struct {
	Path string `from:"path path"`
}

func newStandIn(sockets *handover.Sockets) *standIn {
	s := &standIn{open: sockets.Listeners()}
	api, err := wicketway.Build(wicketway.Info{Title: "wicketway watch", Version: "1.0.0"},
		wicketway.Log(slog.New(slog.DiscardHandler)),
		wicketway.Route("* /{+path}", func(context.Context, anyPath) (wicketway.None, error) {
			return wicketway.None{}, errNoProgram.New(*s.why.Load())
		}, wicketway.Fails(errNoProgram)))
	if err != nil {
		panic(err) // the description is right there
	}
	s.server = &http.Server{
		Handler:           api,
		ReadHeaderTimeout: 10 * time.Second,
		ErrorLog:          slog.NewLogLogger(slog.DiscardHandler, slog.LevelError),
		ConnState: func(c net.Conn, state http.ConnState) {
			if state == http.StateNew {
				s.fresh.Store(c, true)
			} else {
				s.fresh.Delete(c)
			}
		},
	}
	s.server.SetKeepAlivesEnabled(false) // the next request is the program's
	for _, l := range s.open {
		go s.server.Serve(l)
	}
	return s
}

// answers reports whether there is an address at which it does.
func (s *standIn) answers() bool { return s != nil && len(s.open) > 0 }

// stop answers those who have come, and no others.
func (s *standIn) stop() {
	for _, l := range s.open {
		l.Close()
	}
	for until := time.Now().Add(time.Second); time.Now().Before(until); time.Sleep(time.Millisecond) {
		waiting := false
		s.fresh.Range(func(any, any) bool { waiting = true; return false })
		if !waiting {
			break
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if s.server.Shutdown(ctx) != nil {
		s.server.Close()
	}
}
