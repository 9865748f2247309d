// Package html shows values and problems as pages, by html/template.
//
//	//go:embed *.html
//	var pages embed.FS
//
//	templates := template.Must(template.ParseFS(pages, "*.html"))
//	wicketway.Formats(html.Pages(templates))
//
// The page of a route is the template that has the route's name, such as notices.find or
// notices.find.html, or the one that the setting Template says; its data is the value that the route returned. A value without a template
// is shown on a plain page, under the summary of the route. The page of a problem is the template named by its code, else by
// its status, else problem (no-such-notice, 404, problem, each with or without .html); its data
// is a [format.Problem]. A template that shows nothing, and a field in one that its value cannot
// have, are mistakes at Build. Templates escape their values (html/template), and so does
// the plain page.
package html

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strconv"
	"text/template/parse"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
)

// Pages is the format html. The templates may be nil: then all pages are plain. They must not be
// changed any more. It is safe for concurrent use.
func Pages(templates *template.Template) format.ProblemFormat {
	return &pages{templates, version(templates), treesOf(templates)}
}

type pages struct {
	templates *template.Template
	version   string
	trees     map[string]*parse.Tree // as they were written; nil where they are empty
}

func (*pages) Name() string                   { return "html" }
func (*pages) MediaType() string              { return "text/html; charset=utf-8" }
func (*pages) CheckRoute(_ facts.Route) error { return nil } // any value has a page
func (p *pages) Version() string              { return p.version }

// version is made of all templates: where one changes, so do the entity tags of pages.
func version(of *template.Template) string {
	if of == nil {
		return ""
	}
	all := of.Templates()
	slices.SortFunc(all, func(a, b *template.Template) int { return cmp.Compare(a.Name(), b.Name()) })
	h := sha256.New()
	for _, t := range all {
		if t.Tree != nil && t.Tree.Root != nil {
			fmt.Fprintf(h, "%s\x00%s\x00", t.Name(), t.Tree.Root)
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// named finds a template by the first of some names that there is.
func (p *pages) named(names ...string) *template.Template {
	if p.templates == nil {
		return nil
	}
	for _, name := range names {
		for _, full := range []string{name, name + ".html"} {
			if t := p.templates.Lookup(full); t != nil && t.Tree != nil {
				return t
			}
		}
	}
	return nil
}

func (p *pages) Write(to io.Writer, s format.Value) error {
	if t := p.named(s.Route); t != nil && s.Route != "" {
		return t.Execute(to, s.Value)
	}
	var page bytes.Buffer
	if err := answer.WriteValuePage(&page, cmp.Or(s.Summary, s.Route, "Answer"), s.Value); err != nil {
		return err
	}
	_, err := to.Write(page.Bytes())
	return err
}

func (p *pages) WriteProblem(to io.Writer, of format.Problem) error {
	if t := p.named(of.Code, strconv.Itoa(of.Status), "problem"); t != nil {
		return t.Execute(to, of)
	}
	var page bytes.Buffer
	answer.WriteProblemPage(&page, of)
	_, err := to.Write(page.Bytes())
	return err
}
