package table

import (
	"cmp"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/route"
)

// A Miss is what it means for a request that no route takes it. There is one way to find that out, for the API, for
// preflights and for the command-line tool.
type Miss struct {
	Status int
	// Location is where the caller is sent (308), and Allowed are the methods of the path (204, 405).
	Location string
	Allowed  []string
	// Version says that the request asks for a version that is not there: Asked, which is "" where it names none.
	// In a field it may be anything, and must not be shown; in a path it looks like a version.
	Version bool
	Asked   string
	// known are the first segments of its path that are right: the prefix of the group, where nothing is at all.
	known int
}

// A Group is what is known of the deepest group whose prefix a path has.
type Group struct {
	// Depth is how many segments its prefix has.
	Depth int
	// Versions are those right below it; nil: none.
	Versions *facts.Versions
}

// Miss says what it means that a request was resolved to no route. There reports whether a route is at an escaped
// path; nil: each is.
func (t *Tables) Miss(method string, u *url.URL, as Resolution, m *Match, g Group, there func(int, string) bool) Miss {
	path := route.Escaped(u)
	switch {
	case path == "*" && method == http.MethodOptions: // about the server as a whole (RFC 9110, 9.3.7)
		return Miss{Status: http.StatusNoContent}
	case path == "*", as.Outcome == Malformed:
		return Miss{Status: http.StatusBadRequest}
	case method == http.MethodConnect && u.Path == "":
		return Miss{Status: http.StatusNotImplemented}
	}
	switch as.Outcome {
	case Redirected:
		return Miss{Status: http.StatusPermanentRedirect, Location: as.Path}
	case NoEdition:
		return Miss{Status: g.Versions.Unknown, Version: true, Asked: as.Path}
	case OtherContent:
		return Miss{Status: http.StatusUnsupportedMediaType, Version: true, Asked: as.Path}
	case OtherMethods:
		routes := t.At(cmp.Or(as.Path, path), m, as.Preflight > 0, there)
		if len(routes) == 0 {
			break
		}
		status := http.StatusMethodNotAllowed
		if method == http.MethodOptions { // RFC 9110, 9.3.7
			status = http.StatusNoContent
		}
		return Miss{Status: status, Allowed: t.Allowed(routes)}
	}
	asked := g.versionIn(u.Path)
	return Miss{Status: http.StatusNotFound, Version: asked != "", Asked: asked, known: g.Depth}
}

// At are the routes that match an escaped path, but those that are not there. Where versions share their paths those
// of the one of a match are meant, or of every one.
func (t *Tables) At(escaped string, m *Match, every bool, there func(int, string) bool) []int {
	all := t.AllAt(escaped, m, every)
	if there == nil {
		return all
	}
	return slices.DeleteFunc(all, func(i int) bool { return !there(i, escaped) })
}

// versionIn is the version that a path asks for below the group's prefix, where versions are in the path: one that was
// withdrawn, or what looks like those that are served.
func (g Group) versionIn(path string) string {
	if g.Versions == nil || g.Versions.Field != "" {
		return ""
	}
	segments := strings.Split(path, "/")
	if len(segments) < g.Depth+2 {
		return ""
	}
	asked := segments[g.Depth+1]
	if slices.Contains(g.Versions.Withdrawn, asked) ||
		slices.ContainsFunc(g.Versions.Served, func(name string) bool { return alike(asked, name) }) {
		return asked
	}
	return ""
}

// alike reports whether two names differ in their numbers and in capitals alone, and have numbers: v1, V2 and v10.
func alike(a, b string) (numbers bool) {
	for a != "" && b != "" {
		restA, restB := strings.TrimLeft(a, "0123456789"), strings.TrimLeft(b, "0123456789")
		switch {
		case restA != a && restB != b:
			a, b, numbers = restA, restB, true
		case restA != a || restB != b || a[0]|0x20 != b[0]|0x20:
			return false
		default:
			a, b = a[1:], b[1:]
		}
	}
	return numbers && a == b
}

// Near are the routes that a request may have meant that was missed, of those that fit.
func (t *Tables) Near(method string, u *url.URL, m *Match, miss Miss, fits func(route int) bool) []int {
	if miss.Status != http.StatusNotFound && miss.Status != http.StatusMethodNotAllowed {
		return nil
	}
	// Of a path that is there only the method can be wrong.
	return t.Edition(m).nearest(method, u.Path, miss.known, miss.Status == http.StatusNotFound, fits)
}
