package wicketway

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// A Slash says what becomes of a request whose path fits a route but for a slash
// at its end.
type Slash uint8

const (
	// Redirect sends the caller to the route's own path (308). It is the default.
	Redirect Slash = iota
	// Strict takes the path for another one, where nothing is.
	Strict
	// Same serves the request as if its path were the route's.
	Same
)

// String gives the constant's name in lower case.
func (p Slash) String() string { return [...]string{"redirect", "strict", "same"}[p] }

// Slashes says what a slash at the end of a path means for the routes of a group.
func Slashes(policy Slash) Setting {
	at := here(0)
	return setting{at, "Slashes", true, func(b *builder, t *terms) {
		if policy > Same {
			b.mistake(at, "Slashes: %d is no policy: write Redirect, Strict or Same", uint8(policy))
			policy = Redirect
		}
		t.slashes = policy
	}}
}

// miss decides about a request that no route takes as it is.
func (a *API) miss(r *http.Request, s *state, outcome route.Outcome) {
	s.outcome = outcome
	if outcome != route.Malformed && strings.HasPrefix(r.URL.Path, "/") {
		if t := a.nearby(r, s); t != nil {
			s.target = t
			return
		}
	}
	var m route.Match
	s.target = a.fallbacks[0] // the whole API's
	if a.prefixes.Find(r.Method, r.URL.Path, r.URL.RawPath, &m) == route.Found {
		s.target = a.fallbacks[m.Route]
	}
}

// longestLocation is how long a path can be for its caller to be sent elsewhere, in
// bytes: it would come back as a field of the answer.
const longestLocation = 8 << 10

// nearby looks whether a clean path, or one with or without a slash at its end,
// has a route. It gives the route where the path counts as the same; where the
// caller should be sent there it notes the location.
func (a *API) nearby(r *http.Request, s *state) *target {
	asked := route.Escaped(r.URL)
	if len(asked) > longestLocation {
		return nil
	}
	clean := route.Clean(asked)
	if clean != asked && a.find(r.Method, clean, &s.match) != nil {
		s.redirect(r, asked, clean)
		return nil
	}
	other := route.OtherSlash(clean)
	t := a.find(r.Method, other, &s.match)
	switch {
	case t == nil || t.slashes == Strict:
	case t.slashes == Same && clean == asked:
		return t
	case t.slashes == Same:
		s.redirect(r, asked, clean)
	default:
		s.redirect(r, asked, other)
	}
	return nil
}

// find looks an escaped path up.
func (a *API) find(method, escaped string, m *route.Match) *target {
	path, err := url.PathUnescape(escaped)
	if err != nil || path == "" {
		return nil
	}
	raw := ""
	if path != escaped {
		raw = escaped
	}
	if a.table.Find(method, path, raw, m) != route.Found {
		return nil
	}
	return a.targets[m.Route]
}

// redirect notes where the caller is to be sent: the path asked for, with what a
// handler further out stripped from its front, and with the query.
func (s *state) redirect(r *http.Request, asked, path string) {
	if u, err := url.ParseRequestURI(r.RequestURI); err == nil {
		if front, ok := strings.CutSuffix(route.Escaped(u), asked); ok && strings.HasPrefix(front, "/") && route.Clean(front) == front {
			path = front + path
		}
	}
	if r.URL.RawQuery != "" {
		path += "?" + escapedQuery(r.URL.RawQuery)
	}
	s.location = path
}

// escapedQuery escapes what cannot stand in a query (RFC 3986, 3.4), and nothing else.
func escapedQuery(query string) string {
	var b strings.Builder
	for i := range len(query) {
		if c := query[i]; c > ' ' && c < 0x7f && strings.IndexByte("\"#<>\\^`{|}", c) < 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

// nowhere is the endpoint for what no route takes.
type nowhere struct {
	api      *API
	versions []string // served right below this group
	depth    int      // how many segments the group's prefix has
}

func (n *nowhere) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	path := route.Escaped(r.URL)
	switch {
	case s.outcome == route.Malformed:
		return problem.BadRequest.New("The path %q is not percent-encoded as RFC 3986, 2.1 has it.", path)
	case path == "*" && r.Method == http.MethodOptions: // about the server as a whole (RFC 9110, 9.3.7)
		w.WriteHeader(http.StatusNoContent)
		return nil
	case path == "*":
		return problem.BadRequest.New("The target * is for OPTIONS alone (RFC 9112, 3.2.4).")
	case r.Method == http.MethodConnect && r.URL.Path == "":
		return problem.NotImplemented.New("This server opens no tunnels (RFC 9110, 9.3.6).")
	case s.location != "":
		w.Header().Set("Location", s.location)
		w.WriteHeader(http.StatusPermanentRedirect)
		return nil
	case s.outcome == route.OtherMethods:
		allowed := n.api.allowed(r)
		w.Header().Set("Allow", allowed)
		if r.Method == http.MethodOptions { // RFC 9110, 9.3.7
			w.WriteHeader(http.StatusNoContent)
			return nil
		}
		return problem.MethodNotAllowed.New("%s does not apply to %s; allowed are %s.", r.Method, path, allowed)
	}
	if told, err := n.describeProblem(w, r, s); told {
		return err
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
	for _, i := range a.table.All(r.URL.Path, r.URL.RawPath) {
		m := a.targets[i].method
		methods = append(methods, m)
		if m == http.MethodGet {
			methods = append(methods, http.MethodHead)
		}
	}
	slices.Sort(methods)
	return strings.Join(slices.Compact(methods), ", ")
}
