package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/sources"
	"github.com/wicketway/wicketway/facts"
)

// How long a program may take until it has built its API, and to describe it after that.
const (
	buildLimit    = 20 * time.Second
	describeLimit = 3 * time.Second
)

// An answering is what a command found: data for --json, and how it is printed for
// people.
type answering struct {
	data  any
	print func(io.Writer)
	// shortfall is an error about the result, once that has been printed.
	shortfall error
}

// A source is where a description comes from, and how it is asked for.
type source struct {
	errs  screen // where progress is shown
	fresh bool   // a description that was kept does not count
}

// aboutAPI makes a command whose last argument is the API that it describes; it may be
// left out where the current folder has the program. The others are named in use.
func aboutAPI(use, short string, find func(d facts.API, args []string) (answering, error)) *cobra.Command {
	var asJSON, fresh bool
	c := &cobra.Command{
		Use:   use,
		Short: short,
		Long: short + `.

PACKAGE is the Go package of a program that calls api.Serve, such as ./cmd/server;
it is built, and run with WICKETWAY_DESCRIBE=FILE in its environment, so that it
writes its description instead of listening. The description is kept as long as no
file and no variable of the environment changes. PACKAGE can also be such a file.
Default: the current folder.`,
		Args: takes,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < len(strings.Fields(use))-1 {
				args = append(args, ".")
			}
			from := source{screenOf(c.ErrOrStderr()), fresh}
			d, err := from.describe(c.Context(), args[len(args)-1])
			if err != nil {
				return err
			}
			found, err := find(d, args)
			if err != nil {
				return err
			}
			if asJSON {
				if err := printJSON(c.OutOrStdout(), found.data); err != nil {
					return err
				}
			} else {
				found.print(c.OutOrStdout())
			}
			return found.shortfall
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.Flags().BoolVar(&fresh, "fresh", false, "build and run the program even where its description is kept")
	c.ValidArgsFunction = completeArguments
	return c
}

func printJSON(out io.Writer, v any) error {
	if err := json.MarshalWrite(out, v, jsontext.WithIndent("  ")); err != nil {
		return checked(err)
	}
	fmt.Fprintln(out)
	return nil
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
	text, err := askProgram(ctx, pkg)
	if err == nil {
		k.keep(text)
	}
	return text, err
}

func askProgram(ctx context.Context, pkg string) ([]byte, error) {
	dir, err := os.MkdirTemp("", "wicketway-")
	if err != nil {
		return nil, checked(err)
	}
	defer os.RemoveAll(dir)
	program, file := filepath.Join(dir, "program"), filepath.Join(dir, "description.json")
	var said bytes.Buffer
	build := exec.CommandContext(ctx, "go", "build", "-o", program, pkg)
	build.Stderr = &said
	if err := build.Run(); err != nil {
		return nil, checked(fmt.Errorf("%s does not build:\n%s", pkg, said.String()))
	}
	limited, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go giveUp(limited, cancel, file)
	run := exec.CommandContext(limited, program)
	run.Env = append(os.Environ(), "WICKETWAY_DESCRIBE="+file)
	run.Stderr = &said
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

// where writes a place as short as it can be understood here.
func where(p facts.Place) string {
	file := p.File
	if here, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(here, file); err == nil && !strings.HasPrefix(rel, "..") {
			file = rel
		}
	}
	return fmt.Sprintf("%s:%d", file, p.Line)
}
