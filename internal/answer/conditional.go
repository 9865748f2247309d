package answer

import (
	"net/http"
	"strings"
	"time"
)

// Preconditions are what a request asks of the state that it meets (RFC 9110, 13.1), as it
// was sent.
type Preconditions struct {
	match, none         []string // lines of If-Match and If-None-Match; nil: not sent
	unmodified, changed string   // If-Unmodified-Since and If-Modified-Since
}

// PreconditionsOf reads those of a request.
func PreconditionsOf(h http.Header) Preconditions {
	// A date that is none, and more than one, is ignored (13.1.3 and 13.1.4).
	date := func(lines []string) string {
		if len(lines) != 1 {
			return ""
		}
		if _, err := http.ParseTime(lines[0]); err != nil {
			return ""
		}
		return lines[0]
	}
	return Preconditions{h["If-Match"], h["If-None-Match"], date(h["If-Unmodified-Since"]), date(h["If-Modified-Since"])}
}

// Guards reports whether a request that changes something asks anything that is not to be ignored.
func (p Preconditions) Guards() bool { return p.match != nil || p.none != nil || p.unmodified != "" }

// A State is what preconditions are held against: whether there is a representation, its
// entity tags, one for each format, and when it changed last, where that is known.
type State struct {
	Exists   bool
	Tags     []string
	Modified time.Time
}

// A Verdict says whether a request goes on (0), ends in 304, or in 412 with the condition
// that does not hold.
type Verdict struct {
	Status int
	Field  string // If-Match
}

// Hold asks the conditions in the order of RFC 9110, 13.2.2. Reading is that of GET and HEAD.
func (p Preconditions) Hold(s State, reading bool) Verdict {
	switch {
	case p.match != nil:
		if !anyTag(p.match, s, strongly) {
			return Verdict{http.StatusPreconditionFailed, "If-Match"}
		}
	case p.unmodified != "":
		if since, err := http.ParseTime(p.unmodified); err == nil && s.changedAfter(since) {
			return Verdict{http.StatusPreconditionFailed, "If-Unmodified-Since"}
		}
	}
	switch {
	case p.none != nil:
		if !anyTag(p.none, s, weakly) {
			return Verdict{}
		}
		if reading {
			return Verdict{Status: http.StatusNotModified}
		}
		return Verdict{http.StatusPreconditionFailed, "If-None-Match"}
	case p.changed != "" && reading && !s.Modified.IsZero():
		if since, err := http.ParseTime(p.changed); err == nil && !s.changedAfter(since) {
			return Verdict{Status: http.StatusNotModified}
		}
	}
	return Verdict{}
}

// changedAfter compares whole seconds, which is all that a date can say. Without a date of
// the last change nothing is known, so the condition is ignored (RFC 9110, 13.1.4).
func (s State) changedAfter(t time.Time) bool {
	return !s.Modified.IsZero() && s.Modified.Truncate(time.Second).After(t)
}

// strongly and weakly compare entity tags (RFC 9110, 8.8.3.2).
func strongly(a, b string) bool { return a == b && !strings.HasPrefix(a, "W/") }
func weakly(a, b string) bool   { return strings.TrimPrefix(a, "W/") == strings.TrimPrefix(b, "W/") }

// anyTag reports whether a list names one of the tags, or is * where there is something.
func anyTag(lines []string, s State, same func(a, b string) bool) bool {
	for _, line := range lines {
		if strings.Trim(line, " \t") == "*" {
			return s.Exists
		}
		for tag := range EachTag(line) {
			for _, own := range s.Tags {
				if same(tag, own) {
					return true
				}
			}
		}
	}
	return false
}

// EachTag gives the entity tags of a list (RFC 9110, 8.8.3); a tag may hold commas. What is
// no tag is passed over.
func EachTag(list string) func(yield func(tag string) bool) {
	return func(yield func(string) bool) {
		for {
			list = strings.TrimLeft(list, " \t,")
			rest, weak := strings.CutPrefix(list, "W/")
			end := strings.IndexByte(strings.TrimPrefix(rest, `"`), '"')
			if !strings.HasPrefix(rest, `"`) || end < 0 {
				comma := strings.IndexByte(list, ',')
				if comma < 0 {
					return
				}
				list = list[comma:]
				continue
			}
			end += 2
			if weak {
				end += len("W/")
			}
			if !yield(list[:end]) {
				return
			}
			list = list[end:]
		}
	}
}

// asTag makes an entity tag of what a value calls its state: one that is written as a tag
// stays as it is.
func asTag(text string) (tag string, ok bool) {
	opaque, quoted := strings.CutPrefix(strings.TrimPrefix(text, "W/"), `"`)
	if quoted {
		if opaque, quoted = strings.CutSuffix(opaque, `"`); !quoted {
			return "", false
		}
	} else {
		opaque, text = text, `"`+text+`"`
	}
	for i := range len(opaque) {
		if c := opaque[i]; c == '"' || c <= ' ' || c == 0x7f { // etagc
			return "", false
		}
	}
	return text, true
}

// extended is a tag with more at its end.
func extended(tag, more string) string {
	if more == "" || tag == "" {
		return tag
	}
	return tag[:len(tag)-1] + more + `"`
}
