package wicketway

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/handover"
	"github.com/wicketway/wicketway/internal/here"
)

// A Mistake is one thing that is wrong with a description.
type Mistake struct {
	// File and Line are where the part was declared; "" and 0 where unknown.
	File string
	Line int
	// Text names the mistake and what would be right.
	Text string

	// where is the file with as many folders as it takes to be unique in the
	// description, and the line.
	where string
}

func (m Mistake) Error() string { return m.where + ": " + m.Text }

// Mistakes are all that [Build] found wrong, by file and line.
type Mistakes []Mistake

// Error gives one line for each mistake.
func (ms Mistakes) Error() string {
	lines := make([]string, len(ms))
	for i, m := range ms {
		lines[i] = m.Error()
	}
	return strings.Join(lines, "\n")
}

// Unwrap gives the mistakes one by one.
func (ms Mistakes) Unwrap() []error {
	errs := make([]error, len(ms))
	for i, m := range ms {
		errs[i] = m
	}
	return errs
}

// report tells the keeper of this program's sockets, where it has one, why there is no API.
func (ms Mistakes) report(keeper *handover.Program) {
	if keeper == nil {
		return
	}
	all := make([]handover.Mistake, len(ms))
	for i, m := range ms {
		all[i] = handover.Mistake{File: m.File, Line: m.Line, Text: m.Text}
	}
	keeper.Mistaken(all)
}

func (ms Mistakes) sorted() Mistakes {
	slices.SortStableFunc(ms, func(a, b Mistake) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line))
	})
	return ms
}

// Files name the files of a description, each with as many folders as it takes to
// tell it from the others.
type files map[string]string

// shorten finds the shortest end of each path that no other has.
func (all files) shorten() {
	count := map[string]int{}
	for file := range all {
		for i := range len(file) {
			if i == 0 || file[i-1] == '/' {
				count[file[i:]]++
			}
		}
	}
	for file := range all {
		for i := len(file) - 1; i >= 0; i-- {
			if (i == 0 || file[i-1] == '/') && count[file[i:]] == 1 {
				all[file] = file[i:]
				break
			}
		}
	}
}

func (f files) where(p here.Place) string {
	file, line := p.Frame()
	if short := f[file]; short != "" {
		return fmt.Sprintf("%s:%d", short, line)
	}
	return p.String()
}

func wrongWith(value any) []error {
	c, ok := value.(interface{ Check() error })
	if !ok || isNil(value) {
		return nil
	}
	return check.Unjoin(c.Check())
}

// isNil reports whether a value is nil, or holds a pointer, map or function that is.
func isNil(v any) bool {
	switch r := reflect.ValueOf(v); r.Kind() {
	case reflect.Invalid:
		return true
	case reflect.Pointer, reflect.Interface, reflect.Func, reflect.Map, reflect.Chan:
		return r.IsNil()
	}
	return false
}
