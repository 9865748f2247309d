package main

import (
	"cmp"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/watch"
)

// A watchView prints what happens while a program is watched: a line for each turn, and mistakes below one.
type watchView struct {
	to       screen
	program  programLines
	broken   bool // newer code does not serve
	mu       sync.Mutex
	progress func() // ends the line of progress
}

// programLines pass on what the program writes, where no line of progress is in the way.
type programLines struct{ view *watchView }

func (p *programLines) Write(b []byte) (int, error) {
	p.view.mu.Lock()
	defer p.view.mu.Unlock()
	p.view.endProgress()
	return p.view.to.Write(b)
}

func (v *watchView) endProgress() {
	if v.progress != nil {
		v.progress()
		v.progress = nil
	}
}

func (v *watchView) end() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.endProgress()
}

// mostShown is how many mistakes or frames are listed before they are counted.
const mostShown = 10

func (v *watchView) report(event any) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.endProgress()
	switch e := event.(type) {
	case watch.Building:
		v.progress = v.to.progress("building")
	case watch.Starting:
		v.progress = v.to.progress("starting")
	case watch.Silent:
		v.line(warn, "the program has not called api.Serve for %s; it is stopped before a newer one starts", e.After)
	case watch.Serving:
		v.serving(e)
	case watch.Same:
		v.line(good, "%s · the program is the same%s", changed(e.Changed), v.mended())
	case watch.Mistaken:
		v.broken = true
		v.line(bad, "%s%d %s%s", prefixed(e.Changed), len(e.Mistakes), plural(len(e.Mistakes), "mistake", "mistakes"), goesOn(e.Serves))
		for i, m := range e.Mistakes {
			if i == mostShown {
				v.detail("and %d more", len(e.Mistakes)-i)
				break
			}
			v.detail("%s", watch.Line(m))
		}
	case watch.Ended:
		v.ended(e)
	case watch.Tested:
		if e.Failed != "" {
			v.line(bad, "tests fail (%s)", seconds(e.Took))
			fmt.Fprintln(v.to, e.Failed)
			return
		}
		v.line(good, "tests of %d %s pass (%s)", len(e.Packages), plural(len(e.Packages), "package", "packages"), seconds(e.Took))
	case watch.Left:
		v.line(warn, "%s changes whenever the program starts; its changes no longer count", e.File)
	}
}

// line prints a line with the time of day.
func (v *watchView) line(as style, format string, args ...any) {
	text, rest := fmt.Sprintf(format, args...), ""
	if as == good { // what follows are figures
		if head, figures, ok := strings.Cut(text, " · "); ok {
			text, rest = head, " · "+figures
		}
	}
	fmt.Fprintf(v.to, "%s %s%s\n", v.to.mark(faint, time.Now().Format(time.TimeOnly)), v.to.mark(as, text), rest)
}

func (v *watchView) detail(format string, args ...any) {
	const indent = 9
	text := fmt.Sprintf(format, args...)
	if w := v.to.width(); w > 0 && len([]rune(text)) > w-indent {
		text = fold(text, w-indent, 2)
		text = strings.ReplaceAll(text, "\n", "\n"+strings.Repeat(" ", indent))
	}
	fmt.Fprintf(v.to, "%*s%s\n", indent, "", text)
}

func (v *watchView) serving(e watch.Serving) {
	times := fmt.Sprintf("built in %s, ready after %s", seconds(e.Built), seconds(e.Started))
	if e.First {
		routes := ""
		if e.Now != nil {
			n, public, _ := counts(e.Now.Routes)
			routes = fmt.Sprintf(" · %d %s, %d open to everyone", n, plural(n, "route", "routes"), public)
		}
		v.line(good, "%s%s%s · %s", prefixed(e.Changed), strings.Join(e.Addresses, " "), routes, times)
		v.broken = false
		return
	}
	v.line(good, "%s%s · %s%s", changed(e.Changed), v.mended(), times, routeChanges(e))
}

// mended says that newer code serves again.
func (v *watchView) mended() string {
	if !v.broken {
		return ""
	}
	v.broken = false
	return " · no mistakes left"
}

// routeChanges says what a turn did to the routes.
func routeChanges(e watch.Serving) string {
	if e.Before == nil || e.Now == nil {
		return ""
	}
	c := watch.Compare(e.Before, e.Now)
	var all []string
	for _, one := range []struct {
		what  string
		lines []string
	}{{"added", c.Added}, {"gone", c.Gone}, {"open to everyone", c.Opened}, {"guarded", c.Closed}} {
		if len(one.lines) == 0 {
			continue
		}
		shown := one.lines[:min(3, len(one.lines))]
		text := strings.Join(shown, ", ")
		if more := len(one.lines) - len(shown); more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
		all = append(all, one.what+" "+text)
	}
	return cmp.Or(prefix(" · ", strings.Join(all, "; ")), " · same routes")
}

func (v *watchView) ended(e watch.Ended) {
	v.broken = v.broken || !e.Served
	what := "the program has ended"
	if !e.Served {
		what = "the new program has ended before it served"
	}
	v.line(bad, "%s%s: %s%s", prefixed(e.Changed), what, e.Exit, goesOn(e.Serves))
	for line := range strings.Lines(e.Message) {
		v.detail("%s", strings.TrimSpace(line))
	}
	frames := append(e.Own[:len(e.Own):len(e.Own)], e.Others...)
	for i, f := range frames {
		if i == mostShown {
			v.detail("and %d more calls", len(frames)-i)
			break
		}
		v.detail("%s", f)
	}
	for line := range strings.Lines(e.Said) {
		v.detail("%s", strings.TrimRight(line, "\n"))
	}
	switch {
	case e.Answered:
		v.detail("The next change starts it again; until then callers get 503.")
	case !e.Serves:
		v.detail("The next change starts it again.")
	}
}

func goesOn(serves bool) string {
	if serves {
		return " · the program before goes on"
	}
	return ""
}

// changed names files, the first of them.
func changed(files []string) string {
	switch n := len(files); n {
	case 0:
		return "started"
	case 1, 2:
		return strings.Join(files, ", ") + " changed"
	default:
		return fmt.Sprintf("%s and %d more changed", files[0], n-1)
	}
}

// prefixed is the same before more; nothing at the start.
func prefixed(files []string) string {
	if files == nil {
		return ""
	}
	return changed(files) + " · "
}

func prefix(before, text string) string {
	if text == "" {
		return ""
	}
	return before + text
}

func seconds(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}
