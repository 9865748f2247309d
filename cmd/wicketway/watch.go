package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/sources"
	"github.com/wicketway/wicketway/cmd/wicketway/internal/watch"
)

func watchCommand() *cobra.Command {
	w := &watch.Watch{}
	c := &cobra.Command{
		Use:   "watch PACKAGE [-- ARGUMENTS]",
		Short: "Run a program, and start it anew when its code changes, without refusing a request",
		Long: `Run a program, and start it anew when its code changes, without refusing a request.

A change of a Go file, a template, an asset, an embedded or a module file builds PACKAGE again. The
program before serves until the new one is ready, and then finishes its requests. While newer code does
not build, answers have the header field Wicketway-Newer-Code, and pages about problems say so.

The program is in development (WICKETWAY_DEVELOPMENT=1) unless the environment says otherwise. What is
behind -- is passed to it.`,
		Args: watchTakes,
		RunE: func(c *cobra.Command, args []string) error {
			errs := screenOf(c.ErrOrStderr())
			w.Package, w.Arguments = ".", args
			if n := c.ArgsLenAtDash(); n != 0 && len(args) > 0 {
				w.Package, w.Arguments = args[0], args[1:]
			}
			if os.Getenv("WICKETWAY_DEVELOPMENT") == "" {
				w.Environment = append(w.Environment, "WICKETWAY_DEVELOPMENT=1")
			}
			if errs.colours {
				w.Environment = append(w.Environment, "CLICOLOR_FORCE=1")
			}
			v := &watchView{to: errs}
			v.program.view = v
			w.Output, w.Errors, w.Report = c.OutOrStdout(), &v.program, v.report
			err := w.Run(c.Context())
			v.end()
			if _, is := errors.AsType[sources.Refusal](err); is {
				return err
			}
			return checked(err)
		},
	}
	c.Flags().BoolVar(&w.Tests, "test", false, "run the tests that a change reaches, once the program serves")
	c.Flags().BoolVar(&w.StopFirst, "stop-first", false,
		"stop the program before the new one starts, where two cannot run at once; requests wait")
	return c
}

// watchTakes checks that at most one argument is before the two dashes.
func watchTakes(c *cobra.Command, args []string) error {
	own := args
	if n := c.ArgsLenAtDash(); n >= 0 {
		own = args[:n]
	}
	if len(own) > 1 {
		return fmt.Errorf("unexpected argument %q: %s; arguments of the program come behind --", own[1], c.CommandPath()+" PACKAGE [-- ARGUMENTS]")
	}
	return nil
}
