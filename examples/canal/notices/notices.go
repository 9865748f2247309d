// Package notices shows what the authority tells skippers, to programs and to people.
package notices

import (
	"context"
	"embed"
	"errors"
	"html/template"
	"net/http"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/format/html"
	"github.com/wicketway/wicketway/problem"
)

// ErrNoSuchNotice is raised for a slug that no notice has.
var ErrNoSuchNotice = problem.NotFound.Define(http.StatusNotFound, "no-such-notice", "The canal has no such notice")

// Notice is a notice as the API shows it.
type Notice struct {
	Notice string    `json:"notice" note:"Slug, as in /notices/high-water"`
	Title  string    `json:"title"`
	Text   string    `json:"text"`
	Posted time.Time `json:"posted"`
}

// ETag changes with what can be read: a notice is never posted twice.
func (n Notice) ETag() string { return n.Notice + "-" + n.Posted.UTC().Format("20060102150405") }

// LastModified is when the notice was posted.
func (n Notice) LastModified() time.Time { return n.Posted }

//go:embed *.html
var pages embed.FS

// Parts are the routes of the notices.
func Parts(s *store.Store) wicketway.Part {
	d := desk{s}
	templates := template.Must(template.ParseFS(pages, "*.html"))
	return wicketway.At("/notices",
		wicketway.Public(),
		wicketway.Formats(html.Pages(templates)),
		wicketway.Conditional(),
		wicketway.Route("GET /", d.list, wicketway.Summary("All notices, the newest first"),
			wicketway.Example("all", wicketway.None{}, []Notice{highWater})),
		wicketway.Route("GET /{notice}", d.find, wicketway.Summary("One notice"), wicketway.Fails(ErrNoSuchNotice),
			wicketway.Example("high water", oneNotice{"high-water"}, highWater)),
		wicketway.Group(
			wicketway.Undo(wicketway.Conditional()),
			wicketway.Route("GET /latest", d.latest, wicketway.Summary("To the newest notice"), wicketway.LocatedBy(d.find),
				wicketway.Fails(ErrNoSuchNotice)),
		),
	)
}

// highWater is what the contract shows.
var highWater = Notice{"high-water", "High water", "No passage above Tanners Lock until Thursday.", time.Date(2027, time.April, 2, 6, 0, 0, 0, time.UTC)}

type desk struct{ store *store.Store }

type oneNotice struct {
	Notice string `from:"path notice"`
}

func (d desk) list(ctx context.Context, _ wicketway.None) ([]Notice, error) {
	found, err := d.store.Notices(ctx)
	shown := make([]Notice, len(found))
	for i, n := range found {
		shown[i] = show(n)
	}
	return shown, err
}

func (d desk) find(ctx context.Context, in oneNotice) (Notice, error) {
	n, err := d.store.Notice(ctx, in.Notice)
	if errors.Is(err, store.ErrNotThere) {
		return Notice{}, ErrNoSuchNotice.Newf("No notice is called %q.", in.Notice)
	}
	return show(n), err
}

func (d desk) latest(ctx context.Context, _ wicketway.None) (*wicketway.RedirectBy[oneNotice], error) {
	found, err := d.store.Notices(ctx)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 {
		return nil, ErrNoSuchNotice.New("Nothing has been posted yet.")
	}
	return &wicketway.RedirectBy[oneNotice]{At: oneNotice{found[0].Slug}}, nil
}

func show(n store.Notice) Notice { return Notice{n.Slug, n.Title, n.Text, n.Posted} }
