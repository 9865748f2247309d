// Package sources knows from what files a program is made: those that its programmer may change.
package sources

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A Program is the package of a program, with all that it is made from.
type Program struct {
	Package string // as it was named
	Path    string // its import path
	// Roots are the folders of the modules that the programmer may change: the module itself, those of its workspace, and
	// those that replace others by a folder.
	Roots []string
	// Workspace is the file go.work; "" where there is none.
	Workspace string

	packages map[string]listed // of Roots, by folder
	embedded map[string]bool   // files
}

// listed is what go list says of a package.
type listed struct {
	ImportPath, Dir, Name, ForTest string
	Standard                       bool
	Module                         *module
	EmbedFiles                     []string
	Deps                           []string
	TestGoFiles, XTestGoFiles      []string
}

// A module is where a package comes from.
type module struct {
	Path, Version, Dir string
	Main               bool
	Replace            *module
}

// own reports whether the programmer may change a module: others come from the module cache.
func (m *module) own() bool {
	return m != nil && (m.Main || m.Replace != nil && m.Replace.Version == "")
}

// A Refusal is a package that is no program, in Go's words.
type Refusal struct{ text string }

func (r Refusal) Error() string { return r.text }

// Of finds out from what a package is made. It returns a [Refusal] where that is not a program.
func Of(ctx context.Context, pkg string) (*Program, error) {
	p := &Program{Package: pkg, packages: map[string]listed{}, embedded: map[string]bool{}}
	all, err := list(ctx, "-e", "-deps", "-json=ImportPath,Dir,Name,Standard,Module,EmbedFiles", "--", pkg)
	if err != nil {
		return nil, Refusal{fmt.Sprintf("%s is neither a file nor a Go package:\n%v", pkg, err)}
	}
	if len(all) == 0 {
		return nil, Refusal{pkg + " is not a Go package"}
	}
	main := all[len(all)-1] // dependencies come first
	switch {
	case main.Name == "":
		return nil, Refusal{fmt.Sprintf("%s is neither a file nor a Go package", pkg)}
	case main.Name != "main":
		return nil, Refusal{fmt.Sprintf(
			"%s is the package %s; name a program (package main) that calls api.Serve, such as ./cmd/server", pkg, main.Name,
		)}
	}
	p.Path = main.ImportPath
	for _, one := range all {
		p.add(one)
	}
	slices.Sort(p.Roots)
	p.Workspace = workspace(ctx)
	return p, nil
}

func (p *Program) add(one listed) {
	if one.Standard || !one.Module.own() {
		return
	}
	dir := one.Module.Dir
	if one.Module.Replace != nil {
		dir = cmp.Or(one.Module.Replace.Dir, dir)
	}
	if dir != "" && !slices.Contains(p.Roots, dir) {
		p.Roots = append(p.Roots, dir)
	}
	p.packages[one.Dir] = one
	for _, name := range one.EmbedFiles {
		p.embedded[filepath.Join(one.Dir, name)] = true
	}
}

// list asks go list.
func list(ctx context.Context, args ...string) (all []listed, err error) {
	out, err := goTool(ctx, append([]string{"list"}, args...)...)
	if err != nil {
		return nil, err
	}
	for d := jsontext.NewDecoder(bytes.NewReader(out)); ; {
		var one listed
		if err := json.UnmarshalDecode(d, &one); errors.Is(err, io.EOF) {
			return all, nil
		} else if err != nil {
			return nil, fmt.Errorf("go list: %w", err)
		}
		all = append(all, one)
	}
}

// goTool runs the go command, and returns what it printed; its error is what it complained of.
func goTool(ctx context.Context, args ...string) ([]byte, error) {
	c := exec.CommandContext(ctx, "go", args...)
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if text := strings.TrimSpace(said.String()); err != nil && text != "" {
		return nil, errors.New(text)
	}
	return out, err
}

func workspace(ctx context.Context) string {
	out, err := goTool(ctx, "env", "GOWORK")
	if name := strings.TrimSpace(string(out)); err == nil && name != "off" {
		return name
	}
	return ""
}

// Uses reports whether a change of a file can change the program: a Go file of its packages, a module file, a file
// that is embedded, or one that programs read when they run.
func (p *Program) Uses(file string) bool {
	_, inProgram := p.packages[filepath.Dir(file)]
	return p.embedded[file] || isSource(file) && (inProgram || !slices.Contains(compiled, filepath.Ext(file)))
}

// Embedded are the files that are embedded in the program.
func (p *Program) Embedded() []string { return slices.Sorted(maps.Keys(p.embedded)) }

// isSource reports whether a program can be made from a file, by its name.
func isSource(file string) bool {
	name := filepath.Base(file)
	switch {
	case name == "go.mod", name == "go.sum", name == "go.work", name == "go.work.sum":
		return true
	case strings.HasSuffix(name, "_test.go"), under(file, "testdata"):
		return false
	}
	return slices.Contains(compiled, filepath.Ext(name)) || slices.Contains(served, strings.ToLower(filepath.Ext(name)))
}

// Embeds reports whether a file is a part of the program itself.
func (p *Program) Embeds(file string) bool {
	return p.embedded[file] || slices.Contains(compiled, filepath.Ext(file)) || strings.HasPrefix(filepath.Base(file), "go.")
}

// compiled are the endings of files that the compiler reads.
var compiled = []string{".go", ".s", ".c", ".h", ".cc", ".cpp", ".hpp", ".S", ".syso"}

// served are the endings of templates, assets and settings. Those that programs write to themselves, such as .db
// and .log, are not among them.
var served = []string{
	".html", ".htm", ".tmpl", ".gohtml", ".tpl", ".css", ".js", ".mjs", ".map", ".wasm", ".svg", ".png", ".jpg", ".jpeg",
	".gif", ".webp", ".avif", ".ico", ".woff", ".woff2", ".txt", ".md", ".csv", ".sql", ".xml", ".json", ".yaml", ".yml",
	".toml", ".po", ".pem", ".env",
}

func under(file, folder string) bool {
	return slices.Contains(strings.Split(filepath.ToSlash(filepath.Dir(file)), "/"), folder)
}

// Folders are all folders in which a change can matter, by [Skipped].
func (p *Program) Folders() (all []string) {
	for _, root := range p.Roots {
		filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			switch {
			case err != nil || !d.IsDir():
				return nil // one that cannot be read has nothing that the compiler reads
			case path != root && p.Skipped(path):
				return fs.SkipDir
			}
			all = append(all, path)
			return nil
		})
	}
	if p.Workspace != "" && !slices.Contains(all, filepath.Dir(p.Workspace)) {
		all = append(all, filepath.Dir(p.Workspace))
	}
	return all
}

// Skipped reports whether nothing in a folder matters: hidden ones, those of npm, and modules that are none of ours.
func (p *Program) Skipped(folder string) bool {
	name := filepath.Base(folder)
	if strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_") || name == "node_modules" {
		return true
	}
	_, err := os.Stat(filepath.Join(folder, "go.mod"))
	return err == nil && !slices.Contains(p.Roots, folder)
}

// Reached are the packages with tests, of all roots, that use one of the files: in their own folder or in those of what
// they import.
func (p *Program) Reached(ctx context.Context, files []string) ([]string, error) {
	patterns := make([]string, len(p.Roots))
	for i, root := range p.Roots {
		patterns[i] = root + "/..."
	}
	all, err := list(ctx, append([]string{"-e", "-test", "-json=ImportPath,Dir,ForTest,Deps,TestGoFiles,XTestGoFiles", "--"},
		patterns...)...)
	if err != nil {
		return nil, err
	}
	changed, reached := map[string]bool{}, map[string]bool{}
	for _, one := range all {
		for _, file := range files {
			if one.ForTest == "" && inPackage(one.Dir, file) {
				changed[one.ImportPath] = true
			}
		}
	}
	for _, one := range all {
		tested := strings.TrimSuffix(one.ImportPath, ".test")
		if one.ForTest != "" || !strings.HasSuffix(one.ImportPath, ".test") {
			continue // the test program has the dependencies of all its files
		}
		if changed[tested] || slices.ContainsFunc(one.Deps, func(dep string) bool {
			path, _, _ := strings.Cut(dep, " ") // also as it is compiled for a test
			return changed[path]
		}) {
			reached[tested] = true
		}
	}
	return slices.Sorted(maps.Keys(reached)), nil
}

// inPackage reports whether a file belongs to the package of a folder: it is there, or in its testdata.
func inPackage(dir, file string) bool {
	return filepath.Dir(file) == dir || strings.HasPrefix(file, filepath.Join(dir, "testdata")+string(filepath.Separator))
}
