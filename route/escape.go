package route

import "strings"

const upperHex = "0123456789ABCDEF"

// The characters that may be bare in a path in addition to the unreserved ones
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
