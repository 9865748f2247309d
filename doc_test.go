package wicketway

import (
	"context"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
)

// The table of all settings in the package's comment is what the settings say of themselves.
func TestTheTableOfSettings(t *testing.T) {
	serve := func(context.Context, None) (None, error) { return None{}, nil }
	rule := func(context.Context, Identity, None) (bool, error) { return true, nil }
	all := map[string]Setting{
		"Allow": Allow(problem.Forbidden, rule), "AllowUnknown": AllowUnknown(), "Answers": Answers(200), "AnyScope": AnyScope("a", "b"),
		"Attach": Attach(1), "Chain": Chain(), "Conditional": Conditional(), "Describes": Describes[None, None](), "Description": Description("a"), "Tags": Tags("a"), "Development": Development(),
		"Envelope": Envelope("a"), "ErrorsAsProblems": ErrorsAsProblems(), "Example": Example("a", nil, None{}), "Fails": Fails(), "Formats": Formats(), "FormatChoice": FormatChoice{}, "Gives": Gives[None](204), "Guard": Guard(wrongGuard{}),
		"IgnoreReadOnly": IgnoreReadOnly(), "KindAs": KindAs(nil, nil), "Limits": Limits{Faults: 1}, "Listing": Listing(),
		"ProblemPages": ProblemPages(format.JSON()), "Languages": Languages("en", problem.Texts{Language: "de"}), "LocatedBy": LocatedBy(serve), "Log": Log(nil), "Media": Media("a/b"), "Name": Name("a"), "OmitNull": OmitNull(),
		"Overrides": Overrides(), "ProblemBase": ProblemBase("/"), "ProblemShape": ProblemShape("", func(format.Problem) int { return 0 }),
		"PageSizes": PageSizes{}, "Public": Public(), "Related": Related("help", "/"), "Retirement": Retirement{Sunset: time.Unix(1, 0)}, "Scopes": Scopes("a"),
		"ShowCauses": ShowCauses{}, "Slashes": Slashes(SlashSame), "Summary": Summary("a"), "Template": Template("a"), "Translate": Translate(), "ValueShape": ValueShape(func(format.Success) int { return 0 }), "VersionBy": VersionBy(InPath(), ""),
		"Unlisted":          Unlisted(),
		"WithdrawnVersions": WithdrawnVersions("v1"), "Without": Without("a"),
	}
	files, _ := filepath.Glob("*.go")
	for _, file := range files {
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil || strings.HasSuffix(file, "_test.go") {
			continue
		}
		for _, d := range parsed.Decls {
			f, is := d.(*ast.FuncDecl)
			if !is || f.Recv != nil || !f.Name.IsExported() || f.Type.Results == nil {
				continue
			}
			if of, is := f.Type.Results.List[0].Type.(*ast.Ident); is && strings.HasSuffix(of.Name, "Setting") && f.Name.Name != "Undo" && all[f.Name.Name] == nil {
				t.Errorf("the table lacks %s", f.Name.Name)
			}
		}
	}
	var names []string
	for name := range all {
		names = append(names, name)
	}
	slices.Sort(names)
	var table strings.Builder
	fmt.Fprintf(&table, "//\t%-18s %-16s %-8s %s\n", "setting", "may be on", "holds", "undone by")
	for _, name := range names {
		s := all[name].setting()
		around := terms{groupTerms: &groupTerms{base: ownBase, retirement: noRetirement}}
		before := fmt.Sprintf("%+v", *around.groupTerms)
		inner := around.below([]setting{s})
		s.kind.read(&reading{terms: &inner, of: &s, to: unheard{}})
		if after := fmt.Sprintf("%+v", *around.groupTerms); after != before {
			t.Errorf("%s changes its neighbours too: it should be ofGroups\n%s\n%s", name, before, after)
		}
		on, holds, undone := "route, group", "all", "-"
		switch {
		case s.is(onlyRoute):
			on = "route"
		case s.is(besideVersions):
			on = "group (versions)"
		}
		switch {
		case s.is(byField):
			holds = "by field"
		case s.is(replaces):
			holds = "nearest"
		}
		switch {
		case name == "Guard":
			undone = "Public"
		case s.kind.canUndo():
			undone = "Undo"
		}
		fmt.Fprintf(&table, "//\t%-18s %-16s %-8s %s\n", name, on, holds, undone)
	}
	doc, err := os.ReadFile("doc.go")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(doc), table.String()) {
		t.Errorf("the package's comment should have the table\n%s", table.String())
	}
}

// Unheard takes no mistakes down.
type unheard struct{}

func (unheard) mistake(here.Place, string, ...any)                     {}
func (unheard) kind(_ here.Place, _ string, k *problem.Kind) (ok bool) { return k != nil }
