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
	"unicode"
	"unicode/utf8"
)

// An Input is what a route has read, of a type that can hold secrets. It is kept for the request.
type Input struct{ Value any }

// Values are those that a request had under the names of secrets. A nil *Values has none. They are
// immutable.
type Values struct {
	long  *strings.Replacer
	short []string // found only where they are words of their own
}

// shortest is the length in bytes from which on a value is found inside words as well: less would blank
// half of a text that has nothing to do with it.
const shortest = 4

// Key is what the context of a request gives its *Values for.
type Key struct{}

// In are the values of the request that a context is of; nil outside of one.
func In(ctx context.Context) *Values {
	v, _ := ctx.Value(Key{}).(*Values)
	return v
}

// Of gathers the values of an input, which may be nil, those of the request's header fields and query, if it
// is not nil, and others. It gives nil where there are none.
func Of(input any, r *http.Request, others ...string) *Values {
	g := gathered{left: mostWalked, found: map[string]bool{}}
	for _, text := range others {
		g.add(text)
	}
	g.value(reflect.ValueOf(input), false)
	if r != nil {
		g.request(r)
	}
	if len(g.found) == 0 {
		return nil
	}
	return g.values()
}

// mostWalked bounds the walk through an input, which may be large or contain itself.
const mostWalked = 10_000

type gathered struct {
	left  int // values to walk through
	found map[string]bool
}

func (g *gathered) add(text string) {
	if text != "" {
		g.found[text] = true
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
			g.add(value)
			if _, credentials, ok := strings.Cut(value, " "); ok {
				g.add(strings.TrimSpace(credentials))
			}
		}
	}
	if _, password, ok := r.BasicAuth(); ok {
		g.add(password)
	}
	for _, c := range r.Cookies() {
		g.add(c.Value)
	}
	if strings.Contains(r.URL.RawQuery, "=") {
		for name, values := range r.URL.Query() {
			if Known.Has(name) {
				for _, value := range values {
					g.add(value)
				}
			}
		}
	}
}

// values makes what finds each value in the forms that texts have it in.
func (g *gathered) values() *Values {
	v := &Values{}
	long := map[string]bool{}
	for text := range g.found {
		if len(text) < shortest {
			v.short = append(v.short, text)
			continue
		}
		quoted := strconv.Quote(text)
		for _, form := range []string{text, quoted[1 : len(quoted)-1], url.QueryEscape(text), url.PathEscape(text)} {
			long[form] = true
		}
	}
	// At one place the first that fits counts, so the longest come first.
	var forms []string
	for form := range long {
		forms = append(forms, form)
	}
	slices.SortFunc(forms, func(a, b string) int { return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b)) })
	pairs := make([]string, 0, 2*len(forms))
	for _, form := range forms {
		pairs = append(pairs, form, Blank)
	}
	v.long = strings.NewReplacer(pairs...)
	return v
}

// Blank replaces the values in a text.
func (v *Values) Blank(text string) string {
	if v == nil {
		return text
	}
	text = v.long.Replace(text)
	for _, value := range v.short {
		text = blankWord(text, value)
	}
	return text
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
