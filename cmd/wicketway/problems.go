package main

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/facts"
)

func problemsCommand() *cobra.Command {
	var code string
	c := aboutAPI("problems PACKAGE",
		"List the kinds of problem that an API can raise: status, code, title, meaning, routes",
		func(d facts.API, _ []string) (answering, error) {
			if code == "" {
				return answering{data: d.Problems, print: func(out io.Writer) { printProblems(out, d.Problems, len(d.Routes)) }}, nil
			}
			i := slices.IndexFunc(d.Problems, func(k facts.Kind) bool { return k.Code == code })
			if i < 0 {
				return answering{}, fmt.Errorf("no kind of problem has the code %s; known: %s", code, strings.Join(codes(d), ", "))
			}
			return answering{data: d.Problems[i : i+1], print: func(out io.Writer) { printProblem(out, d.Problems[i], len(d.Routes)) }}, nil
		})
	c.Flags().StringVar(&code, "code", "", "only the kind with this code, with all its routes")
	completeCode(c)
	return c
}

// codes are those of all kinds.
func codes(d facts.API) (all []string) {
	for _, k := range d.Problems {
		all = append(all, k.Code)
	}
	return all
}

// printProblem prints all about one kind.
func printProblem(out io.Writer, k facts.Kind, routes int) {
	t := newSheet(out)
	line := func(label, text string) {
		if text != "" {
			fmt.Fprintf(t, "%-*s%s\n", labelWidth, label, text)
		}
	}
	line("code", k.Code)
	line("status", strconv.Itoa(k.Status))
	line("title", k.Title)
	line("meaning", k.Meaning)
	line("type", k.Type)
	line("family", strings.Join(k.Family, ", "))
	line("sets", strings.Join(k.Fields, ", "))
	if len(k.Routes) == 0 || len(k.Routes) == routes {
		line("raised by", raisedBy(k.Routes, routes))
	} else {
		for i, r := range k.Routes {
			line(first(i, "raised by"), r)
		}
	}
	t.flush(labelWidth)
}

// shownRoutes is how many routes of a kind are listed before they are counted.
const shownRoutes = 2

func printProblems(out io.Writer, problems []facts.Kind, routes int) {
	t := newGrid(out)
	t.row("STATUS", "CODE", "TITLE AND MEANING", "RAISED BY")
	for _, p := range problems {
		t.row(strconv.Itoa(p.Status), p.Code, p.Title, raisedBy(p.Routes, routes))
		t.below = append(t.below, p.Meaning)
	}
	t.flush()
	fmt.Fprintf(out, "%d kinds; --code CODE says more about one, and --json all of all\n", len(problems))
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
