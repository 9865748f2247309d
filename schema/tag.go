package schema

import (
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"
)

// CheckTag says what is wrong with the form of a struct tag. Go itself drops
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
		quoted, err := strconv.QuotedPrefix(rest[colon+1:])
		if err != nil {
			return fmt.Errorf("the struct tag %s is dropped by Go, since %s is no Go string: write \\\\ for a backslash", key, rest[colon+1:])
		}
		rest = rest[colon+1+len(quoted):]
		if rest != "" && rest[0] != ' ' {
			return fmt.Errorf("the struct tag is broken at %q: a space must stand before the next key", rest)
		}
		rest = strings.TrimLeft(rest, " ")
	}
	return nil
}

// A setting is one word of a rule tag: keyword, or keyword=value.
type setting struct {
	keyword, value string
	hasValue       bool
}

// splitRules cuts a rule tag into words. A value may stand in single quotes, in
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
