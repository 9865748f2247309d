// Wicketway is the command-line tool of package wicketway.
//
// Its exit status is 0 where all is well, 1 where what was checked or done falls
// short, and 2 where the call itself was wrong.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, os.Args[1:], os.Stdout, os.Stderr))
}

// newRoot is the tool as a command.
func newRoot() *cobra.Command {
	root := &cobra.Command{
		Use:           "wicketway",
		Short:         "Begin, change, look at and try HTTP APIs built with Wicketway",
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			return chooses(c, args)
		},
	}
	root.CompletionOptions.DisableDefaultCmd = true
	root.SetFlagErrorFunc(flagFault)
	root.SetHelpCommand(helpCommand())
	cobra.EnableCommandSorting = false // they are in the order in which one needs them
	root.AddCommand(newCommand(), addCommand(), watchCommand(), routesCommand(), explainCommand(), problemsCommand(),
		retireCommand(), contractCommand(), compareCommand(), clientCommand(), handbookCommand(), callCommand(), probeCommand(), trailCommand(), demoCommand(), tokenCommand(), schemaCommand(), completionCommand())
	arrange(root)
	return root
}

// run is the tool as a function: arguments in, exit status out.
func run(ctx context.Context, args []string, out, errs io.Writer) int {
	return runRoot(ctx, newRoot(), args, out, errs)
}

func runRoot(ctx context.Context, root *cobra.Command, args []string, out, errs io.Writer) int {
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	fmt.Fprintln(errs, "wicketway:", err)
	if _, ok := errors.AsType[shortfall](err); ok {
		return 1
	}
	return 2
}
