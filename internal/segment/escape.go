package segment

import "strings"

// Two forms of a path meet here. The decoded form is what url.URL.Path holds;
// it serves wherever nothing was hidden by encoding. The canonical form has
// every byte decoded but / and %, which stay %2F and %25: so a slash inside a
// value never separates, and the form can be decoded again without doubt.

// WriteCanonical writes a decoded byte in canonical form.
func WriteCanonical(b *strings.Builder, c byte) {
	switch c {
	case '/':
		b.WriteString("%2F")
	case '%':
		b.WriteString("%25")
	default:
		b.WriteByte(c)
	}
}

// Canonical brings an escaped path into canonical form; false where the
// percent-encoding is broken.
func Canonical(escaped string) (string, bool) {
	var b strings.Builder
	for i := 0; i < len(escaped); i++ {
		if escaped[i] != '%' {
			b.WriteByte(escaped[i])
			continue
		}
		c, ok := Unhex(escaped[i:])
		if !ok {
			return "", false
		}
		WriteCanonical(&b, c)
		i += 2
	}
	return b.String(), true
}

// Decode takes the canonical form of a value back to the value.
func Decode(s string) string {
	if strings.IndexByte(s, '%') < 0 {
		return s
	}
	return strings.NewReplacer("%2F", "/", "%25", "%").Replace(s)
}

// Unhex reads the escape that s begins with.
func Unhex(s string) (byte, bool) {
	if len(s) < 3 {
		return 0, false
	}
	hi, lo := nibble(s[1]), nibble(s[2])
	return hi<<4 | lo, hi < 16 && lo < 16
}

func nibble(c byte) byte {
	switch {
	case '0' <= c && c <= '9':
		return c - '0'
	case 'a' <= c|0x20 && c|0x20 <= 'f':
		return c | 0x20 - 'a' + 10
	}
	return 0xff
}

// IsOwnPath reports whether browsers take a text for a path of the same host: they read a
// backslash like a slash, and pass over tabs and line breaks.
func IsOwnPath(path string) bool {
	return strings.HasPrefix(path, "/") && !strings.HasPrefix(path, "//") && !strings.HasPrefix(path, `/\`) &&
		!strings.ContainsFunc(path, func(c rune) bool { return c <= ' ' || c == 0x7f })
}
