// Package negotiate reads the preferences of callers: the fields Accept, Accept-Encoding and
// Accept-Language with their quality values (RFC 9110, 12.4 and 12.5).
package negotiate

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
)

// Encoding chooses among the content codings that the server offers, best
// first. It returns "" where the content should go as it is: the caller sent no
// Accept-Encoding, prefers identity, or takes none of the offers. Among equal
// quality values the server's order decides (RFC 9110, 12.5.3).
func Encoding(accept []string, offers ...string) string {
	if len(accept) == 0 {
		return ""
	}
	best, bestQ := "", 0
	for _, offer := range offers {
		if q := codingQuality(accept, offer, "x-"+offer); q > bestQ {
			best, bestQ = offer, q
		}
	}
	if identity := codingQuality(accept, "identity"); namesIdentity(accept) && identity > bestQ {
		return ""
	}
	return best
}

// codingQuality is what the caller gives to a coding under any of its names, or else
// by *. Of several values for one the highest counts, so that order never does.
func codingQuality(accept []string, names ...string) int {
	own, all, named := 0, 0, false
	eachItem(accept, func(coding, params string) {
		switch {
		case slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(coding, n) }):
			own, named = max(own, quality(params)), true
		case coding == "*":
			all = max(all, quality(params))
		}
	})
	if named {
		return own
	}
	return all
}

// namesIdentity reports whether the caller speaks of content that is not encoded; one
// who does not welcomes any coding it names as much.
func namesIdentity(accept []string) (named bool) {
	eachItem(accept, func(coding, _ string) { named = named || strings.EqualFold(coding, "identity") })
	return named
}

// MediaType chooses among the media types that the server offers, best first.
// No Accept at all means the first. It returns "" where the caller takes none.
// The most specific range that names an offer gives its quality (RFC 9110,
// 12.5.1), one with parameters of its own only where there is none without; of
// several such ranges the highest counts. The values of parameters are not compared.
func MediaType(accept []string, offers ...string) string {
	if len(accept) == 0 {
		return offers[0]
	}
	best, bestQ := "", 0
	for _, offer := range offers {
		major, _, _ := strings.Cut(offer, "/")
		q, rank := 0, 0
		eachItem(accept, func(media, params string) {
			r := 0
			switch {
			case strings.EqualFold(media, offer) && hasOwnParameter(params):
				r = 3
			case strings.EqualFold(media, offer):
				r = 4
			case strings.EqualFold(media, major+"/*"):
				r = 2
			case media == "*/*":
				r = 1
			}
			switch {
			case r > rank:
				q, rank = quality(params), r
			case r == rank && r > 0:
				q = max(q, quality(params))
			}
		})
		if q > bestQ {
			best, bestQ = offer, q
		}
	}
	return best
}

// Parameter chooses among the values that the server offers for a parameter of media types, such as
// version. The range of the highest quality decides; one without the parameter takes whatever the
// server means by that, which is the value "", and of equal ones comes after those that name an
// offer, which are taken in the server's order. Where all name something else it is not ok, and the
// value is the first of those.
func Parameter(accept []string, name string, offers ...string) (value string, ok bool) {
	best, bestQ, bestRank := "", 0, 0
	lost := ""
	eachItem(accept, func(_, params string) {
		asked, has := parameter(params, name)
		rank, q := len(offers)+1, quality(params)
		if q == 0 {
			return
		}
		if has {
			if rank = slices.Index(offers, asked) + 1; rank == 0 {
				lost = cmp.Or(lost, asked, `""`)
				return
			}
		}
		if q > bestQ || q == bestQ && rank < bestRank {
			best, bestQ, bestRank = asked, q, rank
		}
	})
	if bestQ == 0 && lost != "" {
		return lost, false
	}
	return best, true
}

// parameter finds the first parameter of a name, and takes its value out of quotes.
func parameter(params, name string) (value string, has bool) {
	split(params, ';', func(param string) {
		n, v, _ := strings.Cut(strings.Trim(param, " \t"), "=")
		if !has && strings.EqualFold(n, name) {
			value, has = v, true
		}
	})
	if len(value) > 1 && value[0] == '"' && value[len(value)-1] == '"' {
		value = strings.ReplaceAll(value[1:len(value)-1], `\`, "")
	}
	return value, has
}

// hasOwnParameter reports whether there is a parameter other than the weight and the
// charset, which says nothing about JSON or pages.
func hasOwnParameter(params string) (has bool) {
	split(params, ';', func(param string) {
		name, _, _ := strings.Cut(strings.Trim(param, " \t"), "=")
		has = has || name != "" && !strings.EqualFold(name, "q") && !strings.EqualFold(name, "charset")
	})
	return has
}

// Language chooses among the language tags that the server offers: by lookup (RFC 4647, 3.4), so that de-AT takes an
// offer de. Ranges count in the order of their quality, equal ones in that of the field; "" where none leads to an offer,
// which the server's own language is then for (RFC 9110, 12.5.4).
func Language(accept []string, offers ...string) string {
	type ranged struct {
		tag     string
		quality int
	}
	var ranges []ranged
	eachItem(accept, func(tag, params string) {
		if q := quality(params); q > 0 && tag != "*" && len(tag) <= longestTag && len(ranges) < mostRanges {
			ranges = append(ranges, ranged{tag, q})
		}
	})
	slices.SortStableFunc(ranges, func(a, b ranged) int { return b.quality - a.quality })
	for _, r := range ranges {
		for tag := r.tag; tag != ""; {
			for _, offer := range offers {
				if strings.EqualFold(tag, offer) {
					return offer
				}
			}
			tag = tag[:max(0, strings.LastIndexByte(tag, '-'))]
			if n := len(tag); n > 2 && tag[n-2] == '-' { // a single letter introduces what was cut off
				tag = tag[:n-2]
			}
		}
	}
	return ""
}

// No caller knows more languages than these, nor one with a longer tag.
const (
	mostRanges = 32
	longestTag = 64
)

// eachItem calls f for the items of a field that may be in several lines
// (RFC 9110, 5.6.1), each cut at its first semicolon.
func eachItem(lines []string, f func(item, params string)) {
	for _, line := range lines {
		split(line, ',', func(item string) {
			value, params, _ := strings.Cut(item, ";")
			if value = strings.Trim(value, " \t"); value != "" {
				f(value, params)
			}
		})
	}
}

// split cuts a text at a separator that is not inside a quoted string (RFC 9110,
// 5.6.4).
func split(s string, separator byte, f func(string)) {
	start, quoted := 0, false
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '"':
			quoted = !quoted
		case s[i] == '\\' && quoted:
			i++
		case s[i] == separator && !quoted:
			f(s[start:i])
			start = i + 1
		}
	}
	f(s[start:])
}

// quality reads the weight among an item's parameters, in thousandths: 1000
// where none is given, 0 where it is broken (RFC 9110, 12.4.2).
func quality(params string) int {
	weight := ""
	split(params, ';', func(param string) {
		if name, value, _ := strings.Cut(strings.Trim(param, " \t"), "="); strings.EqualFold(name, "q") &&
			weight == "" {
			weight = value + " "
		}
	})
	if value := strings.TrimSuffix(weight, " "); weight != "" {
		whole, fraction, _ := strings.Cut(value, ".")
		if whole != "0" && whole != "1" || len(fraction) > 3 {
			return 0
		}
		n, err := strconv.Atoi(whole + (fraction + "000")[:3])
		if err != nil || n < 0 || n > 1000 {
			return 0
		}
		return n
	}
	return 1000
}
