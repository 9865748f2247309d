package handbook

import (
	"html/template"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/parser"
	"github.com/yuin/goldmark/text"
	"github.com/yuin/goldmark/util"
)

// longestText bounds a description, in bytes: what costs more to read than it is worth stays as it is written.
const longestText = 64 << 10

// commonMark makes HTML of descriptions (OpenAPI 3.1.1, 4.6). Markup in them stays text, links to scripts lead nowhere, and
// pictures are links: nothing is fetched from elsewhere to show a page.
var commonMark = goldmark.New(goldmark.WithExtensions(extension.Table),
	goldmark.WithParserOptions(parser.WithASTTransformers(util.Prioritized(tamed{}, 500))))

// tamed takes out of a description what would be loaded or run, and puts its headings below those of the page.
type tamed struct{}

func (tamed) Transform(document *ast.Document, reader text.Reader, _ parser.Context) {
	var found []ast.Node
	ast.Walk(document, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		if entering {
			found = append(found, n)
		}
		return ast.WalkContinue, nil
	})
	for _, n := range found {
		switch n := n.(type) {
		case *ast.Heading:
			n.Level = min(n.Level+2, 6)
		case *ast.Image:
			link := ast.NewLink()
			link.Destination, link.Title = n.Destination, n.Title
			for c := n.FirstChild(); c != nil; c = n.FirstChild() {
				link.AppendChild(link, c)
			}
			if link.FirstChild() == nil {
				link.AppendChild(link, ast.NewString([]byte("a picture")))
			}
			n.Parent().ReplaceChild(n.Parent(), n, link)
		case *ast.RawHTML:
			shown := ast.NewString(n.Segments.Value(reader.Source()))
			n.Parent().ReplaceChild(n.Parent(), n, shown)
		case *ast.HTMLBlock:
			code := ast.NewCodeBlock()
			code.SetLines(n.Lines())
			n.Parent().ReplaceChild(n.Parent(), n, code)
		}
	}
}

// shown is a description as HTML.
func shown(description string) template.HTML {
	var b strings.Builder
	if len(description) > longestText || commonMark.Convert([]byte(description), &b) != nil {
		return template.HTML("<pre>" + template.HTMLEscapeString(description) + "</pre>")
	}
	return template.HTML(b.String())
}
