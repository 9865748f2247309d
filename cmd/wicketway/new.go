package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/project"
)

func newCommand() *cobra.Command {
	s := project.Start{}
	var store string
	c := &cobra.Command{
		Use:   "new FOLDER",
		Short: "Begin a program: an API with one part, tests and a gate",
		Long: `Begin a program: an API with one part, tests and a gate.

FOLDER is made, or is empty. The program has the recommended middleware in the right order, and one
part with four routes: list, create, read, change. --part names it, since it is meant to stay.`,
		Args: takes,
		RunE: func(c *cobra.Command, args []string) error {
			if s.Module == "" {
				return errors.New("missing --module PATH, such as --module example.org/harbour")
			}
			s.Folder, s.Store, s.Wicketway = args[0], project.Store(store), wicketwayVersion()
			written, err := project.New(s)
			if err != nil {
				return err
			}
			out := screenOf(c.OutOrStdout())
			for _, name := range written {
				fmt.Fprintln(out, "wrote", filepath.Join(s.Folder, filepath.FromSlash(name)))
			}
			if err := tidy(c.Context(), s.Folder, screenOf(c.ErrOrStderr())); err != nil {
				return checked(err)
			}
			fmt.Fprintf(out, "\nNext:\n  cd %s\n  go test ./...\n  wicketway watch .\n", s.Folder)
			return nil
		},
	}
	c.Flags().StringVar(&s.Module, "module", "", "module `PATH`, such as example.org/harbour")
	c.Flags().StringVar(&s.Part, "part", "items", "`NAME` of the first part, in the plural, such as berths")
	c.Flags().StringVar(&store, "store", string(project.Memory), "what parts are kept in: memory or sqlite")
	return c
}

func addCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "add",
		Short: "Add a part, a middleware, a guard or a version to the program in this folder",
		Long: `Add a part, a middleware, a guard or a version to the program in this folder.

New files are written, with tests, and none is ever changed: the line that the description needs is
printed, with its place.`,
		Args: cobra.ArbitraryArgs,
		RunE: chooses,
	}
	var store string
	part := adding("part NAME", "Add a part with four routes: list, create, read, change; NAME is a plural, such as berths",
		func(p *project.Program, name string) (project.Addition, error) {
			return p.Part(name, project.Store(store))
		})
	part.Flags().StringVar(&store, "store", "", "what it is kept in: memory or sqlite (default: as in the program)")
	c.AddCommand(
		part,
		adding("middleware NAME", "Add a middleware", (*project.Program).Middleware),
		adding("guard NAME", "Add a guard that takes bearer tokens", (*project.Program).Guard),
		adding("version NAME", "Add a version, such as v2, that takes over the routes of the one before",
			(*project.Program).Version),
	)
	return c
}

func adding(use, short string, add func(*project.Program, string) (project.Addition, error)) *cobra.Command {
	return &cobra.Command{
		Use:   use,
		Short: short,
		Args:  takes,
		RunE: func(c *cobra.Command, args []string) error {
			p, err := project.Find(".")
			if err != nil {
				return err
			}
			a, err := add(p, args[0])
			if err != nil {
				return err
			}
			printAddition(c.OutOrStdout(), a)
			return checked(require(c.Context(), p, a))
		},
	}
}

func printAddition(out io.Writer, a project.Addition) {
	for _, name := range a.Written {
		fmt.Fprintln(out, "wrote", name)
	}
	place := "Add to the description"
	if a.File != "" {
		place = fmt.Sprintf("Add before %s:%d, in %s", a.File, a.Before, a.In)
	}
	fmt.Fprintf(out, "\n%s:\n  %s\n\nand import:\n  %q\n", place, a.Line, a.Import)
	for i, line := range a.Then {
		if i == 0 {
			fmt.Fprintln(out, "\nTo try it:")
		}
		fmt.Fprintln(out, "  "+line)
	}
}

// require adds to go.mod what new packages import; it takes nothing away.
func require(ctx context.Context, p *project.Program, a project.Addition) error {
	c := exec.CommandContext(ctx, "go", "list", "-mod=mod", "-deps", "-test", a.Import)
	c.Dir = p.Folder
	if said, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("go.mod lacks what %s imports; run go mod tidy:\n%s", a.Import, strings.TrimSpace(string(said)))
	}
	return nil
}

// wicketwayVersion is the version of Wicketway that this tool is made of, or the folder of the checkout that it was
// built in.
func wicketwayVersion() string {
	_, file, _, _ := runtime.Caller(0)
	root := filepath.Dir(filepath.Dir(filepath.Dir(file)))
	if _, err := os.Stat(filepath.Join(root, "go.mod")); err == nil && filepath.IsAbs(file) && !strings.Contains(root, "@") {
		return root
	}
	version := "latest"
	if info, ok := debug.ReadBuildInfo(); ok {
		version = cmp.Or(strings.TrimPrefix(info.Main.Version, "(devel)"), version)
	}
	return version
}

// tidy completes go.mod and go.sum. The sums of Wicketway's own requirements come from its go.sum, so that the machine
// needs no network where it has the modules.
func tidy(ctx context.Context, folder string, errs screen) error {
	defer errs.progress("go mod tidy")()
	run := func(args ...string) ([]byte, error) {
		c := exec.CommandContext(ctx, "go", args...)
		c.Dir = folder
		return c.CombinedOutput()
	}
	said, err := run("list", "-mod=mod", "-m", "-f", "{{.Dir}}", "github.com/wicketway/wicketway")
	if dir := strings.TrimSpace(string(said)); err == nil && dir != "" {
		if sums, err := os.ReadFile(filepath.Join(dir, "go.sum")); err == nil {
			os.WriteFile(filepath.Join(folder, "go.sum"), sums, 0o644) // without it they are fetched
		}
	}
	if said, err = run("mod", "tidy"); err != nil { // it wants more than the program needs: tests of what it imports
		if _, vetErr := run("vet", "-mod=mod", "./..."); vetErr == nil {
			return nil
		}
		return fmt.Errorf("the files are written, but their modules are not complete; run go mod tidy in %s:\n%s", folder,
			strings.TrimSpace(string(said)))
	}
	return nil
}
