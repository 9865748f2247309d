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
	"github.com/wicketway/wicketway/internal/method"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// nowhere is the endpoint for what no route takes.
type nowhere struct {
	group    table.Group
	versions *versionSet // that are right below this group; nil: none
}

func (n *nowhere) serve(w http.ResponseWriter, r *http.Request, s *state) error {
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

// miss answers as a resolution says. Every 404, 405 and redirect of an API goes out here.
func (n *nowhere) miss(w http.ResponseWriter, r *http.Request, s *state, as table.Resolution) error {
	path := route.Escaped(r.URL)
	m := s.api.table.Miss(r.Method, r.URL, as, &s.match, n.group, s.api.there)
	if m.Version {
		return n.versions.refuse(m, path)
	}
	switch m.Status {
	case http.StatusNoContent:
		if m.Allowed != nil {
			w.Header().Set("Allow", strings.Join(m.Allowed, ", "))
			s.acceptQuery(w, path, m.Allowed)
		}
		if links := s.api.links[s.target.terms().version]; links != "" {
			w.Header().Set("Link", links)
		}
		w.WriteHeader(http.StatusNoContent)
		return nil
	case http.StatusPermanentRedirect:
		w.Header().Set("Location", redirectTo(r, m.Location))
		w.WriteHeader(http.StatusPermanentRedirect)
		return nil
	case http.StatusBadRequest:
		if path == "*" {
			return problem.BadRequest.New("The target * is for OPTIONS alone (RFC 9112, 3.2.4).")
		}
		return problem.BadRequest.Newf("The path %q is not percent-encoded as RFC 3986, 2.1 has it.", path)
	case http.StatusNotImplemented:
		return problem.NotImplemented.New("This server opens no tunnels (RFC 9110, 9.3.6).")
	case http.StatusMethodNotAllowed:
		allowed := strings.Join(m.Allowed, ", ")
		return s.withNear(r, m, problem.MethodNotAllowed.
			Newf("%s does not apply to %s; allowed are %s.", r.Method, path, allowed).WithHeader("Allow", allowed))
	}
	where := path
	if t := s.target.terms(); t.edition > 0 {
		where += " in version " + t.version
	}
	return s.withNear(r, m, problem.NotFound.New("Nothing is at "+where+"."))
}

// withNear adds the routes that may have been meant: to the problem those that are open to all, and in
// development, as its cause, guarded ones too. No guard is asked.
func (s *state) withNear(r *http.Request, m table.Miss, p *problem.Problem) *problem.Problem {
	if links := s.api.links[s.target.terms().version]; links != "" {
		p = p.WithHeader("Link", links)
	}
	if open := s.near(r, m, func(t *target) bool { return !t.guarded() }); open != nil {
		p.With("near", open)
	}
	if s.developing {
		if all := s.near(r, m, func(*target) bool { return true }); all != nil {
			p.Because(&nearError{all})
		}
	}
	return p
}

// near are routes that are like a request that none takes, each with its method.
func (s *state) near(r *http.Request, m table.Miss, fits func(*target) bool) (lines []string) {
	targets := s.api.targets
	for _, i := range s.api.table.Near(r.Method, r.URL, &s.match, m, func(i int) bool {
		return !targets[i].part.own && !targets[i].part.withdrawn && fits(&targets[i])
	}) {
		lines = append(lines, targets[i].line())
	}
	return lines
}

// acceptQuery says which content the QUERY of a path takes, where it has one.
func (s *state) acceptQuery(w http.ResponseWriter, path string, allowed []string) {
	if !slices.Contains(allowed, method.Query) {
		return
	}
	for _, i := range s.api.table.At(path, &s.match, false, nil) {
		if t := &s.api.targets[i]; t.method == method.Query && t.input != nil {
			if media, _, _ := t.input.Body(); media != nil {
				w.Header().Set("Accept-Query", strings.Join(media, ", "))
			}
		}
	}
}

// isThere reports whether a route is at a path that it matches: files may not be. Of files behind a guard nothing is
// told, so they always are.
func (a *API) isThere(i int, escaped string) bool {
	files, ok := a.targets[i].end.(*fileServer)
	return !ok || a.targets[i].guarded() || files.has(escaped)
}

// AtPath is [exchange.Exchange.AtPath]. A preflight is about all versions of the path.
func (s *state) AtPath() (methods, fields []string) {
	r := &s.request
	path := route.Escaped(r.URL)
	if s.resolution.Outcome == table.OtherMethods {
		path = cmp.Or(s.resolution.Path, path)
	}
	routes := s.api.table.At(path, &s.match, true, s.api.there)
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
