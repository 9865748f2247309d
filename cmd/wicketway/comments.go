package main

import (
	"context"
	"fmt"
	"go/ast"
	"go/doc/comment"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/facts"
)

// withComments gives a description in which routes that have no text of their own have the doc comment of the function
// that serves them, as CommonMark. The description must be that of a package, whose source is at hand.
func withComments(ctx context.Context, pkg string, d facts.API) (facts.API, error) {
	if file, err := os.Stat(pkg); err == nil && !file.IsDir() {
		return d, fmt.Errorf("--comments needs the source: name the package instead of %s", pkg)
	}
	functions := map[string]string{} // by package and name: the comment
	var paths []string
	for _, r := range d.Routes {
		if path, _ := splitFunction(r.Function); path != "" && !slices.Contains(paths, path) {
			paths = append(paths, path)
		}
	}
	for _, path := range paths {
		from := path
		if path == "main" {
			from = pkg
		}
		if err := readComments(ctx, path, from, functions); err != nil {
			return d, err
		}
	}
	d.Routes = slices.Clone(d.Routes)
	for i, r := range d.Routes {
		path, name := splitFunction(r.Function)
		if text := functions[path+" "+name]; r.Description == "" && text != "" {
			d.Routes[i].Description = text
		}
	}
	return d, nil
}

// splitFunction takes a name of the runtime apart: example.org/canal/locks and desk.find. Pointers and type arguments are
// left out.
func splitFunction(whole string) (path, name string) {
	slash := strings.LastIndexByte(whole, '/') + 1
	last, name, _ := strings.Cut(whole[slash:], ".")
	path = strings.ReplaceAll(whole[:slash]+last, "%2e", ".")
	return path, strings.NewReplacer("(*", "", ")", "", "[...]", "").Replace(name)
}

// readComments reads those of the functions of a package.
func readComments(ctx context.Context, path, from string, to map[string]string) error {
	list := exec.CommandContext(ctx, "go", "list", "-f", "{{.Dir}}{{range .GoFiles}}\n{{.}}{{end}}", "--", from)
	said, err := list.Output()
	if err != nil {
		return fmt.Errorf("cannot find the source of the package %s: %w", path, err)
	}
	lines := strings.Split(strings.TrimSpace(string(said)), "\n")
	var parsing comment.Parser
	var printing comment.Printer
	for _, name := range lines[1:] {
		file, err := parser.ParseFile(token.NewFileSet(), filepath.Join(lines[0], name), nil, parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		for _, one := range file.Decls {
			if f, is := one.(*ast.FuncDecl); is && f.Doc != nil {
				text := printing.Markdown(parsing.Parse(f.Doc.Text()))
				to[path+" "+receiver(f)+f.Name.Name] = strings.TrimSpace(string(text))
			}
		}
	}
	return nil
}

// receiver is the type that a method is of, with a dot; "" for a function.
func receiver(f *ast.FuncDecl) string {
	if f.Recv == nil || len(f.Recv.List) == 0 {
		return ""
	}
	of := f.Recv.List[0].Type
	for {
		switch t := of.(type) {
		case *ast.StarExpr:
			of = t.X
		case *ast.IndexExpr:
			of = t.X
		case *ast.IndexListExpr:
			of = t.X
		case *ast.Ident:
			return t.Name + "."
		default:
			return ""
		}
	}
}
