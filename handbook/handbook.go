// Package handbook serves pages to read an API by and to try it, made of its contract, so that they are never out of date:
//
//	wicketway.At("/handbook", handbook.Pages())
//
// An operation has a page: who may call it, what it reads with its rules in words, what comes back, every problem with its
// body, and what has changed since the version before. That can be read without scripts. Where they run, the inputs are a
// form to send requests by.
//
// The pages ask no other host for anything, and their content security policy keeps them from it. Tokens that are typed in
// are kept in memory until the page is left, and sent to the API alone.
//
// In development they show what happened inside the last requests, where the API keeps that (package observe/trail): from each
// answer one is led there, and from there back to the request.
//
// The pages for reading can be written into a folder, of the contract of any API ([Write]).
package handbook

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"html/template"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/problem"
)

//go:embed pages
var pages embed.FS

var templates = template.Must(template.New("").Funcs(template.FuncMap{"text": shown, "join": strings.Join}).ParseFS(pages, "pages/*.html"))

// policy lets the pages have their style and their scripts, and ask their own host; files of answers are offered from memory.
const policy = "default-src 'none'; style-src 'self'; script-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"

// Pages are the pages about the API that they are a part of: those of each version, with a search. Whatever guard is around
// them is asked; operations whose scopes the caller lacks are left out then. They are in no contract; answers lead to them by
// the relation service-doc (RFC 8631), and the addresses of problems lead callers that prefer HTML there, unless a guard is
// around them.
//
// The pages may be a part of several APIs, each of which has its own.
func Pages() wicketway.Part {
	served := &served{}
	part := func(line string, serve http.HandlerFunc, summary string, settings ...wicketway.Setting) wicketway.Part {
		return wicketway.Handle(line, serve, append(settings, wicketway.Summary(summary))...)
	}
	return wicketway.Group(wicketway.Unlisted(), wicketway.Attach(facts.About{}),
		part("GET /", served.first, "The handbook of the API", wicketway.Attach(facts.ServiceDoc{Problems: "problems/", Trails: "trail/"})),
		part("GET /assets/{name}", asset, "How the handbook looks, and what it runs"),
		part("GET /problems/{code}", served.problem, "A kind of problem in the handbook"),
		part("POST /test", asTest, "A request as a test in Go"),
		wicketway.InDevelopment(
			part("GET /trail/", served.trail, "What happened inside the last requests"),
			part("GET /trail/{trail}", served.trail, "What happened inside a request")),
		part("GET /{version}/", served.index, "The operations of a version"),
		part("GET /{version}/{page}", served.page, "A page of the handbook"),
	)
}

// served has the books of APIs, which are made when they are first asked for.
type served struct {
	mu    sync.Mutex
	books map[*wicketway.API]book
}

// read gives the book of the API that serves a request.
func (s *served) read(r *http.Request) (book, error) {
	server, is := exchange.StateOf(r.Context()).Server().(interface{ API() *wicketway.API })
	if !is {
		return nil, errors.New("the handbook is not a part of an API")
	}
	api := server.API()
	s.mu.Lock()
	defer s.mu.Unlock()
	if known := s.books[api]; known != nil {
		return known, nil
	}
	d := api.Describe()
	versions, err := contract.Versions(d)
	if err != nil {
		return nil, err
	}
	b := bookOf(versions)
	for _, of := range b {
		of.everywhere(d.Problems)
	}
	if s.books == nil {
		s.books = map[*wicketway.API]book{}
	}
	s.books[api] = b
	return b, nil
}

// trailsOf is the path of the trails of the API that serves a request; "" where it keeps none.
func trailsOf(r *http.Request) string {
	of, is := exchange.StateOf(r.Context()).Server().(interface{ Trails() string })
	if !is {
		return ""
	}
	return of.Trails()
}

// A page is what a template shows.
type page struct {
	Name         string
	Book         book
	Site         *site
	Root, Suffix string // of links: to the first page, and their ends
	Index        string
	Files        bool // it is one of files: there is no server to ask
	Query        string
	Found        []*operation
	Operation    *operation
	Address      string // that lines for a shell are sent to
	Development  bool
	Trails       string             // the path of the trails; "" where the API keeps none
	Trail        string             // the id of the one that is shown
	caller       *exchange.Identity // nil: everything is shown
}

// To is the address of an operation's page.
func (p page) To(o *operation) string { return p.Root + o.site.folder() + o.Page + p.Suffix }

// Of is the address of the first page of a version.
func (p page) Of(s *site) string { return p.Root + s.folder() + p.Index }

// Here is the address of a page of the version.
func (p page) Here(name string) string { return p.Root + p.Site.folder() + name + p.Suffix }

// May reports whether an operation is shown.
func (p page) May(o *operation) bool { return p.caller == nil || o.may(p.caller.Scopes) }

// Line is the good request of an operation, for a shell; "" where none can be made.
func (p page) Line(o *operation) string {
	if o.Trial == nil {
		return ""
	}
	return o.good.Line(p.Address)
}

// With is the page with an operation, for a part of it.
func (p page) With(o *operation) page {
	p.Operation = o
	return p
}

// open begins a page: of a version, or of the newest one.
func (s *served) open(w http.ResponseWriter, r *http.Request, version string) (p page, ok bool) {
	b, err := s.read(r)
	if err != nil {
		wicketway.Fail(w, r, err)
		return page{}, false
	}
	of := b.last()
	if version != "" {
		if of = b.version(version); of == nil {
			wicketway.Fail(w, r, problem.NotFound.Newf("The handbook has no version %q.", version))
			return page{}, false
		}
	}
	from := exchange.ClientOf(r)
	p = page{Book: b, Trails: trailsOf(r), Development: exchange.Of(r.Context()).Development(), Address: from.Scheme + "://" + from.Host}
	if caller := wicketway.Caller(r.Context()); caller.Subject != "" {
		p.caller = &caller
		of = of.visible(caller.Scopes)
	}
	p.Site, p.Name = of, of.Title
	p.Root = strings.TrimSuffix(r.URL.Path, "/") + "/"
	if version != "" {
		p.Root = r.URL.Path[:strings.LastIndex(r.URL.Path, "/"+version+"/")+1]
	}
	return p, true
}

func (s *served) first(w http.ResponseWriter, r *http.Request) {
	p, ok := s.open(w, r, "")
	switch {
	case !ok:
	case len(p.Book) == 1:
		http.Redirect(w, r, p.Of(p.Site), http.StatusSeeOther)
	default:
		send(w, r, "first", p)
	}
}

func (s *served) index(w http.ResponseWriter, r *http.Request) {
	p, ok := s.open(w, r, r.PathValue("version"))
	if !ok {
		return
	}
	if p.Query = strings.TrimSpace(clip.Text(r.URL.Query().Get("q"), longestQuery)); p.Query != "" {
		p.Found = p.Site.find(p.Query)
	}
	send(w, r, "index", p)
}

func (s *served) page(w http.ResponseWriter, r *http.Request) {
	p, ok := s.open(w, r, r.PathValue("version"))
	if !ok {
		return
	}
	switch name := r.PathValue("page"); name {
	case "problems":
		p.Name = "Problems · " + p.Site.Title
		send(w, r, "problems", p)
	case "since":
		if p.Site.Before == nil {
			wicketway.Fail(w, r, problem.NotFound.New("There is no version before."))
			return
		}
		p.Name = "Since " + p.Site.Before.Name + " · " + p.Site.Title
		send(w, r, "since", p)
	case "operations.json":
		text, err := json.Marshal(p.Site.list())
		if err != nil {
			wicketway.Fail(w, r, err)
			return
		}
		sendText(w, r, "application/json", text)
	default:
		if p.Operation = p.Site.operations[name]; p.Operation == nil {
			wicketway.Fail(w, r, problem.NotFound.Newf("The handbook has no page %q.", name))
			return
		}
		p.Name = p.Operation.Summary + " · " + p.Site.Title
		send(w, r, "operation", p)
	}
}

// trail shows what happened inside the last requests, or inside one.
func (s *served) trail(w http.ResponseWriter, r *http.Request) {
	p, ok := s.open(w, r, "")
	switch {
	case !ok:
	case p.Trails == "":
		wicketway.Fail(w, r, problem.NotFound.New("The API keeps no trails: package observe/trail does."))
	default:
		p.Name, p.Trail = "Trail · "+p.Site.Title, clip.Text(r.PathValue("trail"), longestQuery)
		p.Root = r.URL.Path[:strings.LastIndex(r.URL.Path, "/trail/")+1]
		send(w, r, "trail", p)
	}
}

// problem leads to a kind of problem in the newest version that has it.
func (s *served) problem(w http.ResponseWriter, r *http.Request) {
	p, ok := s.open(w, r, "")
	if !ok {
		return
	}
	code := r.PathValue("code")
	for _, of := range slices.Backward(p.Book) {
		if p.caller != nil {
			of = of.visible(p.caller.Scopes)
		}
		if slices.ContainsFunc(of.Problems, func(t *trouble) bool { return t.Code == code }) {
			root := r.URL.Path[:strings.LastIndex(r.URL.Path, "/problems/")+1]
			http.Redirect(w, r, root+of.folder()+"problems#"+code, http.StatusSeeOther)
			return
		}
	}
	wicketway.Fail(w, r, problem.NotFound.Newf("The handbook has no problem %q.", code))
}

// longestTest bounds a request that is written as a test, in bytes.
const longestTest = 1 << 20

// asTest writes a request, and what came back, as a test in Go.
func asTest(w http.ResponseWriter, r *http.Request) {
	var of struct {
		About string `json:"about"`
		wrong
	}
	err := json.UnmarshalRead(http.MaxBytesReader(w, r.Body, longestTest), &of)
	if err != nil || of.Method == "" || of.Target == "" {
		wicketway.Fail(w, r, problem.BadRequest.New("The body is not a request as JSON, with a method and a target.").Because(err))
		return
	}
	one := requests.Request{Method: of.Method, Target: of.Target, Header: of.Fields, Wrong: of.Wrong, Status: of.Status, Code: of.Code}
	if of.Body != nil {
		one.Body = []byte(*of.Body)
	}
	sendText(w, r, "text/plain; charset=utf-8", []byte(one.Test(of.About)))
}

// asset sends the style or a script.
func asset(w http.ResponseWriter, r *http.Request) {
	name := r.PathValue("name")
	text, err := pages.ReadFile("pages/" + name)
	if err != nil || path.Ext(name) == ".html" {
		wicketway.Fail(w, r, problem.NotFound.Newf("The handbook has no file %q.", name))
		return
	}
	sendText(w, r, mime.TypeByExtension(path.Ext(name)), text)
}

// send renders a page.
func send(w http.ResponseWriter, r *http.Request, name string, p page) {
	var b bytes.Buffer
	if err := templates.ExecuteTemplate(&b, name, p); err != nil {
		wicketway.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Security-Policy", policy)
	w.Header().Set("Referrer-Policy", "no-referrer")
	sendText(w, r, "text/html; charset=utf-8", b.Bytes())
}

// sendText sends a text with its tag, which changes with it.
func sendText(w http.ResponseWriter, r *http.Request, media string, text []byte) {
	sum := sha256.Sum256(text)
	h := w.Header()
	h.Set("ETag", `"`+hex.EncodeToString(sum[:12])+`"`)
	h.Set("Cache-Control", "no-cache")
	h.Set("Content-Type", media)
	h.Set("X-Content-Type-Options", "nosniff")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(text))
}
