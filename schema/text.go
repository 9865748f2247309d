package schema

import (
	"encoding"
	"encoding/base64"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// name is the type as JSON Schema names it.
func (t *Type) name() string {
	switch t = t.base(); t.shape {
	case boolean:
		return "boolean"
	case integer:
		return "integer"
	case number:
		return "number"
	case text, moment, encoded, bytes:
		return "string"
	case list:
		return "array"
	case mapping, object:
		return "object"
	}
	return ""
}

// expects says in a sentence what a value must be to be read at all.
func (t *Type) expects() string {
	switch t = t.base(); t.shape {
	case boolean:
		return "must be true or false"
	case integer:
		if low, high, narrow := t.span(); narrow {
			return fmt.Sprintf("must be a whole number from %d to %d", low, high)
		}
		return "must be a whole number"
	case number:
		return "must be a number"
	case text:
		return "must be text"
	case moment:
		return "must be a date and time such as 2026-05-04T09:30:00Z (RFC 3339)"
	case bytes:
		return "must be text in base64"
	case list:
		return "must be a list"
	case mapping, object:
		return "must be an object"
	}
	name, _, _ := strings.Cut(t.goType.Name(), "[")
	return "is not a valid " + strings.ToLower(name)
}

// span gives the limits of the small integer types, where they are worth telling.
func (t *Type) span() (low int64, high uint64, narrow bool) {
	bits := t.goType.Bits()
	if reflect.Zero(t.goType).CanUint() {
		return 0, math.MaxUint64 >> (64 - bits), true
	}
	return math.MinInt64 >> (64 - bits), math.MaxInt64 >> (64 - bits), bits < 64
}

// parseText reads a text, as a parameter or a tag holds it, into v of the type
// that t was compiled from. It returns "" or what the text must be.
func (t *Type) parseText(s string, v reflect.Value) string {
	switch t.shape {
	case text:
		if !utf8.ValidString(s) {
			return "must be text in UTF-8"
		}
		v.SetString(s)
		return ""
	case integer:
		if v.CanUint() {
			if n, err := strconv.ParseUint(s, 10, t.goType.Bits()); err == nil {
				v.SetUint(n)
				return ""
			}
		} else if n, err := strconv.ParseInt(s, 10, t.goType.Bits()); err == nil && s[0] != '+' {
			v.SetInt(n)
			return ""
		}
	case number:
		// ParseFloat knows more than JSON does: hexadecimal, Inf, NaN and _.
		if n, err := strconv.ParseFloat(s, t.goType.Bits()); err == nil && strings.Trim(s, "0123456789.eE+-") == "" {
			v.SetFloat(n)
			return ""
		}
	case boolean:
		if s == "true" || s == "false" {
			v.SetBool(s == "true")
			return ""
		}
	case moment:
		if at, err := time.Parse(time.RFC3339, s); err == nil {
			v.Set(reflect.ValueOf(at))
			return ""
		}
	case bytes:
		if b, err := base64.StdEncoding.DecodeString(s); err == nil && v.Kind() == reflect.Slice {
			v.SetBytes(b)
			return ""
		}
	case encoded:
		if u, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok && u.UnmarshalText([]byte(s)) == nil {
			return ""
		}
	case either:
		if detail := t.elem.parseText(s, v.Field(0)); detail != "" {
			return detail
		}
		v.Field(1).SetUint(uint64(Given))
		return ""
	case pointer:
		inner := reflect.New(t.elem.goType)
		if detail := t.elem.parseText(s, inner.Elem()); detail != "" {
			return detail
		}
		v.Set(inner)
		return ""
	}
	return t.expects()
}

// texts writes a value as a text; none for a nil pointer.
func (t *Type) texts(v reflect.Value) ([]string, error) {
	switch t.shape {
	case pointer, either:
		inner, there := t.reach(v)
		if !there {
			return nil, nil
		}
		return t.base().texts(inner)
	case moment:
		return []string{v.Interface().(time.Time).Format(time.RFC3339Nano)}, nil
	case bytes:
		return []string{base64.StdEncoding.EncodeToString(v.Bytes())}, nil
	case encoded:
		m, ok := v.Interface().(encoding.TextMarshaler)
		if !ok && v.CanAddr() {
			m, ok = v.Addr().Interface().(encoding.TextMarshaler)
		}
		if !ok {
			return nil, fmt.Errorf("the type %s can be read from a text but not written as one: add MarshalText", t.goType)
		}
		b, err := m.MarshalText()
		return []string{string(b)}, err
	}
	switch {
	case v.CanInt():
		return []string{strconv.FormatInt(v.Int(), 10)}, nil
	case v.CanUint():
		return []string{strconv.FormatUint(v.Uint(), 10)}, nil
	case v.CanFloat():
		return []string{strconv.FormatFloat(v.Float(), 'g', -1, t.goType.Bits())}, nil
	case t.shape == boolean:
		return []string{strconv.FormatBool(v.Bool())}, nil
	}
	return []string{v.String()}, nil
}
