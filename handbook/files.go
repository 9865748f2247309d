package handbook

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"github.com/wicketway/wicketway/contract"
)

// Write writes the pages for reading about the versions of an API, the oldest first, into a folder, as files that need no
// server. Lines for a shell are sent to the address. It returns the names of the files.
func Write(ctx context.Context, folder string, versions []contract.Versioned, address string) (files []string, err error) {
	if len(versions) == 0 {
		return nil, errors.New("there is no version to write pages about")
	}
	b := bookOf(versions)
	put := func(name, kind string, p page) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		f, err := create(folder, name)
		if err != nil {
			return err
		}
		defer f.Close()
		files = append(files, f.Name())
		p.Suffix, p.Index, p.Files, p.Book, p.Address = ".html", "index.html", true, b, address
		if err := templates.ExecuteTemplate(f, kind, p); err != nil {
			return err
		}
		return f.Close()
	}
	for _, name := range []string{"style.css", "find.js"} {
		text, err := fs.ReadFile(pages, path.Join("pages", name))
		if err != nil {
			return files, err
		}
		f, err := create(folder, "assets/"+name)
		if err != nil {
			return files, err
		}
		files = append(files, f.Name())
		if _, err := f.Write(text); err != nil {
			return files, errors.Join(err, f.Close())
		}
		if err := f.Close(); err != nil {
			return files, err
		}
	}
	if err := put("index.html", "first", page{Name: b.last().Title, Site: b.last()}); err != nil {
		return files, err
	}
	for _, s := range b {
		p := page{Name: s.Title, Site: s, Root: "../"}
		for name, title := range map[string]string{"index": s.Title, "problems": "Problems · " + s.Title, "since": "Changes · " + s.Title} {
			if name == "since" && s.Before == nil {
				continue
			}
			p.Name = title
			if err := put(s.folder()+name+".html", name, p); err != nil {
				return files, err
			}
		}
		for _, a := range s.Areas {
			for _, o := range a.Operations {
				p.Name, p.Operation = o.Summary+" · "+s.Title, o
				if err := put(s.folder()+o.Page+".html", "operation", p); err != nil {
					return files, err
				}
			}
		}
	}
	return files, nil
}

// create makes a file in a folder.
func create(folder, name string) (*os.File, error) {
	into := filepath.Join(folder, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(into), 0o755); err != nil {
		return nil, err
	}
	return os.Create(into)
}
