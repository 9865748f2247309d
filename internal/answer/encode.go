package answer

import (
	"bytes"
	"encoding"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/members"
)

// What most answers are made of, structs and lists of basic kinds, is written by functions that
// are put together at Build. They write what package json writes, byte for byte, or give up, and
// then the package has its say: about types with methods of their own, maps, interfaces, rare
// tags, and everything that fails. A test holds the two against each other.

// A writing is one value on its way into a text.
type writing struct {
	options json.Options
	depth   int
	gaveUp  bool
}

// An encoder appends a value, which is addressable.
type encoder func(e *writing, b []byte, v reflect.Value) []byte

// Encoders are those of the types of one API. They are made while it is built, by one goroutine.
type Encoders struct{ of map[reflect.Type]*encoder }

// deepest is the depth from which the package takes over: it finds values that hold themselves.
const deepest = 64

// Encoder gives the function for a type.
func (es *Encoders) encoder(t reflect.Type) encoder {
	if made := es.of[t]; made != nil {
		if *made != nil {
			return *made
		}
		return func(e *writing, b []byte, v reflect.Value) []byte { return (*made)(e, b, v) } // t holds itself
	}
	if es.of == nil {
		es.of = map[reflect.Type]*encoder{}
	}
	made := new(encoder)
	es.of[t] = made
	*made = es.compile(t)
	return *made
}

// A sheet is a buffer for what is sent, with what is known of the value that is being written.
type sheet struct {
	bytes.Buffer
	writing
}

// encode appends a value, given by a pointer.
func (s *sheet) encode(by encoder, value any, options json.Options) error {
	s.writing = writing{options: options}
	text := by(&s.writing, s.AvailableBuffer(), reflect.ValueOf(value).Elem())
	if !s.gaveUp {
		s.Write(text)
		return nil
	}
	return json.MarshalWrite(&s.Buffer, value, options)
}

var (
	timeType     = reflect.TypeFor[time.Time]()
	durationType = reflect.TypeFor[time.Duration]()
	speaking     = []reflect.Type{reflect.TypeFor[json.MarshalerTo](), reflect.TypeFor[json.Marshaler](),
		reflect.TypeFor[encoding.TextAppender](), reflect.TypeFor[encoding.TextMarshaler]()}
	zeroer = reflect.TypeFor[interface{ IsZero() bool }]()
)

// speaks reports whether a type writes itself.
func speaks(t reflect.Type) bool {
	return slices.ContainsFunc(
		speaking, func(i reflect.Type) bool { return reflect.PointerTo(t).Implements(i) || t.Implements(i) },
	)
}

func (es *Encoders) compile(t reflect.Type) encoder {
	switch {
	case t == timeType:
		return encodeTime
	case t == durationType || speaks(t):
		return byPackage
	}
	switch t.Kind() {
	case reflect.Bool:
		return func(_ *writing, b []byte, v reflect.Value) []byte { return strconv.AppendBool(b, v.Bool()) }
	case reflect.String:
		return func(e *writing, b []byte, v reflect.Value) []byte { return e.text(b, v.String()) }
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return func(_ *writing, b []byte, v reflect.Value) []byte { return strconv.AppendInt(b, v.Int(), 10) }
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr:
		return func(_ *writing, b []byte, v reflect.Value) []byte { return strconv.AppendUint(b, v.Uint(), 10) }
	case reflect.Float32, reflect.Float64:
		bits := t.Bits()
		return func(e *writing, b []byte, v reflect.Value) []byte { return e.float(b, v.Float(), bits) }
	case reflect.Pointer:
		return encodePointer(es.encoder(t.Elem()))
	case reflect.Slice:
		if k := t.Elem().Kind(); k == reflect.Uint8 {
			return byPackage
		}
		return encodeSlice(es.encoder(t.Elem()))
	case reflect.Struct:
		return es.structure(t)
	}
	return byPackage
}

// byPackage leaves a value to the package.
func byPackage(e *writing, b []byte, v reflect.Value) []byte {
	text, err := json.Marshal(v.Addr().Interface(), e.options)
	if err != nil {
		e.gaveUp = true
		return b
	}
	return append(b, text...)
}

func encodePointer(elem encoder) encoder {
	return func(e *writing, b []byte, v reflect.Value) []byte {
		if v.IsNil() {
			return append(b, "null"...)
		}
		if e.depth++; e.depth > deepest {
			e.gaveUp = true
			return b
		}
		b = elem(e, b, v.Elem())
		e.depth--
		return b
	}
}

func encodeSlice(elem encoder) encoder {
	return func(e *writing, b []byte, v reflect.Value) []byte {
		if e.depth++; e.depth > deepest {
			e.gaveUp = true
			return b
		}
		b = append(b, '[')
		for i := range v.Len() {
			if i > 0 {
				b = append(b, ',')
			}
			if b = elem(e, b, v.Index(i)); e.gaveUp {
				return b
			}
		}
		e.depth--
		return append(b, ']')
	}
}

// A member is a field of a struct.
type member struct {
	name  string // with quotes and the colon
	index int
	write encoder
	omits func(reflect.Value) bool // nil: never
}

// structure writes the members of a struct. One with embedded fields or rare tags is left to the
// package.
func (es *Encoders) structure(t reflect.Type) encoder {
	var all []member
	names := map[string]bool{}
	for i := range t.NumField() {
		f := t.Field(i)
		says := members.Read(f)
		if says.Ignored && (says.Named || f.IsExported()) && f.Tag.Get("json") != "-" {
			return byPackage // which reports mistakes in it
		}
		if says.Ignored {
			continue
		}
		m, name := member{index: i}, says.Name
		switch k := f.Type.Kind(); {
		case says.Quoted, says.Malformed, says.Unknown != nil, says.OmitZero && says.OmitEmpty:
			return byPackage
		case says.OmitZero && f.Type == timeType:
			m.omits = func(v reflect.Value) bool { return v.Addr().Interface().(*time.Time).IsZero() }
		case says.OmitZero && !f.Type.Implements(zeroer) && !reflect.PointerTo(f.Type).Implements(zeroer):
			m.omits = reflect.Value.IsZero
		case says.OmitEmpty && !speaks(f.Type) && (k == reflect.String || k == reflect.Slice):
			m.omits = func(v reflect.Value) bool { return v.Len() == 0 }
		case says.OmitZero, says.OmitEmpty:
			return byPackage
		}
		if f.Anonymous || says.Embedded || strings.ContainsAny(name, `'"\`) || names[name] || !utf8.ValidString(name) {
			return byPackage
		}
		names[name] = true
		quoted, err := jsontext.AppendQuote(nil, name)
		if err != nil {
			return byPackage
		}
		m.name, m.write = string(quoted)+":", es.encoder(f.Type)
		all = append(all, m)
	}
	return func(e *writing, b []byte, v reflect.Value) []byte { return e.members(b, v, all) }
}

func (e *writing) members(b []byte, v reflect.Value, members []member) []byte {
	if e.depth++; e.depth > deepest {
		e.gaveUp = true
		return b
	}
	b = append(b, '{')
	separator := false
	for i := range members {
		m := &members[i]
		field := v.Field(m.index)
		if m.omits != nil && m.omits(field) {
			continue
		}
		if separator {
			b = append(b, ',')
		}
		separator = true
		if b = m.write(e, append(b, m.name...), field); e.gaveUp {
			return b
		}
	}
	e.depth--
	return append(b, '}')
}

// text writes a string. What is not plain ASCII takes the package's way, which refuses invalid
// UTF-8.
func (e *writing) text(b []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c == '"' || c == '\\' || c >= utf8.RuneSelf {
			quoted, err := jsontext.AppendQuote(b, s)
			e.gaveUp = e.gaveUp || err != nil
			return quoted
		}
	}
	b = append(b, '"')
	b = append(b, s...)
	return append(b, '"')
}

// float writes a number as ECMA-262 has it (Number::toString), as RFC 8785, 3.2.2.3 wants.
func (e *writing) float(b []byte, f float64, bits int) []byte {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		e.gaveUp = true
		return b
	}
	abs, form := math.Abs(f), byte('f')
	if abs != 0 &&
		(bits == 64 && (abs < 1e-6 || abs >= 1e21) || bits == 32 && (float32(abs) < 1e-6 || float32(abs) >= 1e21)) {
		form = 'e'
	}
	b = strconv.AppendFloat(b, f, form, -1, bits)
	if n := len(b); form == 'e' && n >= 4 && b[n-4] == 'e' && b[n-3] == '-' && b[n-2] == '0' {
		b[n-2] = b[n-1] // e-09 is e-9
		b = b[:n-1]
	}
	return b
}

// encodeTime writes a moment in RFC 3339; what that cannot say is left to the package.
func encodeTime(e *writing, b []byte, v reflect.Value) []byte {
	t := v.Addr().Interface().(*time.Time)
	if _, offset := t.Zone(); t.Year() < 0 || t.Year() > 9999 || offset <= -24*3600 || offset >= 24*3600 {
		e.gaveUp = true
		return b
	}
	b = t.AppendFormat(append(b, '"'), time.RFC3339Nano)
	return append(b, '"')
}
