// Package begin writes the Go of a contract to begin from: types with rules, kinds of problem, and a part with every
// route, whose functions answer 501 until they are written.
package begin

import (
	"errors"
	"fmt"
	"go/format"
	"go/token"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/valid"
)

// A Program is what is written: files by their names, and what of the contract is not in them.
type Program struct {
	Files map[string][]byte
	Notes []string // each with the place in the contract
}

// From writes the package of a contract. File is the name of the contract, as its test reads it.
func From(d *contract.Document, name, file string) (*Program, error) {
	g := &generator{
		d:     d,
		pkg:   name,
		taken: map[string]bool{},
		types: map[string]string{},
		kinds: map[string]string{},
		noted: map[string]bool{},
	}
	for _, word := range []string{"Parts", "Info"} {
		g.taken[word] = true
	}
	g.values = d.Values()
	var err error
	if g.held, err = valid.New(d); err != nil {
		return nil, err
	}
	g.findAnswered()
	if g.routes(); g.parts == nil {
		return nil, errors.New("the contract has no operation to begin with")
	}
	p := &Program{Files: map[string][]byte{}, Notes: g.notes}
	for name, text := range map[string]string{"parts.go": g.partsFile(), "types.go": g.typesFile(), "problems.go": g.problemsFile(),
		"contract_test.go": g.testFile(file)} {
		if text == "" {
			continue
		}
		formatted, err := format.Source([]byte(text))
		if err != nil {
			return nil, fmt.Errorf("%s: %w\n%s", name, err, text)
		}
		p.Files[name] = formatted
	}
	return p, nil
}

// A generator gathers what is written.
type generator struct {
	d         *contract.Document
	pkg       string
	taken     map[string]bool   // names of the package
	types     map[string]string // Go types, by the components that they are of
	decls     []string          // of types
	parts     []string          // settings and routes
	functions []string
	kinds     map[string]string // variables of kinds of problem, by their codes
	kindDecls []string
	guarded   bool
	notes     []string
	noted     map[string]bool
	answered  map[string]bool // components that answers have
	values    *contract.Values
	held      *valid.Validator
}

// note says that something of the contract is not in the Go.
func (g *generator) note(pointer, format string, args ...any) {
	text := pointer + ": " + fmt.Sprintf(format, args...)
	if !g.noted[text] {
		g.noted[text] = true
		g.notes = append(g.notes, text)
	}
}

var letters = regexp.MustCompile(`[A-Za-z0-9]+`)

// camel makes a Go name of words: locks.find is LocksFind, and id ID.
func camel(text string) string {
	var b strings.Builder
	for _, word := range letters.FindAllString(text, -1) {
		if upper := strings.ToUpper(word); slices.Contains(
			[]string{"ID", "URL", "URI", "HTTP", "JSON", "API", "PIN"},
			upper,
		) {
			b.WriteString(upper)
			continue
		}
		b.WriteString(strings.ToUpper(word[:1]) + word[1:])
	}
	name := b.String()
	if name == "" || unicode.IsDigit(rune(name[0])) {
		name = "X" + name
	}
	return name
}

// lower begins a name with a small letter.
func lower(name string) string {
	n := 0
	for n < len(name) && unicode.IsUpper(rune(name[n])) {
		n++
	}
	if n > 1 && n < len(name) {
		n--
	}
	name = strings.ToLower(name[:n]) + name[n:]
	if token.IsKeyword(name) {
		name += "It"
	}
	return name
}

// unique gives a name of the package that nothing else has.
func (g *generator) unique(name string) string {
	free := name
	for n := 2; g.taken[free] || predeclared[free]; n++ {
		free = fmt.Sprint(name, n)
	}
	g.taken[free] = true
	return free
}

// predeclared are names that a package had better not have.
var predeclared = map[string]bool{
	"string":    true,
	"error":     true,
	"any":       true,
	"len":       true,
	"new":       true,
	"make":      true,
	"append":    true,
	"problem":   true,
	"schema":    true,
	"wicketway": true,
	"context":   true,
	"time":      true,
	"init":      true,
	"main":      true,
	"exchange":  true,
	"jsontext":  true,
}

// comment writes a text as a comment of lines.
func comment(text string) string {
	var b strings.Builder
	for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		b.WriteString(strings.TrimRight("// "+strings.TrimSpace(line), " ") + "\n")
	}
	return b.String()
}

const written = "\n\n// This file was begun from a contract, and is yours to change.\n"

func (g *generator) file(imports []string, body ...string) string {
	text := strings.Join(body, "\n")
	var groups [2]string // of the standard library, and all others
	for _, path := range imports {
		name := path[strings.LastIndexByte(path, '/')+1:]
		if i := strings.Count(path, "."); regexp.MustCompile(`\b` + name + `\.`).MatchString(text) {
			groups[min(i, 1)] += fmt.Sprintf("%q\n", path)
		}
	}
	return "package " + g.pkg + written + "\nimport (\n" + strings.Join(groups[:], "\n") + ")\n\n" + text
}

const module = "github.com/wicketway/wicketway"

func (g *generator) typesFile() string {
	if g.decls == nil {
		return ""
	}
	return g.file(
		[]string{"time", "github.com/go-json-experiment/json/jsontext", module, module + "/schema"},
		g.decls...)
}

func (g *generator) problemsFile() string {
	if g.kindDecls == nil {
		return ""
	}
	return g.file(
		[]string{module + "/problem"},
		"// Kinds of problem that the contract names.\nvar (\n"+strings.Join(g.kindDecls, "\n")+"\n)\n",
	)
}

func (g *generator) partsFile() string {
	signature, doc := "func Parts() wicketway.Part {", "// Parts are the routes of the contract.\n"
	settings := ""
	if g.guarded {
		signature = "func Parts(guard exchange.Authenticator) wicketway.Part {"
		doc = "// Parts are the routes of the contract, behind a guard.\n"
		settings = "wicketway.Guard(guard),\n"
	}
	parts := doc + signature + "\nreturn wicketway.Group(\n" + settings + strings.Join(g.parts, ",\n") + ",\n)\n}\n"
	info := fmt.Sprintf(
		"// Info names the API.\nvar Info = wicketway.Info{Title: %q, Version: %q}\n",
		nonEmpty(g.d.Info.Title, "API"),
		nonEmpty(g.d.Info.Version, "1.0.0"),
	)
	return strings.Replace(
		g.file(
			[]string{
				"context",
				"time",
				"github.com/go-json-experiment/json/jsontext",
				module,
				module + "/exchange",
				module + "/problem",
				module + "/schema",
			},
			append(
				[]string{info, parts},
				g.functions...)...),
		"package "+g.pkg,
		"// Package "+g.pkg+" serves the contract "+oneLine(g.d.Info.Title)+".\npackage "+g.pkg,
		1,
	)
}

func nonEmpty(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

func (g *generator) testFile(file string) string {
	parts := "Parts()"
	setup, imports := "", []string{"testing", module, module + "/wicketwaytest"}
	if g.guarded {
		imports = append(imports, module+"/chain/auth")
		setup = "guard := auth.Bearer(auth.HS256(make([]byte, 32)), auth.Settings{Audience: []string{Info.Title}})\n"
		parts = "Parts(guard)"
	}
	return g.file(imports, "// The API is as the contract says.\nfunc TestContract(t *testing.T) {\n"+setup+
		"api, err := wicketway.Build(Info, "+parts+")\nif err != nil {\nt.Fatal(err)\n}\nwicketwaytest.Matches(t, api, "+fmt.Sprintf("%q", file)+")\n}\n")
}
