package wicketway

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/problem"
)

// A Mistake is one thing that is wrong with a description.
type Mistake struct {
	// File and Line are where the part was declared; "" and 0 where unknown.
	File string
	Line int
	// Text says what is wrong, and what would be right.
	Text string

	at place
}

func (m Mistake) Error() string { return m.at.String() + ": " + m.Text }

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

func (b *builder) mistake(at place, format string, args ...any) {
	file, line := at.frame()
	m := Mistake{File: file, Line: line, Text: fmt.Sprintf(format, args...), at: at}
	if !slices.Contains(b.mistakes, m) {
		b.mistakes = append(b.mistakes, m)
	}
}

// unjoin gives the single errors of a joined one.
func unjoin(err error) []error {
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		var all []error
		for _, e := range joined.Unwrap() {
			all = append(all, unjoin(e)...)
		}
		return all
	}
	return []error{err}
}

func (ms Mistakes) sorted() Mistakes {
	slices.SortStableFunc(ms, func(a, b Mistake) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line))
	})
	return ms
}

// kind checks a kind of problem, and that its code means no other kind.
func (b *builder) kind(at place, k *problem.Kind) {
	if err := k.Check(); err != nil {
		b.mistake(at, "Fails: %v", err)
		return
	}
	if other := b.codes[k.Code()]; other != nil && other != k {
		b.mistake(at, "Fails: the code %q is declared by two kinds, %q and %q", k.Code(), other.Title(), k.Title())
	}
	b.codes[k.Code()] = k
}
