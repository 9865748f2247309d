package main

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/contract"
	contractcheck "github.com/wicketway/wicketway/contract/check"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/probe"
	"github.com/wicketway/wicketway/observe/trail"
)

// printed are the types of what commands print with --json.
var printed = map[string]reflect.Type{
	"call":              reflect.TypeFor[called](),
	"contract check":    reflect.TypeFor[[]contractcheck.Finding](),
	"compare":           reflect.TypeFor[[]contract.Change](),
	"explain":           reflect.TypeFor[explanation](),
	"probe":             reflect.TypeFor[[]probe.Finding](),
	"problems":          reflect.TypeFor[[]facts.Kind](),
	"retire":            reflect.TypeFor[retiring](),
	"routes":            reflect.TypeFor[facts.API](),
	"routes --requests": reflect.TypeFor[[]readyRequest](),
	"trail":             reflect.TypeFor[trail.Trail](),
	"token show":        reflect.TypeFor[shownToken](),
}

func schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema COMMAND",
		Short: "Print the JSON Schema of what a command prints with --json",
		Args:  cobra.ArbitraryArgs,
		// routes --requests prints something else than routes does, and has a name of its own
		DisableFlagParsing: true,
		RunE: func(c *cobra.Command, args []string) error {
			if slices.Contains(args, "--help") || slices.Contains(args, "-h") {
				return c.Help()
			}
			name := strings.Join(args, " ")
			of, known := printed[name]
			if !known {
				return fmt.Errorf("no command %q prints JSON; known: %s", name,
					strings.Join(slices.Sorted(maps.Keys(printed)), ", "))
			}
			t, err := new(check.Set).Type(of)
			if err != nil {
				return checked(err)
			}
			_, err = fmt.Fprintln(c.OutOrStdout(), string(t.Document()))
			return checked(err)
		},
	}
}
