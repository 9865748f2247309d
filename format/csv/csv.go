// Package csv writes lists as comma-separated values (RFC 4180).
package csv

import (
	"bytes"
	"encoding"
	"encoding/csv"
	"fmt"
	"io"
	"reflect"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/members"
)

// Lists is the format csv. It writes a list of structs, or a [wicketway.Page] of them, a line
// for each, below a line of names: those of the members in JSON, in the order of the struct,
// and for a struct in a struct both with a dot between (chamber.width). A list of anything else
// has the one column value. Values other than texts, numbers and moments are written as JSON; null is
// empty.
//
// A text that a spreadsheet would take for a formula, since it begins with =, +, -, @, a tab or
// a line break, gets an apostrophe before it. Lines end in CR LF. It is safe for concurrent
// use.
func Lists() format.Format { return lists{} }

type lists struct{}

func (lists) Name() string      { return "csv" }
func (lists) MediaType() string { return "text/csv; charset=utf-8; header=present" }

// CheckRoute wants a list.
func (lists) CheckRoute(of facts.Route) error {
	for _, a := range of.Answers {
		if a.Type != "" && !a.List {
			return fmt.Errorf("the route answers with %s, which is not a list", a.Type)
		}
	}
	return nil
}

func (lists) Write(to io.Writer, s format.Value) error {
	items := reflect.ValueOf(s.Value)
	for items.Kind() == reflect.Pointer {
		items = items.Elem()
	}
	if items.Kind() == reflect.Struct {
		items = items.FieldByName("Items")
	}
	if items.Kind() != reflect.Slice && items.Kind() != reflect.Array {
		return fmt.Errorf("%T is not a list", s.Value)
	}
	columns := columnsOf(items.Type().Elem(), "", nil, nil)
	w := newLines(to)
	line := make([]string, len(columns))
	for i, c := range columns {
		line[i] = harmless(c.name)
	}
	w.write(line)
	for i := range items.Len() {
		for k, c := range columns {
			var err error
			if line[k], err = c.cell(items.Index(i)); err != nil {
				return fmt.Errorf("line %d, %s: %w", i+1, c.name, err)
			}
		}
		w.write(line)
	}
	return w.err
}

// lines end in CR LF, as RFC 4180, 2 has them, and their texts are as they were: encoding/csv would change
// line breaks within them, and leave out a line of one empty cell.
type lines struct {
	to   io.Writer
	line bytes.Buffer
	csv  *csv.Writer
	err  error // the first
}

func newLines(to io.Writer) *lines {
	l := &lines{to: to}
	l.csv = csv.NewWriter(&l.line)
	return l
}

func (l *lines) write(cells []string) {
	l.line.Reset()
	if len(cells) == 1 && cells[0] == "" {
		l.line.WriteString("\"\"\n")
	} else {
		l.csv.Write(cells) // into memory, where nothing fails
		l.csv.Flush()
	}
	l.line.Truncate(l.line.Len() - 1)
	l.line.WriteString("\r\n")
	if _, err := l.to.Write(l.line.Bytes()); l.err == nil {
		l.err = err
	}
}

// A column is a member of the items, however deep.
type column struct {
	name string
	path [][]int // the fields that lead there, each as reflect.Value.FieldByIndex has it
}

// columnsOf lists the columns of a struct, those of structs in it below their name; around are
// the types that it is in.
func columnsOf(t reflect.Type, name string, path [][]int, around []reflect.Type) (all []column) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	var inner []members.Member
	if t.Kind() == reflect.Struct && !isLeaf(t) && !contains(around, t) {
		inner, _ = members.Of(t)
	}
	if len(inner) == 0 {
		if name == "" {
			name = "value"
		}
		return []column{{name, path}}
	}
	around = append(around[:len(around):len(around)], t)
	for _, m := range inner {
		own := m.Name
		if name != "" {
			own = name + "." + own
		}
		all = append(all, columnsOf(m.Of.Type, own, append(path[:len(path):len(path)], m.Index), around)...)
	}
	return all
}

func contains(types []reflect.Type, t reflect.Type) bool {
	for _, other := range types {
		if other == t {
			return true
		}
	}
	return false
}

var (
	textType   = reflect.TypeFor[encoding.TextMarshaler]()
	jsonType   = reflect.TypeFor[json.Marshaler]()
	jsonToType = reflect.TypeFor[json.MarshalerTo]()
)

// isLeaf reports whether a struct is one value to JSON.
func isLeaf(t reflect.Type) bool {
	p := reflect.PointerTo(t)
	return p.Implements(textType) || p.Implements(jsonType) || p.Implements(jsonToType)
}

func (c column) cell(v reflect.Value) (string, error) {
	v, ok := follow(v)
	for _, index := range c.path {
		if !ok {
			return "", nil
		}
		field, err := v.FieldByIndexErr(index)
		if err != nil {
			return "", nil // an embedded pointer is nil
		}
		v, ok = follow(field)
	}
	if !ok {
		return "", nil
	}
	return write(v)
}

// follow goes through pointers and interfaces; false where one is nil.
func follow(v reflect.Value) (reflect.Value, bool) {
	for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		if v.IsNil() {
			return v, false
		}
		v = v.Elem()
	}
	return v, true
}

// write writes one cell. What JSON writes as a text is that text.
func write(v reflect.Value) (string, error) {
	if t, ok := v.Interface().(time.Time); ok {
		return t.Format(time.RFC3339Nano), nil
	}
	raw, err := json.Marshal(v.Interface(), json.Deterministic(true))
	if err != nil {
		return "", err
	}
	switch jsontext.Value(raw).Kind() {
	case 'n':
		return "", nil
	case '"':
		text, err := jsontext.AppendUnquote(nil, raw)
		return harmless(string(text)), err
	}
	return string(raw), nil
}

// harmless keeps spreadsheets from taking a text for a formula.
func harmless(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r\n", rune(text[0])) {
		return "'" + text
	}
	return text
}
