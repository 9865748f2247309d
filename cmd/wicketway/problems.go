package main

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/facts"
)

func problemsCommand() *cobra.Command {
	return aboutAPI("problems PACKAGE",
		"List the kinds of problem that an API can raise: status, code, title, meaning, routes",
		func(d facts.API, _ []string) (answering, error) {
			return answering{data: d.Problems, print: func(out io.Writer) { printProblems(out, d.Problems, len(d.Routes)) }}, nil
		})
}

// shownRoutes is how many routes of a kind are listed before they are counted.
const shownRoutes = 2

func printProblems(out io.Writer, problems []facts.Kind, routes int) {
	var table strings.Builder
	t := tabwriter.NewWriter(&table, 0, 0, 2, ' ', 0)
	fmt.Fprintln(t, "STATUS\tCODE\tTITLE\tRAISED BY")
	for _, p := range problems {
		fmt.Fprintf(t, "%d\t%s\t%s\t%s\n", p.Status, p.Code, p.Title, raisedBy(p.Routes, routes))
	}
	t.Flush()
	lines := strings.Split(table.String(), "\n")
	fmt.Fprintln(out, lines[0])
	under := strings.Repeat(" ", strings.Index(lines[0], "TITLE"))
	for i, p := range problems {
		fmt.Fprintln(out, lines[i+1])
		if p.Meaning != "" {
			fmt.Fprintf(out, "%s  %s\n", under, p.Meaning)
		}
	}
	fmt.Fprintf(out, "%d kinds; --json lists all routes of each\n", len(problems))
}

func raisedBy(of []string, all int) string {
	switch {
	case len(of) == 0:
		return "every request"
	case len(of) == all:
		return "every route"
	case len(of) > shownRoutes:
		return fmt.Sprintf("%d routes", len(of))
	}
	return strings.Join(of, ", ")
}
