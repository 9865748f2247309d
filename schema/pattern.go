package schema

import (
	"fmt"
	"regexp"
	"strings"
)

// In Go, . leaves out the line feed alone, and \s knows ASCII alone; ECMA-262
// has more of both. A pattern is read as ECMA-262 does, since its other readers
// will.
const (
	ecmaDot   = `[^\n\r\x{2028}\x{2029}]`
	ecmaSpace = `\t\n\v\f\r \x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}\x{feff}`
)

// compilePattern compiles a pattern that ECMA-262 (with the flag u, as JSON
// Schema has it: draft 2020-12 core, 6.4) and Go's regexp read alike. What only
// one of them knows is an error.
func compilePattern(pattern string) (*regexp.Regexp, error) {
	var b strings.Builder
	class := false
	for i := 0; i < len(pattern); i++ {
		c := pattern[i]
		rest := pattern[i:]
		switch {
		case c == '\\':
			if i+1 == len(pattern) {
				return nil, fmt.Errorf("the pattern %s ends in a backslash", pattern)
			}
			piece, n, err := escape(rest, class)
			if err != nil {
				return nil, fmt.Errorf("the pattern %s: %w", pattern, err)
			}
			b.WriteString(piece)
			i += n - 1
			continue
		case class && c == '[':
			return nil, fmt.Errorf(`the pattern %s: write \[ for a bracket inside a class`, pattern)
		case class:
			class = c != ']'
		case c == '[':
			class = true
			if strings.HasPrefix(rest, "[]") || strings.HasPrefix(rest, "[^]") {
				return nil, fmt.Errorf("the pattern %s: ECMA-262 and Go read %s differently", pattern, "[]")
			}
		case strings.HasPrefix(rest, "(?") && !strings.HasPrefix(rest, "(?:"):
			return nil, fmt.Errorf("the pattern %s: of the groups that begin with (? only (?: is known to both ECMA-262 and Go", pattern)
		case c == '.':
			b.WriteString(ecmaDot)
			continue
		}
		b.WriteByte(c)
	}
	re, err := regexp.Compile(b.String())
	if err != nil {
		return nil, fmt.Errorf("the pattern %s: %w", pattern, err)
	}
	return re, nil
}

// escape translates the escape at the start of s and tells its length.
func escape(s string, class bool) (string, int, error) {
	switch c := s[1]; {
	case c == 's' && class:
		return ecmaSpace, 2, nil
	case c == 's':
		return "[" + ecmaSpace + "]", 2, nil
	case c == 'S' && !class:
		return "[^" + ecmaSpace + "]", 2, nil
	case strings.IndexByte(`dDwWtnvfr^$\.*+?()[]{}|/`, c) >= 0, c == '-' && class, (c == 'b' || c == 'B') && !class:
		if c == '/' {
			return "/", 2, nil
		}
		return s[:2], 2, nil
	case (c == 'p' || c == 'P') && len(s) > 2 && s[2] == '{':
		if end := strings.IndexByte(s, '}'); end > 0 {
			return s[:end+1], end + 1, nil
		}
	case c == 'u' && len(s) >= 6 && s[2] != '{':
		return `\x{` + s[2:6] + "}", 6, nil
	case c == 'x' && len(s) >= 4 && s[2] != '{':
		return s[:4], 4, nil
	}
	return "", 0, fmt.Errorf("the escape %s is not read alike by ECMA-262 and Go", s[:2])
}
