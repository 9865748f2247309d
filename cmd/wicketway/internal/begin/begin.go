// Package begin writes the Go of a contract to begin from: types with rules, kinds of problem, and a part with every
// route, whose functions answer 501 until they are written.
package begin

import (
	"errors"
	"fmt"
	"go/format"
	"strings"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/internal/golang"
)

// A Program is what is written: files by their names, and what of the contract is not in them.
type Program struct {
	Files map[string][]byte
	Notes []string // each with the place in the contract
}

// From writes the package of a contract. File is the name of the contract, as its test reads it.
func From(d *contract.Document, name, file string) (*Program, error) {
	w, err := golang.New(d, name, "// This file was begun from a contract, and is yours to change.", "Parts", "Info")
	if err != nil {
		return nil, err
	}
	g := &generator{Writer: w}
	if g.routes(); g.parts == nil {
		return nil, errors.New("the contract has no operation to begin with")
	}
	p := &Program{Files: map[string][]byte{}, Notes: g.Notes}
	for name, text := range map[string]string{"parts.go": g.partsFile(), "types.go": g.TypesFile(), "problems.go": g.ProblemsFile(),
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
	*golang.Writer
	parts     []string // settings and routes
	functions []string
	guarded   bool
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
		golang.NonEmpty(g.Document.Info.Title, "API"),
		golang.NonEmpty(g.Document.Info.Version, "1.0.0"),
	)
	about := "// Package " + g.Package + " serves the contract " + golang.OneLine(g.Document.Info.Title) + ".\n"
	imports := []string{
		"context", "time", "github.com/go-json-experiment/json/jsontext", golang.Module, golang.Module + "/exchange", golang.Module + "/problem",
		golang.Module + "/schema",
	}
	return g.Documented(about, imports, append([]string{info, parts}, g.functions...)...)
}

func (g *generator) testFile(file string) string {
	parts := "Parts()"
	setup, imports := "", []string{"testing", golang.Module, golang.Module + "/wicketwaytest"}
	if g.guarded {
		imports = append(imports, golang.Module+"/chain/auth")
		setup = "guard := auth.Bearer(auth.HS256(make([]byte, 32)), auth.Settings{Audience: []string{Info.Title}})\n"
		parts = "Parts(guard)"
	}
	return g.File(imports, "// The API is as the contract says.\nfunc TestContract(t *testing.T) {\n"+setup+
		"api, err := wicketway.Build(Info, "+parts+")\nif err != nil {\nt.Fatal(err)\n}\nwicketwaytest.Matches(t, api, "+fmt.Sprintf("%q", file)+")\n}\n")
}
