package secret

import (
	"cmp"
	"context"
	"encoding"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// An Input is what a route has read, of a type that can hold secrets. It is kept for the request.
type Input struct{ Value any }

// Values are those that a request had under the names of secrets. They are gathered when the first text is
// blanked. A nil *Values has none. They are safe for concurrent use.
type Values struct {
	input  any
	of     *http.Request
	others []string

	once  sync.Once
	long  []string // in the forms that texts have them in, the longest first
	short []string // found only where they are words of their own
}

// shortest is the length in bytes from which on a value is found inside words as well: less would blank
// half of a text that has nothing to do with it.
const shortest = 4

// These are what the context of a request gives its *Values for: always, where its path can have some, and
// where what failed can.
type (
	Key        struct{}
	PathKey    struct{}
	FailureKey struct{}
)

// In are the values of the request that a context is of; nil outside of one.
func In(ctx context.Context) *Values {
	v, _ := ctx.Value(Key{}).(*Values)
	return v
}

// InPath() are the same where the path of the request can have some; else nil.
func InPath(ctx context.Context) *Values {
	v, _ := ctx.Value(PathKey{}).(*Values)
	return v
}

// InFailure are the same where what failed can have some; else nil.
func InFailure(ctx context.Context) *Values {
	v, _ := ctx.Value(FailureKey{}).(*Values)
	return v
}

// Of are the values of an input, which may be nil, those of the request's header fields and query, if it is
// not nil, and others.
func Of(input any, r *http.Request, others ...string) *Values {
	return &Values{input: input, of: r, others: others}
}

// mostWalked bounds the walk through an input, which may be large or contain itself.
const mostWalked = 1000

type gathered struct {
	*Values
	left int // values to walk through
}

// add adds a value in the forms that texts have it in.
func (g *gathered) add(text string) {
	switch {
	case text == "":
	case len(text) < shortest:
		g.short = append(g.short, text)
	case isPlain(text):
		g.long = append(g.long, text)
	default:
		quoted := strconv.Quote(text)
		for _, form := range []string{text, quoted[1 : len(quoted)-1], url.QueryEscape(text), url.PathEscape(text)} {
			if !slices.Contains(g.long, form) {
				g.long = append(g.long, form)
			}
		}
	}
}

// value adds what is secret in a value, or all of it.
func (g *gathered) value(v reflect.Value, all bool) {
	if g.left--; g.left < 0 || !v.IsValid() {
		return
	}
	if v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		g.value(v.Elem(), all)
		return
	}
	if all {
		g.written(v)
	}
	switch v.Kind() {
	case reflect.Struct:
		for sf, field := range v.Fields() {
			if sf.IsExported() || sf.Anonymous {
				g.value(field, all || Known.HasField(sf))
			}
		}
	case reflect.Map:
		for i := v.MapRange(); i.Next(); {
			g.value(i.Value(), all || Known.Has(fmt.Sprint(i.Key())))
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		for i := range v.Len() {
			g.value(v.Index(i), all)
		}
	}
}

// written adds a value as it may be written.
func (g *gathered) written(v reflect.Value) {
	switch {
	case v.Kind() == reflect.String:
		g.add(v.String())
	case v.CanInt():
		g.add(strconv.FormatInt(v.Int(), 10))
	case v.CanUint():
		g.add(strconv.FormatUint(v.Uint(), 10))
	case v.CanFloat():
		g.add(strconv.FormatFloat(v.Float(), 'g', -1, 64))
		g.add(strconv.FormatFloat(v.Float(), 'f', -1, 64))
	case v.Kind() == reflect.Slice && v.Type().Elem().Kind() == reflect.Uint8:
		g.add(string(v.Bytes()))
		g.add(base64.StdEncoding.EncodeToString(v.Bytes()))
	}
	if !v.CanInterface() {
		return
	}
	text, ok := v.Interface().(encoding.TextMarshaler)
	if !ok && v.CanAddr() {
		text, ok = v.Addr().Interface().(encoding.TextMarshaler)
	}
	if ok {
		if written, err := text.MarshalText(); err == nil {
			g.add(string(written))
		}
		g.add(fmt.Sprint(v.Interface()))
	}
}

// request adds the header fields and query parameters with the names of secrets: of credentials what is
// behind the scheme (RFC 9110, 11.4), of Basic what they are made of (RFC 7617, 2), of cookies the values.
func (g *gathered) request(r *http.Request) {
	for name, values := range r.Header {
		if !Known.Has(name) {
			continue
		}
		for _, value := range values {
			if name == "Cookie" {
				continue // below
			}
			if _, credentials, ok := strings.Cut(value, " "); ok && strings.HasSuffix(name, "uthorization") {
				value = strings.TrimSpace(credentials)
			}
			g.add(value)
		}
	}
	if r.Header["Authorization"] != nil {
		if _, password, ok := r.BasicAuth(); ok {
			g.add(password)
		}
	}
	if r.Header["Cookie"] != nil {
		for _, c := range r.Cookies() {
			g.add(c.Value)
		}
	}
	for rest := r.URL.RawQuery; rest != ""; {
		var pair string
		pair, rest, _ = strings.Cut(rest, "&")
		name, value, _ := strings.Cut(pair, "=")
		if name, err := url.QueryUnescape(name); err == nil && Known.Has(name) {
			if plain, err := url.QueryUnescape(value); err == nil {
				value = plain
			}
			g.add(value)
		}
	}
}

// gather finds the values.
func (v *Values) gather() {
	g := gathered{v, mostWalked}
	for _, text := range v.others {
		g.add(text)
	}
	g.value(reflect.ValueOf(v.input), false)
	if v.of != nil {
		g.request(v.of)
	}
	if len(v.long) > 1 { // at one place the first that fits counts
		slices.SortFunc(v.long, func(a, b string) int { return cmp.Compare(len(b), len(a)) })
	}
}

// plain are the bytes of texts that are the same however they are quoted or escaped.
var plain = func() (is [256]bool) {
	for _, c := range "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_." {
		is[c] = true
	}
	return is
}()

func isPlain(text string) bool {
	for i := range len(text) {
		if !plain[text[i]] {
			return false
		}
	}
	return true
}

// Blank replaces the values in a text.
func (v *Values) Blank(text string) string {
	if v == nil || text == "" {
		return text
	}
	if v.input == nil && v.others == nil && !mayHold(text, v.of) {
		return text
	}
	v.once.Do(v.gather)
	if slices.ContainsFunc(v.long, func(value string) bool { return strings.Contains(text, value) }) {
		pairs := make([]string, 0, 2*len(v.long))
		for _, value := range v.long {
			pairs = append(pairs, value, Blank)
		}
		text = strings.NewReplacer(pairs...).Replace(text)
	}
	for _, value := range v.short {
		if strings.Contains(text, value) {
			text = blankWord(text, value)
		}
	}
	return text
}

// mayHold reports whether a text can have a secret of a request in it. It costs less than to gather them, and
// mostly there are none.
func mayHold(text string, r *http.Request) bool {
	if r == nil {
		return false
	}
	for name, values := range r.Header {
		if isUsual(name) {
			continue
		}
		for _, value := range values {
			switch name {
			case "Cookie":
				return true
			case "Authorization":
				scheme, credentials, _ := strings.Cut(value, " ")
				if strings.EqualFold(scheme, "Basic") || hasTrace(text, credentials) {
					return true
				}
			default:
				if hasTrace(text, value) && Known.Has(name) {
					return true
				}
			}
		}
	}
	for rest := r.URL.RawQuery; rest != ""; {
		var pair string
		pair, rest, _ = strings.Cut(rest, "&")
		name, value, _ := strings.Cut(pair, "=")
		if hasTrace(text, value) {
			if name, err := url.QueryUnescape(name); err == nil && Known.Has(name) {
				return true
			}
		}
	}
	return false
}

// hasTrace reports whether a text has a part of a value that is the same however it is quoted or escaped.
func hasTrace(text, value string) bool {
	from := 0
	for i := range len(value) {
		if !plain[value[i]] {
			from = i + 1
		} else if i-from == 7 {
			return strings.Contains(text, value[from:i+1])
		}
	}
	return value != "" // too short to tell
}

// blankWord replaces a value where it is a word of its own.
func blankWord(text, value string) string {
	var b strings.Builder
	from := 0
	for at := 0; ; {
		i := strings.Index(text[at:], value)
		if i < 0 {
			break
		}
		at += i
		before, _ := utf8.DecodeLastRuneInString(text[:at])
		after, _ := utf8.DecodeRuneInString(text[at+len(value):])
		if isWord(before) || isWord(after) {
			at++
			continue
		}
		b.WriteString(text[from:at])
		b.WriteString(Blank)
		at += len(value)
		from = at
	}
	b.WriteString(text[from:])
	return b.String()
}

func isWord(c rune) bool { return unicode.IsLetter(c) || unicode.IsDigit(c) }
