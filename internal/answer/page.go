package answer

import (
	"bytes"
	"cmp"
	"fmt"
	"html"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/problem"
)

// The pages are written by hand, since html/template is a large dependency for
// two of them. Every text goes through html.EscapeString.

const pageHead = `<!doctype html>
<html lang="%s">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="robots" content="noindex">
<title>%s</title>
<style>
:root { color-scheme: light dark; --paper: #f7f5f0; --ink: #22303a; --faint: #5d6b75; --line: #d5d0c4; --mark: #9a3b26; --sheet: #fffefa }
@media (prefers-color-scheme: dark) { :root { --paper: #12191e; --ink: #dfe6ea; --faint: #94a3ad; --line: #2c3942; --mark: #e5937c; --sheet: #182127 } }
body { margin: 0; background: var(--paper); color: var(--ink); font: 17px/1.55 system-ui, sans-serif }
main { max-width: 46rem; margin: 12vh auto 3rem; padding: 2.2rem 2.6rem; background: var(--sheet); border: 1px solid var(--line); border-top: 4px solid var(--mark) }
h1 { font-size: 1.55rem; line-height: 1.25; margin: 0 0 .9rem; font-weight: 600 }
h2 { font-size: 1rem; margin: 1.8rem 0 .5rem }
p { margin: .6rem 0 }
.status { color: var(--mark); font-variant-numeric: tabular-nums; font-size: .95rem; margin: 0 0 .3rem }
table { border-collapse: collapse; width: 100%%; margin-top: 1.2rem; font-size: .95rem }
th, td { text-align: left; vertical-align: top; padding: .4rem 1rem .4rem 0; border-top: 1px solid var(--line) }
th { color: var(--faint); font-weight: 500; white-space: nowrap }
code, pre { font: .88rem/1.5 ui-monospace, monospace }
pre { overflow-x: auto; padding: .8rem; border: 1px solid var(--line) }
.newer { padding: .6rem .8rem; border: 1px solid #b3541e; border-left-width: 6px }
footer { margin-top: 1.8rem; color: var(--faint); font-size: .88rem }
a { color: inherit }
ul { margin: .2rem 0; padding-left: 1.1rem }
td table { margin: 0 }
td table tr:first-child > * { border-top: 0 }
</style>
<main>
`

func openPage(b *bytes.Buffer, language string, status int, title string) {
	title = html.EscapeString(title)
	fmt.Fprintf(b, pageHead, cmp.Or(html.EscapeString(language), "en"), title)
	if status != 0 {
		fmt.Fprintf(b, "<p class=\"status\">%d</p>\n", status)
	}
	fmt.Fprintf(b, "<h1>%s</h1>\n", title)
}

// longestShown bounds a text on a page, in bytes.
const longestShown = 1 << 10

// WriteProblemPage writes a problem for people; like one in JSON it has at most 64 KiB.
func WriteProblemPage(b *bytes.Buffer, p format.Problem) {
	openPage(b, p.Language, p.Status, p.Title)
	writeNewerCode(b, p.NewerCode)
	if p.Detail != "" {
		fmt.Fprintf(b, "<p>%s</p>\n", html.EscapeString(clip.Text(p.Detail, longestShown)))
	}
	if len(p.Errors) > 0 {
		b.WriteString("<table>\n<tr><th>Where</th><th>What</th></tr>\n")
		for _, i := range p.Errors {
			if b.Len() > problem.MaxSize/2 {
				b.WriteString("<tr><td>…</td><td>and more</td></tr>\n")
				break
			}
			place := strings.TrimSpace(i.In + " " + clip.Text(i.Name, longestShown))
			if i.Pointer != nil {
				place += " " + clip.Text(*i.Pointer, longestShown)
			}
			fmt.Fprintf(b, "<tr><td><code>%s</code></td><td>%s</td></tr>\n", html.EscapeString(place),
				html.EscapeString(clip.Text(i.Detail, longestShown)))
		}
		b.WriteString("</table>\n")
	}
	writeNear(b, p.Near)
	if p.Trail != "" {
		fmt.Fprintf(b, "<p>%s</p>\n", link(p.Trail, "What happened inside"))
	}
	if p.Debug != "" {
		debug := jsontext.Value(p.Debug)
		debug.Indent(jsontext.WithIndent("  "))
		fmt.Fprintf(b, "<h2>For the programmer</h2>\n<pre>%s</pre>\n",
			html.EscapeString(clip.Text(string(debug), problem.MaxSize/8)))
	}
	b.WriteString("<footer>\n")
	fmt.Fprintf(b, "<a href=\"%s\">%s</a>", html.EscapeString(p.Type), html.EscapeString(p.Code))
	if p.Instance != "" {
		fmt.Fprintf(b, "<br>%s", html.EscapeString(p.Instance))
	}
	b.WriteString("\n</footer>\n</main>\n")
}

// writeNear lists routes that may have been meant. Those that a browser can open are links.
func writeNear(b *bytes.Buffer, near []string) {
	if len(near) == 0 {
		return
	}
	b.WriteString("<h2>Near are</h2>\n<ul>\n")
	for _, line := range near {
		if path, is := strings.CutPrefix(line, "GET "); is && IsAddress(path) && !strings.Contains(path, "{") {
			line = link(path, line)
		} else {
			line = html.EscapeString(line)
		}
		fmt.Fprintf(b, "<li><code>%s</code></li>\n", line)
	}
	b.WriteString("</ul>\n")
}

// writeNewerCode warns the programmer that an older program has answered.
func writeNewerCode(b *bytes.Buffer, why string) {
	if why != "" {
		fmt.Fprintf(b, "<p class=\"newer\"><strong>Newer code does not serve yet:</strong> %s</p>\n", html.EscapeString(why))
	}
}

// A Kind is what the page about a kind of problem shows.
type Kind struct {
	Status               int
	Code, Title, Meaning string
	Routes               []string // that raise it; none where every request can
	Example              jsontext.Value
}

// WriteKind writes the page about a kind of problem.
func WriteKind(b *bytes.Buffer, k Kind) {
	openPage(b, "", k.Status, k.Title)
	if k.Meaning != "" {
		fmt.Fprintf(b, "<p>%s</p>\n", html.EscapeString(k.Meaning))
	}
	b.WriteString("<table>\n")
	row := func(name, value string) {
		fmt.Fprintf(b, "<tr><th>%s</th><td><code>%s</code></td></tr>\n", name, html.EscapeString(value))
	}
	row("code", k.Code)
	row("status", strconv.Itoa(k.Status))
	for i, r := range k.Routes {
		row([]string{"routes", ""}[min(i, 1)], r)
	}
	if len(k.Routes) == 0 {
		row("routes", "every request can meet it")
	}
	b.WriteString("</table>\n")
	example := k.Example.Clone()
	example.Indent(indented)
	fmt.Fprintf(b, "<h2>For example</h2>\n<pre>%s</pre>\n</main>\n", html.EscapeString(string(example)))
}
