package watch

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"hash/maphash"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/sources"
	"github.com/wicketway/wicketway/internal/handover"
)

// A building is one run of go build.
type building struct {
	changed  []string // as they are shown
	unserved []string // what has changed since a program was started, as it is
	program  string   // the file that is built
	cancel   context.CancelFunc
	done     chan struct{} // closed when it is over; the fields below are set then
	taken    bool          // the loop has seen that

	took     time.Duration
	at       time.Time        // when go build had ended
	sum      uint64           // of the program, in this process; 0 where it could not be read
	source   *sources.Program // nil where it could not be found out
	mistakes []handover.Mistake
}

// build begins to build.
func (w *Watch) build(ctx context.Context, dir string, changed []string) *building {
	ctx, cancel := context.WithCancel(ctx)
	b := &building{unserved: changed, cancel: cancel, done: make(chan struct{}),
		program: filepath.Join(dir, fmt.Sprint("program-", time.Now().UnixNano()))}
	for _, file := range changed {
		b.changed = append(b.changed, Short(file))
	}
	w.report(Building{b.changed})
	go func() {
		defer close(b.done)
		listed := make(chan struct{})
		go func() {
			defer close(listed)
			b.source, _ = sources.Of(ctx, w.Package) // where the code does not build it may fail
		}()
		b.run(ctx, w.Package)
		<-listed
	}()
	return b
}

// ready is closed once it is over; nil where the loop knows.
func (b *building) ready() <-chan struct{} {
	if b.taken {
		return nil
	}
	return b.done
}

func (b *building) running() bool { return !b.taken }

func (b *building) run(ctx context.Context, pkg string) {
	begun := time.Now()
	c := exec.CommandContext(ctx, "go", "build", "-o", b.program, "--", pkg)
	apart(c)
	var said bytes.Buffer
	c.Stdout, c.Stderr, c.WaitDelay = &said, &said, time.Second
	err := c.Run()
	b.at = time.Now()
	b.took = b.at.Sub(begun)
	if err != nil {
		b.mistakes = mistakesIn(said.String())
		if b.mistakes == nil {
			b.mistakes = []handover.Mistake{{Text: err.Error()}}
		}
		return
	}
	if f, err := os.Open(b.program); err == nil {
		defer f.Close()
		var sum maphash.Hash // which is quick: the program has tens of megabytes
		sum.SetSeed(seed)
		if _, err := io.Copy(&sum, f); err == nil {
			b.sum = sum.Sum64()
		}
	}
}

var seed = maphash.MakeSeed()

var position = regexp.MustCompile(`^(.+?):(\d+)(?::\d+)?: (.+)$`)

// mistakesIn reads what go build has said.
func mistakesIn(said string) (all []handover.Mistake) {
	here, _ := os.Getwd()
	for line := range strings.Lines(said) {
		line = strings.TrimRight(line, "\r\n")
		switch m := position.FindStringSubmatch(line); {
		case line == "", strings.HasPrefix(line, "# "), strings.HasPrefix(line, "go: errors parsing"):
		case strings.HasPrefix(line, "\t") && all != nil:
			last := &all[len(all)-1].Text
			between := "; "
			if strings.HasSuffix(*last, ":") {
				between = " "
			}
			*last += between + strings.TrimSpace(line)
		case m != nil:
			n, _ := strconv.Atoi(m[2])
			file := m[1]
			if !filepath.IsAbs(file) {
				file = filepath.Join(here, file)
			}
			all = append(all, handover.Mistake{File: file, Line: n, Text: m[3]})
		case strings.HasSuffix(line, ": too many errors"), line == "too many errors":
			all = append(all, handover.Mistake{Text: "and more"})
		default:
			all = append(all, handover.Mistake{Text: strings.TrimSpace(line)})
		}
	}
	return all
}

// ownFirst puts the mistakes in the programmer's own files first.
func ownFirst(all []handover.Mistake, roots []string) []handover.Mistake {
	all = slices.Clone(all)
	slices.SortStableFunc(all, func(a, b handover.Mistake) int {
		return cmp.Compare(strangeness(a.File, roots), strangeness(b.File, roots))
	})
	return all
}

// strangeness is 0 for own files, 1 for those of others and 2 where there is none.
func strangeness(file string, roots []string) int {
	switch {
	case file == "":
		return 2
	case own(file, roots):
		return 0
	}
	return 1
}

func own(file string, roots []string) bool {
	return slices.ContainsFunc(roots, func(root string) bool {
		return strings.HasPrefix(file, root+string(filepath.Separator))
	})
}

// Line is a mistake in one line.
func Line(m handover.Mistake) string {
	if m.File == "" {
		return m.Text
	}
	return fmt.Sprintf("%s:%d: %s", Short(m.File), m.Line, m.Text)
}

// Short writes a file as short as it can be understood here.
func Short(file string) string {
	here, err := os.Getwd()
	if err != nil {
		return file
	}
	if rel, err := filepath.Rel(here, file); err == nil && !strings.HasPrefix(rel, "..") {
		return rel
	}
	return file
}
