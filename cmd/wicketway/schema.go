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
)

// printed are the types of what commands print with --json.
var printed = map[string]reflect.Type{
	"contract check": reflect.TypeFor[[]contractcheck.Finding](),
	"compare":        reflect.TypeFor[[]contract.Change](),
	"explain":        reflect.TypeFor[explanation](),
	"problems":       reflect.TypeFor[[]facts.Kind](),
	"retire":         reflect.TypeFor[retiring](),
	"routes":         reflect.TypeFor[facts.API](),
	"token show":     reflect.TypeFor[shownToken](),
}

func schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema COMMAND",
		Short: "Print the JSON Schema of what a command prints with --json",
		Args:  cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
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
