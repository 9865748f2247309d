package check

import (
	stdbytes "bytes"
	"encoding"
	"encoding/base64"
	"fmt"
	"math"
	"math/big"
	"reflect"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/schema"
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
	case mapping, object, oneOf:
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
		if low, high := t.span(); t.goType.Bits() < 64 || low == 0 {
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
		if t.goType.Kind() == reflect.Array {
			return fmt.Sprintf("must be %d bytes as text in base64", t.goType.Len())
		}
		return "must be text in base64"
	case list:
		return "must be a list"
	case mapping, object, oneOf:
		return "must be an object"
	}
	name, _, _ := strings.Cut(t.goType.Name(), "[")
	return "is not a valid " + strings.ToLower(name)
}

// refusal says why a JSON value cannot be read, in a text type's own words where it
// has some.
func (t *Type) refusal(raw jsontext.Value) string {
	if n, whole := wholeNumber(string(raw)); t.shape == integer && raw.Kind() == jsontext.KindNumber && whole && n != nil {
		return t.outOfRange()
	}
	if t.shape != encoded || raw.Kind() != jsontext.KindString {
		return t.expects()
	}
	s, _ := jsontext.AppendUnquote(nil, raw)
	return t.textRefusal(unmarshalText(reflect.New(t.goType).Elem(), string(s)))
}

// unreadRule is the rule that a text breaks which cannot be read: a text that should have another form is of the right
// type.
func (t *Type) unreadRule() string {
	switch t.base().shape {
	case moment, encoded, bytes:
		return "format"
	}
	return "type"
}

// outOfRange is said of a whole number that an integer type cannot hold.
func (t *Type) outOfRange() string {
	low, high := t.span()
	return fmt.Sprintf("must be a whole number from %d to %d", low, high)
}

func (t *Type) textRefusal(err error) string {
	if err == nil || err.Error() == "" {
		return t.expects()
	}
	return t.expects() + ": " + strings.ToValidUTF8(clip.Text(err.Error(), longestMessage), "\uFFFD")
}

func unmarshalText(v reflect.Value, s string) error {
	u, ok := v.Addr().Interface().(encoding.TextUnmarshaler)
	if !ok {
		return fmt.Errorf("the type %s has no UnmarshalText", v.Type())
	}
	return u.UnmarshalText([]byte(s))
}

// signed reports whether an integer type has a sign.
func (t *Type) signed() bool {
	k := t.goType.Kind()
	return reflect.Int <= k && k <= reflect.Int64
}

// span gives the limits of an integer type.
func (t *Type) span() (low int64, high uint64) {
	bits := t.goType.Bits()
	if reflect.Zero(t.goType).CanUint() {
		return 0, math.MaxUint64 >> (64 - bits)
	}
	return math.MinInt64 >> (64 - bits), math.MaxInt64 >> (64 - bits)
}

// readPlain reads the JSON values of the common types without the JSON package;
// false where it is not sure.
func (t *Type) readPlain(raw jsontext.Value, v reflect.Value) bool {
	switch kind := raw.Kind(); {
	case t.shape == integer && kind == jsontext.KindNumber:
		if n, ok := shortInteger(raw); ok && v.CanInt() {
			v.SetInt(n)
			return !v.OverflowInt(n)
		}
		return stdbytes.IndexAny(raw, ".eE") < 0 && setInteger(v, string(raw))
	case t.shape == number && kind == jsontext.KindNumber && len(raw) <= 64:
		n, err := strconv.ParseFloat(string(raw), t.goType.Bits())
		v.SetFloat(n)
		return err == nil
	case t.shape == boolean && (kind == jsontext.KindTrue || kind == jsontext.KindFalse):
		v.SetBool(kind == jsontext.KindTrue)
		return true
	case t.shape == moment && kind == jsontext.KindString:
		s, _ := jsontext.AppendUnquote(nil, raw)
		at, err := time.Parse(time.RFC3339, string(s))
		if err == nil && isMoment(string(s)) {
			v.Set(reflect.ValueOf(at))
			return true
		}
		return false
	case t.shape == text && kind == jsontext.KindString:
		s, err := jsontext.AppendUnquote(nil, raw)
		v.SetString(string(s))
		return err == nil
	}
	return false
}

// shortInteger reads a whole number of at most 18 digits.
func shortInteger(raw []byte) (n int64, ok bool) {
	digits := raw
	if len(raw) > 0 && raw[0] == '-' {
		digits = digits[1:]
	}
	if len(digits) > 18 {
		return 0, false
	}
	for _, c := range digits {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = 10*n + int64(c-'0')
	}
	if len(digits) < len(raw) {
		n = -n
	}
	return n, len(digits) > 0
}

// setInteger reads decimal digits.
func setInteger(v reflect.Value, s string) bool {
	bits := v.Type().Bits()
	if v.CanUint() {
		n, err := strconv.ParseUint(s, 10, bits)
		v.SetUint(n)
		return err == nil
	}
	n, err := strconv.ParseInt(s, 10, bits)
	v.SetInt(n)
	return err == nil && s[0] != '+'
}

// otherwise writes a value that the standards allow as the JSON package reads it; ""
// where there is nothing of the kind. A number such as 1.0 or 1e2 is an integer (JSON
// Schema validation, 6.1.1), and RFC 3339, 5.6 lets the T and the Z of a time be
// small and a minute have 61 seconds.
func (t *Type) otherwise(raw jsontext.Value) string {
	switch kind := raw.Kind(); {
	case t.shape == integer && kind == jsontext.KindNumber:
		if zero := trimZeros(string(raw)); zero != "" {
			return zero // 3.0 and the like
		}
		if n, ok := wholeNumber(string(raw)); ok {
			return n.String()
		}
	case t.shape == moment && kind == jsontext.KindString:
		s, _ := jsontext.AppendUnquote(nil, raw)
		if at, ok := parseMoment(string(s)); ok {
			if text, err := json.Marshal(at); err == nil {
				return string(text)
			}
		}
	}
	return ""
}

// trimZeros gives the digits of a number whose fraction is zeros; "" for other numbers.
func trimZeros(s string) string {
	if whole, fraction, ok := strings.Cut(s, "."); ok && strings.Trim(fraction, "0") == "" && whole != "-0" {
		return whole
	}
	return ""
}

// wholeNumber reads a JSON number that has no fraction, however it is written; false
// for one that no integer type could hold.
func wholeNumber(s string) (*big.Int, bool) {
	d, ok := parseDecimal(s)
	if !ok || d.exponent > 20 {
		return nil, false
	}
	return d.whole()
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
		if setInteger(v, s) {
			return ""
		}
		if digits := strings.TrimPrefix(s, "-"); digits != "" && strings.Trim(digits, "0123456789") == "" {
			return t.outOfRange()
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
		if at, ok := parseMoment(s); ok {
			v.Set(reflect.ValueOf(at))
			return ""
		}
	case bytes:
		if b, err := base64.StdEncoding.DecodeString(s); err == nil {
			if v.Kind() == reflect.Slice {
				v.SetBytes(b)
				return ""
			}
			if len(b) == v.Len() {
				reflect.Copy(v, reflect.ValueOf(b))
				return ""
			}
		}
	case encoded:
		if err := unmarshalText(v, s); err != nil {
			return t.textRefusal(err)
		}
		return ""
	case either:
		if detail := t.elem.parseText(s, v.Field(0)); detail != "" {
			return detail
		}
		v.Field(1).SetUint(uint64(schema.Given))
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
		held := reflect.New(v.Type()).Elem() // an array can only be sliced where it lies
		held.Set(v)
		return []string{base64.StdEncoding.EncodeToString(held.Bytes())}, nil
	case encoded:
		m, ok := v.Interface().(encoding.TextMarshaler)
		if !ok && v.CanAddr() {
			m, ok = v.Addr().Interface().(encoding.TextMarshaler)
		}
		if !ok {
			return nil, fmt.Errorf("the type %s can be read from a text but not written as one: add MarshalText",
				t.goType)
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
