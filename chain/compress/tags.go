package compress

import (
	"net/http"
	"strings"

	"github.com/wicketway/wicketway/internal/answer"
)

// answerCodings are those that the tag of a body can name.
var answerCodings = []string{"gzip", "br", "zstd"}

// coded is the tag of a body that is coded. A weak one stays: it says nothing about bytes.
func coded(tag, coding string) string {
	if strings.HasPrefix(tag, "W/") || !strings.HasSuffix(tag, `"`) {
		return tag
	}
	return strings.TrimSuffix(tag, `"`) + "-" + coding + `"`
}

// plain is the tag of the body before coding, and by what it was coded; "" for a tag that is of
// no coded body.
func plain(tag string) (of, coding string) {
	for _, coding := range answerCodings {
		if of, ok := strings.CutSuffix(tag, "-"+coding+`"`); ok {
			return of + `"`, coding
		}
	}
	return tag, ""
}

// plainTags gives a request whose conditions name the tags that the handler knows, and those
// among them that were given for bodies in the coding that is accepted now.
func plainTags(r *http.Request, accepted string) (asked *http.Request, known []string) {
	match, none := r.Header["If-Match"], r.Header["If-None-Match"]
	if match == nil && none == nil {
		return r, nil
	}
	own := *r
	own.Header = r.Header.Clone()
	if match != nil {
		own.Header["If-Match"], _ = rewritten(match, func(coding string) bool { return true })
	}
	if none != nil {
		own.Header["If-None-Match"], known = rewritten(none, func(coding string) bool { return coding == accepted })
	}
	return &own, known
}

// rewritten takes the coding off the tags of a list for which it counts.
func rewritten(lines []string, counts func(coding string) bool) (list, known []string) {
	for _, line := range lines {
		var tags []string
		for tag := range answer.EachTag(line) {
			if of, coding := plain(tag); coding != "" && counts(coding) {
				known = append(known, of)
				tag = of
			}
			tags = append(tags, tag)
		}
		if tags != nil {
			line = strings.Join(tags, ", ")
		}
		list = append(list, line)
	}
	return list, known
}
