package wicketway

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
)

// A Mistake is one thing that is wrong with a description.
type Mistake struct {
	// File and Line are where the part was declared; "" and 0 where unknown.
	File string
	Line int
	// Text says what is wrong, and what would be right.
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

func (b *builder) mistake(at here.Place, format string, args ...any) {
	for i, a := range args {
		if p, ok := a.(here.Place); ok {
			args[i] = b.where(p)
		}
	}
	b.wrong[at] = true
	file, line := at.Frame()
	m := Mistake{File: file, Line: line, Text: fmt.Sprintf(format, args...), where: b.where(at)}
	if !slices.Contains(b.mistakes, m) {
		b.mistakes = append(b.mistakes, m)
	}
}

func (ms Mistakes) sorted() Mistakes {
	slices.SortStableFunc(ms, func(a, b Mistake) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line))
	})
	return ms
}

// askWrong reports what a value that was given says is wrong with it by itself.
func askWrong(b reporter, at here.Place, name string, value any) {
	for _, err := range wrongWith(value) {
		b.mistake(at, "%s: %v", name, err)
	}
}

func wrongWith(value any) []error {
	c, ok := value.(interface{ Check() error })
	if !ok || isNil(value) {
		return nil
	}
	return check.Unjoin(c.Check())
}

// kind checks a kind of problem, and that its code means no other kind.
func (b *builder) kind(at here.Place, setting string, k *problem.Kind) {
	if err := k.Check(); err != nil {
		b.mistake(at, "%s: %v", setting, err)
		return
	}
	if other := b.codes[k.Code()]; other != nil && other != k {
		b.mistake(at, "%s: the code %q is declared by two kinds, %d %q and %d %q", setting, k.Code(), other.Status(),
			other.Title(), k.Status(), k.Title())
		return
	}
	b.codes[k.Code()] = k
}

// Files name the files of a description, each with as many folders as it takes to
// tell it from the others.
type files map[string]string

// filesOf names the files in which parts were declared.
func filesOf(at here.Place, parts []Part) files {
	all := files{}
	var add func(Part)
	add = func(p Part) {
		if p == nil {
			return
		}
		file, _ := p.part().Frame()
		all[file] = ""
		switch p := p.(type) {
		case group:
			for _, inner := range p.parts {
				add(inner)
			}
		case *routePart:
			for _, s := range p.settings {
				add(s)
			}
		}
	}
	add(group{at: at, parts: parts})
	all.shorten()
	return all
}

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

// where writes a place. Only the first mistake makes it worth to name the files.
func (b *builder) where(p here.Place) string {
	if b.files == nil {
		b.files = filesOf(b.at, b.parts)
	}
	return b.files.where(p)
}

func (f files) where(p here.Place) string {
	file, line := p.Frame()
	if short := f[file]; short != "" {
		return fmt.Sprintf("%s:%d", short, line)
	}
	return p.String()
}
