// Package table finds the route for a request. A [Table] maps a method and a path to the
// number of the route that was added; it knows neither servers nor handlers, so the API
// and the command-line tool ask the same one.
package table

import (
	"net/url"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/route"
)

// longestLocation is how long a path can be for its caller to be sent elsewhere, in
// bytes: it would come back as a field of the answer.
const longestLocation = 8 << 10

// A Resolution is what becomes of a request.
type Resolution struct {
	Outcome Outcome
	// Preflight is the number of the route that a preflight is about, from 1, whose chain it
	// passes; 0: there is none.
	Preflight int32
	// Path is escaped: where the caller is to be sent, if the outcome is Redirected, and
	// what a preflight is answered for, where that is not the path of the request. With NoEdition
	// and OtherContent it is what was asked for.
	Path string
}

// Resolve says what becomes of a request, by its method, the path of its URL and its
// header fields: a route, a redirect, or a miss. The match is filled where there is a
// route; otherwise its Group is the one whose chain the request passes. A preflight (the
// Fetch standard, 3.3.5) is never redirected, since browsers do not follow: it is
// answered for the path that a redirect would lead to.
//
// A clean path takes one search, and a second where nothing has it as it is and one with
// a slash more or less may be meant.
func (t *Table) Resolve(method string, u *url.URL, h map[string][]string, m *Match) Resolution {
	path := u.Path
	if path == "" && method != "CONNECT" { // RFC 9110, 4.2.3
		path = "/"
	}
	outcome := t.Find(method, path, u.RawPath, m)
	if t.suffixes != nil && (outcome != Found || !t.routes[m.Route].textual) {
		if r, ok := t.bySuffix(method, path, u.RawPath, m); ok {
			return r
		}
	}
	if outcome == NotFound || outcome == OtherMethods {
		return t.nearby(method, u, h, m, outcome)
	}
	return Resolution{Outcome: outcome}
}

// bySuffix resolves a path whose end names a format as the path without it, if a route there
// offers that format.
func (t *Table) bySuffix(method, path, raw string, m *Match) (Resolution, bool) {
	dot := strings.LastIndexByte(path, '.')
	if dot <= strings.LastIndexByte(path, '/')+1 || !t.suffixes[path[dot+1:]] {
		return Resolution{}, false
	}
	name := path[dot+1:]
	if raw != "" {
		canonical, _ := segment.Canonical(raw) // a dot may be escaped; it was well-formed before
		var ok bool
		if raw, ok = strings.CutSuffix(canonical, path[dot:]); !ok {
			return Resolution{}, false
		}
	}
	found := Match{noFiles: m.noFiles}
	offers := func(route int) bool { return slices.Contains(t.routes[route].suffixes, name) }
	switch t.Find(method, path[:dot], raw, &found) {
	case Found:
		if offers(int(found.Route)) {
			*m = found
			m.Suffix = name
			return Resolution{Outcome: Found}, true
		}
	case OtherMethods:
		if slices.ContainsFunc(t.All(path[:dot], raw), offers) {
			m.Group = found.Group
			return Resolution{Outcome: OtherMethods, Path: route.Escaped(&url.URL{Path: path[:dot], RawPath: raw})}, true
		}
	}
	return Resolution{}, false
}

// ResolveBesideFiles is Resolve where it has turned out that no file is at the path.
func (t *Table) ResolveBesideFiles(method string, u *url.URL, h map[string][]string, m *Match) Resolution {
	m.noFiles = true
	return t.Resolve(method, u, h, m)
}

// nearby looks whether a clean path, or one with or without a slash at its end, has a
// route.
func (t *Table) nearby(method string, u *url.URL, h map[string][]string, m *Match, outcome Outcome) Resolution {
	asked := route.Escaped(u)
	if len(asked) > longestLocation || !strings.HasPrefix(asked, "/") {
		return Resolution{Outcome: outcome}
	}
	preflight := isPreflight(method, h)
	if preflight {
		method = h["Access-Control-Request-Method"][0]
		if outcome == OtherMethods {
			return Resolution{Outcome: outcome, Preflight: t.preflight(method, asked)}
		}
	}
	clean := route.Clean(asked)
	if clean == asked && !t.slashed && !strings.HasSuffix(clean, "/") {
		return Resolution{Outcome: outcome} // no template ends in a slash, so none can be meant
	}
	return t.meant(method, asked, clean, preflight, m, outcome)
}

// isPreflight reports whether a request asks about another one (the Fetch standard, 3.3.5).
func isPreflight(method string, h map[string][]string) bool {
	return method == "OPTIONS" && h["Origin"] != nil && h["Access-Control-Request-Method"] != nil
}

// meant looks for the route of the clean path, and of the one with or without a slash.
func (t *Table) meant(method, asked, clean string, preflight bool, m *Match, outcome Outcome) Resolution {
	found := Match{noFiles: m.noFiles}
	to := ""
	if clean != asked {
		if t.FindEscaped(method, clean, &found) {
			to = clean
		}
		m.Group = found.Group
	}
	other := route.OtherSlash(clean)
	if to == "" && t.FindEscaped(method, other, &found) {
		switch policy := t.routes[found.Route].slash; {
		case policy == SlashStrict:
		case policy == SlashRedirect || preflight:
			to = other
		case clean != asked:
			to = clean
		default:
			*m = found
			return Resolution{Outcome: Found}
		}
	}
	switch {
	case to == "":
		return Resolution{Outcome: outcome}
	case preflight:
		return Resolution{Outcome: OtherMethods, Preflight: t.preflight(method, to), Path: to}
	}
	return Resolution{Outcome: Redirected, Path: to}
}

// preflight finds the route that a preflight is about.
func (t *Table) preflight(method, escaped string) int32 {
	var m Match
	if t.FindEscaped(method, escaped, &m) {
		return m.Route + 1
	}
	return 0
}

// FindEscaped looks an escaped path up as it is.
func (t *Table) FindEscaped(method, escaped string, m *Match) bool {
	path, raw, ok := unescape(escaped)
	return ok && path != "" && t.Find(method, path, raw, m) == Found
}

// unescape gives a path as url.URL holds it.
func unescape(escaped string) (path, raw string, ok bool) {
	path, err := url.PathUnescape(escaped)
	if path != escaped {
		raw = escaped
	}
	return path, raw, err == nil
}

// Allowed lists the methods of routes that match a path (RFC 9110, 10.2.1), with those that
// are answered for them: HEAD after GET, and OPTIONS.
func (t *Table) Allowed(routes []int) []string {
	methods := []string{"OPTIONS"}
	for _, i := range routes {
		m := t.routes[i].method
		methods = append(methods, m)
		if m == "GET" {
			methods = append(methods, "HEAD")
		}
	}
	slices.Sort(methods)
	return slices.Compact(methods)
}

// AllEscaped is All for an escaped path.
func (t *Table) AllEscaped(escaped string) []int {
	path, raw, ok := unescape(escaped)
	if !ok {
		return nil
	}
	return t.All(path, raw)
}
