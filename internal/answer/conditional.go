package answer

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strings"
	"time"
)

// unchanged sets the validators of an answer, and reports whether the caller has
// it already.
func unchanged(h http.Header, r *http.Request, body []byte, out any) bool {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		return false
	}
	if h.Get("Etag") == "" {
		sum := sha256.Sum256(body)
		h.Set("Etag", `"`+hex.EncodeToString(sum[:12])+`"`)
	}
	if m, ok := out.(interface{ LastModified() time.Time }); ok && !m.LastModified().IsZero() {
		h.Set("Last-Modified", m.LastModified().UTC().Format(http.TimeFormat))
	}
	if tags := r.Header["If-None-Match"]; tags != nil { // it comes first (RFC 9110, 13.2.2)
		return HasTag(tags, h.Get("Etag"))
	}
	since, err := http.ParseTime(r.Header.Get("If-Modified-Since"))
	if err != nil {
		return false
	}
	modified, err := http.ParseTime(h.Get("Last-Modified"))
	return err == nil && !modified.After(since)
}

// HasTag reports whether a list of entity tags has a tag, or is *. Tags are compared
// without their weakness: ours are made of the content, and it is compression on
// the way that makes them weak.
func HasTag(lists []string, tag string) bool {
	tag = strings.TrimPrefix(tag, "W/")
	for _, list := range lists {
		for one := range strings.SplitSeq(list, ",") {
			if one = strings.TrimSpace(one); one == "*" && tag != "" || tag != "" &&
				strings.TrimPrefix(one, "W/") == tag {
				return true
			}
		}
	}
	return false
}
