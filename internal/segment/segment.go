// Package segment holds what templates and the table of routes share: the pieces of a
// path between two slashes, and the form in which they are compared.
package segment

import "strings"

// A Segment is one piece of a template: texts and parameters by turns. With n
// parameters there are n+1 texts, of which the first and the last may be empty. Texts
// are in canonical form (see [Canonical]).
type Segment struct {
	Texts []string
	Names []string
	Rest  bool // it takes the rest of the path: {+rest}
}

// IsText reports whether the segment has no parameters.
func (s Segment) IsText() bool { return len(s.Names) == 0 }

// IsWhole reports whether the segment is one parameter and nothing else.
func (s Segment) IsWhole() bool { return len(s.Names) == 1 && s.Weight() == 0 }

// Weight is the number of bytes of text: a mixed segment with more of it is more
// specific.
func (s Segment) Weight() int {
	n := 0
	for _, t := range s.Texts {
		n += len(t)
	}
	return n
}

// A Span is where a value is in a path.
type Span struct{ Start, End uint32 }

// Cut divides the segment path[start:end] among the parameters between the texts, each as
// short as possible from the left, and notes where they are. That finds a division
// wherever there is one: a shorter piece never leaves less to what follows. Canonical
// says that the path is in canonical form, in which an escape is one character.
func Cut(path string, canonical bool, texts []string, start, end int, into []Span) bool {
	seg := path[start:end]
	last := texts[len(texts)-1]
	if !strings.HasPrefix(seg, texts[0]) || len(seg) < len(texts[0])+len(last) || !strings.HasSuffix(seg, last) {
		return false
	}
	if canonical && inEscape(seg, len(seg)-len(last)) {
		return false
	}
	at, stop := len(texts[0]), len(seg)-len(last)
	for i, text := range texts[1 : len(texts)-1] {
		if at >= stop {
			return false
		}
		n := index(seg[at+1:stop], text)
		for canonical && n >= 0 && inEscape(seg, at+1+n) {
			next := index(seg[at+2+n:stop], text)
			if n += 1 + next; next < 0 {
				n = -1
			}
		}
		if n < 0 {
			return false
		}
		into[i] = Span{uint32(start + at), uint32(start + at + 1 + n)}
		at += 1 + n + len(text)
	}
	into[len(texts)-2] = Span{uint32(start + at), uint32(start + stop)}
	return at < stop
}

// inEscape reports whether the text at i begins inside an escape of the canonical form.
func inEscape(s string, i int) bool {
	return i > 0 && i < len(s) && (s[i-1] == '%' || i > 1 && s[i-2] == '%')
}

// index is strings.Index, quicker for the usual text of one byte in a short segment.
func index(s, text string) int {
	if len(text) > 1 {
		return strings.Index(s, text)
	}
	for i := range len(s) {
		if s[i] == text[0] {
			return i
		}
	}
	return -1
}

// IsDots reports whether a segment is a dot segment (RFC 3986, 3.3).
func IsDots(segment string) bool { return segment == "." || segment == ".." }

// IsClean reports whether a path without its first slash has neither dot segments nor
// empty ones, except the last.
func IsClean(rest string) bool {
	for rest != "" {
		segment, after, more := strings.Cut(rest, "/")
		if IsDots(segment) || segment == "" && more {
			return false
		}
		rest = after
	}
	return true
}
