package project

import (
	"bytes"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// An Addition is what was added to a program, and what its programmer adds to the description.
type Addition struct {
	Written []string // files, by the folder of the module
	Line    string   // Go, to be inserted
	Import  string   // what it imports
	// Place is where the line belongs: before this line of this file. The file is "" where no description was found.
	File   string
	Before int
	In     string   // the call in which that is: wicketway.Version("v1", ...)
	Then   []string // lines for a shell, to try it
}

// A Program is one that is there.
type Program struct {
	Folder string // of its module
	module string
	calls  []call // of wicketway, by file and line
}

// A call is one of a function of the root package in a description.
type call struct {
	file  string
	end   int // the line of its closing parenthesis
	name  string
	first string // the text of its first argument, where that is a literal
	open  bool   // that parenthesis is on a line of its own, so that another argument can be inserted before it
}

// Find finds the program whose module a folder is in.
func Find(folder string) (*Program, error) {
	dir, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	for {
		text, err := os.ReadFile(filepath.Join(dir, "go.mod"))
		if err == nil {
			p := &Program{Folder: dir, module: moduleOf(text)}
			if p.module == "" {
				return nil, fmt.Errorf("%s names no module", filepath.Join(dir, "go.mod"))
			}
			return p, p.read()
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if filepath.Dir(dir) == dir {
			return nil, errors.New("no go.mod is in this folder, or in one above it: begin with wicketway new, or go mod init")
		}
		dir = filepath.Dir(dir)
	}
}

var moduleLine = regexp.MustCompile(`(?m)^module\s+"?([^\s"]+)`)

func moduleOf(gomod []byte) string {
	if m := moduleLine.FindSubmatch(gomod); m != nil {
		return string(m[1])
	}
	return ""
}

// read finds the calls that a description is made of. Files that do not parse have none.
func (p *Program) read() error {
	return filepath.WalkDir(p.Folder, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && path != p.Folder && (strings.HasPrefix(d.Name(), ".") || d.Name() == "vendor" || d.Name() == "testdata" || d.Name() == "node_modules"):
			return fs.SkipDir
		case d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go"):
			return nil
		}
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, path, nil, parser.SkipObjectResolution)
		if err != nil {
			return nil
		}
		rel, err := filepath.Rel(p.Folder, path)
		if err != nil {
			return err
		}
		p.find(files, f, rel)
		return nil
	})
}

// root is the import path of the package whose calls make a description.
const root = "github.com/wicketway/wicketway"

func (p *Program) find(files *token.FileSet, f *ast.File, file string) {
	name := ""
	for _, spec := range f.Imports {
		if path, _ := strconv.Unquote(spec.Path.Value); path == root {
			if name = "wicketway"; spec.Name != nil {
				name = spec.Name.Name
			}
		}
	}
	if name == "" {
		return
	}
	ast.Inspect(f, func(n ast.Node) bool {
		c, ok := n.(*ast.CallExpr)
		if !ok {
			return true
		}
		of, ok := c.Fun.(*ast.SelectorExpr)
		if !ok {
			return true
		}
		if pkg, ok := of.X.(*ast.Ident); !ok || pkg.Name != name {
			return true
		}
		one := call{file: file, end: files.Position(c.Rparen).Line, name: of.Sel.Name}
		if len(c.Args) > 0 {
			if text, ok := c.Args[0].(*ast.BasicLit); ok && text.Kind == token.STRING {
				one.first, _ = strconv.Unquote(text.Value)
			}
		}
		last := len(c.Args) - 1
		one.open = last < 0 || files.Position(c.Args[last].End()).Line < one.end
		p.calls = append(p.calls, one)
		return true
	})
}

// place finds the call in which a line belongs: the last one with the first of the names that there is, in the file that
// calls Build.
func (p *Program) place(a *Addition, names ...string) {
	description := ""
	for _, c := range p.calls {
		if c.name == "Build" {
			description = c.file
		}
	}
	for _, name := range names {
		for _, c := range slices.Backward(p.calls) {
			if c.name != name || c.file != description || !c.open {
				continue
			}
			a.File, a.Before, a.In = c.file, c.end, "wicketway."+c.name+"(...)"
			if c.first != "" {
				a.In = fmt.Sprintf("wicketway.%s(%q, ...)", c.name, c.first)
			}
			return
		}
	}
}

// Part adds a part with routes.
func (p *Program) Part(name string, store Store) (Addition, error) {
	if store == "" {
		store = p.store()
	}
	if store == SQLite && p.store() != SQLite {
		return Addition{}, errors.New("this program has no package storage, which keeps parts in SQLite: add the part with --store memory")
	}
	n, err := partNames(name, p.module, store)
	if err != nil {
		return Addition{}, err
	}
	w := writing{folder: p.Folder}
	w.part(n)
	return p.add(w, n.Use, p.module+"/"+name, "Version", "At", "Build")
}

// store is what parts of the program are kept in.
func (p *Program) store() Store {
	if text, err := os.ReadFile(filepath.Join(p.Folder, "storage/storage.go")); err == nil && bytes.Contains(text, []byte("modernc.org/sqlite")) {
		return SQLite
	}
	return Memory
}

// Middleware adds a middleware.
func (p *Program) Middleware(name string) (Addition, error) {
	return p.one("middleware", "middleware", name, "tenant", "%s.Handle(),", "Chain")
}

// Guard adds a guard.
func (p *Program) Guard(name string) (Addition, error) {
	a, err := p.one("guard", "guard", name, "callers", "wicketway.Guard(%[1]s.Guard(%[1]s.Secret())),", "At", "Build")
	project := projectName(p.module)
	a.Then = []string{
		"export " + strings.ToUpper(name) + "_SECRET=$(head -c 32 /dev/urandom | base64)",
		"wicketway watch .",
		fmt.Sprintf("wicketway token make --key <(printf %%s \"$%s_SECRET\") --issuer %s --audience %s --subject NAME",
			strings.ToUpper(name), project, project),
	}
	return a, err
}

func (p *Program) one(what, file, name, example, line string, in ...string) (Addition, error) {
	if err := checkName(what, name, example); err != nil {
		return Addition{}, err
	}
	n := names{Package: name, Project: projectName(p.module), Module: p.module, Variable: strings.ToUpper(name) + "_SECRET"}
	w := writing{folder: p.Folder}
	w.add(name+"/"+name+".go", file+".go", n)
	w.add(name+"/"+name+"_test.go", file+"_test.go", n)
	return p.add(w, fmt.Sprintf(line, name), p.module+"/"+name, in...)
}

// Version adds a version that takes over the one before.
func (p *Program) Version(name string) (Addition, error) {
	n := number(name)
	if n < 1 {
		return Addition{}, fmt.Errorf("%q is not a name for a version: write v2", name)
	}
	before := ""
	for _, c := range p.calls {
		switch {
		case c.name == "Version" && c.first == name:
			return Addition{}, fmt.Errorf("version %s is there already, in %s", name, c.file)
		case c.name == "Version" && number(c.first) < n && number(c.first) > number(before):
			before = c.first
		}
	}
	if before == "" {
		return Addition{}, errors.New(`no earlier version was found: the description needs one such as wicketway.Version("v1", ...)`)
	}
	w := writing{folder: p.Folder}
	names := names{Package: name, Before: before}
	w.add(name+"/"+name+".go", "version.go", names)
	w.add(name+"/"+name+"_test.go", "version_test.go", names)
	return p.add(w, name+".Version(),", p.module+"/"+name, "At", "Build")
}

// number is that of a version such as v2; 0 for any other text.
func number(version string) int {
	n, err := strconv.Atoi(strings.TrimPrefix(version, "v"))
	if err != nil || n < 1 || version != fmt.Sprint("v", n) {
		return 0
	}
	return n
}

func (p *Program) add(w writing, line, imports string, in ...string) (a Addition, err error) {
	a.Line, a.Import = line, imports
	if a.Written, err = w.write(); err != nil {
		return Addition{}, err
	}
	p.place(&a, in...)
	return a, nil
}
