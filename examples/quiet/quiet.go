// Package quiet is an example of a package that brings a middleware and a setting of its
// own: routes that make noise, such as working a lock, are not served in hours of rest.
package quiet

import (
	"fmt"
	"net/http"
	"reflect"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

// ErrQuietHours is raised where a route rests.
var ErrQuietHours = problem.Define(http.StatusConflict, "quiet-hours", "The canal rests").
	Means("The member until says when the route is served again.").
	Carries("until", "06:00")

// hours are what the middleware learns about a route.
type hours struct{ From, To int }

// Hours lets routes rest from one full hour to another, such as from 22 to 6.
func Hours(from, to int) wicketway.Setting { return wicketway.Attach(hours{from, to}) }

// CheckRoute is asked by Build, once for each route that rests.
func (h hours) CheckRoute(f facts.Route) error {
	if h.From < 0 || h.From > 23 || h.To < 0 || h.To > 23 || h.From == h.To {
		return fmt.Errorf("from %d to %d are no hours of rest: two different ones from 0 to 23", h.From, h.To)
	}
	if f.Method == http.MethodGet {
		return fmt.Errorf("reading disturbs nobody: put the hours on routes that change something")
	}
	return nil
}

func (h hours) hold(at int) bool {
	if h.From < h.To {
		return h.From <= at && at < h.To
	}
	return h.From <= at || at < h.To
}

// Keep refuses requests for routes that rest at the hour that the clock says.
func Keep(clock func() time.Time) wicketway.Middleware {
	return wicketway.Middleware{
		Name:   "quiet",
		Does:   "refuses what makes noise in hours of rest",
		Raises: []*problem.Kind{ErrQuietHours},
		Reads:  []reflect.Type{reflect.TypeFor[hours]()},
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if h, ok := exchange.Attached[hours](r.Context()); ok && h.hold(clock().Hour()) {
					until := fmt.Sprintf("%02d:00", h.To)
					wicketway.Fail(w, r, ErrQuietHours.Newf("It is quiet until %s.", until).With("until", until))
					return
				}
				next.ServeHTTP(w, r)
			})
		},
	}
}
