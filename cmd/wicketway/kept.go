package main

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/sources"
)

// keptFor is for how long a description is kept that nobody asks for.
const keptFor = 30 * 24 * time.Hour

// kept is a description that was asked for, with the state of what it was made from.
type kept struct {
	Folder      string         `json:"folder"` // the current one, then
	Package     string         `json:"package"`
	Roots       []string       `json:"roots"`
	Files       []string       `json:"files"`
	State       string         `json:"state"`
	Description jsontext.Value `json:"description"`
}

// newKept notes the state of a program's files.
func newKept(p *sources.Program) kept {
	k := kept{Package: p.Package, Roots: p.Roots, Files: p.Embedded()}
	for _, file := range p.Embedded() {
		if dir := filepath.Dir(file); !slices.Contains(k.Files, dir) {
			k.Files = append(k.Files, dir) // another one may be embedded when it is there
		}
	}
	k.Folder, _ = os.Getwd()
	if p.Workspace != "" {
		k.Files = append(k.Files, p.Workspace)
	}
	k.State = sources.State(k.Roots, k.Files)
	return k
}

// keptIn is where descriptions are kept; "" where there is no place for them.
func keptIn() string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	return filepath.Join(cache, "wicketway", "descriptions")
}

// keptFile is the file for a package named in a folder: another environment has another one.
func keptFile(folder, pkg string) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{folder, pkg, sources.Environment()}, "\x00")))
	return filepath.Join(keptIn(), hex.EncodeToString(sum[:16])+".json")
}

// findKept finds what is kept of a package, where no file has changed since.
func findKept(pkg string) ([]byte, bool) {
	folder, err := os.Getwd()
	if err != nil || keptIn() == "" {
		return nil, false
	}
	name := keptFile(folder, pkg)
	k, ok := readKept(name)
	if !ok || k.Folder != folder || k.Package != pkg || k.State != sources.State(k.Roots, k.Files) {
		return nil, false
	}
	now := time.Now()
	os.Chtimes(name, now, now) // it is in use
	return k.Description, true
}

func readKept(name string) (k kept, ok bool) {
	text, err := os.ReadFile(name)
	return k, err == nil && json.Unmarshal(text, &k) == nil
}

// keep keeps a description, and forgets those that nobody has asked for. Where that cannot be done the program is
// asked again.
func (k kept) keep(description []byte) {
	dir := keptIn()
	if dir == "" || os.MkdirAll(dir, 0o700) != nil {
		return
	}
	k.Description = description
	if text, err := json.Marshal(k); err == nil {
		writeWhole(keptFile(k.Folder, k.Package), text)
	}
	for _, old := range keptFiles() {
		if about, err := os.Stat(old); err == nil && time.Since(about.ModTime()) > keptFor {
			os.Remove(old)
		}
	}
}

// writeWhole writes a file that nobody reads half of.
func writeWhole(name string, text []byte) {
	f, err := os.CreateTemp(filepath.Dir(name), "new-*")
	if err != nil {
		return
	}
	_, err = f.Write(text)
	if f.Close() != nil || err != nil || os.Rename(f.Name(), name) != nil {
		os.Remove(f.Name())
	}
}

func keptFiles() []string {
	names, _ := filepath.Glob(filepath.Join(keptIn(), "*.json"))
	return names
}

// latestKept is the description that was last asked for in this folder, whatever has changed since: it is for
// suggestions.
func latestKept() (description []byte) {
	folder, err := os.Getwd()
	if err != nil || keptIn() == "" {
		return nil
	}
	var latest time.Time
	for _, name := range keptFiles() {
		about, err := os.Stat(name)
		if err != nil || about.ModTime().Before(latest) {
			continue
		}
		if k, ok := readKept(name); ok && k.Folder == folder {
			latest, description = about.ModTime(), k.Description
		}
	}
	return description
}
