package probe

import (
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"
)

// ends gives a function that reports whether the drawing is over.
func (p *prober) ends() func() bool {
	begun := time.Now()
	return func() bool { return p.ctx.Err() != nil || p.For > 0 && time.Since(begun) > p.For }
}

// finish sums up what was tried.
func (p *prober) finish() {
	for _, o := range p.operations {
		t := Tried{Operation: o.name, Line: o.line, Sent: o.sent, Statuses: slices.Sorted(maps.Keys(o.got))}
		switch {
		case !o.wanted:
			continue
		case !o.reads() && p.Safe:
			t.Skipped = "it is not among the methods that change nothing"
		case o.sent == 0:
			t.Skipped = o.why
			if t.Skipped == "" {
				t.Skipped = "nothing that can be deleted was created"
			}
		case time.Now().Before(o.paused):
			t.Skipped = fmt.Sprintf("it answered 429, and asks to wait another %v", time.Until(o.paused).Round(time.Second))
		}
		for _, status := range o.statuses {
			if o.got[status] == 0 && t.Skipped == "" {
				t.Missed = append(t.Missed, Unmet{status, p.whyNot(o, status)})
			}
		}
		p.report.Tried = append(p.report.Tried, t)
	}
	slices.SortStableFunc(p.report.Tried, func(a, b Tried) int { return p.place(a) - p.place(b) })
}

// place is where an operation stands in the contract.
func (p *prober) place(t Tried) int {
	n := 0
	for path, item := range p.Document.Paths.All() {
		for method := range item.Operations() {
			if n++; t.Line == method+" "+path {
				return n
			}
		}
	}
	return n
}

// whyNot says why no request has got a status.
func (p *prober) whyNot(o *operation, status int) string {
	switch {
	case o.why != "":
		return o.why
	case status < 400 && o.good == nil:
		return "no request succeeded"
	case status < 400:
		return "the same request gets another success"
	case status >= 500:
		return "no request can provoke a failure of the server"
	}
	if why := unasked[status]; why != "" {
		return why
	}
	return "no request led to it"
}

// unasked says of statuses when no request for them is sent.
var unasked = map[int]string{
	400: "nothing that it reads can be unreadable",
	401: "no guard refused the caller",
	403: "no caller is known who lacks a scope",
	408: "no request is sent slowly",
	409: "no request came into conflict with what is there",
	412: "no tag of a thing is known",
	413: "a body of 5 MiB is not too large, or none is taken",
	415: "it was sent no body, or one that it takes",
	422: "no rule of its input can be broken",
	429: "no limit was reached",
}

// WriteJUnit writes reports as JUnit reads them: a suite for each, and a case for each operation.
func WriteJUnit(to io.Writer, all []Report) error {
	type text struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
	type testcase struct {
		Name     string `xml:"name,attr"`
		Class    string `xml:"classname,attr"`
		Failures []text `xml:"failure"`
		Skipped  *text  `xml:"skipped"`
	}
	type suite struct {
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Skipped  int        `xml:"skipped,attr"`
		Cases    []testcase `xml:"testcase"`
	}
	var suites struct {
		XMLName xml.Name `xml:"testsuites"`
		Suites  []suite  `xml:"testsuite"`
	}
	for _, r := range all {
		s := suite{Name: r.Title, Tests: len(r.Tried)}
		for _, t := range r.Tried {
			c := testcase{Name: t.Operation, Class: r.Title}
			for _, f := range r.Findings {
				if f.Operation == t.Operation {
					c.Failures = append(c.Failures, text{f.Reason, fmt.Sprintf("%s\nwanted %s, got %s\n", f.Request, f.Wanted, f.Got)})
				}
			}
			if c.Failures != nil {
				s.Failures++
			} else if t.Skipped != "" {
				s.Skipped++
				c.Skipped = &text{Message: t.Skipped}
			}
			s.Cases = append(s.Cases, c)
		}
		suites.Suites = append(suites.Suites, s)
	}
	io.WriteString(to, xml.Header)
	e := xml.NewEncoder(to)
	e.Indent("", "  ")
	if err := e.Encode(suites); err != nil {
		return err
	}
	_, err := io.WriteString(to, "\n")
	return err
}

// String is a finding in three lines.
func (f Finding) String() string {
	return fmt.Sprintf("%s: %s\n    wanted %s, got %s\n    %s", f.Operation, f.Reason, f.Wanted, f.Got, f.Request)
}

// Print writes what was tried, and what was not reached.
func (r Report) Print(to io.Writer) {
	table := tabwriter.NewWriter(to, 0, 0, 2, ' ', 0)
	for _, t := range r.Tried {
		fmt.Fprintf(table, "%s\t%d sent\t%s\n", t.Operation, t.Sent, t.Answered())
	}
	table.Flush()
	for _, n := range r.NotReached() {
		fmt.Fprintf(to, "not reached: %s: %s\n", n.What, strings.Join(n.Where, ", "))
	}
}

// Answered are the statuses that came, as text.
func (t Tried) Answered() string { return strings.Trim(fmt.Sprint(t.Statuses), "[]") }

// NotReached is something that no request has reached, with the reason, and the operations where that is so.
type NotReached struct {
	What  string
	Where []string
}

// NotReached gathers operations that were left out, and statuses that did not come, by their reasons.
func (r Report) NotReached() (all []NotReached) {
	add := func(what, where string) {
		i := slices.IndexFunc(all, func(n NotReached) bool { return n.What == what })
		if i < 0 {
			i = len(all)
			all = append(all, NotReached{What: what})
		}
		all[i].Where = append(all[i].Where, where)
	}
	for _, t := range r.Tried {
		if t.Skipped != "" {
			add(t.Skipped, t.Operation)
		}
	}
	left := len(all)
	for _, t := range r.Tried {
		for _, m := range t.Missed {
			add(fmt.Sprintf("%d, since %s", m.Status, m.Reason), t.Operation)
		}
	}
	slices.SortStableFunc(all[left:], func(a, b NotReached) int { return strings.Compare(a.What, b.What) })
	return all
}
