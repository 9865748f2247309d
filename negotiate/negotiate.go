// Package negotiate reads what a caller prefers: the fields Accept and
// Accept-Encoding with their quality values (RFC 9110, 12.4 and 12.5).
package negotiate

import (
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
		q := 0
		named := false
		eachItem(accept, func(coding string, params string) {
			switch {
			case strings.EqualFold(coding, offer) || strings.EqualFold(coding, "x-"+offer):
				q, named = quality(params), true
			case coding == "*" && !named:
				q = quality(params)
			}
		})
		if q > bestQ {
			best, bestQ = offer, q
		}
	}
	if identity := identityQuality(accept); identity > bestQ {
		return ""
	}
	return best
}

// identityQuality is what the caller gives to content that is not encoded; 0
// where it says nothing, since then any coding it names is as welcome.
func identityQuality(accept []string) (q int) {
	eachItem(accept, func(coding, params string) {
		if strings.EqualFold(coding, "identity") {
			q = quality(params)
		}
	})
	return q
}

// MediaType chooses among the media types that the server offers, best first.
// No Accept at all means the first. It returns "" where the caller takes none.
// The most specific range that names an offer gives its quality (RFC 9110,
// 12.5.1); parameters other than q are not compared.
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
			case strings.EqualFold(media, offer):
				r = 3
			case strings.EqualFold(media, major+"/*"):
				r = 2
			case media == "*/*":
				r = 1
			}
			if r > rank {
				q, rank = quality(params), r
			}
		})
		if q > bestQ {
			best, bestQ = offer, q
		}
	}
	return best
}

// eachItem calls f for the items of a field that may stand in several lines
// (RFC 9110, 5.6.1), each cut at its first semicolon.
func eachItem(lines []string, f func(item, params string)) {
	for _, line := range lines {
		for item := range strings.SplitSeq(line, ",") {
			value, params, _ := strings.Cut(item, ";")
			if value = strings.Trim(value, " \t"); value != "" {
				f(value, params)
			}
		}
	}
}

// quality reads the weight among an item's parameters, in thousandths: 1000
// where none is given, 0 where it is broken (RFC 9110, 12.4.2).
func quality(params string) int {
	for param := range strings.SplitSeq(params, ";") {
		name, value, found := strings.Cut(strings.Trim(param, " \t"), "=")
		if !found || !strings.EqualFold(name, "q") {
			continue
		}
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
