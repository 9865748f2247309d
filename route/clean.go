package route

import (
	"net/url"
	"strings"
)

// Escaped gives the path of a URL as it was sent, with everything escaped that must
// be (RFC 3986, 3.3) and nothing else changed: what was escaped stays so, which
// url.URL.EscapedPath does not see to where a path has both escapes and characters
// that lack one.
func Escaped(u *url.URL) string {
	if u.RawPath == "" {
		return u.EscapedPath()
	}
	if path, err := url.PathUnescape(u.RawPath); err != nil || path != u.Path {
		return u.EscapedPath()
	}
	var b strings.Builder
	writeEscaped(&b, u.RawPath, pathText+"/")
	return b.String()
}

// OtherSlash gives the path with a slash at its end taken away, or else added.
func OtherSlash(path string) string {
	if cut, had := strings.CutSuffix(path, "/"); had {
		return cut
	}
	return path + "/"
}

// Clean removes empty segments and dot segments (RFC 3986, 5.2.4) from an
// escaped path, whether its dots are encoded or not.
func Clean(escaped string) string {
	if !strings.Contains(escaped, "//") && !strings.Contains(escaped, "/.") &&
		!strings.Contains(strings.ToLower(escaped), "/%2e") {
		return escaped
	}
	var kept []string
	segments := strings.Split(escaped, "/")[1:]
	for i, s := range segments {
		last := i == len(segments)-1
		switch strings.ReplaceAll(strings.ToLower(s), "%2e", ".") {
		case ".", "..":
			if len(s) > 1 && s != "%2e" && s != "%2E" && len(kept) > 0 {
				kept = kept[:len(kept)-1]
			}
			if last {
				kept = append(kept, "")
			}
		case "":
			if last {
				kept = append(kept, "")
			}
		default:
			kept = append(kept, s)
		}
	}
	return "/" + strings.Join(kept, "/")
}
