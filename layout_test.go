package wicketway_test

import (
	"cmp"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

const module = "github.com/wicketway/wicketway"

// What the folders may import of this module, beside what is below internal: that is open to all but what it
// imports itself. A folder is ruled by the longest entry that fits.
var mayImport = map[string][]string{
	".":             {"core", "exchange", "adapt", "format", "contract"},
	"facts":         {},
	"route":         {},
	"negotiate":     {},
	"schema":        {},
	"problem":       {},
	"exchange":      {"core"},
	"adapt":         {"core"},
	"internal":      {"core", "exchange"},
	"chain":         {".", "core", "exchange", "chain"},
	"observe":       {".", "core", "exchange", "observe"},
	"format":        {"core", "format"},
	"translate":     {"core", "translate"},
	"wicketwaytest": {".", "core", "exchange", "adapt", "format"},
	"cmd":           {"*"},
	"examples":      {"*"},
	"bench":         {"*"},
}

// The core has no server and no command line; problem needs net/http for its statuses and header fields. Of
// other modules it imports JSON alone.
var core = []string{"facts", "route", "negotiate", "schema", "problem"}

// ruleFor is the longest of the entries that a folder is, or is below.
func ruleFor(folder string, entries []string) (longest string) {
	longest = "none"
	for _, e := range entries {
		if (folder == e || strings.HasPrefix(folder, e+"/")) && (longest == "none" || len(e) > len(longest)) {
			longest = e
		}
	}
	return longest
}

func TestPackagesImportOnlyWhatTheyMay(t *testing.T) {
	seen := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		folder := ruleFor(filepath.Dir(path), slices.Collect(maps.Keys(mayImport)))
		allowed, ruled := mayImport[folder]
		if !ruled {
			t.Errorf("%s: the folder %s is not in the table", path, folder)
		}
		seen[folder] = true
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range file.Imports {
			name, _ := strconv.Unquote(spec.Path.Value)
			inside, ours := strings.CutPrefix(name+"/", module+"/")
			inside = cmp.Or(strings.TrimSuffix(inside, "/"), ".")
			switch {
			case ours:
				if slices.Contains(allowed, "core") {
					allowed = append(allowed, core...)
				}
				if ruleFor(inside, allowed) == "none" && !slices.Contains(allowed, "*") && !strings.HasPrefix(inside, "internal/") {
					t.Errorf("%s may not import %s", path, name)
				}
			case slices.Contains(core, folder) && strings.Contains(strings.Split(name, "/")[0], ".") && !strings.HasPrefix(name, "github.com/go-json-experiment/"):
				t.Errorf("%s: the core imports %s", path, name)
			case (slices.Contains(core, folder) && folder != "problem") && name == "net/http":
				t.Errorf("%s: the core has no server, but imports %s", path, name)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for folder := range mayImport {
		if !seen[folder] {
			t.Errorf("the table has %s, which is no folder with Go files", folder)
		}
	}
}

// The program that the README shows is the one that compiles and runs.
func TestReadmeShowsTheFirstExample(t *testing.T) {
	readme, err := os.ReadFile("README.md")
	if err != nil {
		t.Fatal(err)
	}
	first, err := os.ReadFile("examples/first/main.go")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(readme), "```go\n"+string(first)+"```") {
		t.Error("the README does not hold examples/first/main.go as it is")
	}
	if n := strings.Count(string(first), "\n"); n >= 40 {
		t.Errorf("examples/first has %d lines", n)
	}
	pictures, err := filepath.Glob("docs/screenshots/*.png")
	if err != nil || len(pictures) == 0 {
		t.Errorf("no pictures: %v", err)
	}
	for _, p := range pictures {
		if !strings.Contains(string(readme), p) {
			t.Errorf("the README does not link %s", p)
		}
	}
}

// The package's comment and the README name every file of the root package and every middleware.
func TestTheListingsAreWhole(t *testing.T) {
	for _, page := range []string{"doc.go", "README.md"} {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		files, _ := filepath.Glob("*.go")
		links, _ := filepath.Glob("chain/*")
		for _, name := range append(files, links...) {
			switch {
			case strings.HasSuffix(name, "_test.go"), name == "doc.go", page == "doc.go" && filepath.Ext(name) == "":
			case !strings.Contains(string(text), filepath.Base(name)):
				t.Errorf("%s lacks %s", page, name)
			}
		}
	}
}
