package main

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/facts"
)

// completeMost is for how long a suggestion may be waited for, where nothing is kept and the program has to be built.
const completeMost = 10 * time.Second

func completionCommand() *cobra.Command {
	shells := map[string]func(*cobra.Command, io.Writer) error{
		"bash":       func(c *cobra.Command, out io.Writer) error { return c.GenBashCompletionV2(out, true) },
		"fish":       func(c *cobra.Command, out io.Writer) error { return c.GenFishCompletion(out, true) },
		"powershell": func(c *cobra.Command, out io.Writer) error { return c.GenPowerShellCompletionWithDesc(out) },
		"zsh":        func(c *cobra.Command, out io.Writer) error { return c.GenZshCompletion(out) },
	}
	names := []string{"bash", "fish", "powershell", "zsh"}
	return &cobra.Command{
		Use:   "completion SHELL",
		Short: "Print a script that has a shell complete commands, routes, codes and versions",
		Long: `Print a script that has a shell complete commands, routes, codes and versions: those of the API that was
last described in the current folder, or of the program there.

SHELL is bash, fish, powershell or zsh.`,
		Args:      takes,
		ValidArgs: names,
		RunE: func(c *cobra.Command, args []string) error {
			write, known := shells[args[0]]
			if !known {
				return fmt.Errorf("no script for the shell %s; known: %s", args[0], strings.Join(names, ", "))
			}
			return checked(write(c.Root(), c.OutOrStdout()))
		},
	}
}

// near is the API that suggestions are about: the one that was described last in this folder, or its program's.
func near(c *cobra.Command) (d facts.API, ok bool) {
	text := latestKept()
	if text == nil {
		ctx, cancel := context.WithTimeout(c.Context(), completeMost)
		defer cancel()
		found, err := (source{}).describe(ctx, ".")
		return found, err == nil
	}
	return d, json.Unmarshal(text, &d) == nil
}

// completeArguments suggests methods, paths and folders, by the words of a command's use.
func completeArguments(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	words := strings.Fields(c.Use)[1:]
	if len(args) >= len(words) {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	if words[len(args)] == "PACKAGE" {
		return nil, cobra.ShellCompDirectiveFilterDirs
	}
	method := ""
	if len(args) > 0 {
		method = args[0]
	}
	return completions(c, begun, map[string]func(facts.Route) string{
		"METHOD": func(r facts.Route) string { return r.Method },
		"PATH": func(r facts.Route) string {
			if r.Method != method && r.Method != "" {
				return ""
			}
			return r.Path + "\t" + r.Summary
		},
	}[words[len(args)]])
}

// completions suggests what the routes have.
func completions(c *cobra.Command, begun string, of func(facts.Route) string) ([]string, cobra.ShellCompDirective) {
	d, ok := near(c)
	if !ok || of == nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var all []string
	for _, r := range d.Routes {
		if text := of(r); text != "" && !r.Own {
			all = append(all, text)
		}
	}
	return beginning(all, begun), cobra.ShellCompDirectiveNoFileComp
}

func beginning(all []string, begun string) []string {
	slices.Sort(all)
	return slices.DeleteFunc(slices.Compact(all), func(text string) bool {
		return !strings.HasPrefix(strings.ToLower(text), strings.ToLower(begun))
	})
}

// completeFlag has a flag suggest what the routes have.
func completeFlag(c *cobra.Command, name string, of func(facts.Route) string) {
	c.RegisterFlagCompletionFunc(name, func(c *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		return completions(c, begun, of)
	})
}

// completeCode has the flag code suggest the codes of problems.
func completeCode(c *cobra.Command) {
	c.RegisterFlagCompletionFunc("code", func(c *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		d, _ := near(c)
		var all []string
		for _, k := range d.Problems {
			all = append(all, k.Code+"\t"+k.Title)
		}
		return beginning(all, begun), cobra.ShellCompDirectiveNoFileComp
	})
}
