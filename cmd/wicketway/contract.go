package main

import (
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/facts"
)

func contractCommand() *cobra.Command {
	var version, out, openAPI string
	var asYAML, comments, fresh bool
	c := &cobra.Command{
		Use:   "contract PACKAGE",
		Short: "Print the OpenAPI document of a version of an API",
		Long: `Print the OpenAPI document of a version of an API: its routes, and those outside of all versions.

` + packageHelp + `

What OpenAPI cannot say is listed on the standard error.`,
		Args: takes,
		RunE: func(c *cobra.Command, args []string) error {
			from := source{screenOf(c.ErrOrStderr()), fresh}
			d, err := from.describe(c.Context(), append(args, ".")[0])
			if err != nil {
				return err
			}
			if version == "" {
				if version, err = onlyVersion(d); err != nil {
					return err
				}
			}
			if comments {
				if d, err = withComments(c.Context(), append(args, ".")[0], d); err != nil {
					return err
				}
			}
			made, err := contract.Of(d, version)
			if err != nil {
				return err
			}
			document, lost, err := made.As(openAPI)
			if err != nil {
				return err
			}
			text := document.Text()
			if asYAML {
				if text, err = yaml.Write(document); err != nil {
					return checked(err)
				}
			}
			if out == "" {
				_, err = c.OutOrStdout().Write(text)
			} else {
				err = os.WriteFile(out, text, 0o644)
			}
			for _, l := range slices.Concat(unsaid(d, version, openAPI), lost) {
				fmt.Fprintln(c.ErrOrStderr(), "not in OpenAPI:", l)
			}
			return checked(err)
		},
	}
	c.Flags().StringVar(&version, "version", "", "the version of the API (default: its only one)")
	c.Flags().BoolVar(&asYAML, "yaml", false, "print YAML")
	c.Flags().StringVar(&out, "out", "", "write `FILE` instead")
	c.Flags().BoolVar(&comments, "comments", false, "describe routes that have no Description by the doc comments of their functions")
	c.Flags().StringVar(&openAPI, "openapi", "3.1", "`VERSION` of OpenAPI: 3.0, 3.1 or 3.2")
	c.Flags().BoolVar(&fresh, "fresh", false, "build and run the program even where its description is kept")
	c.ValidArgsFunction = completeArguments
	c.AddCommand(checkCommand(), startCommand())
	completeFlag(c, "version", func(r facts.Route) string { return r.Version })
	return c
}

// onlyVersion is the version that is meant where none is named.
func onlyVersion(d facts.API) (string, error) {
	var versions []string
	for _, r := range d.Routes {
		if r.Version != "" && !slices.Contains(versions, r.Version) {
			versions = append(versions, r.Version)
		}
	}
	switch len(versions) {
	case 0:
		return "", nil
	case 1:
		return versions[0], nil
	}
	return "", fmt.Errorf("missing --version; this API has %s", strings.Join(versions, ", "))
}

// unsaid is what no version of OpenAPI has words for, of the routes that a contract has.
func unsaid(d facts.API, version, openAPI string) (all []contract.Loss) {
	for _, r := range d.Routes {
		if r.Version != version && r.Version != "" || r.Own || r.Withdrawn || r.Unlisted {
			continue
		}
		streams := map[string]bool{}
		say := func(text string) {
			all = append(all, contract.Loss{Pointer: methodName(r.Method) + " " + r.Path, Text: text})
		}
		switch {
		case r.Method == "":
			say("a handler that serves every method: x-wicketway-methods")
		case r.Handler && len(r.Answers) == 0:
			say("a handler of its own: Describes[In, Out] says what it reads and answers")
		}
		if strings.Contains(r.Path, "{+") {
			say("a parameter that takes slashes: x-wicketway-path")
		}
		if r.Formats != nil && r.Formats.Suffixes != nil {
			say("a suffix that chooses the format: x-wicketway-formats")
		}
		if r.OwnRules {
			say("rules across members, which a Check has: x-wicketway-rules")
		}
		if r.Rules > 0 {
			say("rules about callers that only the server knows: x-wicketway-rules")
		}
		for _, p := range r.Raises {
			if p.Status == http.StatusTooManyRequests {
				say("the limit on requests (" + p.Code + "): x-wicketway-limits")
			}
		}
		if openAPI == "3.2" {
			continue
		}
		for _, b := range r.Bodies {
			streams[b.Media] = streams[b.Media] || b.Stream
		}
		for _, a := range r.Answers {
			streams[a.Media] = streams[a.Media] || a.Stream
		}
		for _, media := range slices.Sorted(maps.Keys(streams)) {
			if streams[media] && media != "application/json" {
				say("the items of the stream " + media + ": " + contract.ItemKey + " (OpenAPI 3.2 has itemSchema)")
			}
		}
	}
	return all
}
