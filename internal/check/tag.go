package check

import (
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"
)

// CheckTag reports mistakes in the form of a struct tag. Go itself drops
// what it cannot read without a word (an invalid escape such as \d, say), and
// with it every rule that stood there.
func CheckTag(tag reflect.StructTag) error {
	rest := strings.TrimLeft(string(tag), " ")
	for rest != "" {
		colon := strings.IndexByte(rest, ':')
		if colon <= 0 || strings.ContainsAny(rest[:colon], " \"") || colon+1 >= len(rest) || rest[colon+1] != '"' {
			return fmt.Errorf("the struct tag is broken at %q: it has the form key:\"value\"", rest)
		}
		key := rest[:colon]
		if near := nearKey(key); near != "" {
			return fmt.Errorf("the struct tag %s is read by nobody: write %s", key, near)
		}
		quoted, err := strconv.QuotedPrefix(rest[colon+1:])
		if err != nil {
			return fmt.Errorf(
				"the struct tag %s is dropped by Go, since %s is not a Go string: write \\\\ for a backslash", key,
				rest[colon+1:],
			)
		}
		rest = rest[colon+1+len(quoted):]
		if rest != "" && rest[0] != ' ' {
			return fmt.Errorf("the struct tag is broken at %q: the next key needs a space before it", rest)
		}
		rest = strings.TrimLeft(rest, " ")
	}
	return nil
}

// tagKeys are the keys of struct tags that mean something here.
var tagKeys = []string{"from", "rule", "note", "json", "example", "says"}

// nearKey gives the key that a mistyped one is meant for; "" for keys of others. A
// key is near where it differs in case, by one letter too many or too few, or by two
// letters that changed places.
func nearKey(key string) string {
	for _, own := range tagKeys {
		lower := strings.ToLower(key)
		if key != own && (lower == own || oneMore(lower, own) || oneMore(own, lower) || swapped(lower, own)) {
			return own
		}
	}
	return ""
}

// oneMore reports whether long is short with one letter more.
func oneMore(long, short string) bool {
	for i := range len(long) {
		if long[:i]+long[i+1:] == short {
			return true
		}
	}
	return false
}

// swapped reports whether a is b with two neighbouring letters in each other's place.
func swapped(a, b string) bool {
	for i := 0; i+1 < len(a) && len(a) == len(b); i++ {
		if a[:i]+a[i+1:i+2]+a[i:i+1]+a[i+2:] == b {
			return true
		}
	}
	return false
}

// A setting is one word of a rule tag: keyword, or keyword=value.
type setting struct {
	keyword, value string
	hasValue       bool
}

// splitRules cuts a rule tag into words. A value may be in single quotes, in
// which two of them mean one.
func splitRules(tag string) ([]setting, error) {
	var found []setting
	for rest := strings.TrimLeft(tag, " "); rest != ""; rest = strings.TrimLeft(rest, " ") {
		n := strings.IndexAny(rest, " =")
		if n < 0 {
			n = len(rest)
		}
		s := setting{keyword: rest[:n]}
		if s.keyword == "" {
			return nil, fmt.Errorf("rule: a keyword is missing at %q", rest)
		}
		if rest = rest[n:]; strings.HasPrefix(rest, "=") {
			var err error
			if s.value, rest, err = ruleValue(rest[1:]); err != nil {
				return nil, fmt.Errorf("rule %s: %w", s.keyword, err)
			}
			s.hasValue = true
		}
		found = append(found, s)
	}
	return found, nil
}

func ruleValue(s string) (value, rest string, err error) {
	if !strings.HasPrefix(s, "'") {
		value, rest, _ = strings.Cut(s, " ")
		return value, rest, nil
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		if s[i] != '\'' {
			b.WriteByte(s[i])
			continue
		}
		if i+1 < len(s) && s[i+1] == '\'' {
			b.WriteByte('\'')
			i++
			continue
		}
		if rest = s[i+1:]; rest != "" && rest[0] != ' ' {
			return "", "", errors.New("a space must follow the closing quote")
		}
		return b.String(), rest, nil
	}
	return "", "", errors.New("the single quote is never closed")
}
