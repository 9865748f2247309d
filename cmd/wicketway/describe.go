package main

import (
	"fmt"
	"io"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/watch"
	"github.com/wicketway/wicketway/facts"
)

// An answering is what a command found: data for --json, and how it is printed for
// people.
type answering struct {
	data  any
	print func(io.Writer)
	// shortfall is an error about the result, once that has been printed.
	shortfall error
}

// packageHelp says what PACKAGE is.
const packageHelp = `PACKAGE is the Go package of a program that calls api.Serve, such as ./cmd/server;
it is built, and run with WICKETWAY_DESCRIBE=FILE in its environment, so that it
writes its description instead of listening. The description is kept as long as no
file and no variable of the environment changes. PACKAGE can also be such a file.
Default: the current folder.`

// aboutAPI makes a command whose last argument is the API that it describes; it may be
// left out where the current folder has the program. The others are named in use.
func aboutAPI(use, short string, find func(d facts.API, args []string) (answering, error)) *cobra.Command {
	var asJSON, fresh bool
	c := &cobra.Command{
		Use:   use,
		Short: short,
		Long:  short + ".\n\n" + packageHelp,
		Args:  takes,
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

// where writes a place as short as it can be understood here.
func where(p facts.Place) string { return fmt.Sprintf("%s:%d", watch.Short(p.File), p.Line) }
