package main

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"os"
	"os/exec"
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Counting takes the place of the clock: the program runs itself under valgrind, each time for one
// side of one comparison, and the difference between a short and a long run is the instructions of
// the work alone. Whatever else the machine does, that repeats to a hundredth or better. The
// collector is off meanwhile, so what it costs to collect is seen in allocations and bytes.

// Figures are what one side of one comparison costs each time.
type figures struct {
	Runs         int     `json:"runs"` // by which the long run is longer
	Instructions float64 `json:"instructions"`
	Allocations  float64 `json:"allocations"`
	Bytes        float64 `json:"bytes"`
}

// A comparison is what a line measures, in the order in which it does.
type comparison struct {
	Line   string  `json:"line"`
	At     int     `json:"at"` // the first of a line is 0
	Ours   figures `json:"ours"`
	Theirs figures `json:"theirs"`
}

// A record is what was counted, to be held against later.
type record struct {
	Go   string       `json:"go"` // another compiler makes other instructions
	Held []comparison `json:"held"`
}

// compiler is what the instructions depend on.
func compiler() string { return runtime.Version() + " " + runtime.GOOS + "/" + runtime.GOARCH }

// A part of a line is what one process of valgrind runs: it is passed in the environment.
const partVariable = "BENCH_PART"

type part struct {
	Line string `json:"line"`
	At   int    `json:"at"`
	Ours bool   `json:"ours"`
	Runs int    `json:"runs"`
}

// A counter counts instead of measuring time.
type counter struct {
	line    string
	at      int
	earlier map[string]comparison // by line and number
	done    []comparison
	err     error
}

const (
	// leastCounted is how many instructions a difference has at least.
	leastCounted = 100_000_000
	// countedTime is about how long so many take.
	countedTime = 40 * time.Millisecond
)

// compare is meter.compare by instructions.
func (c *counter) compare(ours, theirs func(int)) (ratio, oursCount, theirsCount float64) {
	made := c.earlier[key(c.line, c.at)] // for its runs
	made.Line, made.At = c.line, c.at
	c.at++
	if c.err != nil {
		return 1, 1, 1
	}
	made.Ours.measure(ours)
	made.Theirs.measure(theirs)
	var errs [2]error
	var both sync.WaitGroup
	both.Go(func() { errs[0] = made.Ours.count(part{Line: made.Line, At: made.At, Ours: true}) })
	both.Go(func() { errs[1] = made.Theirs.count(part{Line: made.Line, At: made.At}) }) // they do not disturb each other
	both.Wait()
	if c.err = errors.Join(errs[:]...); c.err != nil {
		return 1, 1, 1
	}
	c.done = append(c.done, made)
	return made.Ours.Instructions / made.Theirs.Instructions, made.Ours.Instructions, made.Theirs.Instructions
}

// measure finds the allocations of one run, on average, and how many runs are worth counting.
func (f *figures) measure(work func(int)) {
	if f.Runs == 0 {
		f.Runs = runsFor(work)
	}
	n := min(max(f.Runs/4, 1), 2000)
	defer debug.SetGCPercent(debug.SetGCPercent(-1)) // it empties the pools
	work(max(n/20, 1))
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	work(n)
	runtime.ReadMemStats(&after)
	f.Allocations = tenth(float64(after.Mallocs-before.Mallocs) / float64(n))
	f.Bytes = tenth(float64(after.TotalAlloc-before.TotalAlloc) / float64(n))
}

// count counts the instructions of one run: the difference between a short run and a long one.
func (f *figures) count(p part) error {
	for {
		var counts [2]float64
		for i := range counts {
			p.Runs = max(f.Runs/4, 1) + i*f.Runs
			var err error
			if counts[i], err = instructions(p); err != nil {
				return err
			}
		}
		difference := counts[1] - counts[0]
		f.Instructions = math.Round(difference / float64(f.Runs))
		if difference >= leastCounted*0.8 || difference <= 0 { // a little less repeats as well
			return nil
		}
		f.Runs *= int(leastCounted/difference) + 1
	}
}

// runsFor is a power of two, so that it seldom is another the next time.
func runsFor(work func(int)) int {
	for n := 1; ; n *= 2 {
		start := cpu()
		work(n)
		if cpu()-start >= countedTime {
			return n
		}
	}
}

var collected = regexp.MustCompile(`Collected : (\d+)`)

// instructions runs a part of a line in a process of its own.
func instructions(p part) (float64, error) {
	self, err := os.Executable()
	if err != nil {
		return 0, err
	}
	said, err := json.Marshal(p)
	if err != nil {
		return 0, err
	}
	valgrind := exec.Command("valgrind", "--tool=callgrind", "--callgrind-out-file=/dev/null", self)
	valgrind.Env = append(os.Environ(), partVariable+"="+string(said), "GOMAXPROCS=1", "GODEBUG=asyncpreemptoff=1",
		"GOGC=off") // what it costs to collect depends on what came before
	var out bytes.Buffer
	valgrind.Stdout, valgrind.Stderr = &out, &out
	err = valgrind.Run()
	found := collected.FindStringSubmatch(out.String())
	if err != nil || found == nil {
		return 0, fmt.Errorf(
			"%s, comparison %d: valgrind: %w\n%s", p.Line, p.At, cmp.Or(err, errors.New("no count")), out.String(),
		)
	}
	return strconv.ParseFloat(found[1], 64)
}

// A runner is what a meter is in such a process: it runs one side of one comparison, and ends.
type runner struct {
	part
	at int
}

func (r *runner) compare(ours, theirs func(int)) {
	if r.at++; r.at-1 != r.At {
		return
	}
	if r.Ours {
		ours(r.Runs)
	} else {
		theirs(r.Runs)
	}
	os.Exit(0)
}

// runPart is the whole program under valgrind.
func runPart(said string) error {
	var p part
	if err := json.Unmarshal([]byte(said), &p); err != nil {
		return err
	}
	for _, line := range lines {
		if line.name == p.Line {
			line.measure(meter{pairs: 1, milliseconds: 1, spread: new(float64), runs: &runner{part: p}})
		}
	}
	return fmt.Errorf("%s has no comparison %d", p.Line, p.At)
}

func key(line string, at int) string { return fmt.Sprint(line, " ", at) }

// countLines prints the instructions, allocations and bytes of all lines that are wanted. Where an
// earlier record is given only its lines are counted and held against it, and what has grown is an
// error. Keep is a file for the new record.
func countLines(out io.Writer, wanted func(line string) bool, against, keep string) error {
	var before record
	earlier := map[string]comparison{}
	if against != "" {
		text, err := os.ReadFile(against)
		if err != nil {
			return err
		}
		if err := json.Unmarshal(text, &before); err != nil {
			return fmt.Errorf("%s: %w", against, err)
		}
		for _, c := range before.Held {
			earlier[key(c.Line, c.At)] = c
		}
	}
	now := record{Go: compiler()}
	var grown []error
	for _, line := range lines {
		if !wanted(line.name) ||
			against != "" && !slices.ContainsFunc(before.Held, func(c comparison) bool { return c.Line == line.name }) {
			continue
		}
		c := &counter{line: line.name, earlier: earlier}
		made := line.measure(meter{pairs: 1, milliseconds: 1, spread: new(float64), counts: c})
		if c.err != nil {
			return c.err
		}
		fmt.Fprintf(out, "%s\n", line.name)
		if len(c.done) == 0 {
			fmt.Fprintf(out, "    %.3g of %.3g  %s\n", made.Ratio, made.Limit, made.note)
		}
		for _, done := range c.done {
			fmt.Fprintf(
				out, "    %.3f  %s to %s instructions, %.1f to %.1f allocations, %.0f to %.0f bytes\n",
				done.Ours.Instructions/done.Theirs.Instructions, grouped(done.Ours.Instructions),
				grouped(done.Theirs.Instructions), done.Ours.Allocations, done.Theirs.Allocations, done.Ours.Bytes,
				done.Theirs.Bytes,
			)
			if was, ok := earlier[key(done.Line, done.At)]; ok {
				if before.Go != now.Go {
					was.Ours.Instructions = done.Ours.Instructions
				}
				grown = append(grown, done.against(out, was))
				delete(earlier, key(done.Line, done.At))
			}
		}
		now.Held = append(now.Held, c.done...)
	}
	if keep != "" {
		text, err := json.Marshal(now, jsontext.WithIndent("\t"))
		if err != nil {
			return err
		}
		if err := os.WriteFile(keep, append(text, '\n'), 0o644); err != nil {
			return err
		}
	}
	if against == "" {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(earlier)) {
		if wanted(earlier[name].Line) {
			grown = append(grown, fmt.Errorf("%s: was counted before, and is not any more", name))
		}
	}
	if before.Go != now.Go {
		fmt.Fprintf(out, "counted before by %s, now by %s: only allocations can be compared\n", before.Go, now.Go)
	}
	return errors.Join(grown...)
}

// tolerance is by how much a count may grow.
const tolerance = 1.02

// against holds our side against what it was, and says so where it is far better, so that the
// record is made anew.
func (c comparison) against(out io.Writer, was comparison) error {
	var errs []error
	hold := func(what string, now, before, leeway float64) {
		switch {
		case now > before*tolerance+leeway:
			errs = append(errs, fmt.Errorf("%s: %s %s, %s before", c.Line, grouped(now), what, grouped(before)))
		case now*tolerance+leeway < before:
			fmt.Fprintf(out, "    better: %s %s, %s before\n", grouped(now), what, grouped(before))
		}
	}
	hold("instructions", c.Ours.Instructions, was.Ours.Instructions, 0)
	hold("allocations", c.Ours.Allocations, was.Ours.Allocations, 0.1)
	hold("bytes", c.Ours.Bytes, was.Ours.Bytes, 16)
	return errors.Join(errs...)
}

// grouped writes a number so that thousands can be seen.
func grouped(v float64) string {
	text := strconv.FormatFloat(v, 'f', 0, 64)
	if v < 100 {
		return strconv.FormatFloat(v, 'f', 1, 64)
	}
	var b strings.Builder
	for i, c := range text {
		if i > 0 && (len(text)-i)%3 == 0 {
			b.WriteByte(',')
		}
		b.WriteRune(c)
	}
	return b.String()
}
