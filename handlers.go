package wicketway

import (
	"cmp"
	"errors"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"path"
	"reflect"
	"slices"
	"strings"
	"syscall"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// plain is the endpoint for a handler.
type plain struct{ handler http.Handler }

func (p plain) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	for i, name := range s.target.names {
		r.SetPathValue(name, s.match.Value(i))
	}
	return s.call(w, r, p.handler)
}

// call lets a handler answer.
func (s *state) call(w http.ResponseWriter, r *http.Request, h http.Handler) error {
	w = s.begin(w)
	if s.target.terms().uniform {
		h = reshaped(h)
	}
	return s.take(exchange.Step{Kind: exchange.StepCall}, func() error { h.ServeHTTP(w, r); return nil })
}

// mounted is the endpoint for a handler that sees only what follows its prefix.
type mounted struct {
	handler http.Handler
	rest    rest
}

func (m mounted) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	inner := *r
	u := *r.URL
	inner.URL = &u
	if u.RawPath == "" {
		u.Path = m.rest.of(u.Path)
	} else {
		u.RawPath = m.rest.of(u.RawPath)
		path, err := url.PathUnescape(u.RawPath)
		if err != nil {
			return err // the path was matched, so it is well-formed
		}
		u.Path = path
	}
	return s.call(w, &inner, m.handler)
}

// reshaped turns a handler's plain error answers into problems.
func reshaped(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := answer.Reshape(w, func(status int, h http.Header) bool {
			return status >= 400 && !strings.Contains(h.Get("Content-Type"), "json")
		}, func(w http.ResponseWriter) { h.ServeHTTP(w, r) })
		if p == nil {
			return
		}
		if s := stateOf(r.Context()); s != nil {
			s.before.Store(nil) // the handler has answered: its fields are part of that
		}
		Fail(w, r, p)
	})
}

// withdrawn is the endpoint of what was withdrawn.
type withdrawn struct{ target *target }

func (e withdrawn) serve(_ http.ResponseWriter, _ *http.Request, s *state) error {
	t := e.target.terms()
	p := problem.Withdrawn.Newf(
		"%s was removed in %s; %s still has it.", e.target.line(), t.version, e.target.lineage.from,
	)
	if t.edition > 0 { // its path is the same
		return p
	}
	before := e.target.lineage.before
	path, err := before.Expand(func(name string) string { return s.match.Value(slices.Index(before.Names(), name)) })
	if err == nil {
		p.WithHeader("Link", "<"+path+`>; rel="predecessor-version"`)
	}
	return p
}

func (f *fileServer) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	asked := s.match.Value(len(s.target.names) - 1)
	w = s.begin(w)
	var missing error
	err := s.take(exchange.Step{Kind: exchange.StepCall}, func() (err error) {
		reshaped(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			err = f.answer(w, r, fileName(asked), asFolder(asked))
		})).ServeHTTP(w, r)
		if err != nil && !isExhaustion(err) {
			missing, err = err, nil
		}
		return err
	})
	if missing != nil {
		if errors.Is(missing, fs.ErrPermission) {
			// Callers get the same as for a file that is not there, unless the API says otherwise.
			s.target.terms().logger().WarnContext(s, "a file may not be read", "path", clip.Text(r.URL.Path, 1024), "error",
				clip.Text(missing.Error(), 1024), "request", exchange.Of(s).ID())
			if s.problemFor(missing).Kind() != problem.Internal { // a Translate knows it
				return missing
			}
		}
		return s.missBesideFiles(w, r)
	}
	return err
}

func asFolder(asked string) bool { return asked == "" || strings.HasSuffix(asked, "/") }

// isExhaustion distinguishes a failure of the server from a file that is not there. Systems
// have many names for the latter (a file taken for a folder, a name that is too long,
// links in a circle or out of their root), and few for the former.
func isExhaustion(err error) bool {
	for _, e := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM, syscall.EIO} {
		if errors.Is(err, e) {
			return true
		}
	}
	_, isPath := errors.AsType[*fs.PathError](err)
	return !isPath && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) &&
		!errors.Is(err, fs.ErrInvalid)
}

func (f *fileServer) answer(w http.ResponseWriter, r *http.Request, name string, asFolder bool) error {
	if !servable(name) {
		return fs.ErrNotExist
	}
	if about, err := fs.Stat(f.files, name); err != nil || !about.IsDir() && !about.Mode().IsRegular() {
		return cmp.Or(err, fs.ErrNotExist) // opening a pipe could wait for ever
	}
	file, err := f.files.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	about, err := file.Stat()
	if err != nil {
		return err
	}
	switch {
	case about.IsDir() && !asFolder: // so that what the index links to is found
		w.Header().Set("Location", redirectTo(r, route.Escaped(r.URL)+"/"))
		w.WriteHeader(http.StatusPermanentRedirect)
		return nil
	case about.IsDir():
		err := f.answer(w, r, path.Join(name, "index.html"), false)
		if errors.Is(err, fs.ErrNotExist) && f.listing {
			return f.list(w, name)
		}
		return err
	case asFolder || !about.Mode().IsRegular():
		return fs.ErrNotExist
	}
	return f.content(w, r, name, file, about)
}

func (f *fileServer) content(w http.ResponseWriter, r *http.Request, name string, file fs.File,
	about fs.FileInfo) error {
	c := answer.Content{Sniffed: true, Size: about.Size(), Modified: about.ModTime(), Body: file}
	c.Type = mime.TypeByExtension(path.Ext(name))
	if c.Modified.Unix() > 0 {
		c.Tag = answer.DatedTag(c.Modified, c.Size)
	} else if seeker, ok := file.(io.ReadSeeker); ok {
		var err error
		if c.Tag, err = f.tag(name, file, seeker, about.Size()); err != nil {
			return err
		}
	}
	return answer.SendContent(w, r, c)
}

// tag is made of the content, where there is no time of its last change: once, of what is embedded, and
// else where it is not large.
func (f *fileServer) tag(name string, file fs.File, content io.ReadSeeker, size int64) (string, error) {
	embedded := strings.HasPrefix(reflect.TypeOf(file).String(), "*embed.") // however deep a file system it is in
	if tag, ok := f.tags.Load(name); ok && embedded {
		return tag.(string), nil
	}
	if !embedded && size > answer.MostHashed {
		return "", nil
	}
	tag, err := answer.HashTag(content)
	if err == nil && embedded {
		f.tags.Store(name, tag)
	}
	return tag, err
}

func (f *fileServer) list(w http.ResponseWriter, name string) error {
	entries, err := fs.ReadDir(f.files, name)
	if err != nil {
		return err
	}
	shown := []listed{}
	for _, e := range entries {
		about, err := e.Info()
		if err != nil || hidden(e.Name()) || !fs.ValidPath(e.Name()) {
			continue // a file that is gone since, or not for others, or cannot be asked for
		}
		entry := listed{Name: e.Name(), Folder: e.IsDir()}
		if t := about.ModTime(); t.Year() >= 0 && t.Year() <= 9999 { // RFC 3339 has no others
			entry.Modified = t
		}
		if !e.IsDir() {
			entry.Size = about.Size()
		}
		shown = append(shown, entry)
	}
	text, err := json.Marshal(shown)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	_, err = w.Write(append(text, '\n'))
	return err
}
