package watch

import (
	"fmt"
	"os"
	"os/exec"
	"sync"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/handover"
)

// How long a program may take to end: once it was told to drain, in a turn and where the watcher ends, and once it was
// interrupted.
const (
	drainMost     = 20 * time.Second
	endMost       = 3 * time.Second
	interruptMost = 5 * time.Second
)

// describeMost is for how long a description is waited for once a program is ready.
const describeMost = 2 * time.Second

// hearMost is how long the last words of a program that has ended are waited for.
const hearMost = time.Second

// A program is a process. A nil program has never been: its methods do nothing.
type program struct {
	command *exec.Cmd
	child   *handover.Child
	errors  *holding
	built   *building
	started time.Time
	ended   chan struct{} // closed when it has
	isOver  bool          // the loop knows

	ready     chan struct{} // closed when it is
	described chan struct{} // closed when it is, or never will be

	mu    sync.Mutex
	title string // of the API that was served first
	at    []string
	after time.Duration
	api   *facts.API
	wrong []handover.Mistake
	state *os.ProcessState
}

// start starts what was built, and removes the file where the system lets it: nothing is left behind then, whatever
// is killed.
func (w *Watch) start(b *building) (*program, error) {
	p := &program{command: exec.Command(b.program, w.Arguments...), errors: &holding{to: w.Errors, holds: true}, built: b,
		started: time.Now(), ended: make(chan struct{}), ready: make(chan struct{}), described: make(chan struct{})}
	apart(p.command)
	p.command.Env = append(os.Environ(), w.Environment...)
	p.command.Stdout, p.command.Stderr, p.command.WaitDelay = w.Output, p.errors, time.Second
	var err error
	if p.child, err = w.sockets.Start(p.command); err != nil {
		return nil, fmt.Errorf("the program cannot be started: %w", err)
	}
	os.Remove(b.program)
	release := time.AfterFunc(2*time.Second, func() { p.errors.release() }) // it takes its time: show what it does

	heard := make(chan struct{}) // closed when the program has said all
	w.running.Go(func() {
		defer close(heard)
		for m := range p.child.Messages {
			p.take(m)
		}
		p.noDescription()
	})
	w.running.Go(func() {
		p.command.Wait()
		release.Stop()
		select {
		case <-heard: // what it said last, such as its mistakes, counts
		case <-time.After(hearMost): // something that it has started goes on, and has its socket
		}
		p.child.Close()
		p.mu.Lock()
		p.state = p.command.ProcessState
		p.mu.Unlock()
		close(p.ended)
	})
	return p, nil
}

// take takes what the program says.
func (p *program) take(m handover.Message) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case m.Mistakes != nil:
		p.wrong = append(p.wrong, m.Mistakes...)
	case m.Ready != nil:
		p.at = append(p.at, m.Ready...)
		if p.after == 0 { // the first of its servers
			p.after, p.title = time.Since(p.built.at), m.Title
			close(p.ready)
		}
	case m.Description != nil && p.api == nil:
		if api := read(m.Description); api != nil && api.Title == p.title {
			p.api = api
			close(p.described)
		}
	}
}

func read(description jsontext.Value) *facts.API {
	api := new(facts.API)
	if json.Unmarshal(description, api) != nil {
		return nil // from another version of Wicketway: the program serves all the same
	}
	return api
}

// noDescription ends the wait for one.
func (p *program) noDescription() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.api == nil {
		close(p.described)
	}
}

// isReady is closed once the program serves.
func (p *program) isReady() <-chan struct{} {
	if p == nil {
		return nil
	}
	return p.ready
}

// hasEnded is closed once the program has ended; nil where the loop knows.
func (p *program) hasEnded() <-chan struct{} {
	if p == nil || p.isOver {
		return nil
	}
	return p.ended
}

// served notes that the program has ended.
func (p *program) served() { p.isOver = true }

func (p *program) serves() bool { return p != nil && !p.isOver }

// same reports whether what was built is this program, which serves.
func (p *program) same(b *building) bool {
	if !p.serves() || b.sum == 0 || b.sum != p.built.sum {
		return false
	}
	for _, file := range b.unserved {
		if !b.embeds(file) {
			return false // it may be read when the program starts
		}
	}
	return true
}

func (b *building) embeds(file string) bool { return b.source != nil && b.source.Embeds(file) }

func (p *program) behind(why string) {
	if p != nil {
		p.child.Behind(why)
	}
}

func (p *program) addresses() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.at
}

func (p *program) readyAfter() time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.after
}

func (p *program) mistakes() []handover.Mistake {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.wrong
}

// description waits for it a little.
func (p *program) description() *facts.API {
	select {
	case <-p.described:
	case <-time.After(describeMost):
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.api
}

// stop ends the program: it may finish what is under way, and is killed where that takes too long.
func (p *program) stop() { p.stopWithin(drainMost) }

func (p *program) stopWithin(most time.Duration) {
	if p == nil {
		return
	}
	defer p.errors.release()
	select {
	case <-p.ready:
		p.child.Drain()
		if p.endsWithin(most) {
			return
		}
	default: // it has nothing to finish
	}
	interrupt(p.command)
	if p.endsWithin(interruptMost) {
		return
	}
	kill(p.command)
	<-p.ended
}

func (p *program) endsWithin(most time.Duration) bool {
	select {
	case <-p.ended:
		return true
	case <-time.After(most):
		return false
	}
}
