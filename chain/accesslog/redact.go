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
)

// Blank stands in a log where a secret was.
const Blank = "[redacted]"

// secrets are the keys whose values are never logged, in lower case without
// hyphens and underscores.
var secrets = []string{"password", "passphrase", "pin", "token", "accesstoken", "refreshtoken", "idtoken", "secret",
	"clientsecret",
	"apikey", "authorization", "proxyauthorization", "cookie", "setcookie", "telephone", "phone", "email", "mail"}

// within are the words that make a key a secret's wherever they stand in it, as in new_password,
// X-Api-Key and sessionToken.
var within = []string{"password", "passphrase", "secret", "apikey", "authorization", "cookie", "credential"}

// Redact wraps a handler so that secrets do not reach it: values under the keys
// that are known to hold some (password, pin, token, secret, authorization,
// cookie, telephone, e-mail and the like, however they are written, and longer ones such as
// new_password) and under those given, at any depth: in groups, maps with any keys, lists and structs,
// fields that are embedded or not exported included. The fields of a struct count by their
// names in Go, in JSON and in from tags; those with rule:"writeOnly" are blanked too, and those that JSON
// leaves out are left out. In a URL the values of such parameters are blanked. Other secrets inside
// a text are not found, nor in a value that writes itself as text or JSON.
func Redact(h slog.Handler, more ...string) slog.Handler {
	keys := map[string]bool{}
	for _, k := range slices.Concat(secrets, more) {
		keys[plainKey(k)] = true
	}
	return &redactor{h, keys, false}
}

type redactor struct {
	slog.Handler
	keys  map[string]bool
	blank bool // the group that is open has a secret's name
}

func (r *redactor) isForPeople() bool { return isForPeople(r.Handler) }

// isSecret reports whether a key is one of a secret.
func (r *redactor) isSecret(key string) bool {
	key = plainKey(key)
	return r.keys[key] || strings.HasSuffix(key, "token") || slices.ContainsFunc(within, func(word string) bool { return strings.Contains(key, word) })
}

// parameter is one of the query of a URL (RFC 3986, 3.4).
var parameter = regexp.MustCompile(`([?&])([^=&#\s]+)=([^&#\s"]*)`)

// text blanks the secret parameters of the URLs in a text.
func (r *redactor) text(s string) string {
	if !strings.Contains(s, "?") {
		return s
	}
	return parameter.ReplaceAllStringFunc(s, func(one string) string {
		parts := parameter.FindStringSubmatch(one)
		name, err := url.QueryUnescape(parts[2])
		if err != nil || !r.isSecret(name) {
			return one
		}
		return parts[1] + parts[2] + "=" + Blank
	})
}

func plainKey(key string) string {
	return strings.NewReplacer("-", "", "_", "", " ", "").Replace(strings.ToLower(key))
}

func (r *redactor) Handle(ctx context.Context, record slog.Record) error {
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
	return &redactor{r.Handler.WithAttrs(clean), r.keys, r.blank}
}

func (r *redactor) WithGroup(name string) slog.Handler {
	return &redactor{r.Handler.WithGroup(name), r.keys, r.blank || r.isSecret(name)}
}

func (r *redactor) attr(a slog.Attr) slog.Attr {
	if r.blank || r.isSecret(a.Key) {
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
			return plain(v), false
		}
		list := make([]any, v.Len())
		for i := range v.Len() {
			one, c := r.value(v.Index(i), depth-1)
			list[i], changed = one, changed || c
		}
		return list, changed
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

// speaks reports whether a value writes itself, so that what it holds is not shown.
func speaks(v reflect.Value) bool {
	if !v.CanInterface() {
		return false
	}
	switch v.Interface().(type) {
	case encoding.TextMarshaler, json.Marshaler:
		return true
	}
	return false
}

func (r *redactor) structure(v reflect.Value, depth int) (any, bool) {
	if speaks(v) {
		return v.Interface(), false
	}
	copied, changed := map[string]any{}, false
	for i := range v.NumField() {
		field := v.Type().Field(i)
		says := members.Read(field)
		name, flat := says.Name, says.Embedded
		_, from, _ := strings.Cut(field.Tag.Get("from"), " ")
		shown := !says.Ignored // a copy lacks the others, which not all handlers show
		if r.isSecret(name) || r.isSecret(field.Name) || r.isSecret(from) ||
			slices.Contains(strings.Fields(field.Tag.Get("rule")), "writeOnly") {
			changed = true
			if shown {
				copied[name] = Blank
			}
			continue
		}
		one, c := r.value(v.Field(i), depth)
		changed = changed || c
		switch inner, ok := one.(map[string]any); {
		case !shown:
		case flat && ok && c:
			for name, value := range inner {
				if _, outer := copied[name]; !outer {
					copied[name] = value
				}
			}
		default:
			copied[name] = one
		}
	}
	if !changed && v.CanInterface() {
		return v.Interface(), false
	}
	return copied, changed
}

// mapping looks at the keys as they are written, whatever their type.
func (r *redactor) mapping(v reflect.Value, depth int) (any, bool) {
	members, changed := map[string]any{}, false
	for i := v.MapRange(); i.Next(); {
		name := fmt.Sprint(i.Key())
		if r.isSecret(name) {
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
