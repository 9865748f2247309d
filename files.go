package wicketway

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/problem"
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
		if files == nil {
			at.mistakef("the file system is nil")
		}
		_, fixed := files.(embed.FS)
		f := &fileServer{files: files, fixed: fixed, listing: at.target.listing}
		return plain{reshaped(http.HandlerFunc(f.serve))}
	}}
}

// Listing lets [Files] list the folders that have no index.html, as JSON.
func Listing() Setting {
	return replacing("Listing", func(t *terms) { t.listing = true })
}

type fileServer struct {
	files   fs.FS
	fixed   bool // the files never change, so neither do their tags
	listing bool
	tags    sync.Map // by name
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
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrInvalid) {
			err = problem.NotFound.New("There is no file %q.", asked).Because(err)
		}
		Fail(w, r, err)
	}
}

func (f *fileServer) answer(w http.ResponseWriter, r *http.Request, name string, asFolder bool) error {
	if hidden(name) || !fs.ValidPath(name) || strings.ContainsRune(name, '\\') {
		return fs.ErrNotExist
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
		w.Header().Set("Location", path.Base(name)+"/")
		w.WriteHeader(http.StatusPermanentRedirect)
		return nil
	case about.IsDir():
		err := f.answer(w, r, path.Join(name, "index.html"), false)
		if errors.Is(err, fs.ErrNotExist) && f.listing {
			return f.list(w, name)
		}
		return err
	case asFolder:
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
	if about.ModTime().IsZero() && f.fixed {
		tag, err := f.tag(name, seeker)
		if err != nil {
			return err
		}
		w.Header().Set("Etag", tag)
	}
	http.ServeContent(w, r, name, about.ModTime(), seeker)
	return nil
}

// tag is made of the content, where there is no time of its last change.
func (f *fileServer) tag(name string, content io.ReadSeeker) (string, error) {
	if tag, ok := f.tags.Load(name); ok {
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
	f.tags.Store(name, tag)
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
		if err != nil || hidden(e.Name()) {
			continue // a file that is gone since, or not for others
		}
		entry := listed{Name: e.Name(), Folder: e.IsDir(), Modified: about.ModTime()}
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
