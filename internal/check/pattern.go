package check

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// In Go, . leaves out the line feed alone, and \s knows ASCII alone; ECMA-262
// has more of both. A pattern is read as ECMA-262 does, since its other readers
// will.
const (
	ecmaDot   = `[^\n\r\x{2028}\x{2029}]`
	ecmaSpace = `\t\n\v\f\r \x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}\x{feff}`
)

// CompilePattern compiles a pattern that ECMA-262 (with the flag u, as JSON
// Schema has it: draft 2020-12 core, 6.4) and Go's regexp read alike: disjunctions,
// groups, ^ and $, \b and \B, classes, quantifiers, the escapes of characters and of
// the sets that both have. What only one of them knows is an error.
func CompilePattern(pattern string) (*regexp.Regexp, error) {
	p := patternReader{in: pattern}
	err := p.read()
	if err == nil {
		var re *regexp.Regexp
		if re, err = regexp.Compile(p.out.String()); err == nil {
			return re, nil
		}
	}
	return nil, fmt.Errorf("the pattern %s: %w", pattern, err)
}

// A patternReader writes a pattern of ECMA-262 as Go reads it.
type patternReader struct {
	in   string
	at   int
	out  strings.Builder
	open int // groups
}

func (p *patternReader) read() error {
	if !utf8.ValidString(p.in) {
		return fmt.Errorf("it is not UTF-8")
	}
	atom := false // what was read can be repeated
	for p.at < len(p.in) {
		rest := p.in[p.at:]
		var err error
		switch c := rest[0]; c {
		case '\\':
			atom = rest != `\` && rest[1] != 'b' && rest[1] != 'B'
			err = p.escape()
		case '[':
			atom = true
			err = p.class()
		case '(':
			atom = false
			err = p.group(rest)
		case ')':
			if p.open--; p.open < 0 {
				return fmt.Errorf("a ) closes nothing")
			}
			atom = true
			p.take(1)
		case '^', '$', '|':
			atom = false
			p.take(1)
		case '*', '+', '?', '{':
			if !atom {
				return fmt.Errorf("%c repeats nothing", c)
			}
			atom = false
			err = p.quantifier(rest)
		case ']', '}':
			return fmt.Errorf(`write \%c for a literal bracket`, c)
		case '.':
			atom = true
			p.at++
			p.out.WriteString(ecmaDot)
		default:
			atom = true
			_, size := utf8.DecodeRuneInString(rest)
			p.take(size)
		}
		if err != nil {
			return err
		}
	}
	if p.open > 0 {
		return fmt.Errorf("a ( is never closed")
	}
	return nil
}

// take copies n bytes.
func (p *patternReader) take(n int) {
	p.out.WriteString(p.in[p.at : p.at+n])
	p.at += n
}

func (p *patternReader) group(rest string) error {
	p.open++
	switch {
	case strings.HasPrefix(rest, "(?:"):
		p.take(3)
	case strings.HasPrefix(rest, "(?"):
		return fmt.Errorf("of the groups that begin with (? only (?: is known to both ECMA-262 and Go")
	default:
		p.take(1)
	}
	return nil
}

var braces = regexp.MustCompile(`^\{[0-9]+(,[0-9]*)?\}`)

func (p *patternReader) quantifier(rest string) error {
	n := 1
	if rest[0] == '{' {
		if n = len(braces.FindString(rest)); n == 0 {
			return fmt.Errorf(`{ begins no count such as {2}, {2,} or {2,5}: write \{ for a literal brace`)
		}
	}
	p.take(n)
	if strings.HasPrefix(p.in[p.at:], "?") { // as few as possible
		p.take(1)
	}
	return nil
}

// class reads a class. A range is between two single characters; any other
// hyphen is the first or the last character.
func (p *patternReader) class() error {
	p.take(1)
	if strings.HasPrefix(p.in[p.at:], "^") {
		p.take(1)
	}
	if strings.HasPrefix(p.in[p.at:], "]") {
		return fmt.Errorf("ECMA-262 and Go read [] differently")
	}
	for first := true; ; first = false {
		rest := p.in[p.at:]
		switch {
		case rest == "":
			return fmt.Errorf("a [ is never closed")
		case rest[0] == ']':
			p.take(1)
			return nil
		case rest[0] == '-' && !first && !strings.HasPrefix(rest, "-]"):
			return fmt.Errorf(`write \- for a hyphen in the middle of a class`)
		case rest[0] == '-':
			p.at++
			p.out.WriteString(`\-`)
			continue
		}
		low, err := p.classAtom()
		if err != nil {
			return err
		}
		if rest = p.in[p.at:]; len(rest) < 2 || rest[0] != '-' || rest[1] == ']' {
			continue
		}
		p.take(1)
		high, err := p.classAtom()
		if err != nil {
			return err
		}
		if low < 0 || high < 0 || high < low {
			return fmt.Errorf("a range is between two characters, the smaller one first")
		}
	}
}

// classAtom reads a character of a class, -1 for a set of them.
func (p *patternReader) classAtom() (rune, error) {
	rest := p.in[p.at:]
	switch rest[0] {
	case '\\':
		return p.character(true)
	case '[':
		return 0, fmt.Errorf(`write \[ for a bracket inside a class`)
	}
	r, size := utf8.DecodeRuneInString(rest)
	p.at += size
	p.literal(r)
	return r, nil
}

// literal writes a character that stands for itself.
func (p *patternReader) literal(r rune) { fmt.Fprintf(&p.out, `\x{%x}`, r) }

func (p *patternReader) escape() error {
	_, err := p.character(false)
	return err
}

// generalCategories are those that Go's tables and ECMA-262 have under one name. C
// and Cn are left out: in Go they have no unassigned characters.
var generalCategories = strings.Fields(
	"L Lu Ll Lt Lm Lo M Mn Mc Me N Nd Nl No P Pc Pd Ps Pe Pi Pf Po S Sm Sc Sk So Z Zs Zl Zp Cc Cf Co",
)

// character reads an escape: the character that it stands for, or -1 for a set.
func (p *patternReader) character(class bool) (rune, error) {
	rest := p.in[p.at:]
	if rest == `\` {
		return 0, fmt.Errorf("it ends in a backslash")
	}
	set := func(n int, text string) (rune, error) {
		p.at += n
		p.out.WriteString(text)
		return -1, nil
	}
	one := func(n int, r rune) (rune, error) {
		p.at += n
		p.literal(r)
		return r, nil
	}
	switch c := rest[1]; {
	case c == 's' && class:
		return set(2, ecmaSpace)
	case c == 's':
		return set(2, "["+ecmaSpace+"]")
	case c == 'S' && !class:
		return set(2, "[^"+ecmaSpace+"]")
	case strings.IndexByte("dDwW", c) >= 0, (c == 'b' || c == 'B') && !class:
		return set(2, rest[:2])
	case c == 'b' && class:
		return one(2, '\b')
	case strings.IndexByte(`^$\.*+?()[]{}|/`, c) >= 0, c == '-' && class:
		return one(2, rune(c))
	case strings.IndexByte("tnvfr", c) >= 0:
		return one(2, map[byte]rune{'t': '\t', 'n': '\n', 'v': '\v', 'f': '\f', 'r': '\r'}[c])
	case c == '0' && (len(rest) == 2 || rest[2] < '0' || rest[2] > '9'):
		return one(2, 0)
	case c == 'c' && len(rest) > 2 && 'a' <= rest[2]|0x20 && rest[2]|0x20 <= 'z':
		return one(3, rune(rest[2]&0x1f))
	case c == 'x':
		if r, ok := hex(rest[2:], 2); ok {
			return one(4, r)
		}
	case c == 'u' && strings.HasPrefix(rest[2:], "{"):
		end := strings.IndexByte(rest, '}')
		if r, ok := hex(rest[min(3, len(rest)):], end-3); ok && utf8.ValidRune(r) {
			return one(end+1, r)
		}
	case c == 'u':
		r, ok := hex(rest[2:], 4)
		if ok && utf16.IsSurrogate(r) && len(rest) >= 12 && rest[6:8] == `\u` {
			low, _ := hex(rest[8:], 4)
			if r = utf16.DecodeRune(r, low); r != unicode.ReplacementChar {
				return one(12, r)
			}
		} else if ok && utf8.ValidRune(r) {
			return one(6, r)
		}
	case (c == 'p' || c == 'P') && strings.HasPrefix(rest[2:], "{"):
		if end := strings.IndexByte(rest, '}'); end > 0 {
			name := rest[3:end]
			script, isScript := strings.CutPrefix(strings.Replace(name, "sc=", "Script=", 1), "Script=")
			if _, known := unicode.Scripts[script]; isScript && known {
				return set(end+1, rest[:3]+script+"}")
			}
			if slices.Contains(generalCategories, name) {
				return set(end+1, rest[:end+1])
			}
			return 0, fmt.Errorf(
				"the property %s is not one that ECMA-262 and Go both know: \\p{L} and other general categories, \\p{Script=Greek}",
				rest[:end+1],
			)
		}
	}
	_, size := utf8.DecodeRuneInString(rest[1:])
	return 0, fmt.Errorf("the escape %s is not read alike by ECMA-262 and Go", rest[:1+size])
}

// hex reads n hexadecimal digits.
func hex(s string, n int) (rune, bool) {
	if n < 1 || n > 8 || len(s) < n || strings.Trim(s[:n], "0123456789abcdefABCDEF") != "" {
		return 0, false
	}
	v, err := strconv.ParseUint(s[:n], 16, 32)
	return rune(v), err == nil && v <= unicode.MaxRune
}
