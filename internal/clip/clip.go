// Package clip shortens texts so that a reader sees that they were.
package clip

import "unicode/utf8"

// Text gives s, or where it has more than most bytes its start and an ellipsis. It
// never cuts a character in two.
func Text(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for most > 0 && !utf8.RuneStart(s[most]) {
		most--
	}
	return s[:most] + "…"
}
