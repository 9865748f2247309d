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
	"unicode/utf8"

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

	patches  bool                // members that can be absent are a schema.Optional
	reserved map[string]string   // names of components that are not written yet
	holds    map[string][]string // types of the members of structs, by the names of those
	begun    map[string]bool     // structs that are not complete
	structs  map[string]bool     // types that are structs, and complete
	taken    map[string]bool     // names of the package
	types    map[string]string   // Go types, by the components that they are of
	kinds    map[string]string   // variables of kinds of problem, by their codes
	noted    map[string]bool
	answered map[string]bool // components that answers have
	held     *valid.Validator
}

// New prepares to write a package, whose names taken are not to be used.
func New(d *contract.Document, name, header string, taken ...string) (*Writer, error) {
	g := &Writer{
		Document: d, Package: name, Header: header, Values: d.Values(),
		taken: map[string]bool{}, types: map[string]string{}, kinds: map[string]string{}, noted: map[string]bool{}, structs: map[string]bool{}, reserved: map[string]string{}, begun: map[string]bool{}, holds: map[string][]string{},
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

// Reserve gives the components their names before others have them.
func (g *Writer) Reserve() {
	if g.Document.Components == nil {
		return
	}
	for name := range g.Document.Components.Schemas.All() {
		g.reserved["#/components/schemas/"+Escape(name)] = g.Unique(Camel(name))
	}
}

// nameOf is the name of what a reference leads to.
func (g *Writer) nameOf(ref string) string {
	if name := g.reserved[ref]; name != "" {
		delete(g.reserved, ref)
		return name
	}
	return g.Unique(Camel(ref[strings.LastIndexByte(ref, '/')+1:]))
}

// Note says that something of the contract is not in the Go.
func (g *Writer) Note(pointer, format string, args ...any) {
	text := pointer + ": " + fmt.Sprintf(format, args...)
	if !g.noted[text] {
		g.noted[text] = true
		g.Notes = append(g.Notes, text)
	}
}

// Camel makes an exported Go name of words: locks.find is LocksFind, and id ID. Letters of all scripts can be in it.
func Camel(text string) string {
	var b strings.Builder
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		if upper := strings.ToUpper(word); slices.Contains([]string{"ID", "URL", "URI", "HTTP", "JSON", "API", "PIN"}, upper) {
			b.WriteString(upper)
			continue
		}
		first, size := utf8.DecodeRuneInString(word)
		b.WriteString(string(unicode.ToUpper(first)) + word[size:])
	}
	name := b.String()
	if first, _ := utf8.DecodeRuneInString(name); !unicode.IsUpper(first) {
		name = "X" + name
	}
	return name
}

// Lower begins a name with a small letter.
func Lower(name string) string {
	letters := []rune(name)
	n := 0
	for n < len(letters) && unicode.IsUpper(letters[n]) {
		n++
	}
	if n > 1 && n < len(letters) {
		n--
	}
	name = strings.ToLower(string(letters[:n])) + string(letters[n:])
	if token.IsKeyword(name) {
		name += "It"
	}
	return name
}

// Unique gives a name of the package that nothing else has.
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

// File writes a file, with those of the imports that it uses.
func (g *Writer) File(imports []string, body ...string) string {
	return g.Documented("", imports, body...)
}

// Documented writes a file with the comment of the package.
func (g *Writer) Documented(doc string, imports []string, body ...string) string {
	text := strings.Join(body, "\n")
	var groups [2]string // of the standard library, and all others
	for _, path := range imports {
		name := path[strings.LastIndexByte(path, '/')+1:]
		if i := strings.Count(path, "."); regexp.MustCompile(`\b` + name + `\.`).MatchString(text) {
			groups[min(i, 1)] += fmt.Sprintf("%q\n", path)
		}
	}
	used := ""
	if groups != [2]string{} {
		used = "import (\n" + strings.Join(groups[:], "\n") + ")\n\n"
	}
	return g.Header + "\n\n" + doc + "package " + g.Package + "\n\n" + used + text
}

// Module is that of Wicketway.
const Module = "github.com/wicketway/wicketway"

// TypesFile has the types; it is empty where there are none.
func (g *Writer) TypesFile() string {
	if g.Decls == nil {
		return ""
	}
	return g.File(
		[]string{"time", "github.com/go-json-experiment/json", "github.com/go-json-experiment/json/jsontext", "github.com/google/uuid", Module, Module + "/client", Module + "/schema"},
		g.Decls...)
}

// ProblemsFile has the kinds of problem; it is empty where there are none.
func (g *Writer) ProblemsFile() string {
	if g.Kinds == nil {
		return ""
	}
	return g.File(
		[]string{Module + "/problem"},
		"// Kinds of problem that the contract names.\nvar (\n"+strings.Join(g.Kinds, "\n")+"\n)\n",
	)
}

// NonEmpty is a text, or another one where it is empty.
func NonEmpty(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// OneLine is a text without line breaks.
func OneLine(text string) string { return strings.Join(strings.Fields(text), " ") }
