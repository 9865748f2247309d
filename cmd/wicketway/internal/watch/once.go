package watch

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/handover"
)

// readyMost is how long a program may take until it serves.
const readyMost = 30 * time.Second

// Once builds the program of a package, and runs it on free ports of this machine. It gives the address of the first API
// that the program serves, and its description, and a function that ends it.
func Once(ctx context.Context, pkg string, arguments []string) (address string, api facts.API, end func(), err error) {
	dir, err := os.MkdirTemp("", "wicketway-")
	if err != nil {
		return "", api, nil, err
	}
	b := &building{program: filepath.Join(dir, "program")}
	if b.run(ctx, pkg); b.mistakes != nil {
		os.RemoveAll(dir)
		return "", api, nil, fmt.Errorf("%s does not build:\n%s", pkg, lines(b.mistakes))
	}
	if about, err := os.Stat(b.program); err != nil || about.Mode()&0o111 == 0 && filepath.Separator == '/' {
		os.RemoveAll(dir)
		return "", api, nil, fmt.Errorf("%s is not a program: name the folder of a package main that calls api.Serve", pkg)
	}
	w := &Watch{Package: pkg, Arguments: arguments, Output: &bytes.Buffer{}, Errors: &bytes.Buffer{}}
	w.sockets.Free = true
	p, err := w.start(b)
	if err != nil {
		os.RemoveAll(dir)
		return "", api, nil, err
	}
	end = func() {
		p.child.Drain()
		select {
		case <-p.ended:
		case <-time.After(endMost):
			kill(p.command)
			<-p.ended
		}
		w.running.Wait()
		w.sockets.Close()
		os.RemoveAll(dir)
	}
	timeout := time.NewTimer(readyMost)
	defer timeout.Stop()
	failed := func(why string) (string, facts.API, func(), error) {
		end()
		return "", api, nil, errors.New(why + "\n" + strings.TrimSpace(w.Errors.(*bytes.Buffer).String()))
	}
	select {
	case <-p.ready:
	case <-p.ended:
		return failed(fmt.Sprintf("%s ended before it served an API\n%s", pkg, lines(p.mistakes())))
	case <-timeout.C:
		return failed(fmt.Sprintf("%s has not served an API within %v", pkg, readyMost))
	case <-ctx.Done():
		return failed("interrupted")
	}
	select {
	case <-p.described:
	case <-p.ended:
	case <-timeout.C:
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.api == nil || len(p.at) == 0 {
		p.mu.Unlock()
		defer p.mu.Lock()
		return failed(pkg + " served no API that describes itself")
	}
	return p.at[0], *p.api, end, nil
}

func lines(all []handover.Mistake) string {
	var texts []string
	for _, m := range all {
		texts = append(texts, Line(m))
	}
	return strings.Join(texts, "\n")
}
