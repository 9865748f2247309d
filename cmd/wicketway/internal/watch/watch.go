// Package watch builds a program, runs it, and starts it anew whenever what it is made from changes.
//
// The sockets of the program are kept by the watcher (package handover), so that no request is refused or lost: the old
// program serves until the new one is ready, and then drains. Where newer code does not build, or ends before it is
// ready, the old program goes on. Where a program that served has ended, the watcher answers in its place, with 503,
// until the next one is ready.
package watch

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/sources"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/handover"
)

// silence is after what time a program that has not said anything is said to be silent.
const silence = 5 * time.Second

// A Watch is one program that is watched. Its fields are set before Run.
type Watch struct {
	Package   string
	Arguments []string
	// Environment is what the program has in addition to that of the watcher.
	Environment []string
	// StopFirst stops a program before the next one starts, for those of which two cannot run at once. Requests wait.
	StopFirst bool
	// Tests runs the tests of the packages that a change reaches, once the program serves.
	Tests bool
	// Output and Errors are where what the program writes goes.
	Output, Errors io.Writer
	// Report is told what happens, one event after another: see [Building] and its siblings.
	Report func(event any)

	reporting sync.Mutex
	source    atomic.Pointer[sources.Program]
	failing   atomic.Bool // the last build failed
	sockets   handover.Sockets
	claim     claim
	running   sync.WaitGroup // of all that must end before Run returns

	current *program // it serves, or has served
	next    *program // it has been started, and is not ready
	stand   *standIn // answers where nothing serves
	strikes map[string]int

	tests        func()   // ends the tests that run
	changedTests []string // for which they do
}

// The events. Files are written as they can be understood in the current folder.
type (
	// Building begins. The files have changed; none at the start.
	Building struct{ Changed []string }
	// Starting says that a program has been built and started.
	Starting struct{ Built time.Duration }
	// Silent says that a program has been started, but has not called Serve for a while.
	Silent struct{ After time.Duration }
	// Serving says that a program serves, instead of the one before.
	Serving struct {
		Changed        []string
		Built, Started time.Duration // how long go build took, and how long it was after that until the program was ready
		Addresses      []string
		Before, Now    *facts.API // what is served; nil where that is not known
		First          bool
	}
	// Same says that the files make the program that runs already.
	Same struct{ Changed []string }
	// Mistaken says that newer code does not build, or that its description has mistakes.
	Mistaken struct {
		Changed  []string
		Mistakes []handover.Mistake // own files first
		Serves   bool               // the program before goes on
	}
	// Ended says that a program has ended by itself.
	Ended struct {
		Changed []string // before it was started, where it has not served
		Crash
		Served   bool // it had served
		Serves   bool // the program before goes on
		Answered bool // callers are answered in its place
	}
	// Tested says what the tests said.
	Tested struct {
		Packages []string
		Took     time.Duration
		Failed   string // what was printed; "" where all is well
	}
	// Left says that a file is no longer looked at, since the program seems to write it itself.
	Left struct{ File string }
)

// Run watches until ctx ends, and returns once nothing that it has started is left. It returns an error at once where
// there is no program to watch: a [sources.Refusal].
func (w *Watch) Run(ctx context.Context) error {
	source, err := sources.Of(ctx, w.Package)
	if err != nil {
		return err
	}
	w.source.Store(source)
	w.strikes, w.claim = map[string]int{}, newClaim(w.Package)
	w.sockets.InUse = inUse
	files, err := newFiles(w.matters)
	if err != nil {
		return err
	}
	defer files.close()
	if err := files.add(source.Folders()); err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "wicketway-watch-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	defer w.end()
	w.loop(ctx, dir, files)
	return nil
}

// loop is the only place where programs change.
func (w *Watch) loop(ctx context.Context, dir string, files *files) {
	b := w.build(ctx, dir, nil)
	silent := time.NewTimer(silence)
	silent.Stop()
	for {
		select {
		case <-ctx.Done():
			b.cancel()
			<-b.done
			return
		case changed := <-files.changed:
			changed = w.without(changed)
			tests := w.stopTests()
			if slices.ContainsFunc(changed, w.program) || b.running() {
				b.cancel()
				<-b.done
				b = w.build(ctx, dir, union(w.unserved(b), append(changed, tests...)))
			} else if w.Tests && len(changed) > 0 {
				w.test(ctx, append(changed, tests...))
			}
		case <-b.ready():
			b.taken = true
			if w.built(ctx, b, files) {
				silent.Reset(silence)
			}
		case <-w.next.isReady():
			silent.Stop()
			w.turn(ctx)
		case <-w.next.hasEnded():
			silent.Stop()
			w.failedStart()
		case <-w.current.hasEnded():
			w.crashed()
		case <-silent.C:
			if w.next != nil {
				w.report(Silent{silence})
			}
		}
	}
}

// unserved are the files that have changed since the last program that has been ready was built.
func (w *Watch) unserved(b *building) (all []string) {
	if b.running() || w.failing.Load() {
		all = b.unserved
	}
	if w.next != nil {
		all = append(all[:len(all):len(all)], w.next.built.unserved...)
	}
	return all
}

// matters reports whether a change of a file is to be looked at.
func (w *Watch) matters(file string) bool {
	return w.program(file) || w.Tests && (strings.HasSuffix(file, "_test.go") || strings.Contains(file, "testdata"))
}

// program reports whether a change of a file may change the program. While code does not build the packages that it
// needs are not known.
func (w *Watch) program(file string) bool {
	return w.source.Load().Uses(file) || w.failing.Load() && strings.HasSuffix(file, ".go") && !strings.HasSuffix(file, "_test.go")
}

func (w *Watch) report(event any) {
	w.reporting.Lock()
	defer w.reporting.Unlock()
	w.Report(event)
}

// built starts a program that has been built, and reports whether it did.
func (w *Watch) built(ctx context.Context, b *building, files *files) bool {
	if b.source != nil {
		w.source.Store(b.source)
		files.add(b.source.Folders()) // that one of them is gone will be seen
	}
	w.failing.Store(b.mistakes != nil)
	switch {
	case ctx.Err() != nil:
		return false
	case b.mistakes != nil:
		w.mistaken(b.changed, b.mistakes)
		return false
	case w.next == nil && w.current.same(b):
		w.current.behind("")
		w.report(Same{b.changed})
		w.testUnserved(ctx, b)
		return false
	}
	w.next.stop()
	if w.StopFirst && w.current != nil {
		w.current.stop()
		w.current = nil
	}
	next, err := w.start(b)
	if err != nil {
		w.mistaken(b.changed, []handover.Mistake{{Text: err.Error()}})
		return false
	}
	w.next = next
	w.report(Starting{b.took})
	return true
}

// turn lets the next program take over.
func (w *Watch) turn(ctx context.Context) {
	before, b := w.current, w.next.built
	w.current, w.next = w.next, nil
	w.current.errors.release()
	w.sockets.Only(w.current.child)
	if before != nil {
		w.running.Go(before.stop)
	}
	if w.stand != nil {
		w.running.Go(w.stand.stop)
		w.stand = nil
	}
	e := Serving{Changed: b.changed, Built: b.took, Started: w.current.readyAfter(), Addresses: w.current.addresses(),
		Now: w.current.description(), First: before == nil}
	if before != nil {
		e.Before = before.description()
	}
	w.claim.write(e.Addresses)
	w.report(e)
	w.testUnserved(ctx, b)
}

// failedStart is a program that has ended before it was ready.
func (w *Watch) failedStart() {
	next := w.next
	w.next = nil
	crash := next.crash(w.source.Load().Roots)
	if mistakes := next.mistakes(); mistakes != nil {
		w.mistaken(next.built.changed, mistakes)
		return
	}
	w.cannot(crash.summary())
	w.report(Ended{next.built.changed, crash, false, w.current.serves(), w.stand.answers()})
}

// crashed is a program that has ended while it served.
func (w *Watch) crashed() {
	crash := w.current.crash(w.source.Load().Roots)
	w.current.served()
	w.cannot(crash.summary())
	w.report(Ended{nil, crash, true, false, w.stand.answers()})
}

// mistaken tells everyone that newer code does not build.
func (w *Watch) mistaken(changed []string, mistakes []handover.Mistake) {
	mistakes = ownFirst(mistakes, w.source.Load().Roots)
	text := "does not build: " + Line(mistakes[0])
	if n := len(mistakes) - 1; n > 0 {
		text += fmt.Sprintf(" (and %d more)", n)
	}
	w.cannot(text)
	w.report(Mistaken{changed, mistakes, w.current.serves()})
}

// cannot tells callers why newer code does not serve: by the program that does, or in its place.
func (w *Watch) cannot(why string) {
	if w.current.serves() {
		w.current.behind(why)
		return
	}
	if !w.stand.answers() { // there may be sockets by now
		w.stand = newStandIn(&w.sockets)
	}
	w.stand.why.Store(&why)
}

// without leaves out files that the program writes itself: those that change alone, right after a start, again and
// again.
func (w *Watch) without(changed []string) (left []string) {
	soon := w.current != nil && time.Since(w.current.started) < 2*time.Second
	alone := !slices.ContainsFunc(changed, w.source.Load().Embeds)
	for _, file := range changed {
		if w.strikes[file] >= 3 {
			continue
		}
		if soon && alone {
			w.strikes[file]++
		} else {
			w.strikes[file] = 0
		}
		if w.strikes[file] == 3 {
			w.report(Left{Short(file)})
			continue
		}
		left = append(left, file)
	}
	return left
}

// end stops all that is left.
func (w *Watch) end() {
	w.stopTests()
	for _, p := range []*program{w.next, w.current} {
		w.running.Go(func() { p.stopWithin(endMost) })
	}
	if w.stand != nil {
		w.running.Go(w.stand.stop)
	}
	w.running.Wait()
	w.sockets.Close()
	w.claim.remove()
}

func union(a, b []string) []string {
	return slices.Compact(slices.Sorted(slices.Values(slices.Concat(a, b))))
}
