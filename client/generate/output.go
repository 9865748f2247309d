package generate

import (
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/internal/golang"
)

// answers are what a success gives.
type answers struct {
	form   form
	expr   string // the Go type of the value, or of an item
	list   string // of pages: the field with the items, "." where the page is the list itself; "": no list
	item   string // and their type
	pages  bool
	accept string
}

// A form is how a function gives what it gets.
type form uint8

const (
	nothing form = iota
	value
	tagged // with header fields
	items
	content
)

// output finds what a success gives: the first one that has something. A redirect is followed.
func (w *writing) output() {
	redirects := false
	defer func() {
		if redirects && w.answers.form == nothing && w.method == http.MethodGet {
			w.Note(w.at+"/responses", "the redirect is followed, and what is there is kept as JSON")
			w.answers = answers{form: tagged, expr: "jsontext.Value"}
		}
	}()
	for key, r := range w.Responses.All() {
		if !strings.HasPrefix(key, "2") {
			redirects = redirects || strings.HasPrefix(key, "3") && key != "304"
			continue
		}
		redirects = false
		r = w.response(r)
		at := w.at + pointerTo("responses", key, "content")
		if w.answers.form != nothing {
			if r.Content.Len() > 0 {
				w.Note(at, "of several successes the first one is read")
			}
			continue
		}
		if item, isStream := itemOf(r.Content); isStream {
			w.answers = answers{form: items, expr: w.TypeOf(at+"/itemSchema", item, w.name+"Item", 0).Expr}
			continue
		}
		media, m, has := best(r.Content)
		if !has {
			if r.Headers.Len() > 0 && hasField(r, "Location") {
				w.answers = answers{form: tagged, expr: "client.None"}
			}
			continue
		}
		base, _, _ := mime.ParseMediaType(media)
		if !isJSON(base) {
			w.answers = answers{form: content, accept: media}
			if r.Content.Len() > 1 || strings.Contains(media, "*") {
				w.answers.accept = "*/*"
			}
			continue
		}
		t := w.TypeOf(at+pointerTo(media)+"/schema", m.Schema, w.name+"Output", 0)
		if t.Null && t.Expr != "jsontext.Value" {
			t.Expr = "*" + t.Expr
		}
		w.answers = answers{form: value, expr: t.Expr}
		if base != "application/json" || strings.Contains(media, ";") {
			w.answers.accept = media
		}
		if hasField(r, "ETag") || hasField(r, "Location") {
			w.answers.form = tagged
		}
		if w.method == http.MethodGet && hasField(r, "Link") {
			w.answers.pages = true
			w.answers.list, w.answers.item = w.listIn(m.Schema, t)
		}
	}
}

func hasField(r *contract.Response, name string) bool {
	for other := range r.Headers.All() {
		if strings.EqualFold(other, name) {
			return true
		}
	}
	return false
}

// listIn finds the one list in a page.
func (w *writing) listIn(s contract.Schema, t golang.Type) (field, item string) {
	if t.IsList {
		return ".", strings.TrimPrefix(t.Expr, "[]")
	}
	if to, err := contract.Resolve[contract.Schema](w.Document, s.Reference()); s.Reference() != "" && err == nil {
		s = *to
	}
	properties := s.Schemas("properties")
	for name, one := range properties.All() {
		if !slices.Equal(one.Types(), []string{"array"}) {
			continue
		}
		if field != "" {
			return "", ""
		}
		inner := one.One("items")
		field, item = golang.Camel(name), ""
		if inner.Reference() != "" {
			item = w.TypeOf("", inner, "", 0).Expr
		}
	}
	if item == "" {
		field = ""
	}
	return field, item
}

// function writes what is called.
func (w *writing) function(id, in string) {
	a := w.answers
	out := map[form]string{nothing: "client.None", value: a.expr, tagged: "client.Answer[" + a.expr + "]", items: a.expr, content: "*client.Content"}[a.form]
	variable := w.Unique(golang.Lower(w.name))
	describe := fmt.Sprintf("client.Describe[%s, %s](%q, %q, %q)", in, out, id, w.method, w.path)
	if w.media != "" || a.accept != "" {
		describe += fmt.Sprintf(".With(%q, %q)", w.media, a.accept)
	}
	if w.isOpen() {
		describe += ".Open()"
	}
	parameter, argument := "", "client.None{}"
	if in != "client.None" {
		parameter, argument = ", in "+in, "in"
	}
	doc := w.doc()
	var b strings.Builder
	fmt.Fprintf(&b, "var %s = %s\n\n%s", variable, describe, doc)
	signature := func(name, results string) {
		fmt.Fprintf(&b, "func (c *Client) %s(ctx context.Context%s) %s {\n", name, parameter, results)
	}
	switch a.form {
	case nothing:
		signature(w.name, "error")
		fmt.Fprintf(&b, "_, err := client.Call(ctx, c.Client, %s, %s)\nreturn err\n}\n", variable, argument)
	case items:
		signature(w.name, "iter.Seq2["+a.expr+", error]")
		fmt.Fprintf(&b, "return client.Items(ctx, c.Client, %s, %s)\n}\n", variable, argument)
	case content:
		signature(w.name, "(*client.Content, error)")
		fmt.Fprintf(&b, "return client.Download(ctx, c.Client, %s, %s)\n}\n", variable, argument)
	default:
		signature(w.name, "("+out+", error)")
		fmt.Fprintf(&b, "return client.Call(ctx, c.Client, %s, %s)\n}\n", variable, argument)
	}
	if a.pages {
		pages := w.Unique(w.name + "Pages")
		fmt.Fprintf(&b, "\n// %s gives the answer of %s, and the pages that follow it.\n", pages, w.name)
		signature(pages, "iter.Seq2["+out+", error]")
		fmt.Fprintf(&b, "return client.Pages(ctx, c.Client, %s, %s)\n}\n", variable, argument)
		if a.list != "" {
			all, page := w.Unique(w.name+"All"), "page"
			if a.form == tagged {
				page = "page.Value"
			}
			if a.list != "." {
				page += "." + a.list
			}
			fmt.Fprintf(&b, "\n// %s gives the items of all pages of %s, one by one.\n", all, w.name)
			signature(all, "iter.Seq2["+a.item+", error]")
			call := strings.TrimSuffix("c."+pages+"(ctx, "+strings.TrimPrefix(argument, "client.None{}"), ", ")
			fmt.Fprintf(&b, "return client.Each(%s), func(page %s) []%s { return %s })\n}\n", call, out, a.item, page)
		}
	}
	w.functions = append(w.functions, b.String())
}

// isOpen reports whether everyone may call the operation.
func (w *writing) isOpen() bool {
	all := w.Document.Security
	if w.Security != nil {
		all = *w.Security
	}
	return len(all) == 0 || slices.ContainsFunc(all, func(r contract.Requirement) bool { return r.Len() == 0 })
}

// doc is the comment of the function.
func (w *writing) doc() string {
	text := fmt.Sprintf("%s sends %s %s", w.name, w.method, w.path)
	if summary := golang.OneLine(w.Summary); summary != "" {
		text += ": " + strings.TrimSuffix(summary, ".")
	}
	text += ".\n"
	if about := strings.TrimSpace(w.Description); about != "" {
		text += "\n" + about + "\n"
	}
	if names := w.problems(); names != nil {
		text += "\n" + fold("It can fail with "+strings.Join(names, ", ")+".") + "\n"
	}
	if example := w.example(); example != nil {
		text += "\nAn example of the body:\n\n\t" + string(example) + "\n"
	}
	if w.Deprecated {
		text += "\nDeprecated: the contract says so"
		if end := w.Sunset(); !end.IsZero() {
			text += ", and that it ends on " + end.Format("2 January 2006")
		}
		text += ".\n"
	}
	return comment(text)
}

// fold breaks a text into lines.
func fold(text string) string {
	var b strings.Builder
	column := 0
	for word := range strings.FieldsSeq(text) {
		switch {
		case column == 0:
		case column+1+len(word) > 100:
			b.WriteByte('\n')
			column = 0
		default:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += len(word)
	}
	return b.String()
}

// comment writes a text of paragraphs as a comment; what is indented stays so.
func comment(text string) string {
	var b strings.Builder
	for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		line = strings.TrimRight(line, " \r")
		if strings.HasPrefix(line, "\t") {
			b.WriteString("//" + line + "\n")
		} else {
			b.WriteString(strings.TrimRight("// "+line, " ") + "\n")
		}
	}
	return b.String()
}

// longestExample bounds an example in a comment, in bytes.
const longestExample = 300

func (w *writing) example() jsontext.Value {
	if w.RequestBody == nil {
		return nil
	}
	for _, m := range w.RequestBody.Content.All() {
		for _, e := range m.Examples.All() {
			e = contract.Referred(w.Document, e)
			value := e.Value.Clone()
			if value.Compact() == nil && len(value) > 0 && len(value) < longestExample {
				return value
			}
		}
	}
	return nil
}

// builtIn are variables of package problem, by their codes.
var builtIn = map[string]string{
	"bad-request": "problem.BadRequest", "input-unreadable": "problem.Unreadable", "unauthorized": "problem.Unauthorized", "forbidden": "problem.Forbidden",
	"scope-missing": "problem.ScopeMissing", "not-found": "problem.NotFound", "version-unknown": "problem.VersionUnknown", "version-invalid": "problem.VersionInvalid",
	"method-not-allowed": "problem.MethodNotAllowed", "not-acceptable": "problem.NotAcceptable", "version-not-acceptable": "problem.VersionNotAcceptable",
	"body-timeout": "problem.BodyTimeout", "withdrawn": "problem.Withdrawn", "retired": "problem.Retired", "body-too-large": "problem.BodyTooLarge",
	"precondition-failed": "problem.PreconditionFailed", "unsupported-media-type": "problem.UnsupportedMedia", "input-invalid": "problem.Invalid",
	"precondition-required": "problem.PreconditionRequired", "internal": "problem.Internal", "not-implemented": "problem.NotImplemented",
	"timeout": "problem.Timeout", "overloaded": "problem.Overloaded",
}
