package route

import "strings"

// Two forms of a path meet here. The decoded form is what url.URL.Path holds;
// it serves wherever nothing was hidden by encoding. The canonical form has
// every byte decoded but / and %, which stay %2F and %25: so a slash inside a
// value never separates, and the form can be decoded again without doubt.

const upperHex = "0123456789ABCDEF"

func writeCanonical(b *strings.Builder, c byte) {
	switch c {
	case '/':
		b.WriteString("%2F")
	case '%':
		b.WriteString("%25")
	default:
		b.WriteByte(c)
	}
}

// canonical brings an escaped path into canonical form; false where the
// percent-encoding is broken.
func canonical(escaped string) (string, bool) {
	var b strings.Builder
	for i := 0; i < len(escaped); i++ {
		if escaped[i] != '%' {
			b.WriteByte(escaped[i])
			continue
		}
		c, ok := unhex(escaped[i:])
		if !ok {
			return "", false
		}
		writeCanonical(&b, c)
		i += 2
	}
	return b.String(), true
}

// decodeCanonical takes the canonical form of a value back to the value.
func decodeCanonical(s string) string {
	if strings.IndexByte(s, '%') < 0 {
		return s
	}
	return strings.NewReplacer("%2F", "/", "%25", "%").Replace(s)
}

func unhex(s string) (byte, bool) {
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

// The characters that may stand bare in a path beside the unreserved ones
// (RFC 3986, 2.3 and 3.3).
const (
	pathValue = ""               // simple expansion
	pathRest  = "/:@!$&'()*+,;=" // reserved expansion, less what a path cannot hold
	pathText  = ":@!$&'()*+,;=%" // text is canonical: its % are escapes already
)

func writeEscaped(b *strings.Builder, s, bare string) {
	for i := range len(s) {
		c := s[i]
		letter := 'a' <= c|0x20 && c|0x20 <= 'z'
		if letter || '0' <= c && c <= '9' || strings.IndexByte("-._~", c) >= 0 || strings.IndexByte(bare, c) >= 0 {
			b.WriteByte(c)
			continue
		}
		b.WriteByte('%')
		b.WriteByte(upperHex[c>>4])
		b.WriteByte(upperHex[c&15])
	}
}
