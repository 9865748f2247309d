package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/sources"
	"github.com/wicketway/wicketway/facts"
)

// How long a program may take until it has built its API, and to describe it after that.
const (
	buildLimit    = 20 * time.Second
	describeLimit = 3 * time.Second
)

// A source is where a description comes from, and how it is asked for.
type source struct {
	errs  screen // where progress is shown
	fresh bool   // a description that was kept does not count
}

// describe gets an API's description from a Go package, whose program is built
// and run for it, or from a file that such a program has written.
func (s source) describe(ctx context.Context, from string) (facts.API, error) {
	var d facts.API
	text, err := os.ReadFile(from)
	if err != nil {
		if text, err = s.askPackage(ctx, from); err != nil {
			return d, err
		}
	}
	if err := json.Unmarshal(text, &d); err != nil {
		return d, fmt.Errorf("%s is not a description of an API: %w", from, err)
	}
	return d, nil
}

// askPackage gives what is kept of a package's program, or asks that.
func (s source) askPackage(ctx context.Context, pkg string) ([]byte, error) {
	if text, ok := findKept(pkg); ok && !s.fresh {
		return text, nil
	}
	program, err := sources.Of(ctx, pkg)
	if err != nil {
		return nil, err
	}
	k := newKept(program) // before it is built: what changes meanwhile counts
	defer s.errs.progress("building " + pkg)()
	text, err := askProgram(ctx, "", pkg)
	if err == nil {
		k.keep(text)
	}
	return text, err
}

// askProgram builds the program of a package, as it is named in a folder ("": the current one), and asks it.
func askProgram(ctx context.Context, in, pkg string) ([]byte, error) {
	dir, err := os.MkdirTemp("", "wicketway-")
	if err != nil {
		return nil, checked(err)
	}
	defer os.RemoveAll(dir)
	program, file := filepath.Join(dir, "program"), filepath.Join(dir, "description.json")
	var said bytes.Buffer
	build := exec.CommandContext(ctx, "go", "build", "-o", program, pkg)
	build.Dir, build.Stderr = in, &said
	if err := build.Run(); err != nil {
		return nil, checked(fmt.Errorf("%s does not build:\n%s", pkg, said.String()))
	}
	limited, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go giveUp(limited, cancel, file)
	run := exec.CommandContext(limited, program)
	run.Env = append(os.Environ(), "WICKETWAY_DESCRIBE="+file)
	run.Dir, run.Stderr = in, &said
	err = run.Run()
	text, readErr := os.ReadFile(file)
	switch {
	case readErr == nil:
		return text, nil
	case errors.Is(context.Cause(limited), errUndescribed):
		return nil, checked(
			fmt.Errorf(
				"%s built an API, but has neither called api.Serve nor described it within %v. A program with an http.Server of its own adds after Build:\n\n\tif done, err := api.Described(); done {\n\t\treturn err\n\t}",
				pkg,
				describeLimit,
			),
		)
	case errors.Is(context.Cause(limited), errUnbuilt):
		return nil, checked(
			fmt.Errorf(
				"%s has not called wicketway.Build within %v: it should do so before it waits for anything else", pkg,
				buildLimit),
		)
	case err != nil:
		return nil, checked(fmt.Errorf("%s ended before it described its API (%v):\n%s", pkg, err,
			strings.TrimSpace(said.String())))
	}
	return nil, checked(fmt.Errorf("%s ended without describing an API: is it a program that calls api.Serve?", pkg))
}

var (
	errUnbuilt     = errors.New("nothing was built")
	errUndescribed = errors.New("nothing was described")
)

// giveUp ends a program that goes on without describing its API.
func giveUp(ctx context.Context, end context.CancelCauseFunc, file string) {
	start, built := time.Now(), time.Time{}
	for ctx.Err() == nil {
		time.Sleep(20 * time.Millisecond)
		if _, err := os.Stat(file + ".built"); err == nil && built.IsZero() {
			built = time.Now()
		}
		switch {
		case built.IsZero() && time.Since(start) > buildLimit:
			end(errUnbuilt)
		case !built.IsZero() && time.Since(built) > describeLimit:
			end(errUndescribed)
		}
	}
}
