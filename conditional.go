package wicketway

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strings"
	"time"

	"github.com/wicketway/wicketway/problem"
)

// Conditional answers conditional requests (RFC 9110, 13) for the routes of a
// group. A GET gets an ETag, made of its body unless the route sets one in a
// [Reply], and a Last-Modified where the output has a method LastModified()
// time.Time; If-None-Match and If-Modified-Since are answered with 304. Before any
// other method with If-Match, If-None-Match or If-Unmodified-Since the GET route
// of the same path is asked for the present state, and a condition that does not
// hold is answered with 412.
//
// Between that question and the change another request can come in; storage that
// must not lose an update needs a check of its own.
func Conditional() Setting {
	at := here(0)
	return setting{at, "Conditional", true, func(b *builder, t *terms) {
		t.conditional, t.conditions = true, &declared{at: at}
		b.conditions = append(b.conditions, t.conditions)
	}}
}

// A declared setting must have an effect somewhere.
type declared struct {
	at   place
	used bool
}

// ErrPreconditionFailed is raised where a condition of the request does not hold.
var ErrPreconditionFailed = problem.OfStatus(http.StatusPreconditionFailed)

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
		return names(tags, h.Get("Etag"))
	}
	since, err := http.ParseTime(r.Header.Get("If-Modified-Since"))
	if err != nil {
		return false
	}
	modified, err := http.ParseTime(h.Get("Last-Modified"))
	return err == nil && !modified.After(since)
}

// names reports whether a list of entity tags has a tag, or is *. Tags are compared
// without their weakness: ours are made of the content, and it is compression on
// the way that makes them weak.
func names(lists []string, tag string) bool {
	tag = strings.TrimPrefix(tag, "W/")
	for _, list := range lists {
		for one := range strings.SplitSeq(list, ",") {
			if one = strings.TrimSpace(one); one == "*" && tag != "" || tag != "" && strings.TrimPrefix(one, "W/") == tag {
				return true
			}
		}
	}
	return false
}

// precondition holds the conditions of a request that would change something
// against the present state.
func (s *state) precondition(r *http.Request) error {
	match, none, since := r.Header["If-Match"], r.Header["If-None-Match"], r.Header.Get("If-Unmodified-Since")
	if match == nil && none == nil && since == "" {
		return nil
	}
	present, err := s.present(r)
	if err != nil {
		return err
	}
	tag := present.Get("Etag")
	switch {
	case match != nil && !names(match, tag):
		return ErrPreconditionFailed.New("The state has changed since: it has the tag %s.", orNone(tag))
	case none != nil && names(none, tag):
		return ErrPreconditionFailed.New("There is something already: it has the tag %s.", tag)
	}
	if limit, err := http.ParseTime(since); match == nil && err == nil {
		if modified, err := http.ParseTime(present.Get("Last-Modified")); err != nil || modified.After(limit) {
			return ErrPreconditionFailed.New("The state has changed since %s.", since)
		}
	}
	return nil
}

func orNone(tag string) string {
	if tag == "" {
		return "none"
	}
	return tag
}

// present asks the GET route of the request's path for the header that it would
// answer with; an empty one where nothing is there.
func (s *state) present(r *http.Request) (http.Header, error) {
	seen := &unseen{header: http.Header{}}
	get := r.Clone(r.Context())
	get.Method, get.Body, get.ContentLength = http.MethodGet, http.NoBody, 0
	for _, name := range []string{"If-Match", "If-None-Match", "If-Modified-Since", "If-Unmodified-Since", "Range"} {
		get.Header.Del(name)
	}
	inner := newState(s.api, seen, get)
	inner.caller.Store(s.caller.Load())
	if inner.target = s.api.find(http.MethodGet, r.URL.EscapedPath(), &inner.match); inner.target == nil {
		return seen.header, nil
	}
	err := inner.target.end.serve(seen, get.WithContext(inner), inner)
	if err != nil {
		if inner.target.translated(err).Kind().Status() < 500 {
			return http.Header{}, nil
		}
		return nil, err
	}
	return seen.header, nil
}

// An unseen answer is kept from the caller.
type unseen struct {
	header http.Header
	body   bytes.Buffer
}

func (u *unseen) Header() http.Header         { return u.header }
func (u *unseen) WriteHeader(int)             {}
func (u *unseen) Write(p []byte) (int, error) { return u.body.Write(p) }
