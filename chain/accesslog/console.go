package accesslog

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"github.com/mattn/go-isatty"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// Console is a handler whose records are made to be read by a person: a line for each request in
// columns, and below it, in development, what arrived as it did (sent: the query, and the start of the body;
// fields: the header fields that no input reads), with credentials blanked, what was wrong with it, and the
// causes of a failure with the place where it arose. Other records are a line each. It has colours where w is a
// terminal, or CLICOLOR_FORCE=1 is in the environment, unless NO_COLOR is there.
func Console(w io.Writer) slog.Handler {
	file, ok := w.(*os.File)
	shows := ok && isatty.IsTerminal(file.Fd()) && os.Getenv("TERM") != "dumb"
	forced := os.Getenv("CLICOLOR_FORCE")
	colour := os.Getenv("NO_COLOR") == "" && (shows || forced != "" && forced != "0")
	return &console{out: &output{w: w, colour: colour}, redact: Redact(slog.DiscardHandler).(*redactor)}
}

// console is one logger's view of an output.
type console struct {
	out    *output
	redact *redactor
	attrs  []slog.Attr
	groups string // that are open, with a dot behind each
}

// An output is what all loggers share.
type output struct {
	mu     sync.Mutex
	w      io.Writer
	colour bool
}

func (c *console) isForPeople() bool { return true }

func (c *console) Enabled(_ context.Context, level slog.Level) bool { return level >= slog.LevelInfo }

func (c *console) WithAttrs(attrs []slog.Attr) slog.Handler {
	own := *c
	own.attrs = append(c.attrs[:len(c.attrs):len(c.attrs)], c.named(attrs)...)
	return &own
}

func (c *console) WithGroup(name string) slog.Handler {
	own := *c
	if name != "" {
		own.groups += name + "."
	}
	return &own
}

// named gives attributes the names of the groups that are open, and blanks their secrets.
func (c *console) named(attrs []slog.Attr) []slog.Attr {
	all := make([]slog.Attr, len(attrs))
	for i, a := range attrs {
		all[i] = c.redact.attr(a)
		all[i].Key = c.groups + a.Key
	}
	return all
}

func (c *console) Handle(_ context.Context, record slog.Record) error {
	var attrs []slog.Attr
	record.Attrs(func(a slog.Attr) bool { attrs = append(attrs, a); return true })
	p := page{colour: c.out.colour, attrs: append(c.attrs[:len(c.attrs):len(c.attrs)], c.named(attrs)...)}
	if record.Message == "request" && p.has("method") && p.has("status") {
		p.request(record)
	} else {
		p.line(record)
	}
	c.out.mu.Lock()
	defer c.out.mu.Unlock()
	_, err := io.WriteString(c.out.w, p.text.String())
	return err
}

// A page is one record on its way to the terminal.
type page struct {
	text   strings.Builder
	colour bool
	attrs  []slog.Attr
}

// The colours, as ANSI has them (ECMA-48, 8.3.117).
const (
	faint  = "2"
	bold   = "1"
	red    = "31"
	green  = "32"
	yellow = "33"
	cyan   = "36"
)

func (p *page) paint(colour, text string) string {
	if !p.colour || text == "" {
		return text
	}
	return "\x1b[" + colour + "m" + text + "\x1b[0m"
}

func (p *page) has(name string) bool { _, ok := p.find(name); return ok }

func (p *page) find(name string) (slog.Value, bool) {
	for _, a := range p.attrs {
		if a.Key == name {
			return a.Value.Resolve(), true
		}
	}
	return slog.Value{}, false
}

func (p *page) str(name string) string {
	v, ok := p.find(name)
	if !ok {
		return ""
	}
	return printable(v.String())
}

// printable keeps what callers choose from moving the cursor: control characters are written as in Go.
func printable(text string) string {
	if !strings.ContainsFunc(text, isControl) {
		return text
	}
	var b strings.Builder
	for _, c := range text {
		if isControl(c) {
			quoted := strconv.QuoteRune(c)
			b.WriteString(quoted[1 : len(quoted)-1])
		} else {
			b.WriteRune(c)
		}
	}
	return b.String()
}

func isControl(c rune) bool { return c < ' ' && c != '\t' || c == 0x7f || c >= 0x80 && c < 0xa0 }

// request writes the line of a request: when, what was asked, and what came of it.
func (p *page) request(record slog.Record) {
	status, _ := p.find("status")
	took, _ := p.find("duration_ms")
	sent, _ := p.find("sent")
	caller := p.str("caller")
	if caller == "" {
		caller = "–"
	}
	fmt.Fprintf(
		&p.text, "%s  %-7s %-36s  %s  %-22s %s  %s  %s%s\n", p.paint(faint, record.Time.Format("15:04:05.000")),
		p.str("method"), p.str("path"),
		p.paint(colourOf(record.Level, int(status.Int64())), shownStatus(status.Int64())), p.str("code"),
		p.duration(took.Float64()), p.paint(faint, fmt.Sprintf("%8s", size(sent.Int64()))), caller,
		p.paint(faint, p.remarks()),
	)
	p.sent()
	p.faults()
	p.failure()
	p.rest()
}

// shownStatus is a status in a column; that of an answer that was not sent is a dash.
func shownStatus(status int64) string {
	if status == 0 {
		return "  –"
	}
	return fmt.Sprintf("%3d", status)
}

func colourOf(level slog.Level, status int) string {
	switch {
	case level >= slog.LevelError:
		return bold + ";" + red
	case status >= 400:
		return yellow
	case status >= 300:
		return cyan
	}
	return green
}

// duration has the same width always; long ones stand out.
func (p *page) duration(ms float64) string {
	text := fmt.Sprintf("%6.1fms", ms)
	if ms >= 10_000 {
		text = fmt.Sprintf("%7.1fs", ms/1000)
	}
	if v, ok := p.find("slow"); ok && v.Bool() || ms >= 1000 {
		return p.paint(yellow, text)
	}
	return p.paint(faint, text)
}

func size(n int64) string {
	switch {
	case n < 10_000:
		return fmt.Sprintf("%d B", n)
	case n < 10<<20:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d MiB", n>>20)
}

func cut(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

// remarks are what is said behind the path.
func (p *page) remarks() string {
	text := ""
	if slowest := p.str("slowest"); slowest != "" {
		text += "  slow: " + slowest
	}
	if v, ok := p.find("unpacked"); ok {
		text += "  unpacked " + size(v.Int64())
	}
	if v, ok := p.find("sampled"); ok {
		text += "  one of " + v.String()
	}
	return text
}

// below is where the lines below a request begin.
const below = "              "

func (p *page) detail(label, text string) {
	fmt.Fprintf(&p.text, "%s%s %s\n", below, p.paint(faint, fmt.Sprintf("%-7s", label)), text)
}

// longestDetail bounds a line, in bytes.
const longestDetail = 2000

// sent shows what arrived: the query and the body, and on a line of their own the fields that no input reads.
func (p *page) sent() {
	v, ok := p.find(sentAttr)
	if !ok {
		return
	}
	texts, _ := v.Any().([]string)
	for i, label := range []string{"sent", "", "fields"} {
		if i < len(texts) && texts[i] != "" {
			p.detail(only(i != 1 || texts[0] == "", cmp.Or(label, "sent")), cut(printable(texts[i]), longestDetail))
		}
	}
}

func (p *page) faults() {
	v, ok := p.find(faultsAttr)
	if !ok {
		return
	}
	items, _ := v.Any().([]problem.Item)
	for i, item := range items {
		if i == 20 {
			p.detail("", fmt.Sprintf("… and %d more", len(items)-i))
			break
		}
		place := item.In
		if item.Name != "" {
			place += " " + item.Name
		}
		if item.Pointer != nil {
			place += " " + *item.Pointer
		}
		p.detail(only(i == 0, "faults"), p.paint(yellow, printable(place))+" "+printable(item.Detail))
	}
}

func only(is bool, text string) string {
	if is {
		return text
	}
	return ""
}

// failure writes the causes and where they were, unless the faults have said it all.
func (p *page) failure() {
	if p.has(faultsAttr) {
		return
	}
	v, _ := p.find(causesAttr)
	causes, _ := v.Any().([]exchange.Cause)
	if causes == nil {
		if text := p.str("error"); text != "" {
			p.detail("error", cut(text, longestDetail))
		}
	}
	for i := 0; i < len(causes); {
		message, types := causes[i].Message, causes[i].Type
		j := i + 1
		for ; j < len(causes) && strings.HasSuffix(message, causes[j].Message); j++ { // it adds nothing to the one around it
			types += ", " + causes[j].Type
		}
		p.detail(only(i == 0, "because"), cut(printable(message), longestDetail)+p.paint(faint, "  "+types))
		i = j
	}
	v, _ = p.find(framesAttr)
	frames, _ := v.Any().([]string)
	if served := p.str("served"); served != "" && frames == nil { // an error of Go's does not say where it arose
		p.detail("in", served)
	}
	for i, f := range frames {
		if i == 6 {
			break
		}
		p.detail(only(i == 0, "at"), p.frame(f, i == 0))
	}
}

// frame shortens the folders of a place to what can be found from here.
func (p *page) frame(text string, first bool) string {
	function, place, _ := strings.Cut(text, " ")
	if here, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(here, place); err == nil && !strings.HasPrefix(rel, "..") {
			place = rel
		}
	}
	function = function[strings.LastIndexByte(function, '/')+1:]
	if first {
		return p.paint(bold, place) + "  " + function
	}
	return p.paint(faint, place+"  "+function)
}

// shown are the attributes that a request's line has already, or that are of no use on a terminal.
var shown = map[string]bool{
	"method":      true,
	"path":        true,
	"route":       true,
	"status":      true,
	"duration_ms": true,
	"version":     true,
	"sent":        true,
	"written":     true,
	"received":    true,
	"unpacked":    true,
	"request":     true,
	"trace":       true,
	"caller":      true,
	"issuer":      true,
	"remote":      true,
	"code":        true,
	"served":      true,
	"error":       true,
	"stack":       true,
	"slow":        true,
	"slowest":     true,
	"sampled":     true,
	sentAttr:      true,
	faultsAttr:    true,
	causesAttr:    true,
	framesAttr:    true,
}

// rest are attributes that users have added.
func (p *page) rest() {
	var words []string
	for _, a := range p.attrs {
		if !shown[a.Key] {
			words = append(words, a.Key+"="+value(a.Value))
		}
	}
	if words != nil {
		p.detail("more", strings.Join(words, " "))
	}
}

func value(v slog.Value) string {
	text := printable(v.Resolve().String())
	if v.Kind() == slog.KindGroup {
		var words []string
		for _, a := range v.Group() {
			words = append(words, a.Key+"="+value(a.Value))
		}
		return "(" + strings.Join(words, " ") + ")"
	}
	if text == "" || strings.ContainsAny(text, " \"=") {
		text = strconv.Quote(text)
	}
	return cut(text, longestDetail)
}

// line writes any other record.
func (p *page) line(record slog.Record) {
	colour := map[bool]string{true: red, false: yellow}[record.Level >= slog.LevelError]
	level := "     "
	if record.Level != slog.LevelInfo {
		level = p.paint(colour, fmt.Sprintf("%-5s", record.Level))
	}
	fmt.Fprintf(&p.text, "%s  %s %s", p.paint(faint, record.Time.Format("15:04:05.000")), level, printable(record.Message))
	for _, a := range p.attrs {
		if a.Key != "advice" { // the message is the advice
			fmt.Fprintf(&p.text, "  %s%s", p.paint(faint, a.Key+"="), value(a.Value))
		}
	}
	p.text.WriteByte('\n')
}
