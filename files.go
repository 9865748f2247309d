package wicketway

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"net/http"
	"path"
	"reflect"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// Files serves the files of a file system under a prefix, to GET and HEAD, with
// conditional and range requests (RFC 9110, 13 and 14). A folder answers with its
// index.html, and without one it is not found (but see [Listing]). Files and
// folders whose name starts with a dot are never served, nor is anything outside
// of the file system; to keep symbolic links inside a folder too, use the file
// system of an os.Root.
func Files(prefix string, files fs.FS, settings ...Setting) Part {
	line := http.MethodGet + " " + strings.TrimSuffix(prefix, "/") + "/{+file}"
	return routePart{at: here(0), line: line, settings: settings, compile: func(at *site) endpoint {
		if isNil(files) {
			at.mistakef("the file system is nil")
		}
		f := &fileServer{files: files, listing: at.target.listing}
		return plain{reshaped(http.HandlerFunc(f.serve))}
	}}
}

// Listing lets [Files] list the folders that have no index.html, as JSON. Names that
// are no UTF-8 are left out, as no path leads to them (see [fs.ValidPath]).
func Listing() Setting {
	return replacing("Listing", func(t *terms) { t.listing = true })
}

type fileServer struct {
	files   fs.FS
	listing bool
	tags    sync.Map // of embedded files, which never change, by name
}

// A listed is an entry of a folder.
type listed struct {
	Name     string    `json:"name"`
	Folder   bool      `json:"folder,omitzero"`
	Size     int64     `json:"size,omitzero"`
	Modified time.Time `json:"modified,omitzero"`
}

func (f *fileServer) serve(w http.ResponseWriter, r *http.Request) {
	asked := r.PathValue("file")
	name := path.Clean("/" + asked)[1:]
	if name == "" {
		name = "."
	}
	if err := f.answer(w, r, name, asked == "" || strings.HasSuffix(asked, "/")); err != nil {
		if !isExhaustion(err) {
			err = problem.NotFound.New("There is no file %q.", asked).Because(err)
		}
		Fail(w, r, err)
	}
}

// isExhaustion tells a failure of the server from a file that is not there. Systems
// have many names for the latter (a file taken for a folder, a name that is too long,
// links in a circle or out of their root), and few for the former.
func isExhaustion(err error) bool {
	for _, e := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM, syscall.EIO} {
		if errors.Is(err, e) {
			return true
		}
	}
	_, isPath := errors.AsType[*fs.PathError](err)
	return !isPath && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, fs.ErrInvalid)
}

func (f *fileServer) answer(w http.ResponseWriter, r *http.Request, name string, asFolder bool) error {
	if hidden(name) || !fs.ValidPath(name) || strings.ContainsAny(name, "\\\x00") {
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
		s := stateOf(r.Context())
		s.redirect(r, route.Escaped(r.URL), route.Escaped(r.URL)+"/")
		w.Header().Set("Location", s.location)
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

func hidden(name string) bool {
	for part := range strings.SplitSeq(name, "/") {
		if strings.HasPrefix(part, ".") && part != "." {
			return true
		}
	}
	return false
}

func (f *fileServer) content(w http.ResponseWriter, r *http.Request, name string, file fs.File, about fs.FileInfo) error {
	seeker, ok := file.(io.ReadSeeker)
	if !ok {
		all, err := io.ReadAll(file)
		if err != nil {
			return err
		}
		seeker = bytes.NewReader(all)
	}
	if about.ModTime().IsZero() {
		tag, err := f.tag(name, file, seeker)
		if err != nil {
			return err
		}
		w.Header().Set("Etag", tag)
	}
	http.ServeContent(w, ranged(r), name, about.ModTime(), seeker)
	return nil
}

// ranged gives the request without a Range that does not count: to a HEAD (RFC 9110,
// 14.2), of a unit that is not bytes, and of nothing (bytes=-0 is left as one that no
// file can satisfy, 14.1.2).
func ranged(r *http.Request) *http.Request {
	field := r.Header.Get("Range")
	if field == "" {
		return r
	}
	unit, ranges, _ := strings.Cut(field, "=")
	var kept []string
	for one := range strings.SplitSeq(ranges, ",") {
		first, last, dash := strings.Cut(strings.Trim(one, " \t"), "-")
		if strings.Trim(first+last, "0123456789") != "" || !dash || first+last == "" {
			kept = nil
			unit = "" // not well-formed, so there is no Range
			break
		}
		if first != "" || strings.Trim(last, "0") != "" {
			kept = append(kept, first+"-"+last)
		}
	}
	own := r.Clone(r.Context())
	switch {
	case r.Method != http.MethodGet || !strings.EqualFold(unit, "bytes"):
		own.Header.Del("Range")
	case kept == nil:
		own.Header.Set("Range", fmt.Sprintf("bytes=%d-", int64(math.MaxInt64)))
	default:
		own.Header.Set("Range", "bytes="+strings.Join(kept, ","))
	}
	return own
}

// tag is made of the content, where there is no time of its last change.
func (f *fileServer) tag(name string, file fs.File, content io.ReadSeeker) (string, error) {
	embedded := strings.HasPrefix(reflect.TypeOf(file).String(), "*embed.") // however deep a file system it is in
	if tag, ok := f.tags.Load(name); ok && embedded {
		return tag.(string), nil
	}
	h := sha256.New()
	if _, err := io.Copy(h, content); err != nil {
		return "", err
	}
	if _, err := content.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	tag := `"` + hex.EncodeToString(h.Sum(nil)[:16]) + `"`
	if embedded {
		f.tags.Store(name, tag)
	}
	return tag, nil
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
	w.Header()["Content-Type"] = contentTypeJSON
	_, err = w.Write(append(text, '\n'))
	return err
}
