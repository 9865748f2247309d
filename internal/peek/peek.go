// Package peek looks for a member of a JSON object in a text that nobody has read yet, so that the text can then be
// read in one go as what the member says it is.
package peek

import (
	"bytes"
	"slices"

	"github.com/go-json-experiment/json/jsontext"
)

// An Outcome says how the search for a member ended.
type Outcome uint8

const (
	// Absent: the text is no object, or one without the member, or is malformed. Reading it tells which.
	Absent Outcome = iota
	// Partial: the text ends before the member or the end of the object.
	Partial
	// Found: the object has the member, and its value is a string.
	Found
)

// Member finds the first member with a name in the object that a text begins with, and gives the string that is its
// value. White space, commas and colons before the object do not count. The text need not be valid: it is looked at
// byte by byte up to the member, in time linear in that, and never beyond its end.
func Member(text []byte, name string) (value []byte, how Outcome) {
	at := space(text, 0)
	if at == len(text) {
		return nil, Partial
	}
	if text[at] != '{' {
		return nil, Absent
	}
	for at++; ; {
		at = space(text, at)
		if at == len(text) {
			return nil, Partial
		}
		if text[at] != '"' {
			return nil, Absent
		}
		start := at
		if at = pastString(text, at); at < 0 {
			return nil, Partial
		}
		is := string(unquote(text[start:at])) == name
		if at = space(text, at); at == len(text) {
			return nil, Partial
		}
		start = at
		if at = pastValue(text, at); at < 0 {
			return nil, Partial
		}
		switch {
		case is && text[start] == '"':
			return unquote(text[start:at]), Found
		case is || at == start:
			return nil, Absent
		}
	}
}

// Late counts how many objects are inside each other whose member of one of the names comes behind a list or another
// object, at the deepest. Finding the member costs what comes before it, so each of them costs all that is in it once
// more. It takes time linear in the text, which need not be valid, and counts 64 levels of nesting at most.
func Late(text []byte, names []string) int {
	type level struct {
		object, nested, late bool
		below                int
	}
	levels := make([]level, 1, 65)
	naming := false // the next string is a name
	for at := 0; at < len(text); {
		top := &levels[len(levels)-1]
		switch c := text[at]; kinds[c] {
		case quote:
			start := at
			if at = pastString(text, at); at < 0 {
				at = len(text)
			} else if naming && top.nested {
				top.late = top.late || slices.Contains(names, string(unquote(text[start:at])))
			}
			naming = false
			continue
		case opens:
			if len(levels) == cap(levels) {
				return levels[0].below
			}
			naming = c == '{'
			levels = append(levels, level{object: naming})
		case closes:
			if len(levels) == 1 {
				return top.below
			}
			deepest := top.below
			if top.late {
				deepest++
			}
			levels = levels[:len(levels)-1]
			above := &levels[len(levels)-1]
			above.nested, above.below = true, max(above.below, deepest)
		case blank:
			naming = naming || c == ',' && top.object
		}
		at++
	}
	for i := len(levels) - 1; i > 0; i-- {
		levels[i-1].below = max(levels[i-1].below, levels[i].below)
	}
	return levels[0].below
}

// unquote gives what a string holds.
func unquote(quoted []byte) []byte {
	inner := quoted[1 : len(quoted)-1]
	if bytes.IndexByte(inner, '\\') >= 0 {
		inner, _ = jsontext.AppendUnquote(nil, quoted) // a malformed one is refused when it is read
	}
	return inner
}

func space(text []byte, at int) int {
	for at < len(text) && kinds[text[at]] == blank {
		at++
	}
	return at
}

// pastString steps over a string; -1 where it has no end.
func pastString(text []byte, at int) int {
	s := Span{at: at + 1, inString: true}
	if s.toEndOfString(text); s.inString {
		return -1
	}
	return s.at
}

// pastValue steps over any value; -1 where the text ends before it.
func pastValue(text []byte, at int) int {
	span := Span{at: at}
	end, found := span.End(text)
	if !found {
		return -1
	}
	return end
}

// A Span finds the end of a value in a text that comes in pieces, and looks at each byte once. The zero Span is for a
// value that begins where the text does. The text need not be valid: where brackets of both kinds are confused the end
// is that of the outermost.
type Span struct {
	at, depth int
	begun     bool
	inString  bool
}

// End gives the end of the value, once the text that has come so far has it. A number or a literal ends before what
// comes behind it, so where the text ends there End does not find it.
func (s *Span) End(text []byte) (end int, found bool) {
	for s.at < len(text) {
		if s.inString {
			s.toEndOfString(text)
			if s.inString || s.depth > 0 {
				continue
			}
			return s.at, true
		}
		switch kinds[text[s.at]] {
		case quote:
			s.inString = true
			s.at++
			continue
		case opens:
			s.depth++
			s.at++
			continue
		case closes:
			if s.depth--; s.depth < 0 {
				return s.at, true
			}
			s.at++
			if s.depth > 0 {
				continue
			}
			return s.at, true
		case blank:
			if s.depth == 0 && s.begun {
				return s.at, true
			}
			s.at++
			continue
		}
		s.begun = true
		for s.at++; s.at < len(text) && kinds[text[s.at]] == other; s.at++ {
		}
	}
	return len(text), false
}

// toEndOfString goes on to the end of a string, or beyond the end of the text where a character that is escaped is
// still to come.
func (s *Span) toEndOfString(text []byte) {
	for s.at < len(text) {
		end := bytes.IndexByte(text[s.at:], '"')
		piece := text[s.at:]
		if end >= 0 {
			piece = piece[:end]
		}
		escapes := 0
		for escapes < len(piece) && piece[len(piece)-1-escapes] == '\\' {
			escapes++
		}
		s.at += len(piece) + escapes%2 // what is escaped is no end
		if end >= 0 && escapes%2 == 0 {
			s.inString = false
			s.at++
			return
		}
	}
}

// Space gives the end of the white space that a text has from a place on.
func Space(text []byte, at int) int {
	for at < len(text) && (text[at] == ' ' || text[at] == '\t' || text[at] == '\n' || text[at] == '\r') {
		at++
	}
	return at
}

type kind uint8

const (
	other kind = iota // of numbers and literals
	blank
	quote
	opens
	closes
)

var kinds = [256]kind{
	' ': blank, '\t': blank, '\n': blank, '\r': blank, ',': blank, ':': blank,
	'"': quote, '{': opens, '[': opens, '}': closes, ']': closes,
}
