package main

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// takes checks the arguments of a command against the words of its use, such as "explain METHOD
// PATH PACKAGE". The last may be left out where it is PACKAGE.
func takes(c *cobra.Command, args []string) error {
	words := strings.Fields(c.Use)[1:]
	usage := strings.TrimSpace(c.CommandPath() + " " + strings.Join(words, " "))
	needed := words
	if n := len(words) - 1; n >= 0 && words[n] == "PACKAGE" {
		needed = words[:n]
	}
	switch {
	case len(args) > len(words):
		return fmt.Errorf("unexpected argument %q: %s", args[len(words)], usage)
	case len(args) < len(needed):
		return fmt.Errorf("missing %s: %s", strings.Join(needed[len(args):], " and "), usage)
	}
	return nil
}

// chooses is the work of a command that only has commands below it.
func chooses(c *cobra.Command, args []string) error {
	var names []string
	for _, below := range c.Commands() {
		if below.IsAvailableCommand() && below.Name() != "help" {
			names = append(names, below.Name())
		}
	}
	if len(args) == 0 {
		return fmt.Errorf("missing command: %s %s", c.CommandPath(), strings.Join(names, "|"))
	}
	c.SuggestionsMinimumDistance = 2
	if near := c.SuggestionsFor(args[0]); len(near) > 0 {
		names = near
	}
	return fmt.Errorf("unknown command %q; known: %s", args[0], strings.Join(names, ", "))
}

func helpCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND]",
		Short: "Print the help of a command",
		RunE: func(c *cobra.Command, args []string) error {
			of, rest, err := c.Root().Find(args)
			if err != nil {
				return err
			}
			if len(rest) > 0 {
				return chooses(of, rest)
			}
			return of.Help()
		},
	}
}

// flagFault reports mistakes in a flag.
func flagFault(c *cobra.Command, err error) error {
	if unknown, ok := errors.AsType[*pflag.NotExistError](err); ok {
		name := "--" + unknown.GetSpecifiedName()
		if short := unknown.GetSpecifiedShortnames(); short != "" {
			name = "-" + unknown.GetSpecifiedName()
		}
		var known []string
		c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, "--"+f.Name) })
		return fmt.Errorf("unknown flag %s; %s has %s", name, c.CommandPath(), strings.Join(known, ", "))
	}
	if missing, ok := errors.AsType[*pflag.ValueRequiredError](err); ok {
		return fmt.Errorf("the flag %s needs a value", flagUse(missing.GetFlag()))
	}
	if invalid, ok := errors.AsType[*pflag.InvalidValueError](err); ok {
		return fmt.Errorf("%q is not a value for the flag %s", invalid.GetValue(), flagUse(invalid.GetFlag()))
	}
	if malformed, ok := errors.AsType[*pflag.InvalidSyntaxError](err); ok {
		return fmt.Errorf("%s is not a flag: flags are written --name or --name=value", malformed.GetSpecifiedFlag())
	}
	return err
}

// flagUse is a flag with an example of what it takes.
func flagUse(f *pflag.Flag) string {
	examples := map[string]string{"duration": "1h30m", "bool": "true", "int": "3"}
	return "--" + f.Name + "=" + cmp.Or(examples[f.Value.Type()], flagValue(f))
}

// A shortfall is an error of what was done, not of the call: exit status 1.
type shortfall struct{ error }

func (s shortfall) Unwrap() error { return s.error }

// checked marks what a command's work returns.
func checked(err error) error {
	if err == nil {
		return nil
	}
	return shortfall{err}
}

// first is the label of a list's first line; the others have none.
func first(i int, label string) string {
	if i > 0 {
		return ""
	}
	return label
}
