// Package golang writes Go of contracts: types with their rules, kinds of problem, and the names of all. What a server is
// begun with and what a client is made of share it.
package golang

import (
	"fmt"
	"go/token"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/valid"
)

// A Writer gathers what is written of one contract. It is not safe for concurrent use.
type Writer struct {
	Document *contract.Document
	Package  string
	Header   string   // a comment under the package clause
	Decls    []string // of types
	Kinds    []string // declarations of kinds of problem
	Notes    []string // what of the contract is not in the Go, each with its place
	Values   *contract.Values
	// Client has enumerations be constants, and types that a server has no need for: it is for those who call.
	Client bool

	taken    map[string]bool   // names of the package
	types    map[string]string // Go types, by the components that they are of
	kinds    map[string]string // variables of kinds of problem, by their codes
	noted    map[string]bool
	answered map[string]bool // components that answers have
	held     *valid.Validator
}

// New prepares to write a package, whose names taken are not to be used.
func New(d *contract.Document, name, header string, taken ...string) (*Writer, error) {
	g := &Writer{
		Document: d, Package: name, Header: header, Values: d.Values(),
		taken: map[string]bool{}, types: map[string]string{}, kinds: map[string]string{}, noted: map[string]bool{},
	}
	for _, word := range taken {
		g.taken[word] = true
	}
	var err error
	if g.held, err = valid.New(d); err != nil {
		return nil, err
	}
	g.findAnswered()
	return g, nil
}

// note says that something of the contract is not in the Go.
func (g *Writer) Note(pointer, format string, args ...any) {
	text := pointer + ": " + fmt.Sprintf(format, args...)
	if !g.noted[text] {
		g.noted[text] = true
		g.Notes = append(g.Notes, text)
	}
}

var letters = regexp.MustCompile(`[A-Za-z0-9]+`)

// Camel makes a Go name of words: locks.find is LocksFind, and id ID.
func Camel(text string) string {
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
func Lower(name string) string {
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
func (g *Writer) Unique(name string) string {
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
func Comment(text string) string {
	var b strings.Builder
	for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		b.WriteString(strings.TrimRight("// "+strings.TrimSpace(line), " ") + "\n")
	}
	return b.String()
}

func (g *Writer) File(imports []string, body ...string) string {
	text := strings.Join(body, "\n")
	var groups [2]string // of the standard library, and all others
	for _, path := range imports {
		name := path[strings.LastIndexByte(path, '/')+1:]
		if i := strings.Count(path, "."); regexp.MustCompile(`\b` + name + `\.`).MatchString(text) {
			groups[min(i, 1)] += fmt.Sprintf("%q\n", path)
		}
	}
	return "package " + g.Package + "\n\n" + g.Header + "\n\nimport (\n" + strings.Join(groups[:], "\n") + ")\n\n" + text
}

const Module = "github.com/wicketway/wicketway"

func (g *Writer) TypesFile() string {
	if g.Decls == nil {
		return ""
	}
	return g.File(
		[]string{"time", "github.com/go-json-experiment/json/jsontext", Module, Module + "/schema"},
		g.Decls...)
}

func (g *Writer) ProblemsFile() string {
	if g.Kinds == nil {
		return ""
	}
	return g.File(
		[]string{Module + "/problem"},
		"// Kinds of problem that the contract names.\nvar (\n"+strings.Join(g.Kinds, "\n")+"\n)\n",
	)
}

func NonEmpty(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

func OneLine(text string) string { return strings.Join(strings.Fields(text), " ") }
