package main

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/contract"
)

func compareCommand() *cobra.Command {
	var version string
	var asJSON, asMarkdown, all, fresh bool
	c := &cobra.Command{
		Use:   "compare OLD NEW",
		Short: "Say which changes of an API break its clients",
		Long: `Say which changes of an API break its clients: of two contracts, or of two versions of one API by
"compare PACKAGE VERSION VERSION".

` + originHelp + `

A change is breaking where a request or an answer is known that was fine and no longer is, which is printed; safe where
that is proved to be impossible; and to be looked at in all other cases. The exit status is 1 where a change is breaking.`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) == 3 {
				return nil
			}
			return takes(c, args)
		},
		RunE: func(c *cobra.Command, args []string) error {
			from := source{screenOf(c.ErrOrStderr()), fresh}
			pairs, err := from.pairs(c, args, version)
			if err != nil {
				return err
			}
			changes := []contract.Change{}
			for _, p := range pairs {
				changes = append(changes, p.changes()...)
			}
			breaks := count(changes, contract.Breaking)
			switch out := c.OutOrStdout(); {
			case asJSON:
				err = printJSON(out, changes)
			case asMarkdown:
				writeNotes(out, changes)
			default:
				printChanges(out, changes, all)
			}
			if err == nil && breaks > 0 {
				err = checked(fmt.Errorf("%d %s clients", breaks, plural(breaks, "change breaks", "changes break")))
			}
			return err
		},
	}
	c.Flags().StringVar(&version, "version", "", "compare this version alone")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.Flags().BoolVar(&asMarkdown, "markdown", false, "print sections for release notes")
	c.Flags().BoolVar(&all, "all", false, "list safe changes too")
	c.Flags().BoolVar(&fresh, "fresh", false, "build and run the programs even where their descriptions are kept")
	return c
}

func count(changes []contract.Change, class contract.Class) (n int) {
	for _, c := range changes {
		if c.Class == class {
			n++
		}
	}
	return n
}

// A pair are two contracts that are compared; one is nil where the version is not there.
type pair struct {
	before, after *versioned
}

// pairs finds what is to be compared.
func (s source) pairs(c *cobra.Command, args []string, version string) (all []pair, err error) {
	before, err := s.contracts(c.Context(), args[0])
	if err != nil {
		return nil, err
	}
	if len(args) == 3 {
		old, err := find(args[0], before, args[1])
		if err != nil {
			return nil, err
		}
		is, err := find(args[0], before, args[2])
		return []pair{{old, is}}, err
	}
	after, err := s.contracts(c.Context(), args[1])
	if err != nil {
		return nil, err
	}
	if version != "" {
		if before, err = only(args[0], before, version); err != nil {
			return nil, err
		}
		if after, err = only(args[1], after, version); err != nil {
			return nil, err
		}
	}
	if len(before) == 1 && len(after) == 1 {
		return []pair{{&before[0], &after[0]}}, nil
	}
	for _, of := range [][]versioned{before, after} {
		if len(of) == 1 && of[0].version == "" {
			return nil, fmt.Errorf("missing --version: a single document is compared with one of several versions")
		}
	}
	for i := range after {
		p := pair{nil, &after[i]}
		if k := slices.IndexFunc(before, func(v versioned) bool { return v.version == after[i].version }); k >= 0 {
			p.before = &before[k]
		}
		all = append(all, p)
	}
	for i := range before {
		if !slices.ContainsFunc(after, func(v versioned) bool { return v.version == before[i].version }) {
			all = append(all, pair{&before[i], nil})
		}
	}
	return all, nil
}

// only is the contract of a version; a document stands for each.
func only(from string, all []versioned, version string) ([]versioned, error) {
	if len(all) == 1 && all[0].version == "" {
		return all, nil
	}
	one, err := find(from, all, version)
	if err != nil {
		return nil, err
	}
	return []versioned{*one}, nil
}

func find(from string, all []versioned, version string) (*versioned, error) {
	var names []string
	for i := range all {
		if all[i].version == version {
			return &all[i], nil
		}
		names = append(names, all[i].version)
	}
	return nil, fmt.Errorf("%s has no version %q; available: %s", from, version, strings.Join(names, ", "))
}

// changes compares a pair. Versions that are chosen by the path are compared as if they were at one.
func (p pair) changes() []contract.Change {
	switch {
	case p.before == nil:
		return []contract.Change{{Class: contract.Safe, Reason: fmt.Sprintf("The version %s is new.", p.after.version)}}
	case p.after == nil:
		return []contract.Change{
			{
				Class:     contract.Breaking,
				Direction: "sent",
				Reason:    fmt.Sprintf("The version %s is gone.", p.before.version),
			},
		}
	}
	before := p.before.doc
	if p.before.prefix != p.after.prefix && p.before.prefix != "" && p.after.prefix != "" {
		before = before.Moved(p.before.prefix, p.after.prefix)
	}
	return contract.Compare(before, p.after.doc)
}

// byOperation groups changes by their operations, in their order.
func byOperation(changes []contract.Change) (names []string, all map[string][]contract.Change) {
	all = map[string][]contract.Change{}
	for _, c := range changes {
		if all[c.Operation] == nil {
			names = append(names, c.Operation)
		}
		all[c.Operation] = append(all[c.Operation], c)
	}
	return names, all
}

var classStyles = map[contract.Class]style{contract.Breaking: bad, contract.Look: warn, contract.Safe: good}

// printChanges prints changes by operation; safe ones are counted, unless all are wanted.
func printChanges(to io.Writer, changes []contract.Change, all bool) {
	out := screenOf(to)
	names, of := byOperation(changes)
	for _, name := range names {
		shown := slices.DeleteFunc(
			slices.Clone(of[name]),
			func(c contract.Change) bool { return c.Class == contract.Safe && !all },
		)
		if len(shown) == 0 {
			continue
		}
		title := name
		if title == "" {
			title = "The API as a whole"
		}
		fmt.Fprintln(out, out.mark(strong, title))
		for _, c := range shown {
			const indent = len("  breaking  read  ")
			head := fmt.Sprintf(
				"  %s%*s%-6s",
				out.mark(classStyles[c.Class], string(c.Class)),
				10-len(c.Class),
				"",
				c.Direction,
			)
			fmt.Fprintln(out, head+fold(c.Reason, out.width(), indent))
			if c.Witness != nil {
				fmt.Fprintln(
					out,
					strings.Repeat(
						" ",
						indent,
					)+out.mark(
						faint,
						fold("shown by "+string(c.Witness), out.width(), indent),
					),
				)
			}
		}
		fmt.Fprintln(out)
	}
	if len(changes) == 0 {
		fmt.Fprintln(out, "Nothing has changed for clients.")
		return
	}
	safe := count(changes, contract.Safe)
	fmt.Fprintf(
		out,
		"%d breaking, %d to be looked at, %d safe",
		count(changes, contract.Breaking),
		count(changes, contract.Look),
		safe,
	)
	if safe > 0 && !all {
		fmt.Fprint(out, " (--all lists them)")
	}
	fmt.Fprintln(out)
}

// writeNotes writes what clients have to know as Markdown, route by route; new operations come last.
func writeNotes(out io.Writer, changes []contract.Change) {
	names, of := byOperation(changes)
	var isNew []string
	for _, name := range names {
		var lines []string
		for _, c := range of[name] {
			words := map[contract.Class]string{contract.Breaking: "**Breaking:** ", contract.Look: "**To be checked:** "}[c.Class]
			switch {
			case c.Class == contract.Safe && c.Reason == operationIsNew:
				isNew = append(isNew, name)
			case c.Class != contract.Safe && c.Witness != nil:
				lines = append(lines, fmt.Sprintf("- %s%s For example: `%s`", words, c.Reason, c.Witness))
			case c.Class != contract.Safe:
				lines = append(lines, "- "+words+c.Reason)
			}
		}
		if lines == nil {
			continue
		}
		title := "`" + name + "`"
		if name == "" {
			title = "The API as a whole"
		}
		fmt.Fprintf(out, "### %s\n\n%s\n\n", title, strings.Join(lines, "\n"))
	}
	if isNew != nil {
		fmt.Fprintf(out, "### New operations\n\n- `%s`\n", strings.Join(isNew, "`\n- `"))
	}
}

// operationIsNew is what is said of an operation that the old contract did not have.
const operationIsNew = "The operation is new."
