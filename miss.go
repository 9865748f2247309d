package wicketway

import (
	"cmp"
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// nowhere is the endpoint for what no route takes.
type nowhere struct {
	versions []string // served right below this group
	depth    int      // how many segments the group's prefix has
}

func (n *nowhere) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	path := route.Escaped(r.URL)
	switch {
	case path == "*" && r.Method == http.MethodOptions: // about the server as a whole (RFC 9110, 9.3.7)
		w.WriteHeader(http.StatusNoContent)
		return nil
	case path == "*":
		return problem.BadRequest.New("The target * is for OPTIONS alone (RFC 9112, 3.2.4).")
	case r.Method == http.MethodConnect && r.URL.Path == "":
		return problem.NotImplemented.New("This server opens no tunnels (RFC 9110, 9.3.6).")
	}
	return n.miss(w, r, s, s.resolution)
}

// missBesideFiles answers where it has turned out that no file is at the path: as if the
// files were not there.
func (s *state) missBesideFiles(w http.ResponseWriter, r *http.Request) error {
	var m table.Match
	resolution := s.api.table.ResolveBesideFiles(r.Method, r.URL, r.Header, &m)
	if resolution.Outcome == table.Found {
		resolution.Outcome = table.NotFound
	}
	return s.api.fallbacks[m.Group].end.(*nowhere).miss(w, r, s, resolution)
}

// miss answers as a resolution says. Every 404, 405 and redirect of an API is decided here.
func (n *nowhere) miss(w http.ResponseWriter, r *http.Request, s *state, as table.Resolution) error {
	path := route.Escaped(r.URL)
	switch as.Outcome {
	case table.Malformed:
		return problem.BadRequest.Newf("The path %q is not percent-encoded as RFC 3986, 2.1 has it.", path)
	case table.Redirected:
		w.Header().Set("Location", redirectTo(r, as.Path))
		w.WriteHeader(http.StatusPermanentRedirect)
		return nil
	case table.OtherMethods:
		routes := s.api.routesAt(cmp.Or(as.Path, path))
		if len(routes) == 0 {
			break
		}
		allowed := s.api.table.Allowed(routes)
		w.Header().Set("Allow", strings.Join(allowed, ", "))
		if r.Method == http.MethodOptions { // RFC 9110, 9.3.7
			w.WriteHeader(http.StatusNoContent)
			return nil
		}
		return problem.MethodNotAllowed.Newf("%s does not apply to %s; allowed are %s.", r.Method, path,
			strings.Join(allowed, ", "))
	}
	if asked := n.version(r.URL.Path); asked != "" {
		return problem.VersionUnknown.Newf("There is no version %s at %s; served are %s.", asked, path,
			strings.Join(n.versions, ", ")).
			With("versions", n.versions)
	}
	p := problem.NotFound.Newf("Nothing is at %s.", path)
	if s.target.terms().development {
		p.Because(s.api.nearest(r))
	}
	return p
}

// A nearError names the routes that may have been meant where nothing was found.
type nearError struct{ routes []string }

func (e *nearError) Error() string {
	if e.routes == nil {
		return "no route is near"
	}
	return "near are " + strings.Join(e.routes, ", ")
}

func (a *API) nearest(r *http.Request) error {
	var e nearError
	for _, i := range a.table.Near(r.Method, r.URL.Path) {
		e.routes = append(e.routes, a.targets[i].line())
	}
	return &e
}

// routesAt are the routes that match a path, without the files that are not there. Of files
// behind a guard nothing is told, so they are always there.
func (a *API) routesAt(escaped string) []int {
	return slices.DeleteFunc(a.table.AllEscaped(escaped), func(i int) bool {
		files, ok := a.targets[i].end.(*fileServer)
		return ok && !a.targets[i].guarded() && !files.has(escaped)
	})
}

// version is the version that the path asks for below the group's prefix, if it
// looks like one.
func (n *nowhere) version(path string) string {
	if len(n.versions) == 0 {
		return ""
	}
	segments := strings.Split(path, "/")
	if len(segments) < n.depth+2 {
		return ""
	}
	asked := segments[n.depth+1]
	if len(asked) > 1 && asked[0]|0x20 == 'v' && '0' <= asked[1] && asked[1] <= '9' {
		return asked
	}
	return ""
}
