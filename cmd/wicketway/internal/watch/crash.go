package watch

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// A Crash is how a program has ended.
type Crash struct {
	Exit    string  // exit status 2, signal: killed
	Message string  // of the panic; "" where there was none
	Own     []Frame // of the goroutine that panicked, in the programmer's files
	Others  []Frame
	Said    string // what else was written at the end, and not shown yet
}

// A Frame is one call.
type Frame struct {
	Function, File string
	Line           int
}

func (f Frame) String() string { return fmt.Sprintf("%s:%d  %s", Short(f.File), f.Line, f.Function) }

// summary is the crash in a line.
func (c Crash) summary() string {
	switch {
	case c.Message != "" && c.Own != nil:
		first, _, _ := strings.Cut(c.Message, "\n")
		return fmt.Sprintf("ended: %s (%s:%d)", first, Short(c.Own[0].File), c.Own[0].Line)
	case c.Message != "":
		first, _, _ := strings.Cut(c.Message, "\n")
		return "ended: " + first
	}
	return "ended: " + c.Exit
}

// mostHeld bounds what is held back, in bytes.
const mostHeld = 1 << 20

// A holding writer passes lines on, except while a program starts, when its mistakes are shown in another way, and from
// the first line of a panic on.
type holding struct {
	mu    sync.Mutex
	to    io.Writer
	holds bool
	held  []byte
	part  []byte // of a line, as long as it may be the first one of a panic
	panic *time.Timer
}

func (h *holding) Write(b []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.part = append(h.part, b...)
	for {
		i := bytes.IndexByte(h.part, '\n')
		if i < 0 {
			break
		}
		h.line(h.part[:i+1])
		h.part = h.part[i+1:]
	}
	if !h.holds && len(h.part) > 0 && !mayPanic(h.part) {
		h.to.Write(h.part) // a prompt, say
		h.part = nil
	}
	return len(b), nil
}

var panics = [][]byte{[]byte("panic: "), []byte("fatal error: ")}

// mayPanic reports whether a line can be the first one of a panic.
func mayPanic(part []byte) bool {
	return slices.ContainsFunc(panics, func(start []byte) bool {
		n := min(len(start), len(part))
		return bytes.Equal(start[:n], part[:n])
	})
}

func (h *holding) line(line []byte) {
	if !h.holds && mayPanic(line) {
		h.holds = true
		h.panic = time.AfterFunc(time.Second, func() { h.release() }) // the program goes on: it was only a line
	}
	if h.holds {
		h.held = append(h.held, line...)
		if len(h.held) <= mostHeld {
			return
		}
		line, h.held = h.held, nil
	}
	h.to.Write(line)
}

// release passes on the lines that were held back, and those that follow.
func (h *holding) release() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.holds = false
	if len(h.held) > 0 {
		h.to.Write(h.held)
		h.held = nil
	}
}

// take gives what is held.
func (h *holding) take() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.panic != nil {
		h.panic.Stop()
	}
	text := string(h.held) + string(h.part)
	h.held, h.part = nil, nil
	return text
}

// crash says how the program has ended. What its mistakes say already is not said again.
func (p *program) crash(roots []string) Crash {
	text := p.errors.take()
	c := crashIn(text, roots)
	p.mu.Lock()
	defer p.mu.Unlock()
	if c.Exit = "without an exit status"; p.state != nil {
		c.Exit = p.state.String()
	}
	var left []string
	for line := range strings.Lines(c.Said) {
		told := false
		for _, m := range p.wrong {
			told = told || strings.Contains(line, m.Text)
		}
		if !told {
			left = append(left, line)
		}
	}
	c.Said = strings.TrimSpace(strings.Join(left, ""))
	return c
}

var frameFile = regexp.MustCompile(`^\t(.+):(\d+)(?: \+0x[0-9a-f]+)?$`)

// crashIn reads the message of a panic and the frames of the goroutine that panicked, which comes first.
func crashIn(text string, roots []string) (c Crash) {
	begin := -1
	for _, start := range panics {
		if i := strings.Index("\n"+text, "\n"+string(start)); i >= 0 && (begin < 0 || i < begin) {
			begin = i
		}
	}
	if begin < 0 {
		c.Said = text
		return c
	}
	c.Said = text[:begin]
	message, trace, _ := strings.Cut(text[begin:], "\ngoroutine ")
	c.Message = strings.TrimSpace(message)
	trace, _, _ = strings.Cut(trace, "\n\n")
	lines := strings.Split(trace, "\n")
	for i, line := range lines {
		m := frameFile.FindStringSubmatch(line)
		if m == nil || i == 0 {
			continue
		}
		function := strings.TrimPrefix(lines[i-1], "created by ")
		if open := strings.LastIndexByte(function, '('); open > 0 && strings.HasSuffix(function, ")") {
			function = function[:open]
		}
		n, _ := strconv.Atoi(m[2])
		f := Frame{function[strings.LastIndexByte(function, '/')+1:], m[1], n}
		if own(f.File, roots) {
			c.Own = append(c.Own, f)
		} else {
			c.Others = append(c.Others, f)
		}
	}
	return c
}
