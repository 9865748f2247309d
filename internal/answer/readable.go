package answer

import (
	"bytes"
	"cmp"
	"fmt"
	"html"
	"net/http"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// A Readable is an answer in JSON as a page, for the programmer who opens its address in a browser.
type Readable struct {
	Title     string
	Status    int
	NewerCode string
	Header    http.Header // of the answer
	Sent      []string    // the lines of the request
	// Lead gives the path that a value leads to, by the name of its member; "" where it leads nowhere.
	Lead func(member, text string) string
	Doc  string // the path of the documentation; "" where there is none
	// Trail is the path where it is shown what happened inside; "" where nobody keeps that.
	Trail string
}

// Write writes the page of a text that is JSON.
func (p Readable) Write(b *bytes.Buffer, text []byte) error {
	value, err := readShown(jsontext.NewDecoder(bytes.NewReader(text)), 0)
	if err != nil {
		return err
	}
	value.lead = p.Lead
	openPage(b, "", p.Status, p.Title)
	writeNewerCode(b, p.NewerCode)
	value.write(b, "")
	var links []string
	for _, field := range []string{"Location", "Content-Location"} {
		if at := p.Header.Get(field); at != "" {
			links = append(links, linkFrom(at, field))
		}
	}
	for _, one := range p.Header["Link"] {
		for target := range strings.SplitSeq(one, ", ") {
			at, parameters, is := strings.Cut(strings.TrimPrefix(target, "<"), ">")
			if is {
				links = append(links, linkFrom(at, strings.Trim(strings.TrimPrefix(strings.TrimLeft(parameters, "; "), "rel="), `"`)))
			}
		}
	}
	if p.Doc != "" {
		links = append(links, link(p.Doc, "the handbook"))
	}
	if p.Trail != "" {
		links = append(links, link(p.Trail, "what happened inside"))
	}
	if links != nil {
		fmt.Fprintf(b, "<h2>Leads to</h2>\n<ul>\n<li>%s</li>\n</ul>\n", strings.Join(links, "</li>\n<li>"))
	}
	open := func(name, text string) {
		fmt.Fprintf(b, "<details><summary>%s</summary>\n<pre>%s</pre></details>\n", name, html.EscapeString(text))
	}
	open("As JSON", string(text))
	open("What was sent", strings.Join(p.Sent, "\n"))
	open("Its header fields", strings.Join(Fields(p.Header), "\n"))
	b.WriteString("<footer>This page is for development, and for callers that prefer HTML: others get the JSON.</footer>\n</main>\n")
	return nil
}

// Fields are the lines of a header.
func Fields(h http.Header) (lines []string) {
	for name, values := range h {
		for _, value := range values {
			lines = append(lines, name+": "+value)
		}
	}
	slices.Sort(lines)
	return lines
}

// link is one to a path, or to another host by HTTP; others are text.
func link(to, text string) string {
	text = html.EscapeString(cmp.Or(text, to))
	if !IsAddress(to) {
		return text + " " + html.EscapeString(to)
	}
	return fmt.Sprintf(`<a rel="noreferrer" href="%s">%s</a>`, html.EscapeString(to), text)
}

// linkFrom is a link of a header field, where a reference can also be relative to the request (RFC 8288, 3.1).
func linkFrom(to, text string) string {
	if strings.HasPrefix(to, "?") && IsAddress("/"+to) {
		return fmt.Sprintf(`<a href="%s">%s</a>`, html.EscapeString(to), html.EscapeString(text))
	}
	return link(to, text)
}

// IsAddress reports whether a text is a path of this host, or an address by HTTP.
func IsAddress(text string) bool {
	if strings.ContainsAny(text, " \\\t\n\r") {
		return false
	}
	return strings.HasPrefix(text, "/") && !strings.HasPrefix(text, "//") || strings.HasPrefix(text, "https://") || strings.HasPrefix(text, "http://")
}
