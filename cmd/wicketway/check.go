package main

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/check"
)

func checkCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Say what is wrong with an OpenAPI document",
		Long: `Say what is wrong with an OpenAPI document of version 3.0, 3.1 or 3.2, as JSON or YAML: in its form, its references,
parameters, security, schemas and examples. FILE can be - for the standard input.

A finding is an error where the specification says MUST; the exit status is 1 then. It is advice where the specification
says SHOULD, or leaves open what something means. Nothing is fetched.`,
		Args: takes,
		RunE: func(c *cobra.Command, args []string) error {
			text, err := readFile(c.InOrStdin(), args[0])
			if err != nil {
				return err
			}
			found := check.Text(text)
			if asJSON {
				if found == nil {
					found = []check.Finding{}
				}
				err = printJSON(c.OutOrStdout(), found)
			} else {
				printFindings(c.OutOrStdout(), args[0], found)
			}
			if n := countErrors(found); err == nil && n > 0 {
				err = checked(fmt.Errorf("%d %s", n, plural(n, "error", "errors")))
			}
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// readFile reads a file, or the standard input for -, up to the size that contracts may have.
func readFile(in io.Reader, name string) ([]byte, error) {
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		in = file
	}
	return io.ReadAll(io.LimitReader(in, contract.MaxSize+1))
}

func countErrors(found []check.Finding) (n int) {
	for _, f := range found {
		if f.Level == check.Error {
			n++
		}
	}
	return n
}

// printFindings prints one finding below the other: where it is, and what is wrong there.
func printFindings(to io.Writer, file string, found []check.Finding) {
	out := screenOf(to)
	for _, f := range found {
		as := warn
		if f.Level == check.Error {
			as = bad
		}
		head := fmt.Sprintf("%s:%d:%d", file, f.Line, f.Column)
		if f.Line == 0 {
			head = file
		}
		fmt.Fprintf(out, "%s  %s  %s\n", head, out.mark(as, string(f.Level)), out.mark(faint, f.Pointer))
		fmt.Fprintln(out, "    "+fold(f.Message, out.width(), 4))
	}
	n := countErrors(found)
	if len(found) == 0 {
		fmt.Fprintln(out, "Nothing is wrong with it.")
		return
	}
	fmt.Fprintf(out, "%d %s, %d of advice\n", n, plural(n, "error", "errors"), len(found)-n)
}
