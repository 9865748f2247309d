// Package project writes new programs, and new parts of programs that are there.
//
// What it writes is a start, not a layer: plain Go that calls Wicketway, and that its programmer owns from then on.
// Nothing is ever overwritten.
package project

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"go/format"
	"go/token"
	"go/types"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"text/template"
)

//go:embed templates/*.tmpl
var texts embed.FS

var templates = template.Must(template.New("").Delims("«", "»").ParseFS(texts, "templates/*.tmpl"))

// A Store is how a part keeps what it has.
type Store string

// The stores.
const (
	Memory Store = "memory"
	SQLite Store = "sqlite"
)

// A Start says what a new program is like.
type Start struct {
	Folder string
	Module string // its module path
	Part   string // the name of its first part, in the plural: berths
	Store  Store
	// Wicketway is the version of Wicketway that it requires, or the folder of a checkout.
	Wicketway string
}

// A names is the name of a part in all its forms.
type names struct {
	Package, Path, Table, Many string // berths
	One, A                     string // berth, a berth
	Type                       string // Berth
	Use                        string // how the description uses it
	Project, Module            string
	SQLite                     bool
	Variable                   string // of the environment
	Before                     string // the version before this one
}

// New writes a program, and returns the names of its files.
func New(s Start) (written []string, err error) {
	if err := checkModule(s.Module); err != nil {
		return nil, err
	}
	if s.Store != Memory && s.Store != SQLite {
		return nil, fmt.Errorf("the store %q is not known; known: %s, %s", s.Store, Memory, SQLite)
	}
	part, err := partNames(s.Part, s.Module, s.Store)
	if err != nil {
		return nil, err
	}
	if there, err := os.ReadDir(s.Folder); err == nil && len(there) > 0 {
		return nil, fmt.Errorf("the folder %s is not empty: it has %s", s.Folder, there[0].Name())
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	name := projectName(s.Module)
	data := struct {
		Name, Title, Module string
		SQLite              bool
		Part                names
		Version, Checkout   string
	}{name, strings.ToUpper(name[:1]) + name[1:], s.Module, s.Store == SQLite, part, s.Wicketway, ""}
	if filepath.IsAbs(s.Wicketway) {
		data.Version, data.Checkout = "v0.0.0", s.Wicketway
	}
	w := writing{folder: s.Folder}
	w.add("go.mod", "go.mod", data)
	w.add("main.go", "main.go", data)
	w.add("main_test.go", "main_test.go", data)
	w.add("README.md", "README.md", data)
	w.add("check", "check", data)
	if s.Store == SQLite {
		w.add("storage/storage.go", "storage.go", data)
		w.add(".gitignore", "gitignore", data)
	}
	w.part(part)
	return w.write()
}

// part adds the files of a part.
func (w *writing) part(n names) {
	store := "store_memory.go"
	if n.SQLite {
		store = "store_sqlite.go"
		w.add(fmt.Sprintf("storage/migrations/%03d-%s.sql", w.migrations()+1, n.Package), "migration.sql", n)
	}
	w.add(n.Package+"/"+n.Package+".go", "part.go", n)
	w.add(n.Package+"/store.go", store, n)
	w.add(n.Package+"/"+n.Package+"_test.go", "part_test.go", n)
}

func (w *writing) migrations() int {
	there, _ := filepath.Glob(filepath.Join(w.folder, "storage/migrations/*.sql"))
	return len(there)
}

// A writing is a set of files that are written all or not at all.
type writing struct {
	folder string
	names  []string
	texts  map[string][]byte
	err    error
}

func (w *writing) add(name, of string, data any) {
	var text bytes.Buffer
	err := templates.ExecuteTemplate(&text, of+".tmpl", data)
	out := text.Bytes()
	if err == nil && strings.HasSuffix(name, ".go") {
		out, err = format.Source(out)
	}
	if err != nil {
		w.err = errors.Join(w.err, fmt.Errorf("%s: %w", name, err))
	}
	if w.texts == nil {
		w.texts = map[string][]byte{}
	}
	w.names, w.texts[name] = append(w.names, name), out
}

func (w *writing) write() ([]string, error) {
	if w.err != nil {
		return nil, w.err
	}
	for _, name := range w.names {
		if _, err := os.Lstat(filepath.Join(w.folder, name)); err == nil {
			return nil, fmt.Errorf("%s is there already; nothing was written", filepath.Join(w.folder, name))
		}
	}
	for i, name := range w.names {
		file := filepath.Join(w.folder, filepath.FromSlash(name))
		if err := create(file, w.texts[name], name == "check"); err != nil {
			for _, done := range w.names[:i] {
				os.Remove(filepath.Join(w.folder, filepath.FromSlash(done)))
			}
			return nil, err
		}
	}
	return w.names, nil
}

// create writes a file that is not there yet.
func create(name string, text []byte, program bool) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	mode := fs.FileMode(0o644)
	if program {
		mode = 0o755
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Close())
}

var modulePath = regexp.MustCompile(`^[a-z0-9][a-z0-9._~-]*(/[A-Za-z0-9][A-Za-z0-9._~-]*)*$`)

func checkModule(module string) error {
	switch {
	case !modulePath.MatchString(module) || strings.HasSuffix(module, "."):
		return fmt.Errorf("%q is not a module path: write one such as example.org/harbour", module)
	case slices.Contains([]string{"std", "cmd", "main", "example", "test"}, module):
		return fmt.Errorf("the module path %q belongs to Go: write one such as example.org/harbour", module)
	}
	return nil
}

var major = regexp.MustCompile(`^v[0-9]+$`)

// projectName is the last word of a module path, as it is used in texts and file names.
func projectName(module string) string {
	if major.MatchString(path.Base(module)) {
		module = path.Dir(module)
	}
	name := path.Base(module)
	if name == "." || name == "/" {
		return "program"
	}
	return name
}

var word = regexp.MustCompile(`^[a-z][a-z0-9]*$`)

// taken are the names of packages that the files import, and of what they declare.
var taken = []string{
	"accesslog", "auth", "cache", "compress", "context", "desk", "embed", "errors", "exchange", "flag", "fmt", "fs",
	"health", "http", "httptest", "internal", "log", "main", "one", "os", "problem", "rand", "requestid", "schema", "secure",
	"signal", "slog", "slices", "sql", "sqlite", "storage", "strings", "sync", "syscall", "testdata", "testing", "time",
	"tracecontext", "vendor", "wicketway", "wicketwaytest", "build", "logger", "run", "db", "api", "ctx", "listen",
}

// checkName checks the name of a package to be.
func checkName(what, name, example string) error {
	switch {
	case !word.MatchString(name):
		return fmt.Errorf("%q is not a name for a %s: it is a Go package, so write small letters and digits, such as %s", name, what, example)
	case token.IsKeyword(name), types.Universe.Lookup(name) != nil, slices.Contains(taken, name):
		return fmt.Errorf("the name %s has a meaning in Go, or in what would be written: choose another, such as %s", name, example)
	}
	return nil
}

func partNames(name, module string, store Store) (names, error) {
	if err := checkName("part", name, "berths"); err != nil {
		return names{}, err
	}
	one := singular(name)
	if one == "store" {
		return names{}, fmt.Errorf("the name %s is that of what keeps a part: choose another, such as shops", name)
	}
	n := names{Package: name, Path: name, Table: name, Many: name, One: one, A: "a " + one,
		Type: strings.ToUpper(one[:1]) + one[1:], Project: projectName(module), Module: module, SQLite: store == SQLite}
	if strings.ContainsRune("aeiou", rune(one[0])) {
		n.A = "an " + one
	}
	n.Use = fmt.Sprintf("%s.Parts(%s.NewStore()),", name, name)
	if n.SQLite {
		n.Use = fmt.Sprintf("%s.Parts(%s.NewStore(db)),", name, name)
	}
	return n, nil
}

// singular is the singular of an English plural; a word that is none stays.
func singular(name string) string {
	for _, rule := range [][2]string{{"sses", "ss"}, {"ches", "ch"}, {"shes", "sh"}, {"xes", "x"}, {"ies", "y"}, {"ss", "ss"}, {"us", "us"}, {"s", ""}} {
		if stem, has := strings.CutSuffix(name, rule[0]); has && stem != "" {
			return stem + rule[1]
		}
	}
	return name
}
