package main

import (
	"errors"
	"fmt"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/begin"
	"github.com/wicketway/wicketway/contract/check"
)

func startCommand() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use:   "start FILE",
		Short: "Write the Go of a contract to begin from",
		Long: `Write the Go of a contract to begin from: types of inputs and outputs with their rules and notes, kinds of problem, a
part with every route, functions that answer 501, and a test that holds the API against the contract.

FILE is an OpenAPI document, as JSON or YAML, of which a copy is written too. The folder is one of a Go module that requires
github.com/wicketway/wicketway; its name is that of the package. No file that is there is changed. What of the contract is
not in the Go is listed on the standard error.`,
		Args: takes,
		RunE: func(c *cobra.Command, args []string) error {
			if out == "" {
				return errors.New("missing --out FOLDER")
			}
			text, err := readFile(c.InOrStdin(), args[0])
			if err != nil {
				return err
			}
			d, err := readContract(args[0], text)
			if err != nil {
				return err
			}
			if n := countErrors(check.Text(text)); n > 0 {
				return checked(fmt.Errorf("%s has %d %s: wicketway contract check says which", args[0], n, plural(n, "error", "errors")))
			}
			copied := "contract.yaml"
			if strings.HasPrefix(strings.TrimSpace(string(text)), "{") {
				copied = "contract.json"
			}
			p, err := begin.From(d, packageName(out), copied)
			if err != nil {
				return checked(err)
			}
			p.Files[copied] = text
			if err := writeFiles(out, p.Files); err != nil {
				return checked(err)
			}
			for _, name := range slices.Sorted(maps.Keys(p.Files)) {
				fmt.Fprintln(c.OutOrStdout(), "wrote", filepath.Join(out, name))
			}
			for _, note := range p.Notes {
				fmt.Fprintln(c.ErrOrStderr(), "not in the Go:", note)
			}
			return nil
		},
	}
	c.Flags().StringVar(&out, "out", "", "the `FOLDER` that is written into")
	return c
}

// packageName is the name of the package in a folder.
func packageName(folder string) string {
	if whole, err := filepath.Abs(folder); err == nil {
		folder = whole
	}
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, strings.ToLower(filepath.Base(folder)))
	if name == "" || name[0] <= '9' || token.IsKeyword(name) {
		name = "api" + name
	}
	return name
}

// writeFiles writes files into a folder, all or, where one is there already, none.
func writeFiles(folder string, files map[string][]byte) error {
	for name := range files {
		if _, err := os.Stat(filepath.Join(folder, name)); !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s is there already", filepath.Join(folder, name))
		}
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := os.WriteFile(filepath.Join(folder, name), files[name], 0o644); err != nil {
			return err
		}
	}
	return nil
}
