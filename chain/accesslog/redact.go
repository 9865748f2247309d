package accesslog

import (
	"context"
	"encoding"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/url"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/members"
	"github.com/wicketway/wicketway/internal/secret"
)

// Blank replaces a secret in a log.
const Blank = secret.Blank

// Redact wraps a handler so that secrets do not reach it: values under the keys
// that are known to hold some (password, pin, token, secret, authorization,
// cookie, telephone, e-mail and the like, however they are written, and longer ones such as
// new_password) and under those given, at any depth: in groups, maps with any keys, lists and structs,
// fields that are embedded or not exported included. The fields of a struct count by their
// names in Go, in JSON and in from tags; those with rule:"writeOnly" are blanked too, and those that JSON
// leaves out are left out. In a URL the values of such parameters are blanked.
//
// In records with the context of a request, the values that its input, its header fields, its query and its
// path had under the known names are blanked in every text, quoted or escaped too; those of fewer than four
// bytes where they are words of their own. Other secrets inside a text are not found.
func Redact(h slog.Handler, more ...string) slog.Handler {
	return &redactor{Handler: h, names: secret.With(more...)}
}

// A redactor gives its handler records without secrets.
type redactor struct {
	slog.Handler
	names  secret.Names
	values *secret.Values // of the request that the record is about
	blank  bool           // the group that is open has a secret's name
}

// withValues blanks the values of a request in attributes, whatever their names.
func withValues(values *secret.Values, attrs []slog.Attr) {
	r := redactor{values: values}
	for i, a := range attrs {
		attrs[i] = r.attr(a)
	}
}

func (r *redactor) isForPeople() bool { return isForPeople(r.Handler) }

// parameter is one of the query of a URL (RFC 3986, 3.4).
var parameter = regexp.MustCompile(`([?&])([^=&#\s]+)=([^&#\s"]*)`)

// text blanks the values of the request, and the secret parameters of the URLs in a text.
func (r *redactor) text(s string) string {
	s = r.values.Blank(s)
	if !strings.Contains(s, "?") {
		return s
	}
	return parameter.ReplaceAllStringFunc(s, func(one string) string {
		parts := parameter.FindStringSubmatch(one)
		name, err := url.QueryUnescape(parts[2])
		if err != nil || !r.names.Has(name) {
			return one
		}
		return parts[1] + parts[2] + "=" + Blank
	})
}

func (r *redactor) Handle(ctx context.Context, record slog.Record) error {
	of := *r
	of.values = secret.In(ctx)
	return of.handleClean(ctx, record)
}

func (r *redactor) handleClean(ctx context.Context, record slog.Record) error {
	clean := slog.NewRecord(record.Time, record.Level, r.text(record.Message), record.PC)
	record.Attrs(func(a slog.Attr) bool {
		clean.AddAttrs(r.attr(a))
		return true
	})
	return r.Handler.Handle(ctx, clean)
}

func (r *redactor) WithAttrs(attrs []slog.Attr) slog.Handler {
	clean := make([]slog.Attr, len(attrs))
	for i, a := range attrs {
		clean[i] = r.attr(a)
	}
	return &redactor{Handler: r.Handler.WithAttrs(clean), names: r.names, blank: r.blank}
}

func (r *redactor) WithGroup(name string) slog.Handler {
	return &redactor{Handler: r.Handler.WithGroup(name), names: r.names, blank: r.blank || r.names.Has(name)}
}

func (r *redactor) attr(a slog.Attr) slog.Attr {
	if r.blank || r.names.Has(a.Key) {
		return slog.String(a.Key, Blank)
	}
	switch v := a.Value.Resolve(); v.Kind() {
	case slog.KindGroup:
		inner := make([]slog.Attr, 0, len(v.Group()))
		for _, one := range v.Group() {
			inner = append(inner, r.attr(one))
		}
		return slog.Attr{Key: a.Key, Value: slog.GroupValue(inner...)}
	case slog.KindString:
		return slog.String(a.Key, r.text(v.String()))
	case slog.KindAny:
		if clean, changed := r.value(reflect.ValueOf(v.Any()), maxDepth); changed {
			return slog.Any(a.Key, clean)
		}
		return slog.Attr{Key: a.Key, Value: v}
	case slog.KindInt64, slog.KindUint64, slog.KindFloat64:
		if number := v.String(); r.text(number) != number {
			return slog.String(a.Key, Blank)
		}
		return slog.Attr{Key: a.Key, Value: v}
	default:
		return slog.Attr{Key: a.Key, Value: v}
	}
}

// maxDepth bounds the walk through a value that may contain itself; what is
// deeper is blanked.
const maxDepth = 16

// value gives a copy without secrets, and whether there were any.
func (r *redactor) value(v reflect.Value, depth int) (clean any, changed bool) {
	if !v.IsValid() {
		return nil, false
	}
	if text, speaks := spoken(v); speaks {
		if clean := r.text(text); clean != text {
			return clean, true
		}
		return v.Interface(), false
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return nil, false
		}
		if depth == 0 {
			return Blank, true
		}
		return r.value(v.Elem(), depth-1)
	case reflect.Struct, reflect.Map, reflect.Slice, reflect.Array:
		if depth == 0 {
			return Blank, true
		}
	}
	switch v.Kind() {
	case reflect.Struct:
		return r.structure(v, depth-1)
	case reflect.Map:
		return r.mapping(v, depth-1)
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			text := fmt.Sprintf("%s", plain(v))
			clean := r.text(text)
			if clean != text {
				return clean, true
			}
			return plain(v), false
		}
		list := make([]any, v.Len())
		for i := range v.Len() {
			one, c := r.value(v.Index(i), depth-1)
			list[i], changed = one, changed || c
		}
		return list, changed
	case reflect.String, reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint,
		reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Float32, reflect.Float64:
		text := fmt.Sprint(plain(v))
		if clean := r.text(text); clean != text {
			return clean, true
		}
	}
	return plain(v), false
}

// plain gives what a value shows; of one that was reached through a field that is not
// exported, which cannot be taken out, a copy of basic kind.
func plain(v reflect.Value) any {
	switch {
	case v.CanInterface():
		return v.Interface()
	case v.CanInt():
		return v.Int()
	case v.CanUint():
		return v.Uint()
	case v.CanFloat():
		return v.Float()
	case v.Kind() == reflect.Bool:
		return v.Bool()
	}
	return v.String()
}

// spoken is the text of a value that writes itself, so that what it holds is not shown; false for others.
func spoken(v reflect.Value) (text string, speaks bool) {
	if !v.CanInterface() || v.Kind() == reflect.Pointer && v.IsNil() {
		return "", false
	}
	switch v := v.Interface().(type) {
	case error:
		return v.Error(), true
	case encoding.TextMarshaler:
		written, err := v.MarshalText()
		return string(written), err == nil
	case json.Marshaler:
		written, err := v.MarshalJSON()
		return string(written), err == nil
	}
	return "", false
}

// structure copies a struct where it has a secret: what JSON has of it, since not all handlers show the rest.
func (r *redactor) structure(v reflect.Value, depth int) (any, bool) {
	fields := map[string]any{} // by their ways
	changed := r.fields(v, nil, fields, depth)
	if !changed && v.CanInterface() {
		return v.Interface(), false
	}
	copied := map[string]any{}
	all, _ := members.Of(v.Type())
	for _, m := range all {
		if one, ok := fields[fmt.Sprint(m.Index)]; ok {
			copied[m.Name] = one
		}
	}
	return copied, changed
}

// fields gives the fields of a struct without secrets, those of what is embedded in it by their ways.
func (r *redactor) fields(v reflect.Value, way []int, found map[string]any, depth int) (changed bool) {
	for i := range v.NumField() {
		sf, field, own := v.Type().Field(i), v.Field(i), append(slices.Clip(way), i)
		if members.Read(sf).Embedded {
			for field.Kind() == reflect.Pointer && !field.IsNil() {
				field = field.Elem()
			}
			if field.Kind() == reflect.Struct && depth > 0 && !r.names.HasField(sf) {
				changed = r.fields(field, own, found, depth-1) || changed // less deep: a type can embed itself
				continue
			}
		}
		one, c := any(Blank), true
		if !r.names.HasField(sf) {
			one, c = r.value(field, depth)
		}
		found[fmt.Sprint(own)], changed = one, changed || c
	}
	return changed
}

// mapping looks at the keys as they are written, whatever their type.
func (r *redactor) mapping(v reflect.Value, depth int) (any, bool) {
	members, changed := map[string]any{}, false
	for i := v.MapRange(); i.Next(); {
		name := fmt.Sprint(i.Key())
		if r.names.Has(name) {
			members[name], changed = Blank, true
			continue
		}
		one, c := r.value(i.Value(), depth)
		members[name], changed = one, changed || c
	}
	if !changed && v.CanInterface() {
		return v.Interface(), false
	}
	return members, changed
}
