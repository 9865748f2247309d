package sets

import (
	"bytes"
	"iter"
	"maps"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A Value is a JSON value: nil, bool, string, *Number, []Value or map[string]Value.
type Value any

// A Number is exact, as it is written.
type Number struct {
	text string
	rat  *big.Rat // nil where the exponent is too large to compute with
}

// mostExponent bounds the exponents that are computed with.
const mostExponent = 1000

func numberOf(text jsontext.Value) *Number {
	n := &Number{text: string(text)}
	if text.Kind() != jsontext.KindNumber || len(text) > mostExponent {
		return n
	}
	if _, exponent, has := strings.Cut(strings.ToLower(n.text), "e"); has {
		if e, err := strconv.Atoi(exponent); err != nil || e > mostExponent || e < -mostExponent {
			return n
		}
	}
	n.rat, _ = new(big.Rat).SetString(n.text)
	return n
}

func numberFrom(r *big.Rat) *Number {
	digits, exact := r.FloatPrec()
	if !exact {
		digits = 20
		r, _ = new(big.Rat).SetString(r.FloatString(digits))
	}
	return &Number{r.FloatString(digits), r}
}

// ValueOf reads a value.
func ValueOf(text jsontext.Value) (Value, bool) {
	switch text.Kind() {
	case jsontext.KindNull:
		return nil, true
	case jsontext.KindTrue, jsontext.KindFalse:
		return text.Kind() == jsontext.KindTrue, true
	case jsontext.KindString:
		return textOf(text), true
	case jsontext.KindNumber:
		return numberOf(bytes.TrimSpace(text)), true
	case jsontext.KindBeginArray:
		var texts []jsontext.Value
		if json.Unmarshal(text, &texts) != nil {
			return nil, false
		}
		all := make([]Value, len(texts))
		for i, one := range texts {
			all[i], _ = ValueOf(one)
		}
		return all, true
	case jsontext.KindBeginObject:
		var texts map[string]jsontext.Value
		if json.Unmarshal(text, &texts) != nil {
			return nil, false
		}
		all := make(map[string]Value, len(texts))
		for name, one := range texts {
			all[name], _ = ValueOf(one)
		}
		return all, true
	}
	return nil, false
}

// Text writes a value, with the members of objects sorted.
func Text(v Value) jsontext.Value {
	return appendValue(nil, v)
}

func appendValue(b []byte, v Value) []byte {
	switch v := v.(type) {
	case bool:
		return strconv.AppendBool(b, v)
	case string:
		b, _ = jsontext.AppendQuote(b, v)
		return b
	case *Number:
		return append(b, v.text...)
	case []Value:
		b = append(b, '[')
		for i, one := range v {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendValue(b, one)
		}
		return append(b, ']')
	case map[string]Value:
		b = append(b, '{')
		for i, name := range sortedNames(v) {
			if i > 0 {
				b = append(b, ',')
			}
			b, _ = jsontext.AppendQuote(b, name)
			b = appendValue(append(b, ':'), v[name])
		}
		return append(b, '}')
	}
	return append(b, "null"...)
}

func sortedNames[T any](m map[string]T) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func kindOf(v Value) kinds {
	switch v := v.(type) {
	case bool:
		return boolean
	case string:
		return text
	case *Number:
		if v.rat == nil {
			return number
		}
		if v.rat.IsInt() {
			return integer
		}
		return fraction
	case []Value:
		return array
	case map[string]Value:
		return object
	}
	return null
}

// equal compares as JSON Schema does: 1.0 is 1 (draft 2020-12 core, 4.2.2).
func equal(a, b Value) bool {
	switch a := a.(type) {
	case *Number:
		b, is := b.(*Number)
		if is && a.rat != nil && b.rat != nil {
			return a.rat.Cmp(b.rat) == 0
		}
		return is && a.text == b.text
	case []Value:
		b, is := b.([]Value)
		return is && slices.EqualFunc(a, b, equal)
	case map[string]Value:
		b, is := b.(map[string]Value)
		if !is || len(a) != len(b) {
			return false
		}
		for name, one := range a {
			if other, has := b[name]; !has || !equal(one, other) {
				return false
			}
		}
		return true
	case nil:
		return b == nil
	}
	switch b.(type) {
	case []Value, map[string]Value:
		return false
	}
	return a == b
}

func hasValue(all []Value, v Value) bool {
	return slices.ContainsFunc(all, func(other Value) bool { return equal(v, other) })
}

// manyValues is from how many on values are looked up instead of compared one by one.
const manyValues = 32

// among gives a function that reports whether a value is one of a list.
func among(all []Value) func(Value) bool {
	if len(all) < manyValues {
		return func(v Value) bool { return hasValue(all, v) }
	}
	known := make(map[string]bool, len(all))
	for _, v := range all {
		known[keyOf(v)] = true
	}
	return func(v Value) bool { return known[keyOf(v)] }
}

// keyOf is a text that is the same for values that are equal, and for no others.
func keyOf(v Value) string { return string(appendKey(nil, v)) }

func appendKey(b []byte, v Value) []byte {
	switch v := v.(type) {
	case *Number:
		if v.rat != nil {
			return append(append(b, '='), v.rat.RatString()...)
		}
		return append(append(b, '~'), v.text...)
	case []Value:
		b = append(b, '[')
		for _, one := range v {
			b = append(appendKey(b, one), ',')
		}
		return append(b, ']')
	case map[string]Value:
		b = append(b, '{')
		for _, name := range slices.Sorted(maps.Keys(v)) {
			b = append(appendKey(append(strconv.AppendQuote(b, name), ':'), v[name]), ',')
		}
		return append(b, '}')
	case string:
		return strconv.AppendQuote(b, v)
	}
	return appendValue(b, v)
}

// membersOf gives the members of an object in their order; none of another value.
func membersOf(text jsontext.Value) iter.Seq2[string, jsontext.Value] {
	return func(yield func(string, jsontext.Value) bool) {
		d := jsontext.NewDecoder(bytes.NewReader(text))
		if token, err := d.ReadToken(); err != nil || token.Kind() != '{' {
			return
		}
		for d.PeekKind() == '"' {
			token, err := d.ReadToken()
			if err != nil {
				return
			}
			name := token.String()
			value, err := d.ReadValue()
			if err != nil || !yield(name, value.Clone()) {
				return
			}
		}
	}
}
