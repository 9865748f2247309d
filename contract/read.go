package contract

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"
)

// Bounds of documents.
const (
	// MaxSize is the size of a document that is read, in bytes.
	MaxSize = 32 << 20
	// MaxDepth is how deep values may be nested.
	MaxDepth = 100
	// maxFaults is how many faults are listed.
	maxFaults = 100
)

// A Fault is one thing in a document that cannot be read.
type Fault struct {
	Pointer      string // to the value (RFC 6901)
	Line, Column int    // where it begins, from 1; 0 where that is not known
	Text         string
}

func (f Fault) Error() string {
	place := cmp.Or(f.Pointer, "the document")
	if f.Line > 0 {
		return fmt.Sprintf("%d:%d: %s: %s", f.Line, f.Column, place, f.Text)
	}
	return place + ": " + f.Text
}

// Faults are all that were found, in the order of the document; the first hundred.
type Faults []Fault

// Error gives one line for each fault.
func (fs Faults) Error() string {
	lines := make([]string, len(fs))
	for i, f := range fs {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}

// Read reads a document of OpenAPI 3.0, 3.1 or 3.2 as JSON. One of 3.0 becomes one of 3.1. The error is [Faults].
func Read(text []byte) (*Document, error) {
	if len(text) > MaxSize {
		return nil, Faults{{Text: fmt.Sprintf("has %d bytes; %d is the most", len(text), MaxSize)}}
	}
	text = bytes.Clone(text) // schemas and examples are pieces of it
	d := new(Document)
	in := newReading(text)
	if err := in.value(reflect.ValueOf(d).Elem(), 0); err != nil {
		in.syntax(err)
	} else if _, err := in.d.ReadToken(); !errors.Is(err, io.EOF) {
		in.fault("", in.d.InputOffset(), "something follows the document")
	}
	if in.faults != nil {
		slices.SortStableFunc(in.faults, func(a, b Fault) int {
			return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
		})
		return nil, in.faults
	}
	switch d.was = d.OpenAPI; {
	case strings.HasPrefix(d.OpenAPI, "3.0."):
		d.fromThreeZero()
	case !strings.HasPrefix(d.OpenAPI, "3.1.") && !strings.HasPrefix(d.OpenAPI, "3.2."):
		return nil, Faults{{Pointer: "/openapi", Text: fmt.Sprintf("is %q; versions 3.0, 3.1 and 3.2 are read", d.OpenAPI)}}
	}
	return d, nil
}

// A reading fills a document from its text, and finds every fault.
type reading struct {
	text   []byte
	d      *jsontext.Decoder
	faults Faults
	last   map[*objectType][]string // the names of the members that the last object of a type had
	names  map[string]string        // of members, as they are written
}

func newReading(text []byte) *reading {
	return &reading{text: text, d: jsontext.NewDecoder(bytes.NewReader(text)), last: map[*objectType][]string{},
		names: map[string]string{}}
}

// mostNames bounds the names that are kept once.
const mostNames = 4096

// name reads the name of a member.
func (in *reading) name() (string, error) {
	raw, err := in.d.ReadValue()
	if err != nil {
		return "", err
	}
	if known, has := in.names[string(raw)]; has {
		return known, nil
	}
	text, err := jsontext.AppendUnquote(nil, raw)
	name := string(text)
	if len(in.names) < mostNames {
		in.names[string(raw)] = name
	}
	return name, err
}

func (in *reading) fault(pointer jsontext.Pointer, offset int64, format string, args ...any) {
	if len(in.faults) >= maxFaults {
		return
	}
	f := Fault{Pointer: string(pointer), Text: fmt.Sprintf(format, args...)}
	f.Line, f.Column = place(in.text, offset)
	in.faults = append(in.faults, f)
}

// place is the line and the column of an offset, in bytes.
func place(text []byte, offset int64) (line, column int) {
	before := text[:min(offset, int64(len(text)))]
	line = bytes.Count(before, []byte("\n")) + 1
	return line, len(before) - bytes.LastIndexByte(before, '\n')
}

// syntax reports what is no JSON, which ends the inspection.
func (in *reading) syntax(err error) {
	if errors.Is(err, errTooMany) {
		return
	}
	offset, text, pointer := in.d.InputOffset(), err.Error(), in.d.StackPointer()
	if s, ok := errors.AsType[*jsontext.SyntacticError](err); ok {
		offset, text, pointer = s.ByteOffset, s.Err.Error(), s.JSONPointer
	}
	if errors.Is(err, jsontext.ErrDuplicateName) {
		text = "another member has that name"
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		text = "the JSON text is incomplete"
	}
	in.fault(pointer, offset, "%s", strings.TrimPrefix(text, "jsontext: "))
}

var errTooMany = errors.New("there are too many faults")

// here is the offset of the value that comes next.
func (in *reading) here() int64 {
	in.d.PeekKind() // so that what is between values is read
	offset := in.d.InputOffset()
	for offset < int64(len(in.text)) && strings.IndexByte(" \t\r\n:,", in.text[offset]) >= 0 {
		offset++
	}
	return offset
}

// value reads the value that comes next.
func (in *reading) value(v reflect.Value, depth int) error {
	if len(in.faults) >= maxFaults {
		return errTooMany
	}
	if depth > MaxDepth {
		in.fault(in.d.StackPointer(), in.here(), "values are nested deeper than %d", MaxDepth)
		return errTooMany
	}
	if v.Kind() == reflect.Pointer {
		v.Set(reflect.New(v.Type().Elem()))
		v = v.Elem()
	}
	switch to := v.Addr().Interface().(type) {
	case *Schema:
		begin := in.here()
		err := in.schema(depth)
		to.text = in.text[begin:max(begin, in.d.InputOffset())]
		return err
	case *jsontext.Value:
		begin := in.here()
		err := in.any(depth)
		*to = in.text[begin:max(begin, in.d.InputOffset())]
		return err
	case mapping:
		return in.object(func(name string) error {
			return to.put(name, func(v reflect.Value) error { return in.value(v, depth+1) })
		}, depth)
	}
	switch v.Kind() {
	case reflect.String:
		return in.scalar("a string", func(t jsontext.Token) { v.SetString(t.String()) }, jsontext.KindString)
	case reflect.Bool:
		return in.scalar("true or false", func(t jsontext.Token) { v.SetBool(t.Bool()) }, jsontext.KindTrue, jsontext.KindFalse)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 0, 0))
		return in.array(func() error {
			v.Set(reflect.Append(v, reflect.Zero(v.Type().Elem())))
			return in.value(v.Index(v.Len()-1), depth+1)
		})
	}
	return in.members(v, depth)
}

// A mapping is a Map or an Extensible.
type mapping interface {
	// put adds a member, whose value is read.
	put(name string, read func(reflect.Value) error) error
	// member is one as a value; the zero Value where there is none.
	member(name string) reflect.Value
	// each visits the members.
	each(visit func(name string, value reflect.Value))
}

// members reads an object of the specification.
func (in *reading) members(v reflect.Value, depth int) error {
	at := in.here()
	t := objectOf(v.Type())
	of := v.Field(t.object).Addr().Interface().(*Object)
	var order []string
	last, n := in.last[t], 0 // most objects of a type have the same members
	begun := in.d.PeekKind() == jsontext.KindBeginObject
	err := in.object(func(name string) error {
		switch {
		case order == nil && n < len(last) && last[n] == name:
		case order == nil:
			order = append(append(make([]string, 0, n+4), last[:n]...), name)
		default:
			order = append(order, name)
		}
		n++
		if i, known := t.members[name]; known {
			return in.value(v.Field(i), depth+1)
		}
		var other jsontext.Value
		err := in.value(reflect.ValueOf(&other).Elem(), depth+1)
		of.More.Set(name, other)
		return err
	}, depth)
	if err != nil || !begun {
		return err
	}
	if order == nil {
		order = last[:n:n]
	}
	for _, name := range t.required {
		if !slices.Contains(order, name) {
			in.fault(in.d.StackPointer(), at, "the member %s is missing", name)
		}
	}
	in.last[t], of.order = order, order
	return nil
}

// An objectType says what members an object of the specification has.
type objectType struct {
	names    []string       // in the order of the fields
	members  map[string]int // the numbers of fields
	required []string
	object   int // the number of the field Object
}

var objectTypes sync.Map // by reflect.Type

func objectOf(t reflect.Type) *objectType {
	if known, has := objectTypes.Load(t); has {
		return known.(*objectType)
	}
	o := &objectType{members: map[string]int{}}
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Type == reflect.TypeFor[Object]():
			o.object = i
		case name != "":
			o.names = append(o.names, name)
			o.members[name] = i
		}
		if f.Tag.Get("contract") == "required" {
			o.required = append(o.required, name)
		}
	}
	objectTypes.Store(t, o)
	return o
}

// object reads an object, member by member.
func (in *reading) object(member func(name string) error, depth int) error {
	if in.d.PeekKind() != jsontext.KindBeginObject {
		return in.wrong("an object")
	}
	if _, err := in.d.ReadToken(); err != nil {
		return err
	}
	for in.d.PeekKind() == jsontext.KindString {
		name, err := in.name()
		if err != nil {
			return err
		}
		if err := member(name); err != nil {
			return err
		}
	}
	_, err := in.d.ReadToken()
	return err
}

// array reads an array, item by item.
func (in *reading) array(item func() error) error {
	if in.d.PeekKind() != jsontext.KindBeginArray {
		return in.wrong("an array")
	}
	if _, err := in.d.ReadToken(); err != nil {
		return err
	}
	for kind := in.d.PeekKind(); kind != jsontext.KindEndArray && kind != jsontext.KindInvalid; kind = in.d.PeekKind() {
		if err := item(); err != nil {
			return err
		}
	}
	_, err := in.d.ReadToken()
	return err
}

func (in *reading) scalar(want string, take func(jsontext.Token), kinds ...jsontext.Kind) error {
	if !slices.Contains(kinds, in.d.PeekKind()) {
		return in.wrong(want)
	}
	t, err := in.d.ReadToken()
	if err == nil && take != nil {
		take(t)
	}
	return err
}

// wrong reports the kind of the value that comes next.
func (in *reading) wrong(want string) error {
	at, kind := in.here(), in.d.PeekKind()
	if kind == jsontext.KindInvalid {
		_, err := in.d.ReadToken()
		return err
	}
	if err := in.d.SkipValue(); err != nil {
		return err
	}
	in.fault(in.d.StackPointer(), at, "is %s; want %s", kindName(kind), want)
	return nil
}

func kindName(kind jsontext.Kind) string {
	switch kind {
	case jsontext.KindNull:
		return "null"
	case jsontext.KindTrue, jsontext.KindFalse:
		return "a boolean"
	case jsontext.KindString:
		return "a string"
	case jsontext.KindNumber:
		return "a number"
	case jsontext.KindBeginObject:
		return "an object"
	}
	return "an array"
}

// any passes a value, as deep as it may be.
func (in *reading) any(depth int) error {
	if depth > MaxDepth {
		in.fault(in.d.StackPointer(), in.here(), "values are nested deeper than %d", MaxDepth)
		return errTooMany
	}
	switch in.d.PeekKind() {
	case jsontext.KindBeginObject:
		return in.object(func(string) error { return in.any(depth + 1) }, depth)
	case jsontext.KindBeginArray:
		return in.array(func() error { return in.any(depth + 1) })
	}
	return in.d.SkipValue()
}

// schema passes a schema: an object or a boolean.
func (in *reading) schema(depth int) error {
	if depth > MaxDepth {
		return in.any(depth) // which says so
	}
	switch in.d.PeekKind() {
	case jsontext.KindTrue, jsontext.KindFalse:
		return in.d.SkipValue()
	case jsontext.KindBeginObject:
		return in.object(func(name string) error { return in.keyword(name, depth+1) }, depth)
	}
	return in.wrong("a schema: an object, true or false")
}

func (in *reading) keyword(name string, depth int) error {
	if len(in.faults) >= maxFaults {
		return errTooMany
	}
	switch keywords[name] {
	case holdsSchema:
		return in.schema(depth)
	case holdsSchemas:
		return in.object(func(string) error { return in.schema(depth + 1) }, depth)
	case holdsList:
		return in.array(func() error { return in.schema(depth + 1) })
	case holdsString:
		return in.scalar("a string", nil, jsontext.KindString)
	case holdsStrings:
		return in.array(func() error { return in.scalar("a string", nil, jsontext.KindString) })
	case holdsNumber:
		// Before draft 6, and so in OpenAPI 3.0, the exclusive ones are booleans.
		if strings.HasPrefix(name, "exclusive") {
			return in.scalar("a number", nil, jsontext.KindNumber, jsontext.KindTrue, jsontext.KindFalse)
		}
		return in.scalar("a number", nil, jsontext.KindNumber)
	case holdsBool:
		return in.scalar("true or false", nil, jsontext.KindTrue, jsontext.KindFalse)
	case holdsTypes:
		if in.d.PeekKind() == jsontext.KindBeginArray {
			return in.array(func() error { return in.scalar("a string", nil, jsontext.KindString) })
		}
		return in.scalar("a string, or an array of them", nil, jsontext.KindString)
	}
	return in.any(depth)
}
