package main

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/client/generate"
)

func clientCommand() *cobra.Command {
	var name, out, version, module, script string
	var check, fresh bool
	c := &cobra.Command{
		Use:   "client CONTRACT",
		Short: "Write a client of an API, in Go or JavaScript",
		Long: `Write a client of an API, in Go or JavaScript: a function for each operation of the contract, types with its rules, and its kinds of
problem. A call with a wrong value fails before it is sent, with the faults that the API would name.

CONTRACT is that of anybody's API, of OpenAPI 3.0 to 3.2. ` + originHelp + `

The same contract gives the same bytes. What cannot be said in Go is written as the nearest thing that is safe, and listed at
the end. With --check nothing is written: exit status 1 says that the files are out of date.`,
		Args: takes,
		RunE: func(c *cobra.Command, args []string) error {
			if out == "" && script == "" {
				return errors.New("the flag --out FOLDER is missing: it says where the client is written (or --js FILE)")
			}
			from := source{screenOf(c.ErrOrStderr()), fresh}
			all, err := from.contracts(c.Context(), args[0])
			if err != nil {
				return err
			}
			if version != "" {
				if all, err = only(args[0], all, version); err != nil {
					return err
				}
			}
			if len(all) > 1 {
				var names []string
				for _, one := range all {
					names = append(names, one.version)
				}
				return fmt.Errorf("%s has several versions: choose one by --version (%s)", args[0], strings.Join(names, ", "))
			}
			made := &generate.Client{Files: map[string][]byte{}}
			if out != "" {
				if name == "" {
					name = packageName(out)
				}
				in, err := generate.Go(all[0].doc, name)
				if err != nil {
					return checked(err)
				}
				made.Notes = in.Notes
				for file, text := range in.Files {
					made.Files[filepath.Join(out, file)] = text
				}
			}
			if script != "" {
				made.Files[script] = generate.JS(all[0].doc)
			}
			if module != "" {
				made.Files[filepath.Join(out, "go.mod")] = moduleFile(module)
			}
			if check {
				return checked(outdated(made.Files))
			}
			if err := os.MkdirAll(cmp.Or(out, "."), 0o755); err != nil {
				return checked(err)
			}
			for _, file := range slices.Sorted(maps.Keys(made.Files)) {
				if err := os.WriteFile(file, made.Files[file], 0o644); err != nil {
					return checked(err)
				}
				fmt.Fprintln(c.OutOrStdout(), "wrote", file)
			}
			for _, note := range made.Notes {
				fmt.Fprintln(c.ErrOrStderr(), "not as the contract has it:", note)
			}
			return nil
		},
	}
	c.Flags().StringVar(&name, "package", "", "the `NAME` of the package (default: that of the folder)")
	c.Flags().StringVar(&out, "out", "", "the `FOLDER` that is written into; files of a client that was there are replaced")
	c.Flags().StringVar(&version, "version", "", "the version to write a client of")
	c.Flags().StringVar(&module, "module", "", "make the client a module of its own, with this `PATH`")
	c.Flags().StringVar(&script, "js", "", "write the same as an ES module with types in JSDoc into a `FILE`")
	c.Flags().BoolVar(&check, "check", false, "write nothing; exit status 1 says that the files are out of date")
	c.Flags().BoolVar(&fresh, "fresh", false, "build and run the program even where its description is kept")
	return c
}

// outdated names the files that differ from what would be written.
func outdated(files map[string][]byte) error {
	var names []string
	for _, file := range slices.Sorted(maps.Keys(files)) {
		if text, err := os.ReadFile(file); err != nil || !bytes.Equal(text, files[file]) {
			names = append(names, file)
		}
	}
	if names == nil {
		return nil
	}
	return fmt.Errorf("out of date: %s; wicketway client writes them anew", strings.Join(names, ", "))
}

// moduleFile is a go.mod that needs the library in the version of this tool; go mod tidy adds what that needs.
func moduleFile(path string) []byte {
	version := ""
	if info, ok := debug.ReadBuildInfo(); ok && strings.HasPrefix(info.Main.Version, "v") {
		version = "\nrequire github.com/wicketway/wicketway " + info.Main.Version + "\n"
	}
	return []byte("module " + path + "\n\ngo 1.26\n" + version)
}
