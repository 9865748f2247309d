package cache

import (
	"net/http"
	"strings"
	"time"
)

// A directives value is a Cache-Control field that was read (RFC 9111, 5.2), by names in lower case.
// Of two that say the same the first counts (4.2.1).
type directives map[string]string

// read reads the lines of the field: names, each with a value perhaps, that may be quoted.
func read(lines []string) directives {
	if lines == nil {
		return nil
	}
	all := directives{}
	for _, line := range lines {
		for line != "" {
			var one string
			one, line = next(line)
			name, value, _ := strings.Cut(strings.TrimSpace(one), "=")
			name = strings.ToLower(name)
			if _, before := all[name]; name != "" && !before {
				all[name] = unquoted(value)
			}
		}
	}
	return all
}

// next cuts a list at its first comma that is not in a quoted string (RFC 9110, 5.6.1 and 5.6.4).
func next(list string) (one, rest string) {
	quoted := false
	for i := 0; i < len(list); i++ {
		switch c := list[i]; {
		case c == '"':
			quoted = !quoted
		case c == '\\' && quoted:
			i++
		case c == ',' && !quoted:
			return list[:i], list[i+1:]
		}
	}
	return list, ""
}

func unquoted(value string) string {
	inner, ok := strings.CutPrefix(value, `"`)
	if !ok {
		return value
	}
	return strings.ReplaceAll(strings.TrimSuffix(inner, `"`), `\`, "")
}

func (d directives) has(name string) bool {
	_, there := d[name]
	return there
}

// mostSeconds is what larger numbers are taken for (RFC 9111, 1.2.2).
const mostSeconds = 1 << 31

// age gives a number of seconds. One that cannot be read is 0: what it speaks of is stale, or is to
// be (RFC 9111, 4.2.1).
func (d directives) age(name string) (age time.Duration, given bool) {
	text, given := d[name]
	n, _ := seconds(text)
	return n, given
}

// seconds reads a delta-seconds: digits alone (RFC 9111, 1.2.2).
func seconds(text string) (d time.Duration, ok bool) {
	n := int64(0)
	for i := range len(text) {
		if text[i] < '0' || text[i] > '9' {
			return 0, false
		}
		n = min(n*10+int64(text[i]-'0'), mostSeconds)
	}
	return time.Duration(n) * time.Second, text != ""
}

// asking is what a request says of kept answers (RFC 9111, 5.2.1).
type asking struct {
	directives
	fresh bool // nothing kept will do, so it cannot share an answer with others
}

func askingOf(h http.Header) asking {
	a := asking{directives: read(h["Cache-Control"])}
	if a.directives == nil {
		return a
	}
	most, bounded := a.age("max-age")
	a.fresh = a.has("no-cache") || bounded && most == 0
	return a
}

// takes reports whether a kept answer may be used as it is, by its age (RFC 9111, 4.2 and 5.2.1).
func (a asking) takes(r *response, age time.Duration) bool {
	if a.fresh {
		return false
	}
	if most, ok := a.age("max-age"); ok && age > most {
		return false
	}
	left := r.fresh - age
	if least, ok := a.age("min-fresh"); ok && left < least {
		return false
	}
	if stale, ok := a.directives["max-stale"]; ok && left <= 0 && !r.must {
		most, valid := seconds(stale)
		return stale == "" || valid && -left <= most
	}
	return left > 0
}

// A lifetime is for how long an answer is good, from when it was made (RFC 9111, 4.2.1).
type lifetime struct {
	fresh time.Duration
	must  bool // it must not be used stale
}

// lifetimeOf reads what an answer says of itself; false where it must not be kept (RFC 9111, 3).
// Nothing is guessed where it says nothing. A private one is kept where callers are kept apart.
func lifetimeOf(h http.Header, now time.Time, byCaller bool) (l lifetime, ok bool) {
	d := read(h["Cache-Control"])
	if d.has("no-store") || d.has("private") && !byCaller {
		return l, false
	}
	l.must = d.has("must-revalidate") || d.has("proxy-revalidate") || d.has("s-maxage") || d.has("no-cache")
	said := false
	switch {
	case d.has("no-cache"):
	case d.has("s-maxage"):
		l.fresh, said = d.age("s-maxage")
	case d.has("max-age"):
		l.fresh, said = d.age("max-age")
	case h.Get("Expires") != "":
		said = true
		if until, err := http.ParseTime(h.Get("Expires")); err == nil {
			if made, err := http.ParseTime(h.Get("Date")); err == nil {
				now = made
			}
			l.fresh = max(until.Sub(now), 0)
		}
	}
	if l.fresh > 0 {
		return l, true
	}
	return l, (said || d.has("no-cache")) && validated(h)
}

// validated reports whether an answer can be asked about once it is stale (RFC 9111, 4.3).
func validated(h http.Header) bool { return h.Get("Etag") != "" || h.Get("Last-Modified") != "" }

// ageOf is the age of an answer when it comes in (RFC 9111, 4.2.3), asked for at one time and here
// at another.
func ageOf(h http.Header, asked, here time.Time) time.Duration {
	text, _, _ := strings.Cut(h.Get("Age"), ",") // the first of a list (5.1)
	age, _ := seconds(strings.TrimSpace(text))
	age += here.Sub(asked)
	if made, err := http.ParseTime(h.Get("Date")); err == nil {
		age = max(age, here.Sub(made))
	}
	return max(age, 0)
}
