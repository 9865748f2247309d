package wicketway_test

import (
	"cmp"
	"go/ast"
	gobuild "go/build"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

const module = "github.com/wicketway/wicketway"

// What the folders may import of this module, beside what is below internal: that is open to all but what it
// imports itself. A folder is ruled by the longest entry that fits.
var mayImport = map[string][]string{
	".":               {"core", "exchange", "adapt", "format"},
	"facts":           {},
	"route":           {},
	"negotiate":       {},
	"schema":          {},
	"problem":         {},
	"contract":        {"core"},
	"contract/valid":  {"core"},
	"contract/yaml":   {"core", "format"},
	"exchange":        {"core"},
	"adapt":           {"core"},
	"internal":        {"core", "exchange", "format"},
	"chain":           {".", "core", "exchange", "chain"},
	"observe":         {".", "core", "exchange", "observe"},
	"format":          {"core", "format"},
	"translate":       {"core", "translate"},
	"client":          {"schema", "problem"},
	"client/generate": {"core"},
	"client/named":    {"core", "client"},
	"handbook":        {".", "core", "exchange"},
	"wicketwaytest":   {".", "core", "exchange", "adapt", "format", "contract"},
	"cmd":             {"*"},
	"examples":        {"*"},
	"bench":           {"*"},
}

// The core has no server and no command line; problem needs net/http for its statuses and header fields. Of
// other modules it imports JSON alone.
var core = []string{"facts", "route", "negotiate", "schema", "problem", "contract"}

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

// A program links what it uses: no validator, YAML, command line, storage or telemetry by the root package.
func TestTheRootLinksNothingLarge(t *testing.T) {
	middleware, err := exec.CommandContext(t.Context(), "go", "list", "-deps", ".", "./chain/...", "./observe/metrics", "./handbook", "./examples/first").Output()
	if err != nil || regexp.MustCompile(`(?m)/observe/(trail|statements)$|sqlmw`).Match(middleware) {
		t.Errorf("trails are linked where nobody keeps any: %v", err)
	}
	list, err := exec.CommandContext(t.Context(), "go", "list", "-deps", ".").Output()
	if err != nil {
		t.Fatal(err)
	}
	for path := range strings.Lines(string(list)) {
		path = strings.TrimSpace(path)
		first, _, _ := strings.Cut(path, "/")
		small := []string{module, "github.com/go-json-experiment/json", "golang.org/x/sys/unix", "github.com/google/uuid"}
		if strings.Contains(first, ".") && ruleFor(path, small) == "none" && path != "html/template" {
			t.Errorf("the root package links %s", path)
		}
	}
}

// The package comment names the middleware that comes with Wicketway, as Without takes them.
func TestTheNamesOfMiddlewareAreDocumented(t *testing.T) {
	of := regexp.MustCompile(`(?s)exchange\.Middleware\{\s*Name: +"([a-z-]+)`)
	found := map[string]bool{}
	for _, below := range []string{"chain", "observe"} {
		err := filepath.WalkDir(below, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			text, err := os.ReadFile(path)
			for _, m := range of.FindAllStringSubmatch(string(text), -1) {
				found[m[1]] = true
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	comment, err := os.ReadFile("doc.go")
	if err != nil {
		t.Fatal(err)
	}
	_, list, _ := strings.Cut(strings.ReplaceAll(string(comment), "\n// ", " "), "come with Wicketway are named ")
	list, _, _ = strings.Cut(list, ".")
	for name := range found {
		if !strings.Contains(list, name) {
			t.Errorf("the package comment lacks %s: %s", name, list)
		}
	}
	if len(found) < 10 {
		t.Errorf("only %v were found", found)
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

// The root has few names, and no circle of uses between its files, and the packages below none that are large: a
// newcomer can read them in one order.
func TestFilesUseOneAnotherInOneDirection(t *testing.T) {
	set := token.NewFileSet()
	imports := importer.ForCompiler(set, "gc", exportData(t))
	for folder, most := range map[string]int{".": 1, "facts": 2, "exchange": 1, "adapt": 2, "cmd/wicketway": 1, "internal/check": 5, "internal/table": 2} {
		uses, exported := usesBetweenFiles(t, folder, set, imports)
		if n := largestCircle(uses); len(n) > most {
			t.Errorf("%s: %d files use one another in a circle, %d may: %v", folder, len(n), most, n)
		}
		if folder == "." {
			checkOrder(t, uses)
		}
		if folder == "." && exported >= 100 {
			t.Errorf("the root exports %d names; fewer than 100 are wanted", exported)
		}
	}
}

// checkOrder holds the uses against the order of files in the package's comment.
func checkOrder(t *testing.T, uses map[string]map[string]bool) {
	t.Helper()
	doc, err := os.ReadFile("doc.go")
	if err != nil {
		t.Fatal(err)
	}
	_, list, _ := strings.Cut(string(doc), "// # Files")
	place := map[string]int{}
	for i, word := range strings.Fields(list) {
		place[word] = i
	}
	for from, to := range uses {
		for file, is := range to {
			if is && place[file] > place[from] {
				t.Errorf("%s uses %s, which comes later in the list of the package's comment", from, file)
			}
		}
	}
}

// exportData finds what the compiler knows of the packages that ours import.
func exportData(t *testing.T) func(path string) (io.ReadCloser, error) {
	t.Helper()
	list, err := exec.CommandContext(t.Context(), "go", "list", "-export", "-deps", "-f", "{{.ImportPath}} {{.Export}}", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	files := map[string]string{}
	for line := range strings.Lines(string(list)) {
		path, file, _ := strings.Cut(strings.TrimSpace(line), " ")
		files[path] = file
	}
	return func(path string) (io.ReadCloser, error) { return os.Open(files[path]) }
}

// usesBetweenFiles says of each file of a package which others declare what it uses, and how many names the
// package exports.
func usesBetweenFiles(t *testing.T, folder string, set *token.FileSet, imports types.Importer) (uses map[string]map[string]bool, exported int) {
	t.Helper()
	of, err := gobuild.ImportDir(folder, 0)
	if err != nil {
		t.Fatal(err)
	}
	var files []*ast.File
	for _, name := range of.GoFiles {
		file, err := parser.ParseFile(set, filepath.Join(folder, name), nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, file)
	}
	info := types.Info{Uses: map[*ast.Ident]types.Object{}}
	config := types.Config{Importer: imports}
	pkg, err := config.Check(folder, set, files, &info)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range pkg.Scope().Names() {
		if ast.IsExported(name) {
			exported++
		}
	}
	uses = map[string]map[string]bool{}
	for id, object := range info.Uses {
		if object.Pkg() != pkg || !object.Pos().IsValid() {
			continue
		}
		from, to := set.Position(id.Pos()).Filename, set.Position(object.Pos()).Filename
		if uses[from] == nil {
			uses[from] = map[string]bool{}
		}
		uses[from][to] = from != to
	}
	return uses, exported
}

// largestCircle are the files of which each leads to each other.
func largestCircle(uses map[string]map[string]bool) (largest []string) {
	reaches := func(from string) map[string]bool {
		seen, todo := map[string]bool{}, []string{from}
		for len(todo) > 0 {
			at := todo[0]
			todo = todo[1:]
			for to, is := range uses[at] {
				if is && !seen[to] {
					seen[to] = true
					todo = append(todo, to)
				}
			}
		}
		return seen
	}
	all := map[string]map[string]bool{}
	for file := range uses {
		all[file] = reaches(file)
	}
	for file := range uses {
		circle := []string{file}
		for other := range all[file] {
			if other != file && all[other][file] {
				circle = append(circle, other)
			}
		}
		if len(circle) > len(largest) {
			largest = circle
		}
	}
	return largest
}
