package main

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"
)

// A screen is where a command writes, with what is known of it.
type screen struct {
	io.Writer
	terminal bool
	colours  bool
	columns  func() int // of the terminal as it is now; nil where lines have no end
}

// screenOf looks at a writer. Files and pipes have neither colours nor a width; with NO_COLOR in the environment no
// terminal has colours.
func screenOf(w io.Writer) screen {
	if s, ok := w.(screen); ok {
		return s
	}
	file, ok := w.(*os.File)
	terminal := ok && term.IsTerminal(int(file.Fd()))
	if !terminal {
		return screen{Writer: w}
	}
	return screen{w, true, os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb", func() int {
		columns, _, err := term.GetSize(int(file.Fd()))
		if err != nil {
			return 0
		}
		return columns
	}}
}

// width is how many columns a line has; 0 where lines have no end.
func (s screen) width() int {
	if s.columns == nil {
		return 0
	}
	return s.columns()
}

// A style is how a text is marked on a terminal with colours.
type style string

const (
	plain  style = ""
	strong style = "1"
	faint  style = "2"
	good   style = "32"
	bad    style = "31"
	warn   style = "35" // yellow cannot be read on a light ground
)

func (s screen) mark(as style, text string) string {
	if !s.colours || as == plain || text == "" {
		return text
	}
	return "\x1b[" + string(as) + "m" + text + "\x1b[0m"
}

// progressAfter is after what time a command says on a terminal what it is doing.
const progressAfter = time.Second

// progress says what a command is doing, and since when, once that takes a while. The line is taken away by the end
// that it gives, or by the next line that is written through it.
func (s screen) progress(doing string) (end func()) {
	if !s.terminal {
		return func() {}
	}
	done, begun := make(chan struct{}), time.Now()
	var running sync.WaitGroup
	running.Go(func() {
		timer := time.NewTimer(progressAfter)
		defer timer.Stop()
		shown := false
		for {
			select {
			case <-done:
				if shown {
					fmt.Fprint(s, "\r\x1b[K")
				}
				return
			case <-timer.C:
				shown = true
				fmt.Fprintf(s, "\r\x1b[K%s", s.mark(faint, fmt.Sprintf("%s … %d s", doing, int(time.Since(begun).Seconds()))))
				timer.Reset(time.Second)
			}
		}
	})
	return sync.OnceFunc(func() { close(done); running.Wait() })
}

// fold breaks a text that begins in the column indent into lines at spaces; the others begin there as well.
func fold(text string, width, indent int) string {
	if width <= indent+20 {
		return text
	}
	var out strings.Builder
	column := indent
	for i, word := range strings.Fields(text) {
		n := len([]rune(word))
		switch {
		case i == 0:
		case column+1+n > width:
			out.WriteString("\n" + strings.Repeat(" ", indent))
			column = indent
		default:
			out.WriteString(" ")
			column++
		}
		out.WriteString(word)
		column += n
	}
	return out.String()
}
