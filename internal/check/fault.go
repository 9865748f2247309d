package check

import (
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/schema"
)

// MostFaults is how many faults are looked for where nothing else is said.
const MostFaults = 100

// Faults are gathered up to a bound, so that a text cannot ask for more work than
// its size is worth.
type faults struct {
	found []schema.Fault
	most  int
	more  bool // there is at least one beyond the bound: looking has ended
}

func bounded(most int) faults {
	if most <= 0 {
		most = MostFaults
	}
	return faults{most: most}
}

func (f *faults) add(fault schema.Fault) {
	if len(f.found) == f.most {
		f.more = true
		return
	}
	if f.found == nil {
		f.found = make([]schema.Fault, 0, 4)
	}
	f.found = append(f.found, fault)
}

const (
	longestPointer = 512
	longestMessage = 200 // of the JSON package or of a text type, in bytes
)

// A spot is a step in a path, made into a JSON Pointer only where it is at fault.
type spot struct {
	name  string
	index int // of an item, which has no name
	item  bool
}

// A path leads to the value that is being looked at.
type path []spot

func (p *path) push(s spot) { *p = append(*p, s) }

func (p *path) pop() { *p = (*p)[:len(*p)-1] }

func (p path) pointer() string {
	var short [64]byte
	b := short[:0]
	for _, s := range p {
		b = append(b, '/')
		if s.item {
			b = strconv.AppendInt(b, int64(s.index), 10)
		} else {
			b = append(b, escapeToken(s.name[:min(len(s.name), longestPointer+1)])...)
		}
		if len(b) > longestPointer {
			break
		}
	}
	return clip.Text(string(b), longestPointer)
}

// escapeToken writes a name as a token of a JSON Pointer (RFC 6901, 3).
func escapeToken(name string) string {
	if !strings.ContainsAny(name, "~/") {
		return name
	}
	return strings.ReplaceAll(strings.ReplaceAll(name, "~", "~0"), "/", "~1")
}

// Unjoin gives the single errors of a joined one.
func Unjoin(err error) []error {
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		var all []error
		for _, e := range joined.Unwrap() {
			all = append(all, Unjoin(e)...)
		}
		return all
	}
	if err == nil {
		return nil
	}
	return []error{err}
}
