package wicketway

import (
	"net/http"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/table"
)

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
	case match != nil && !answer.HasTag(match, tag):
		return ErrPreconditionFailed.Newf("The state has changed since: it has the tag %s.", orNone(tag))
	case none != nil && answer.HasTag(none, tag):
		return ErrPreconditionFailed.Newf("There is something already: it has the tag %s.", tag)
	}
	if limit, err := http.ParseTime(since); match == nil && err == nil {
		if modified, err := http.ParseTime(present.Get("Last-Modified")); err != nil || modified.After(limit) {
			return ErrPreconditionFailed.Newf("The state has changed since %s.", since)
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
	get := r.Clone(r.Context())
	get.Method, get.Body, get.ContentLength = http.MethodGet, http.NoBody, 0
	for _, name := range []string{"If-Match", "If-None-Match", "If-Modified-Since", "If-Unmodified-Since", "Range"} {
		get.Header.Del(name)
	}
	inner := &state{Context: s, api: s.api}
	inner.caller.Store(s.caller.Load())
	if s.api.table.Find(http.MethodGet, r.URL.Path, r.URL.RawPath, &inner.match) != table.Found {
		return http.Header{}, nil
	}
	inner.target = &s.api.targets[inner.match.Route]
	end, typed := inner.target.end.(interface {
		present(*http.Request, *state) (http.Header, error)
	})
	if !typed {
		return http.Header{}, nil
	}
	header, err := end.present(get.WithContext(inner), inner)
	if err != nil && inner.target.terms().translated(err).Kind().Status() < 500 {
		return http.Header{}, nil
	}
	return header, err
}

// An unseen answer is kept from the caller.
type unseen struct{ header http.Header }

func (u unseen) Header() http.Header         { return u.header }
func (u unseen) WriteHeader(int)             {}
func (u unseen) Write(p []byte) (int, error) { return len(p), nil }
