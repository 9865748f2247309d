// Package handbook serves pages about an API, made of its contract, so that they are never out of date:
//
//	wicketway.At("/handbook", handbook.Pages())
//
// A page has an operation: what it reads with its rules in words, what comes back, and every problem with its body. The pages
// can be read without scripts, ask no other host for anything, and are closed to both by their content security policy. The
// same pages can be written into a folder ([Write]).
package handbook

import (
	"bytes"
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"html/template"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

//go:embed pages
var pages embed.FS

var templates = template.Must(template.New("").Funcs(template.FuncMap{
	"entry": func(p page, o *operation) entry { return entry{p, o} },
	"text":  paragraphs,
}).ParseFS(pages, "pages/*.html"))

// paragraphs is a description as HTML: paragraphs, and code between backquotes. All else of CommonMark stays as it is written.
func paragraphs(text string) template.HTML {
	var b strings.Builder
	for paragraph := range strings.SplitSeq(strings.ReplaceAll(text, "\r\n", "\n"), "\n\n") {
		b.WriteString("<p>")
		pieces := strings.Split(paragraph, "`")
		for i, piece := range pieces {
			piece = template.HTMLEscapeString(piece)
			switch isCode := i%2 == 1; {
			case isCode && i < len(pieces)-1:
				b.WriteString("<code>" + piece + "</code>")
			case isCode:
				b.WriteString("`" + piece)
			default:
				b.WriteString(piece)
			}
		}
		b.WriteString("</p>")
	}
	return template.HTML(b.String())
}

// An entry is an operation in a list on a page.
type entry struct {
	Page      page
	Operation *operation
}

// A page is what a template shows.
type page struct {
	Name               string // of the page
	Site               *site
	Root, Here, Suffix string // of links: to the first page, to those of the version, and their ends
	Home, Index        string
	Searches           bool
	Query              string
	Found              []*operation
	Operation          *operation
	Versions           []string
}

// policy lets the pages have their style, and nothing else.
const policy = "default-src 'none'; style-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"

// Pages are the pages about the API that they are a part of: those of each version, with a search. Whatever guard is around
// them is asked; operations whose scopes the caller lacks are left out then. They are in no contract.
func Pages() wicketway.Part {
	b := &book{}
	return wicketway.Group(wicketway.Unlisted(),
		wicketway.Handle("GET /", http.HandlerFunc(b.first), wicketway.Summary("The handbook of the API")),
		wicketway.Handle("GET /style.css", http.HandlerFunc(b.style), wicketway.Summary("How the handbook looks")),
		wicketway.Handle("GET /{version}/", http.HandlerFunc(b.index), wicketway.Summary("The operations of a version")),
		wicketway.Handle("GET /{version}/{page}", http.HandlerFunc(b.page), wicketway.Summary("A page of the handbook")),
	)
}

// A book has the sites of an API, which are made when they are first asked for.
type book struct {
	mu    sync.Mutex
	sites map[string]*site
	names []string
}

// read gives the sites by the names of their versions.
func (b *book) read(r *http.Request) (sites map[string]*site, names []string, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.sites != nil {
		return b.sites, b.names, nil
	}
	served, is := exchange.StateOf(r.Context()).Server().(interface{ Describe() facts.API })
	if !is {
		return nil, nil, errors.New("the handbook is not a part of an API")
	}
	d := served.Describe()
	from := exchange.ClientOf(r)
	var versions []Version
	for _, route := range d.Routes {
		if route.Own || route.Unlisted || slices.ContainsFunc(versions, func(v Version) bool { return v.Name == route.Version }) || route.Version == "" {
			continue
		}
		one := Version{Name: route.Version}
		if c := route.Chosen; c != nil && c.Field == "" {
			one.Prefix = strings.TrimSuffix(c.Under, "/") + "/" + route.Version
		}
		if one.Document, err = contract.Of(d, route.Version); err != nil {
			return nil, nil, err
		}
		versions = append(versions, one)
	}
	if versions == nil {
		one := Version{Name: "api"}
		if one.Document, err = contract.Of(d, ""); err != nil {
			return nil, nil, err
		}
		versions = append(versions, one)
	}
	for _, v := range versions {
		names = append(names, v.Name)
	}
	b.sites, b.names = sitesOf(versions, from.Scheme+"://"+from.Host), names
	return b.sites, names, nil
}

// A Version is a contract, with the name of the version that it is of, and the prefix of its paths where that chooses it.
type Version struct {
	Name, Prefix string
	Document     *contract.Document
}

// sitesOf makes the handbooks of several versions, each of which knows of the others, and what has changed since the one
// before.
func sitesOf(versions []Version, address string) map[string]*site {
	all := map[string]*site{}
	for i, v := range versions {
		shown := v.Name
		if len(versions) == 1 {
			shown = ""
		}
		s := newSite(v.Document, shown, address)
		for _, other := range versions {
			if other.Name != v.Name {
				s.Others = append(s.Others, other.Name)
			}
		}
		if i > 0 {
			s.since(versions[i-1], v)
		}
		all[v.Name] = s
	}
	return all
}

func (b *book) first(w http.ResponseWriter, r *http.Request) {
	sites, names, err := b.read(r)
	if err != nil {
		wicketway.Fail(w, r, err)
		return
	}
	last := sites[names[len(names)-1]]
	root := strings.TrimSuffix(r.URL.Path, "/") + "/"
	if len(names) == 1 {
		http.Redirect(w, r, root+names[0]+"/", http.StatusSeeOther)
		return
	}
	send(w, r, "versions", page{Name: last.Title, Site: last, Root: root, Here: root + names[len(names)-1] + "/", Versions: names})
}

func (b *book) index(w http.ResponseWriter, r *http.Request) {
	s, p, ok := b.site(w, r)
	if !ok {
		return
	}
	if p.Query = strings.TrimSpace(r.URL.Query().Get("q")); p.Query != "" {
		p.Found = s.find(p.Query)
	}
	send(w, r, "index", p)
}

func (b *book) page(w http.ResponseWriter, r *http.Request) {
	s, p, ok := b.site(w, r)
	if !ok {
		return
	}
	name := r.PathValue("page")
	if name == "problems" {
		p.Name = "Problems of " + s.Title
		send(w, r, "problems", p)
		return
	}
	if p.Operation = s.operations[name]; p.Operation == nil {
		wicketway.Fail(w, r, problem.NotFound.Newf("The handbook has no page %q.", name))
		return
	}
	p.Name = p.Operation.Summary + " · " + s.Title
	send(w, r, "operation", p)
}

// site is that of the version in the path.
func (b *book) site(w http.ResponseWriter, r *http.Request) (*site, page, bool) {
	sites, _, err := b.read(r)
	if err != nil {
		wicketway.Fail(w, r, err)
		return nil, page{}, false
	}
	version := r.PathValue("version")
	s := sites[version]
	if s == nil {
		wicketway.Fail(w, r, problem.NotFound.Newf("The handbook has no version %q.", version))
		return nil, page{}, false
	}
	if caller := wicketway.Caller(r.Context()); caller.Subject != "" {
		s = s.visible(caller.Scopes)
	}
	root := r.URL.Path[:strings.LastIndex(r.URL.Path, "/"+version+"/")+1]
	return s, page{Name: s.Title, Site: s, Root: root, Here: root + version + "/", Searches: true}, true
}

func (b *book) style(w http.ResponseWriter, r *http.Request) {
	text, err := pages.ReadFile("pages/style.css")
	if err != nil {
		wicketway.Fail(w, r, err)
		return
	}
	sendText(w, r, "text/css; charset=utf-8", text)
}

// send renders a page.
func send(w http.ResponseWriter, r *http.Request, name string, p page) {
	var b bytes.Buffer
	if err := templates.ExecuteTemplate(&b, name, p); err != nil {
		wicketway.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Security-Policy", policy)
	sendText(w, r, "text/html; charset=utf-8", b.Bytes())
}

// sendText sends a text with its tag, which changes with it.
func sendText(w http.ResponseWriter, r *http.Request, media string, text []byte) {
	sum := sha256.Sum256(text)
	tag := `"` + hex.EncodeToString(sum[:12]) + `"`
	w.Header().Set("ETag", tag)
	if r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Header().Set("Content-Type", media)
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Write(text)
}

// Write writes the pages about the versions of an API, the oldest first, into a folder, as files that can be read without a
// server. Lines for a shell are sent to the address.
func Write(ctx context.Context, folder string, versions []Version, address string) (files []string, err error) {
	put := func(name, kind string, p page) error {
		p.Suffix, p.Home, p.Index = ".html", "index.html", "index.html"
		if ctx.Err() != nil {
			return ctx.Err()
		}
		into := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(into), 0o755); err != nil {
			return err
		}
		f, err := os.Create(into)
		if err != nil {
			return err
		}
		defer f.Close()
		files = append(files, into)
		if kind == "" {
			text, err := pages.Open("pages/style.css")
			if err != nil {
				return err
			}
			defer text.Close()
			_, err = io.Copy(f, text)
			return err
		}
		return templates.ExecuteTemplate(f, kind, p)
	}
	sites := sitesOf(versions, address)
	var names []string
	for _, v := range versions {
		names = append(names, v.Name)
	}
	last := sites[names[len(names)-1]]
	if err := put("style.css", "", page{}); err != nil {
		return files, err
	}
	if err := put("index.html", "versions", page{Name: last.Title, Site: last, Here: names[len(names)-1] + "/", Versions: names}); err != nil {
		return files, err
	}
	for _, name := range names {
		s := sites[name]
		p := page{Name: s.Title, Site: s, Root: "../"}
		if err := put(name+"/index.html", "index", p); err != nil {
			return files, err
		}
		p.Name = "Problems of " + s.Title
		if err := put(name+"/problems.html", "problems", p); err != nil {
			return files, err
		}
		for _, a := range s.Areas {
			for _, o := range a.Operations {
				p.Name, p.Operation = o.Summary+" · "+s.Title, o
				if err := put(name+"/"+o.Page+".html", "operation", p); err != nil {
					return files, err
				}
			}
		}
	}
	return files, nil
}
