// Package route has path templates and functions for the paths of URLs.
//
// A template is written as OpenAPI and RFC 6570 write it: /locks/{lock}. A
// segment may be text, one parameter, or text mixed with several parameters
// (/charts/{reach}.{format}); {+rest} as the last segment takes what remains of
// the path, slashes included.
//
// Of several templates that match a path the most specific wins, segment by segment
// from the left: text, then text mixed with parameters (more text first), then a
// parameter that is a whole segment, then {+rest}.
package route

import (
	"errors"
	"fmt"
	"strings"

	"github.com/wicketway/wicketway/internal/segment"
)

// MaxParameters and MaxSegments are how many parameters and segments one template
// may have. The limits let a search do without allocations.
const (
	MaxParameters = 16
	MaxSegments   = 16
)

// A Template is a parsed path template. It is immutable and safe to share. The
// zero Template matches nothing and prints as "".
type Template struct {
	text     string
	segments []segment.Segment
	names    []string
}

// A SyntaxError names a mistake in a template and its place.
type SyntaxError struct {
	Template string
	Offset   int // in bytes, from 0
	Reason   string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("template %q, character %d: %s", e.Template, e.Offset+1, e.Reason)
}

// Parse reads a template. The error is a [*SyntaxError]. Text may hold
// percent-encoded bytes (RFC 3986, 2.1); %2F in it is a slash that separates
// nothing.
func Parse(text string) (Template, error) {
	p := parser{text: text}
	if err := p.parse(); err != nil {
		return Template{}, err
	}
	return Template{text: text, segments: p.segments, names: p.names}, nil
}

// String gives the template as it was written.
func (t Template) String() string { return t.text }

// Equal reports whether t and u were written alike.
func (t Template) Equal(u Template) bool { return t.text == u.text }

// Names are the names of the parameters, from the left. The caller must not
// change the slice.
func (t Template) Names() []string { return t.names }

// Segments are the pieces between the slashes. The caller must not change the slice.
func (t Template) Segments() []segment.Segment { return t.segments }

// Join puts u behind t, so that a route's template is under the prefix of
// its group. A u of "/" adds nothing to a t that has text of its own.
func (t Template) Join(u Template) (Template, error) {
	switch {
	case t.text == "" || t.text == "/":
		return u, nil
	case u.text == "" || u.text == "/":
		return t, nil
	}
	return Parse(t.text + u.text)
}

type parser struct {
	text     string
	at       int
	segments []segment.Segment
	texts    []string // of all segments, so that they share one array
	names    []string
}

func (p *parser) fail(at int, format string, args ...any) error {
	return &SyntaxError{Template: p.text, Offset: at, Reason: fmt.Sprintf(format, args...)}
}

func (p *parser) parse() error {
	if p.text == "" || p.text[0] != '/' {
		return p.fail(0, "a path template starts with a slash")
	}
	segments, parameters := strings.Count(p.text, "/"), strings.Count(p.text, "{")
	p.segments = make([]segment.Segment, 0, min(segments, MaxSegments))
	p.texts = make([]string, 0, segments+parameters)
	p.names = make([]string, 0, min(parameters, MaxParameters))
	for p.at < len(p.text) {
		p.at++ // the slash
		if err := p.segment(); err != nil {
			return err
		}
	}
	return nil
}

func (p *parser) segment() error {
	start, firstText, firstName := p.at, len(p.texts), len(p.names)
	rest := false
	text, err := p.literals()
	for err == nil && p.at < len(p.text) && p.text[p.at] == '{' {
		switch {
		case rest:
			return p.nothingFollows()
		case len(p.names) > firstName && text == "":
			return p.fail(p.at, "two parameters need text between them, else it is unclear where the first ends")
		}
		open := p.at
		if rest, err = p.parameter(); err != nil {
			return err
		}
		if rest && open != start {
			return p.fail(open, "{+%s} must be a segment of its own", p.names[len(p.names)-1])
		}
		p.texts = append(p.texts, text)
		after := p.at
		if text, err = p.literals(); rest && p.at > after {
			p.at = after
			return p.nothingFollows()
		}
	}
	if err != nil {
		return err
	}
	if rest && p.at < len(p.text) {
		return p.nothingFollows()
	}
	p.texts = append(p.texts, text)
	s := segment.Segment{
		Texts: p.texts[firstText:len(p.texts):len(p.texts)],
		Names: p.names[firstName:len(p.names):len(p.names)],
		Rest:  rest,
	}
	if s.IsText() {
		switch s.Texts[0] {
		case "*":
			return p.fail(start, "a segment * is a text here: write {name} for any segment, or {+rest} for the rest of the path")
		case ".", "..":
			return p.fail(start, "%q cannot be reached: dot segments are removed from a path (RFC 3986, 5.2.4)",
				s.Texts[0])
		case "":
			if p.at < len(p.text) {
				return p.fail(p.at, "an empty segment cannot be reached: write one slash")
			}
		}
	}
	if first := s.Texts[0]; strings.HasPrefix(first, ":") {
		return p.fail(
			start, "a segment that begins with : is a text here: write {%s} for a parameter", strings.TrimLeft(first, ":"),
		)
	}
	if len(p.segments) == MaxSegments {
		return p.fail(start, "a template has at most %d segments; {+rest} takes any number", MaxSegments)
	}
	p.segments = append(p.segments, s)
	return nil
}

func (p *parser) nothingFollows() error {
	return p.fail(p.at, "nothing can follow {+%s}: it takes the rest of the path", p.names[len(p.names)-1])
}

// literals reads text up to the next parameter or slash, into canonical form.
func (p *parser) literals() (string, error) {
	start := p.at
	var decoded strings.Builder
	for ; p.at < len(p.text); p.at++ {
		switch c := p.text[p.at]; {
		case c == '/' || c == '{':
			return decoded.String() + p.text[start:p.at], nil
		case c == '%':
			b, ok := segment.Unhex(p.text[p.at:])
			if !ok {
				return "", p.fail(p.at, "%% must be followed by two hexadecimal digits")
			}
			decoded.WriteString(p.text[start:p.at])
			segment.WriteCanonical(&decoded, b)
			p.at += 2
			start = p.at + 1
		case c == '}':
			return "", p.fail(p.at, "%q closes nothing: open a parameter with {", c)
		case c <= ' ' || c == 0x7f || strings.IndexByte(`"<>\^|?#`+"`", c) >= 0:
			return "", p.fail(p.at, "%q is not allowed in a path: write it percent-encoded", c)
		}
	}
	return decoded.String() + p.text[start:], nil
}

// parameter reads a parameter, and reports whether it takes the rest of the path.
func (p *parser) parameter() (rest bool, err error) {
	open := p.at
	end := strings.IndexByte(p.text[open:], '}')
	if end < 0 {
		return false, p.fail(open, "{ is never closed")
	}
	name, rest := strings.CutPrefix(p.text[open+1:open+end], "+")
	at := open + end - len(name)
	if name == "" {
		return false, p.fail(at, "a parameter needs a name: {lock}")
	}
	for i := range len(name) {
		if c := name[i]; !('a' <= c|0x20 && c|0x20 <= 'z' || c == '_' || '0' <= c && c <= '9' && i > 0) {
			return false, p.fail(at+i, "%q is not allowed in a parameter's name: use letters, digits and _, a letter first", c)
		}
	}
	for _, n := range p.names {
		if n == name {
			return false, p.fail(at, "the template has the parameter %s twice", name)
		}
	}
	if len(p.names) == MaxParameters {
		return false, p.fail(at, "a template has at most %d parameters", MaxParameters)
	}
	p.names = append(p.names, name)
	p.at = open + end + 1
	return rest, nil
}

// errUnclean is what Expand says of a value that would change the path's meaning.
var errUnclean = errors.New("would make a dot segment (RFC 3986, 5.2.4) or an empty one")

// Expand writes the path that the template stands for, percent-encoded, with
// value giving each parameter. It follows the simple and the reserved expansion
// of RFC 6570 (3.2.2, 3.2.3), except two points that make the path match again
// with the same values: a % in a value is always encoded, and so are the
// reserved characters that end a path (? and #) or cannot be in one ([ and ]).
// An empty value, except {+rest}, one that makes a dot segment or an empty one, and
// values that would be read back otherwise are errors.
func (t Template) Expand(value func(name string) string) (string, error) {
	var b strings.Builder
	for n, s := range t.segments {
		b.WriteByte('/')
		start := b.Len()
		var given []string
		for i, text := range s.Texts {
			writeEscaped(&b, text, pathText)
			if i == len(s.Names) {
				break
			}
			v := value(s.Names[i])
			given = append(given, v)
			switch {
			case s.Rest:
				if !segment.IsClean(v) {
					return "", fmt.Errorf("parameter %s: %q %w", s.Names[i], v, errUnclean)
				}
				writeEscaped(&b, v, pathRest)
			case v == "":
				return "", fmt.Errorf("parameter %s: a path cannot hold an empty value", s.Names[i])
			default:
				writeEscaped(&b, v, pathValue)
			}
		}
		if made := b.String()[start:]; !s.Rest && (made == "." || made == "..") {
			return "", fmt.Errorf("parameter %s: %q %w", s.Names[0], made, errUnclean)
		}
		if err := readsBack(t.segments[n], given); err != nil {
			return "", err
		}
	}
	return b.String(), nil
}

// readsBack reports values of a mixed segment that would come back divided otherwise:
// in {from}-{to} the first cannot have a hyphen.
func readsBack(s segment.Segment, values []string) error {
	if s.Rest || s.IsText() || s.IsWhole() {
		return nil
	}
	var whole strings.Builder
	for i, text := range s.Texts {
		whole.WriteString(text)
		if i < len(values) {
			for j := range len(values[i]) {
				segment.WriteCanonical(&whole, values[i][j])
			}
		}
	}
	var spans [MaxParameters]segment.Span
	if !segment.Cut(whole.String(), true, s.Texts, 0, whole.Len(), spans[:]) {
		return fmt.Errorf("parameter %s: %q does not fit between the text around it", s.Names[0], values[0])
	}
	for i, v := range values {
		if got := segment.Decode(whole.String()[spans[i].Start:spans[i].End]); got != v {
			return fmt.Errorf(
				"parameter %s: %q would be read back as %q: it contains the text that follows it", s.Names[i], v, got,
			)
		}
	}
	return nil
}
