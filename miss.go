package wicketway

import (
	"cmp"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// nowhere is the endpoint for what no route takes.
type nowhere struct {
	versions *versionSet // that are right below this group; nil: none
	depth    int         // how many segments the group's prefix has
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
	m.Edition = s.match.Edition
	resolution := s.api.table.Edition(&m).ResolveBesideFiles(r.Method, r.URL, r.Header, &m)
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
		routes := s.api.routesAt(cmp.Or(as.Path, path), &s.match, as.Preflight > 0)
		if len(routes) == 0 {
			break
		}
		allowed := strings.Join(s.api.table.Allowed(routes), ", ")
		if r.Method == http.MethodOptions { // RFC 9110, 9.3.7
			w.Header().Set("Allow", allowed)
			w.WriteHeader(http.StatusNoContent)
			return nil
		}
		return s.withNear(
			r,
			0,
			problem.MethodNotAllowed.Newf("%s does not apply to %s; allowed are %s.", r.Method, path, allowed).
				WithHeader("Allow", allowed),
		)
	}
	if as.Outcome == table.NoEdition || as.Outcome == table.OtherContent {
		return n.versions.refuse(as, path)
	}
	if asked := n.version(r.URL.Path); asked != "" {
		text := "Version %s does not exist at %s; available: %s."
		if slices.Contains(n.versions.withdrawn, asked) {
			text = "Version %s at %s was withdrawn; available: %s."
		}
		return problem.VersionUnknown.Newf(text, asked, path, strings.Join(n.versions.names, ", ")).
			With("versions", n.versions.names)
	}
	where := path
	if t := s.target.terms(); t.edition > 0 {
		where += " in version " + t.version
	}
	return s.withNear(r, n.depth, problem.NotFound.New("Nothing is at "+where+"."))
}

// withNear adds the routes that may have been meant: to the problem those that are open to all, and in
// development, as its cause, guarded ones too. No guard is asked. The first known segments are the prefix of a
// group.
func (s *state) withNear(r *http.Request, known int, p *problem.Problem) *problem.Problem {
	anyMethods := p.Kind() == problem.NotFound // of a path that is there only the method can be wrong
	if open := s.api.near(r, &s.match, known, anyMethods, func(t *target) bool { return !t.guarded() }); open != nil {
		p.With("near", open)
	}
	if s.target.terms().development {
		if all := s.api.near(r, &s.match, known, anyMethods, func(*target) bool { return true }); all != nil {
			p.Because(&nearError{all})
		}
	}
	return p
}

// near are routes that are like a request that none takes, each with its method.
func (a *API) near(
	r *http.Request, m *table.Match, known int, anyMethods bool, fits func(*target) bool,
) (lines []string) {
	near := a.table.Edition(m).Near(r.Method, r.URL.Path, known, func(i int) bool {
		t := &a.targets[i]
		return !t.part.own && !t.part.withdrawn && (anyMethods || t.method == r.Method) && fits(t)
	})
	for _, i := range near {
		lines = append(lines, a.targets[i].line())
	}
	return lines
}

// routesAt are the routes that match a path, without the files that are not there. Of files
// behind a guard nothing is told, so they are always there. Where versions share their paths those
// of the one of a match are meant, or of every one.
func (a *API) routesAt(escaped string, m *table.Match, every bool) []int {
	return slices.DeleteFunc(a.table.AllAt(escaped, m, every), func(i int) bool {
		files, ok := a.targets[i].end.(*fileServer)
		return ok && !a.targets[i].guarded() && !files.has(escaped)
	})
}

// AtPath is [exchange.Exchange.AtPath]. A preflight is about all versions of the path.
func (s *state) AtPath() (methods, fields []string) {
	r := &s.request
	path := route.Escaped(r.URL)
	if s.resolution.Outcome == table.OtherMethods {
		path = cmp.Or(s.resolution.Path, path)
	}
	routes := s.api.routesAt(path, &s.match, true)
	if field := s.target.terms().versions.variesBy(); field != "" && field != "Accept" {
		fields = append(fields, field)
	}
	if len(routes) == 0 {
		return nil, nil
	}
	for _, i := range routes {
		t := &s.api.targets[i]
		var reads []string
		if t.input != nil {
			reads = t.input.HeaderFields()
		}
		if t.guarded() {
			reads = append(reads, t.terms().guard.Scheme().Fields()...)
		}
		for _, name := range reads {
			if !slices.Contains(fields, name) {
				fields = append(fields, name)
			}
		}
		if t.method == anyMethod { // whatever it is
			if asked := r.Header.Get("Access-Control-Request-Method"); bind.IsToken(asked) {
				methods = append(methods, asked)
			}
		}
	}
	methods = append(methods, s.api.table.Allowed(routes)...)
	slices.Sort(methods)
	return slices.DeleteFunc(slices.Compact(methods), func(m string) bool { return m == anyMethod }), fields
}

// version is the version that the path asks for below the group's prefix, if it
// looks like one.
func (n *nowhere) version(path string) string {
	if n.versions == nil || n.versions.sharesPaths() {
		return ""
	}
	segments := strings.Split(path, "/")
	if len(segments) < n.depth+2 {
		return ""
	}
	asked := segments[n.depth+1]
	if slices.Contains(n.versions.withdrawn, asked) {
		return asked
	}
	if len(asked) > 1 && asked[0]|0x20 == 'v' && '0' <= asked[1] && asked[1] <= '9' {
		return asked
	}
	return ""
}

// fileServer is the endpoint for a file system.
type fileServer struct {
	files   fs.FS
	rest    rest
	listing bool
	tags    sync.Map // of embedded files, which never change, by name
}

// has reports whether an escaped path leads to a file.
func (f *fileServer) has(escaped string) bool {
	asked, err := url.PathUnescape(f.rest.of(escaped)[1:])
	if err != nil || !servable(fileName(asked)) {
		return false
	}
	_, err = fs.Stat(f.files, fileName(asked))
	return err == nil
}

// fileName is the name in a file system for what follows the prefix in a path.
func fileName(asked string) string {
	if name := path.Clean("/" + asked)[1:]; name != "" {
		return name
	}
	return "."
}

func hidden(name string) bool {
	for part := range strings.SplitSeq(name, "/") {
		if strings.HasPrefix(part, ".") && part != "." {
			return true
		}
	}
	return false
}

// servable reports whether a name is one that is served if it is there.
func servable(name string) bool {
	return !hidden(name) && fs.ValidPath(name) && !strings.ContainsAny(name, "\\\x00")
}
