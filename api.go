package wicketway

import (
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// An API is a compiled description. It is an http.Handler, immutable and safe
// for concurrent use.
type API struct {
	info      Info
	tree      *route.Table
	targets   []*target // by number in tree
	prefixes  *route.Table
	fallbacks []*target // by number in prefixes
}

// Info is what the API was named by.
func (a *API) Info() Info { return a.info }

// ServeHTTP answers one request.
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s := newState(w, r)
	outcome := a.tree.Find(r.Method, r.URL.Path, r.URL.RawPath, &s.match)
	if outcome == route.Found {
		s.target = a.targets[s.match.Route]
	} else {
		s.target, s.outcome = a.deepest(r), outcome
	}
	r = r.WithContext(s)
	defer s.finish(r)
	s.target.from(0, &s.response, r, s)
}

// deepest is the target of the deepest group that the path lies in.
func (a *API) deepest(r *http.Request) *target {
	var m route.Match
	if a.prefixes.Find(r.Method, r.URL.Path, r.URL.RawPath, &m) == route.Found {
		return a.fallbacks[m.Route]
	}
	return a.fallbacks[0] // the whole API's
}

// from goes through a target's chain, beginning with link k. It returns when the
// request has been answered, whatever happens on the way.
func (t *target) from(k int, w http.ResponseWriter, r *http.Request, s *state) {
	defer s.catch(w, r)
	if t.guard != nil && k == t.guardAt {
		if err := t.admit(r, s); err != nil {
			Fail(w, r, err)
			return
		}
	}
	if k < len(t.links) {
		t.links[k].handler.ServeHTTP(w, r)
		return
	}
	if err := t.end.serve(w, r, s); err != nil {
		Fail(w, r, err)
	}
}

// nowhere is the endpoint for what no route takes.
type nowhere struct {
	api      *API
	versions []string // served right below this group
	depth    int      // how many segments the group's prefix has
}

func (n *nowhere) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	path := r.URL.EscapedPath()
	switch s.outcome {
	case route.Malformed:
		return problem.BadRequest.New("The path %q is not percent-encoded as RFC 3986, 2.1 has it.", path)
	case route.OtherMethods:
		allowed := n.api.allowed(r)
		w.Header().Set("Allow", allowed)
		if r.Method == http.MethodOptions { // RFC 9110, 9.3.7
			w.WriteHeader(http.StatusNoContent)
			return nil
		}
		return problem.MethodNotAllowed.New("%s does not apply to %s; allowed are %s.", r.Method, path, allowed)
	}
	if asked := n.version(r.URL.Path); asked != "" {
		return problem.VersionUnknown.New("There is no version %s at %s; served are %s.", asked, path, strings.Join(n.versions, ", ")).
			With("versions", n.versions)
	}
	return problem.NotFound.New("Nothing is at %s.", path)
}

// version is the version that the path asks for below the group's prefix, if it
// looks like one.
func (n *nowhere) version(path string) string {
	segments := strings.Split(path, "/")
	if len(n.versions) == 0 || len(segments) < n.depth+2 {
		return ""
	}
	asked := segments[n.depth+1]
	if len(asked) > 1 && asked[0]|0x20 == 'v' && '0' <= asked[1] && asked[1] <= '9' {
		return asked
	}
	return ""
}

// allowed lists the methods of all routes that match the path (RFC 9110, 10.2.1).
func (a *API) allowed(r *http.Request) string {
	methods := []string{http.MethodOptions}
	for _, i := range a.tree.All(r.URL.Path, r.URL.RawPath) {
		m := a.targets[i].method
		methods = append(methods, m)
		if m == http.MethodGet {
			methods = append(methods, http.MethodHead)
		}
	}
	slices.Sort(methods)
	return strings.Join(slices.Compact(methods), ", ")
}
