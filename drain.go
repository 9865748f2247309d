package wicketway

import (
	"context"
	"net"
	"net/http"
	"sync/atomic"
	"time"
)

// How long the end of a run takes at most, step by step.
const (
	// drainPatience is for how long a listener must have nothing for its queue to be empty, and
	// drainMost for how long it is emptied at most, where the door cannot be shut.
	drainPatience = 20 * time.Millisecond
	drainMost     = time.Second
	// emptyTries is how often the queue must be empty behind a shut door, emptyPause apart: a handshake
	// that was under way may end meanwhile.
	emptyTries = 10
	emptyPause = 10 * time.Millisecond
	// freshMost is for how long connections are waited for that have sent nothing yet: net/http drops
	// what it reads of them after Shutdown has begun.
	freshMost = 5 * time.Second
)

// A drained listener takes all that has reached it before it ends: what the system has accepted for us
// would be reset otherwise.
type drained struct {
	net.Listener
	own   bool // Serve has opened it, so that nobody else waits at it
	kept  bool // the socket stays open for the next program
	until atomic.Pointer[time.Time]
	shut  atomic.Bool
}

func (d *drained) Accept() (net.Conn, error) {
	if d.shut.Load() {
		return d.acceptRest()
	}
	conn, err := d.Listener.Accept()
	until := d.until.Load()
	switch {
	case until == nil, err == nil && d.shut.Load():
		return conn, err
	case d.shut.Load():
		return d.acceptRest()
	case err != nil || time.Now().After(*until):
		d.Close()
		if err == nil {
			return conn, nil // the last one; the next Accept fails
		}
		return nil, http.ErrServerClosed
	}
	d.patient()
	return conn, nil
}

// acceptRest takes what is left in the queue behind a shut door. Accept itself would report the deadline
// that woke it without looking.
func (d *drained) acceptRest() (net.Conn, error) {
	for range emptyTries {
		conn, err := acceptNow(d.Listener.(*net.TCPListener))
		if conn != nil {
			return conn, nil
		}
		if err != nil {
			break
		}
		time.Sleep(emptyPause)
	}
	d.Close()
	return nil, http.ErrServerClosed
}

// drain has Accept end once the queue is empty. The door of a listener of our own is shut first, so
// that its queue comes to an end; of others we only take what is there.
func (d *drained) drain() {
	if d.kept {
		d.Close() // who waits in its queue is the next one's
		return
	}
	if tcp, ok := d.Listener.(*net.TCPListener); ok && d.own && shutDoor(tcp) == nil {
		d.shut.Store(true)
	}
	until := time.Now().Add(drainMost)
	d.until.Store(&until)
	if !d.patient() {
		d.Close()
	}
}

// patient gives the Accept that waits, and the next one, a little time; false where a listener takes no
// deadlines.
func (d *drained) patient() bool {
	wait := drainPatience
	if d.shut.Load() {
		wait = 0 // the queue is looked into without Accept
	}
	l, ok := d.Listener.(interface{ SetDeadline(time.Time) error })
	return ok && l.SetDeadline(time.Now().Add(wait)) == nil
}

// sleep waits, and reports whether the context has not ended meanwhile.
func sleep(ctx context.Context, d time.Duration) bool {
	if d <= 0 {
		return ctx.Err() == nil
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}
