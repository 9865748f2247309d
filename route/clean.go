package route

import "strings"

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
	if !strings.Contains(escaped, "//") && !strings.Contains(escaped, "/.") && !strings.Contains(strings.ToLower(escaped), "/%2e") {
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
