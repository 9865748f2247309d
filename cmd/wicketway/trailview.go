package main

import (
	"cmp"
	"fmt"
	"maps"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/observe/trail"
)

// How much of a trail is printed.
type detail uint8

const (
	oneLine   detail = iota
	theSteps         // with the chain in one line
	everyStep        // with each link of the chain
)

// show prints a trail: a line for the request, and below it what happened, where that is asked for.
func show(out screen, t trail.Trail, how detail) {
	answer, as := "no answer", bad
	switch {
	case t.Status >= 400 || t.Code != "":
		answer = strings.TrimSpace(fmt.Sprint(cmp.Or(fmt.Sprint(t.Status), ""), " ", t.Code))
	case t.Status > 0:
		answer, as = fmt.Sprint(t.Status), good
	}
	fmt.Fprintf(out, "%s  %s  %s  %s", out.mark(faint, t.At.Local().Format(time.TimeOnly)), out.mark(as, fmt.Sprintf("%-16s", harmless(answer))),
		out.mark(strong, harmless(t.Method+" "+t.Target)), out.mark(faint, took(t.Took)))
	for _, more := range []string{t.Caller, t.Request} {
		if more != "" {
			fmt.Fprintf(out, "  %s", out.mark(faint, harmless(more)))
		}
	}
	fmt.Fprintln(out)
	for _, note := range t.Notes {
		fmt.Fprintf(out, "          %s\n", out.mark(bad, harmless(note)))
	}
	if how == oneLine {
		return
	}
	showSteps(out, t, how == theSteps)
	showFailure(out, t.Failure)
	fmt.Fprintln(out)
}

// What steps have before their text: when they began, and how long they took.
const stepIndent = 22

func showSteps(out screen, t trail.Trail, short bool) {
	events := slices.Clone(t.Events)
	slices.SortStableFunc(events, func(a, b trail.Event) int { return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.Depth, b.Depth)) })
	if short {
		events = withShortChain(events)
	}
	for _, e := range events {
		indent := stepIndent + min(e.Depth, 16)
		fmt.Fprintf(out, "  %8.2f  %8.2f  %s", e.At, e.Took, strings.Repeat(" ", min(e.Depth, 16)))
		kind, text := harmless(string(e.Kind)), e.Text
		name := strings.TrimSpace(kind + " " + harmless(e.Name))
		if e.Kind == trail.Statement && e.Error == "" {
			text += " " + rowsText(e.Rows)
		}
		line := out.mark(faint, kind) + strings.TrimPrefix(name, kind)
		if text != "" {
			line += "  " + folded(out, text, indent+utf8.RuneCountInString(name)+2)
		}
		fmt.Fprintln(out, line)
		if e.Values != nil {
			fmt.Fprintf(out, "%*s%s\n", indent+2, "", out.mark(faint, folded(out, strings.Join(e.Values, "  "), indent+2)))
		}
		if e.Error != "" {
			fmt.Fprintf(out, "%*s%s\n", indent+2, "", out.mark(bad, folded(out, e.Error, indent+2)))
		}
	}
	if t.Dropped > 0 {
		fmt.Fprintf(out, "  %d more were not kept\n", t.Dropped)
	}
}

// withShortChain puts the middleware that follow one another without a word into the first of them.
func withShortChain(events []trail.Event) (short []trail.Event) {
	isLink := func(e trail.Event) bool {
		return e.Kind == trail.Kind(exchange.StepMiddleware.String()) && e.Text == "" && e.Error == ""
	}
	for i, e := range events {
		if i > 0 && isLink(e) && isLink(events[i-1]) {
			short[len(short)-1].Name += " › " + e.Name
			continue
		}
		e.Depth = max(0, e.Depth-(i-len(short)))
		short = append(short, e)
	}
	return short
}

// folded is a text of several lines that begins in a column.
func folded(out screen, text string, indent int) string {
	lines := strings.Split(harmless(text), "\n")
	for i, line := range lines {
		lines[i] = fold(line, out.width(), indent)
	}
	return strings.Join(lines, "\n"+strings.Repeat(" ", indent))
}

func rowsText(rows int64) string {
	switch {
	case rows < 0:
		return "(rows: not known)"
	case rows == 1:
		return "(1 row)"
	}
	return fmt.Sprintf("(%d rows)", rows)
}

func showFailure(out screen, f *trail.Failure) {
	if f == nil {
		return
	}
	fmt.Fprintf(out, "  %s %s\n", out.mark(bad, harmless(cmp.Or(f.Title, f.Code))+":"), folded(out, f.Detail, 4))
	for _, i := range f.Faults {
		where := strings.TrimSpace(i.In + " " + i.Name)
		if i.Pointer != nil {
			where = strings.TrimSpace(where + " " + *i.Pointer)
		}
		fmt.Fprintf(out, "    %s  %s\n", harmless(where), harmless(i.Detail))
	}
	for _, c := range f.Causes {
		fmt.Fprintf(out, "    %s  %s\n", out.mark(faint, harmless(c.Type)), folded(out, c.Message, 6))
	}
	for _, place := range f.Places {
		at := strings.LastIndexByte(place, ' ')
		file, name := place[at+1:], place[:max(at, 0)]
		fmt.Fprintf(out, "    at %s %s\n", harmless(path.Base(name)), out.mark(faint, harmless(path.Join(path.Base(path.Dir(file)), path.Base(file)))))
	}
}

// showRequest prints what was sent, what was read, and the header of the answer.
func showRequest(out screen, t trail.Trail) {
	part := func(title string, h http.Header, texts ...string) {
		if len(h) == 0 && strings.Join(texts, "") == "" {
			return
		}
		fmt.Fprintln(out, out.mark(strong, title))
		for _, name := range slices.Sorted(maps.Keys(h)) {
			for _, value := range h[name] {
				fmt.Fprintf(out, "  %s %s\n", out.mark(faint, harmless(name)+":"), harmless(value))
			}
		}
		for _, text := range texts {
			value := jsontext.Value(text)
			if value.Indent(jsontext.WithIndentPrefix("  "), jsontext.WithIndent("  "), jsontext.SpaceAfterColon(true)) == nil {
				text = string(value)
			}
			if text != "" {
				fmt.Fprintln(out, "  "+harmless(text))
			}
		}
	}
	part("The request", t.Header, t.Body)
	if t.Left > 0 {
		fmt.Fprintf(out, "  %d bytes more were not kept\n", t.Left)
	}
	part("What was read", nil, t.Input)
	part("The answer", t.Answer)
	if t.Served != "" {
		fmt.Fprintf(out, "%s %s\n", out.mark(strong, "Served by"), harmless(t.Served))
	}
}

func took(ms float64) string {
	if ms < 10 {
		return fmt.Sprintf("%.2f ms", ms)
	}
	return fmt.Sprintf("%.0f ms", ms)
}
