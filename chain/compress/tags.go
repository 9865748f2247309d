package compress

import (
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/negotiate"
)

// answerCodings are those that the tag of a body can name.
var answerCodings = []string{"gzip", "br", "zstd"}

// identity names that a body is not coded, in tags that would be read as those of coded ones.
const identity = "identity"

// coded is the tag that is sent for a body which the handler knows under another: with the coding at its
// end. One that is not coded stays, unless it ends like that of a coded one, so that each tag that is
// sent has one reading. A weak one stays: it says nothing about bytes.
func coded(tag, coding string) string {
	opaque, ok := strings.CutSuffix(tag, `"`)
	if !ok || strings.HasPrefix(tag, "W/") {
		return tag
	}
	if coding == "" {
		if _, by := plain(tag); by == "" {
			return tag
		}
		coding = identity
	}
	return opaque + "-" + coding + `"`
}

// plain is the tag of the body before coding, and by what it was coded; "" for a tag that says nothing
// about that.
func plain(tag string) (of, coding string) {
	if strings.HasPrefix(tag, "W/") {
		return tag, ""
	}
	for _, coding := range append(answerCodings, identity) {
		if of, ok := strings.CutSuffix(tag, "-"+coding+`"`); ok {
			return of + `"`, coding
		}
	}
	return tag, ""
}

// A sentTag is one that the caller has, and as the handler knows it.
type sentTag struct{ own, sent string }

// askPlain gives a request whose conditions name the tags that the handler knows, and those of
// If-None-Match that the answer may confirm. Tags by codings that are not offered hold for nothing.
// A part is sent on condition of a tag alone: a date does not tell coded bytes from plain ones.
func (s *Settings) askPlain(r *http.Request) (asked *http.Request, known []sentTag) {
	match, none, ifRange := r.Header["If-Match"], r.Header["If-None-Match"], r.Header["If-Range"]
	byDate := len(ifRange) > 0 && r.Header["Range"] != nil && !strings.HasSuffix(strings.TrimSpace(ifRange[0]), `"`)
	if match == nil && none == nil && !byDate {
		return r, nil
	}
	own := *r
	own.Header = r.Header.Clone()
	if byDate {
		delete(own.Header, "Range")
		delete(own.Header, "If-Range")
	}
	reads := r.Method == http.MethodGet || r.Method == http.MethodHead
	offered := func(coding string) bool { return coding == identity || slices.Contains(s.Codings, coding) }
	if match != nil {
		own.Header["If-Match"], _ = rewritten(match, offered)
	}
	if none != nil {
		own.Header["If-None-Match"], known = rewritten(none, func(coding string) bool {
			return offered(coding) &&
				(!reads || coding == identity || negotiate.Encoding(r.Header["Accept-Encoding"], coding) != "")
		})
	}
	return &own, known
}

// rewritten takes the coding off the tags of a list for which it counts, and leaves the others out.
func rewritten(lines []string, counts func(coding string) bool) (list []string, known []sentTag) {
	for _, line := range lines {
		if strings.TrimSpace(line) == "*" {
			list = append(list, line)
			continue
		}
		var tags []string
		for tag := range answer.EachTag(line) {
			of, coding := plain(tag)
			if coding == "" || counts(coding) {
				known = append(known, sentTag{of, tag})
				tags = append(tags, of)
			}
		}
		list = append(list, strings.Join(tags, ", "))
	}
	return list, known
}
