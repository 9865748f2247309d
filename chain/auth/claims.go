package auth

import (
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"reflect"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A Token has the registered claims of a verified token. Guards put it into
// wicketway.Identity.Proof.
type Token struct {
	ID      string // jti
	Subject string
	Issuer  string
	Scopes  string // separated by spaces (RFC 8693, 4.2)
	Issued  time.Time
	Expires time.Time
}

// longestToken bounds a token, in bytes.
const longestToken = 16 << 10

// A joseHeader is the first part of a token (RFC 7515, 4.1). The names of members are compared as
// they are, and none may be given twice.
type joseHeader struct {
	Algorithm string         `json:"alg"`
	Key       string         `json:"kid"`
	Type      string         `json:"typ"`
	Critical  jsontext.Value `json:"crit"`
}

// A payload is the second part (RFC 7519, 4.1).
type payload struct {
	Issuer    string   `json:"iss"`
	Subject   string   `json:"sub"`
	Audience  texts    `json:"aud"`
	Expires   *float64 `json:"exp"`
	NotBefore *float64 `json:"nbf"`
	Issued    *float64 `json:"iat"`
	ID        string   `json:"jti"`
	Scope     texts    `json:"scope"`
}

// texts are one text, or a list of them.
type texts []string

func (t *texts) UnmarshalJSONFrom(from *jsontext.Decoder) error {
	if from.PeekKind() == '"' {
		token, err := from.ReadToken()
		*t = texts{token.String()}
		return err
	}
	var list []string
	err := json.UnmarshalDecode(from, &list)
	*t = list
	return err
}

var (
	errBreaks   = errors.New("it has line breaks")
	errParts    = errors.New("expected three parts separated by dots (RFC 7515, 3.1)")
	errTooLong  = fmt.Errorf("it has more than %d bytes", longestToken)
	errCritical = errors.New("its header has crit, and none of its extensions are known (RFC 7515, 4.1.11)")
)

// A parsed token has not been verified yet.
type parsedToken struct {
	header    joseHeader
	signed    string // what the signature is for
	signature []byte
	payload   string // in base64url
}

// parseToken takes a token apart (RFC 7515, 5.2).
func parseToken(text string) (t parsedToken, err error) {
	if len(text) > longestToken {
		return t, errTooLong
	}
	if strings.ContainsAny(text, "\r\n") { // package base64 passes over them (RFC 7515, 2: no line breaks)
		return t, errBreaks
	}
	head, rest, ok := strings.Cut(text, ".")
	body, signature, more := strings.Cut(rest, ".")
	if !ok || !more || strings.Contains(signature, ".") {
		return t, errParts
	}
	raw, err := base64.RawURLEncoding.Strict().DecodeString(head)
	if err != nil {
		return t, fmt.Errorf("its header: %w", err)
	}
	if err := json.Unmarshal(raw, &t.header); err != nil {
		return t, fmt.Errorf("its header: %w", err)
	}
	if t.header.Critical != nil {
		return t, errCritical
	}
	if t.signature, err = base64.RawURLEncoding.Strict().DecodeString(signature); err != nil {
		return t, fmt.Errorf("its signature: %w", err)
	}
	t.signed, t.payload = text[:len(head)+1+len(body)], body
	return t, nil
}

// decoded gives what a verified token says.
func (t *parsedToken) decoded() (raw []byte, p payload, err error) {
	if raw, err = base64.RawURLEncoding.Strict().DecodeString(t.payload); err == nil {
		err = json.Unmarshal(raw, &p)
	}
	if err != nil {
		err = fmt.Errorf("its claims: %w", err)
	}
	return raw, p, err
}

// lastDate is the last second of the year 9999: no date of a token is taken for more.
const lastDate = 253402300799

// date reads a NumericDate (RFC 7519, 2).
func date(seconds *float64) (time.Time, error) {
	if seconds == nil {
		return time.Time{}, nil
	}
	if math.IsNaN(*seconds) || *seconds < 0 || *seconds > lastDate {
		return time.Time{}, fmt.Errorf("%v is not a date", *seconds)
	}
	whole, part := math.Modf(*seconds)
	return time.Unix(int64(whole), int64(part*1e9)), nil
}

// Claims decode the claims of tokens into a type of the user's: [ClaimsAs] makes them.
type Claims struct {
	decode func(raw []byte) (any, error)
	// shared says that many requests can have the same value: nothing in it can be changed.
	shared bool
}

// ClaimsAs decodes the claims of tokens into a T.
func ClaimsAs[T any]() Claims {
	return Claims{
		decode: func(raw []byte) (any, error) {
			var claims T
			if err := json.Unmarshal(raw, &claims); err != nil {
				return nil, fmt.Errorf("its claims: %w", err)
			}
			return claims, nil
		},
		shared: unchangeable(reflect.TypeFor[T]()),
	}
}

// unchangeable reports whether a copy of a value shares nothing with it that can be changed.
func unchangeable(t reflect.Type) bool {
	if t == reflect.TypeFor[time.Time]() {
		return true
	}
	switch t.Kind() {
	case reflect.Struct:
		for i := range t.NumField() {
			if !unchangeable(t.Field(i).Type) {
				return false
			}
		}
		return true
	case reflect.Array:
		return unchangeable(t.Elem())
	case reflect.Pointer, reflect.Map, reflect.Slice, reflect.Interface, reflect.Func, reflect.Chan, reflect.UnsafePointer:
		return false
	}
	return true
}

// missing is the first of some claims that a token lacks; "" where it has all.
func missing(raw []byte, required []string) string {
	if len(required) == 0 {
		return ""
	}
	var all map[string]jsontext.Value
	json.Unmarshal(raw, &all) // it was read before
	for _, name := range required {
		if v, there := all[name]; !there || v.Kind() == 'n' {
			return name
		}
	}
	return ""
}
