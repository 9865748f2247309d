package main

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"unicode/utf8"
)

// A grid is a table whose first row names its columns. On a terminal that is too narrow for it the widest columns are
// folded.
type grid struct {
	to    screen
	rows  [][]string
	style func(column int, text string) style // nil: plain
	// below are texts under each row but the first, from its last column but one on.
	below []string
}

func newGrid(out io.Writer) *grid { return &grid{to: screenOf(out)} }

func (g *grid) row(cells ...string) { g.rows = append(g.rows, cells) }

// between is what stands between two columns, and narrowest the width that folding leaves a column.
const (
	between   = 2
	narrowest = 12
)

// widths are those of the columns, so that all of them fit where that can be.
func (g *grid) widths() []int {
	widths := make([]int, len(g.rows[0]))
	total := between * (len(widths) - 1)
	for i := range widths {
		for _, cells := range g.rows {
			widths[i] = max(widths[i], utf8.RuneCountInString(cells[i]))
		}
		total += widths[i]
	}
	for most := g.to.width(); most > 0 && total > most; total-- {
		widest := 0
		for i, w := range widths {
			if w > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= narrowest {
			break
		}
		widths[widest]--
	}
	return widths
}

// flush prints the rows.
func (g *grid) flush() {
	widths := g.widths()
	indent := 0
	for _, w := range widths[:max(0, len(widths)-2)] {
		indent += w + between
	}
	for n, cells := range g.rows {
		folded := make([][]string, len(cells))
		height := 1
		for i, text := range cells {
			folded[i] = foldCell(text, widths[i])
			height = max(height, len(folded[i]))
		}
		for line := range height {
			g.line(n, line, cells, folded, widths)
		}
		if n > 0 && n <= len(g.below) && g.below[n-1] != "" {
			text := fold(g.below[n-1], g.to.width()-indent-between, 0)
			for line := range strings.Lines(text) {
				fmt.Fprintf(g.to, "%*s%s\n", indent+between, "", g.to.mark(faint, strings.TrimRight(line, "\n")))
			}
		}
	}
}

func (g *grid) line(n, line int, cells []string, folded [][]string, widths []int) {
	var out strings.Builder
	pad := 0
	for i := range cells {
		text := ""
		if line < len(folded[i]) {
			text = folded[i][line]
		}
		if text != "" {
			out.WriteString(strings.Repeat(" ", pad))
			pad = 0
			as := strong
			if n > 0 {
				as = plain
				if g.style != nil {
					as = g.style(i, cells[i])
				}
			}
			out.WriteString(g.to.mark(as, text))
		}
		pad += widths[i] - utf8.RuneCountInString(text) + between
	}
	fmt.Fprintln(g.to, out.String())
}

// foldCell breaks a text into pieces of a width at most: at a space, behind a slash, a comma or a dot, or anywhere.
func foldCell(text string, width int) (pieces []string) {
	for runes := []rune(text); ; {
		if len(runes) <= width {
			return append(pieces, string(runes))
		}
		cut := width
		for i := width; i > width/2; i-- {
			if strings.ContainsRune(" /,.", runes[i-1]) || runes[i] == ' ' {
				cut = i
				break
			}
		}
		pieces = append(pieces, strings.TrimRight(string(runes[:cut]), " "))
		runes = []rune(strings.TrimLeft(string(runes[cut:]), " "))
	}
}

// A sheet has lines with a label and cells behind tabs. On a terminal long lines go on below their first cell.
type sheet struct {
	to   screen
	text bytes.Buffer
	*tabwriter.Writer
}

func newSheet(out io.Writer) *sheet {
	s := &sheet{to: screenOf(out)}
	s.Writer = tabwriter.NewWriter(&s.text, 0, 0, between, ' ', 0)
	return s
}

// flush prints the lines; their labels are as wide as indent at least.
func (s *sheet) flush(indent int) {
	s.Flush()
	for line := range strings.Lines(s.text.String()) {
		line = strings.TrimRight(line, " \n")
		runes := []rune(line)
		label := string(runes[:min(indent, len(runes))])
		fmt.Fprint(s.to, s.to.mark(faint, label))
		rest := string(runes[min(indent, len(runes)):])
		if most := s.to.width() - indent; most >= narrowest {
			rest = strings.Join(foldCell(rest, most), "\n"+strings.Repeat(" ", indent))
		}
		fmt.Fprintln(s.to, rest)
	}
}
