// Package check says what is wrong with a contract of anybody's: an OpenAPI document of 3.0, 3.1 or 3.2.
//
// A finding is an error where the specification says MUST, and advice where it says SHOULD, or where it leaves open what
// something means. Nothing is fetched, and nothing costs more than the size of the document allows: see the bounds of
// package contract.
package check

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/valid"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/internal/near"
)

// A Level says how much a finding weighs.
type Level string

// Levels of findings.
const (
	Error  Level = "error"
	Advice Level = "advice"
)

// A Finding is one thing that is wrong with a document.
type Finding struct {
	Pointer string `json:"pointer"` // to it (RFC 6901)
	Line    int    `json:"line"`    // where it begins, from 1; 0 where that is not known
	Column  int    `json:"column"`
	Level   Level  `json:"level"`
	Message string `json:"message"` // what is wrong, and what would be right
}

// String gives the finding as a line: line, column, level, pointer and message.
func (f Finding) String() string {
	return fmt.Sprintf("%d:%d: %s: %s: %s", f.Line, f.Column, f.Level, cmp.Or(f.Pointer, "the document"), f.Message)
}

// mostFindings bounds the list.
const mostFindings = 1000

// Text checks a document as it is written, in JSON or YAML. It lists what was found by place; nothing for a good one.
// What cannot be read is all that is told of a document.
func Text(text []byte) []Finding {
	d, err := yaml.Read(text)
	if err != nil {
		return placed(text, unreadable(err))
	}
	c := &checking{
		d:    d,
		is30: strings.HasPrefix(d.Was(), "3.0."),
		is32: strings.HasPrefix(d.Was(), "3.2."),
		ids:  map[string]string{},
		sets: d.Values(),
	}
	if c.values, err = valid.New(d); err != nil {
		c.advise("", "its schemas cannot be read by a validator: %v", err)
	}
	c.document()
	return placed(text, c.found)
}

// placed finds where in the text all is that was found, and sorts it by that.
func placed(text []byte, found []Finding) []Finding {
	pointers := make([]string, len(found))
	for i, f := range found {
		pointers[i] = f.Pointer
	}
	for i, p := range yaml.Places(text, pointers) {
		if found[i].Line == 0 {
			found[i].Line, found[i].Column = p.Line, p.Column
		}
	}
	slices.SortStableFunc(found, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Pointer, b.Pointer))
	})
	return slices.Compact(found)
}

// unreadable are the faults of a document that cannot be read.
func unreadable(err error) (all []Finding) {
	if faults, is := errors.AsType[contract.Faults](err); is {
		for _, f := range faults {
			all = append(all, Finding{f.Pointer, f.Line, f.Column, Error, f.Text})
		}
		return all
	}
	return []Finding{{Level: Error, Message: err.Error()}}
}

// checking is a document that is looked through.
type checking struct {
	d          *contract.Document
	is30, is32 bool
	values     *valid.Validator
	sets       *contract.Values
	ids        map[string]string // where an operation has a name
	errors     int               // how many of what was found
	found      []Finding
}

func (c *checking) add(level Level, pointer, format string, args ...any) {
	if level == Error {
		c.errors++
	}
	if len(c.found) < mostFindings {
		c.found = append(c.found, Finding{Pointer: pointer, Level: level, Message: fmt.Sprintf(format, args...)})
	}
}

func (c *checking) wrong(pointer, format string, args ...any) { c.add(Error, pointer, format, args...) }
func (c *checking) advise(pointer, format string, args ...any) {
	c.add(Advice, pointer, format, args...)
}

func (c *checking) document() {
	c.unknown()
	c.paths()
	c.components()
	c.tags()
	c.security("/security", c.d.Security)
	c.servers("/servers", c.d.Servers)
	c.parts()
	c.references()
	c.schemas()
	c.examples()
}

func at(pointer string, names ...string) string {
	var b strings.Builder
	b.WriteString(pointer)
	for _, name := range names {
		b.WriteByte('/')
		b.WriteString(strings.NewReplacer("~", "~0", "/", "~1").Replace(name))
	}
	return b.String()
}

// since32 are members that OpenAPI 3.2 has, and the versions before it do not.
var since32 = map[string]bool{
	"$self":                true,
	"query":                true,
	"additionalOperations": true,
	"itemSchema":           true,
	"mediaTypes":           true,
}

// unknown finds members that no object of the specification has (4.9: others begin with x-).
func (c *checking) unknown() {
	for o := range contract.Objects(c.d) {
		for _, name := range o.Unknown {
			if strings.HasPrefix(name, "x-") {
				continue
			}
			hint := "members of one's own begin with x-"
			if near := nearest(name, o.Known); near != "" {
				hint = "did you mean " + near + "?"
			}
			c.wrong(at(o.Pointer, name), "is not a member of this object: %s", hint)
		}
		for _, name := range o.Has {
			if since32[name] && !c.is32 {
				c.wrong(at(o.Pointer, name), "is a member since OpenAPI 3.2; the document is one of %s", c.d.Was())
			}
		}
		if slices.Contains(o.Has, "$ref") && c.is30 && len(o.Has)+len(o.Unknown) > 1 &&
			!strings.HasPrefix(o.Pointer, "/paths/") {
			c.advise(o.Pointer, "has members beside $ref, which have no meaning in OpenAPI 3.0")
		}
	}
}

// nearest is the name that a mistyped one is likely to mean; "" where none is near.
func nearest(name string, known []string) string {
	for _, one := range known {
		if strings.EqualFold(one, name) || near.Distance(strings.ToLower(one), strings.ToLower(name)) <= 2 && len(name) > 3 {
			return one
		}
	}
	return ""
}
