package main

import (
	"cmp"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// The groups of commands in the help, by what one wants to do.
var commandGroups = []*cobra.Group{
	{ID: "begin", Title: "Begin and change a program"},
	{ID: "look", Title: "Look at an API"},
	{ID: "try", Title: "Try things"},
	{ID: "tool", Title: "This tool"},
}

// In which group a command is, and an example of it.
var commandHelp = map[string]struct{ group, example string }{
	"new":            {"begin", "wicketway new harbour --module example.org/harbour --part berths"},
	"add":            {"begin", "wicketway add part cranes"},
	"add part":       {"", "wicketway add part cranes --store sqlite"},
	"add middleware": {"", "wicketway add middleware tides"},
	"add guard":      {"", "wicketway add guard callers"},
	"add version":    {"", "wicketway add version v2"},
	"watch":          {"begin", "wicketway watch ./examples/canal -- --listen 127.0.0.1:9000"},
	"routes":         {"look", "wicketway routes ./examples/canal --path /api/v2/locks"},
	"explain":        {"look", "wicketway explain GET '/api/v2/passages?limit=0' ./examples/canal"},
	"problems":       {"look", "wicketway problems ./examples/canal --code slot-taken"},
	"retire":         {"look", "wicketway retire ./examples/canal --log access.log"},
	"contract":       {"look", "wicketway contract ./examples/canal --version v2 --yaml --out canal.yaml"},
	"contract check": {"", "wicketway contract check canal.yaml"},
	"contract start": {"", "wicketway contract start canal.yaml --out canal"},
	"compare":        {"look", "wicketway compare main:./examples/canal ./examples/canal"},
	"handbook":       {"look", "wicketway handbook ./examples/canal --out pages"},
	"call":           {"try", "wicketway call passages.book lock=bell direction=up slot=2027-05-04T09:30:00Z crew=3"},
	"client":         {"begin", "wicketway client canal.yaml --package canal --out canal"},
	"probe":          {"try", "wicketway probe http://127.0.0.1:8080 --version v2 --seed 7"},
	"trail":          {"try", "wicketway trail http://127.0.0.1:8080 --failed"},
	"demo":           {"try", "wicketway demo --tour"},
	"token":          {"try", "wicketway token show \"$TOKEN\""},
	"token make":     {"", "wicketway token make --subject grebe --scopes passages --expires-in 12h"},
	"token show":     {"", "wicketway token show \"$TOKEN\" --key secret"},
	"schema":         {"tool", "wicketway schema routes"},
	"completion":     {"tool", "wicketway completion bash > ~/.local/share/bash-completion/completions/wicketway"},
	"help":           {"tool", "wicketway help token make"},
}

// arrange gives each command its group and its example.
func arrange(root *cobra.Command) {
	root.AddGroup(commandGroups...)
	root.InitDefaultHelpCmd()
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { printHelp(c.OutOrStdout(), c) })
	var below func(of *cobra.Command)
	below = func(of *cobra.Command) {
		for _, c := range of.Commands() {
			h := commandHelp[strings.TrimPrefix(c.CommandPath(), "wicketway ")]
			c.GroupID, c.Example = h.group, h.example
			below(c)
		}
	}
	below(root)
}

func printHelp(to io.Writer, c *cobra.Command) {
	out := screenOf(to)
	title := func(text string) { fmt.Fprintf(out, "\n%s\n", out.mark(strong, text)) }
	usage := c.CommandPath() + strings.TrimPrefix(c.Use, c.Name())
	switch takesArguments := c.Use != c.Name(); {
	case c.HasAvailableSubCommands() && takesArguments:
		usage += "\n" + c.CommandPath() + " COMMAND"
	case c.HasAvailableSubCommands():
		usage += " COMMAND"
	}
	fmt.Fprintln(out, out.mark(strong, usage))
	for paragraph := range strings.SplitSeq(cmp.Or(c.Long, c.Short+"."), "\n\n") {
		fmt.Fprintf(out, "\n%s\n", fold(strings.Join(strings.Fields(paragraph), " "), helpWidth(out), 0))
	}
	if c.Example != "" {
		title("Example")
		fmt.Fprintln(out, "  "+c.Example)
	}
	for _, g := range append(c.Groups(), &cobra.Group{Title: "Commands"}) {
		var rows [][2]string
		for _, below := range c.Commands() {
			if below.GroupID == g.ID {
				rows = append(rows, [2]string{below.Use, below.Short})
			}
		}
		if rows != nil {
			title(g.Title)
			printPairs(out, rows)
		}
	}
	var flags [][2]string
	c.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if f.Name != "help" && !f.Hidden {
			flags = append(flags, [2]string{flagWords(f), flagText(f)})
		}
	})
	if flags != nil {
		title("Flags")
		printPairs(out, flags)
	}
	if c.HasAvailableSubCommands() {
		fmt.Fprintf(out, "\n%s\n", out.mark(faint, c.CommandPath()+" COMMAND --help says more about one."))
	}
}

// helpWidth keeps lines of text short enough to be read.
func helpWidth(out screen) int { return min(cmp.Or(out.width(), 100), 100) }

// printPairs prints words, and beside them what they mean.
func printPairs(out screen, rows [][2]string) {
	left := 0
	for _, r := range rows {
		left = max(left, len(r[0]))
	}
	for _, r := range rows {
		fmt.Fprintf(out, "  %s%*s%s\n", r[0], left-len(r[0])+2, "", fold(r[1], helpWidth(out), left+4))
	}
}

// flagWords is how a flag is written: --log FILE.
func flagWords(f *pflag.Flag) string {
	words := "--" + f.Name
	if f.Shorthand != "" {
		words = "-" + f.Shorthand + ", " + words
	}
	if value := flagValue(f); value != "" {
		words += " " + value
	}
	return words
}

// flagValue names what a flag takes: the word between backquotes in its text, or its own name.
func flagValue(f *pflag.Flag) string {
	if f.Value.Type() == "bool" {
		return ""
	}
	if _, rest, quoted := strings.Cut(f.Usage, "`"); quoted {
		value, _, _ := strings.Cut(rest, "`")
		return value
	}
	return strings.ToUpper(f.Name)
}

func flagText(f *pflag.Flag) string {
	usage := strings.ReplaceAll(f.Usage, "`", "")
	if f.DefValue == "" || f.DefValue == "false" || f.DefValue == "[]" || strings.Contains(usage, "default") {
		return usage
	}
	return fmt.Sprintf("%s (default: %s)", usage, f.DefValue)
}
