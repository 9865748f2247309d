package watch

import (
	"bytes"
	"context"
	"os/exec"
	"slices"
	"strings"
	"time"
)

// testUnserved runs the tests for what has changed since the last time.
func (w *Watch) testUnserved(ctx context.Context, b *building) {
	if w.Tests && b.unserved != nil {
		w.test(ctx, b.unserved)
	}
}

// test begins to run the tests that files reach.
func (w *Watch) test(ctx context.Context, changed []string) {
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	w.tests = func() { cancel(); <-done }
	source := w.source.Load()
	go func() {
		defer close(done)
		packages, err := source.Reached(ctx, changed)
		if err != nil || len(packages) == 0 {
			return // what does not compile has been said
		}
		begun := time.Now()
		c := exec.CommandContext(ctx, "go", append([]string{"test", "--"}, packages...)...)
		c.Args = slices.DeleteFunc(c.Args, func(a string) bool { return a == "--" }) // go test takes none
		apart(c)
		c.Cancel = func() error { return kill(c) } // with what it has started
		var said bytes.Buffer
		c.Stdout, c.Stderr, c.WaitDelay = &said, &said, time.Second
		err = c.Run()
		if ctx.Err() != nil {
			return
		}
		e := Tested{Packages: packages, Took: time.Since(begun)}
		if err != nil {
			e.Failed = failed(said.String())
		}
		w.report(e)
	}()
	w.changedTests = changed
}

// stopTests ends tests that run, and gives the files for which they did.
func (w *Watch) stopTests() (changed []string) {
	if w.tests == nil {
		return nil
	}
	w.tests()
	changed, w.tests = w.changedTests, nil
	return changed
}

// failed leaves out what says that all is well.
func failed(said string) string {
	lines := slices.DeleteFunc(strings.Split(strings.TrimSpace(said), "\n"), func(line string) bool {
		return strings.HasPrefix(line, "ok  \t") || strings.HasPrefix(line, "?   \t") || line == "FAIL"
	})
	return strings.Join(lines, "\n")
}
