package schema

import "fmt"

// A Report takes down the faults that a type's own Check finds. A type with a method
//
//	Check(*schema.Report)
//
// is asked once its members are all well, so that it can compare them. It is not
// asked of the zero value of a member that need not be there, and where a body cannot
// be decoded as a whole only of the first 1,000 values in it that can. A report keeps as
// many faults as the bound of the input allows; what is noted after that only
// counts as "more". It is for one goroutine at a time.
type Report struct {
	found []Fault
	most  int
	more  bool
}

// NewReport is an empty report that keeps as many faults as most says. Wicketway makes
// them itself; a test of a Check makes its own.
func NewReport(most int) *Report { return &Report{most: most} }

// Fault notes a fault. The place is a JSON Pointer from the value that is checked
// ("/slot"; "" for the value as a whole), the rule a short name for programs, and
// the detail, formatted as fmt.Sprintf does, a sentence that leaves the place out.
func (r *Report) Fault(place, rule, format string, args ...any) {
	if len(r.found) >= r.most {
		r.more = true
		return
	}
	r.found = append(r.found, Fault{Pointer: place, Rule: rule, Detail: fmt.Sprintf(format, args...)})
}

// Faults are those that were noted, and whether there were more than the report keeps.
func (r *Report) Faults() (found []Fault, more bool) { return r.found, r.more }
