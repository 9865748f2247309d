package trail

import (
	"context"
	"net/http"
	"strconv"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/lines"
	"github.com/wicketway/wicketway/problem"
)

// Parts keep the trails of the requests to the list that they are in, and serve them below a prefix, in development; elsewhere
// there is nothing of them. They come first in the list, so that the whole chain is seen. Whatever guard is around them is asked
// by the routes. They are in no contract:
//
//	GET /trails              the last requests, the newest first
//	GET /trails/{trail}      one of them, by the id of the request or by its number
//	GET /trails/live         each request when it has ended, as a stream
//
// Requests to these routes, and to others that [facts.About] is attached to, such as the handbook, leave no trail.
func (t *Trails) Parts(prefix string) wicketway.Part {
	return wicketway.InDevelopment(
		wicketway.Chain(t.record()),
		wicketway.At(prefix, wicketway.Unlisted(), wicketway.Attach(facts.About{}),
			wicketway.Route("GET /", t.list, wicketway.Attach(facts.Trails{}), wicketway.Summary("What happened to the last requests")),
			wicketway.Route("GET /live", t.live, wicketway.Summary("What happens to requests, when they have ended")),
			wicketway.Route("GET /{trail}", t.one, wicketway.Summary("What happened to a request"), wicketway.Fails(ErrNoTrail))),
	)
}

// ErrNoTrail is raised for a request of which no trail is kept.
var ErrNoTrail = problem.NotFound.Define(http.StatusNotFound, "no-trail", "No trail of this request is kept").
	Means("Trails of the last requests are kept; requests for trails and documentation leave none.")

// record is the middleware.
func (t *Trails) record() exchange.Middleware {
	return exchange.Middleware{
		Name:     "trail",
		Does:     "keeps what happened to the last requests, in development",
		Observes: steps{},
		Wrap: func(next http.Handler) http.Handler {
			lines.Want()
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				ctx := r.Context()
				if leavesNone(ctx) {
					next.ServeHTTP(w, r)
					return
				}
				w, answer := exchange.WriterOf(w)
				one := t.begin(r)
				if one == nil {
					next.ServeHTTP(w, r)
					return
				}
				exchange.Keep(ctx, one)
				exchange.Keep[lines.Taker](ctx, one)
				defer func() {
					gaveUp := recover() // only http.ErrAbortHandler comes this far
					one.end(ending(ctx, answer, gaveUp != nil))
					if gaveUp != nil {
						panic(gaveUp)
					}
				}()
				next.ServeHTTP(w, r)
			})
		},
	}
}

// leavesNone reports whether a request is about the API, or has a trail already, in an API around this one.
func leavesNone(ctx context.Context) bool {
	_, about := exchange.Attached[facts.About](ctx)
	return about || Keeps(ctx)
}

func (t *Trails) list(context.Context, wicketway.None) ([]Trail, error) { return t.All(), nil }

type oneTrail struct {
	Trail string `from:"path trail"`
}

func (t *Trails) one(_ context.Context, in oneTrail) (Trail, error) {
	found, is := t.Find(in.Trail)
	if !is {
		return Trail{}, ErrNoTrail.New("The request is too old, or has a different id.").With("kept", len(t.All()))
	}
	return found, nil
}

type liveTrails struct {
	// Last asks for so many of those that have ended already.
	Last int `from:"query last" rule:"minimum=0"`
}

// An ended trail is one in the stream.
type endedTrail struct{ Trail }

func (t endedTrail) EventID() string { return strconv.FormatInt(t.Number, 10) }

func (t *Trails) live(ctx context.Context, in liveTrails) (wicketway.Stream[endedTrail], error) {
	seen := t.hasEnded() - int64(in.Last)
	return func(yield func(endedTrail, error) bool) {
		for {
			found, now, changed := t.after(seen)
			for _, one := range found {
				if !yield(endedTrail{one}, nil) {
					return
				}
			}
			if seen = now; len(found) > 0 {
				continue
			}
			select {
			case <-changed:
			case <-ctx.Done():
				return
			case <-exchange.Of(ctx).Draining():
				return
			}
		}
	}, nil
}
