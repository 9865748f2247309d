package watch

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/sources"
)

// A burst of changes counts as one: it is over once nothing has changed for quiet, or after most.
const (
	quiet = 80 * time.Millisecond
	most  = time.Second
)

// files tells of changes.
type files struct {
	changed chan []string
	matters func(string) bool
	watcher *fsnotify.Watcher
	closing chan struct{}
	running sync.WaitGroup
}

func newFiles(matters func(string) bool) (*files, error) {
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("files cannot be watched: %w", err)
	}
	f := &files{changed: make(chan []string), matters: matters, watcher: watcher, closing: make(chan struct{})}
	f.running.Go(f.follow)
	return f, nil
}

func (f *files) close() {
	close(f.closing)
	f.watcher.Close()
	f.running.Wait()
}

// add watches folders. Those that are watched already may be among them.
func (f *files) add(folders []string) error {
	for _, folder := range folders {
		err := f.watcher.Add(folder)
		switch {
		case errors.Is(err, syscall.ENOSPC):
			return fmt.Errorf(
				"%d folders cannot be watched: the system watches fewer at a time (on Linux, raise fs.inotify.max_user_watches)",
				len(folders),
			)
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			return fmt.Errorf("%s cannot be watched: %w", folder, err)
		}
	}
	return nil
}

// follow gathers changes. Folders are watched rather than files, so that it does not matter whether an editor writes
// into a file or puts another one in its place.
func (f *files) follow() {
	var changed []string
	var over <-chan time.Time
	var begun time.Time
	for {
		var out chan<- []string
		select {
		case <-f.closing:
			return
		case _, open := <-f.watcher.Errors:
			if !open {
				return
			}
		case e, open := <-f.watcher.Events:
			if !open {
				return
			}
			for _, file := range f.touched(e) {
				if !slices.Contains(changed, file) {
					changed = append(changed, file)
				}
				if over == nil {
					begun = time.Now()
				}
				over = time.After(min(quiet, max(0, most-time.Since(begun))))
			}
		case <-over:
			out = f.changed
		}
		if out == nil {
			continue
		}
		slices.Sort(changed)
		select {
		case out <- changed:
			changed, over = nil, nil
		case <-f.closing:
			return
		}
	}
}

// touched are the files that an event is about: of a new folder those that are in it already.
func (f *files) touched(e fsnotify.Event) (all []string) {
	if e.Op == fsnotify.Chmod {
		return nil
	}
	if e.Has(fsnotify.Create) {
		skip := sources.Program{}
		filepath.WalkDir(e.Name, func(path string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return nil // gone already
			case d.IsDir() && skip.Skipped(path):
				return fs.SkipDir
			case d.IsDir():
				f.watcher.Add(path)
			case f.matters(path):
				all = append(all, path)
			}
			return nil
		})
		return all
	}
	if strings.HasPrefix(filepath.Base(e.Name), ".#") || !f.matters(e.Name) {
		return nil
	}
	return []string{e.Name}
}
