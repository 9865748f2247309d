package wicketwaytest

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"mime"
	"net/http"
	"slices"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/contract/valid"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// mostHeld is how much of a body is held against its schema, in bytes; what is longer is held by its header alone.
const mostHeld = 4 << 20

// Honest stands around an API, and fails the test for each answer that its contract does not have: the status, the media
// type, a header field, or a body that breaks its schema. An answer to a request for none of its operations must be
// one that every path can have: a problem, a redirect, or what OPTIONS says. What Unlisted routes answer is not held.
//
//	server := httptest.NewServer(wicketwaytest.Honest(t, api))
//
// It is safe for concurrent use, and lets streams pass as they come.
func Honest(t testing.TB, api *wicketway.API) http.Handler {
	t.Helper()
	h := &honest{t: t, api: api}
	var versions []string
	var unlisted table.Builder
	for _, r := range api.Routes() {
		if !slices.Contains(versions, r.Version) {
			versions = append(versions, r.Version)
		}
		template, err := route.Parse(r.Path)
		if err == nil && (r.Own || r.Unlisted || r.Withdrawn) {
			unlisted.Add(table.Route{Method: r.Method, Template: template})
		}
		if r.Problems != nil {
			h.shapes = append(h.shapes, r.Problems.Media)
		}
	}
	h.unlisted = unlisted.Tables()
	for _, version := range versions {
		d, err := api.Contract(version)
		if version == "" && err != nil {
			continue // it has no routes for a contract
		}
		var held *valid.Answers
		if err == nil {
			held, err = valid.NewAnswers(d)
		}
		if err != nil {
			t.Fatalf("Honest: the contract of version %q: %v", version, err)
		}
		h.contracts = append(h.contracts, held)
	}
	return h
}

// honest is an API, and its contracts.
type honest struct {
	t         testing.TB
	api       *wicketway.API
	contracts []*valid.Answers
	unlisted  *table.Tables // of the routes that are in no contract
	shapes    []string      // media types of problems
}

func (h *honest) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	k := &keeping{ResponseWriter: w}
	h.api.ServeHTTP(k, r)
	if k.header == nil {
		return // it was hijacked, or the caller has left
	}
	u := *r.URL
	if err := h.check(valid.Answer{Method: r.Method, URL: &u, Status: k.status, Header: k.header, Body: k.body.Bytes()}); err != nil && k.body.Len() < mostHeld {
		h.t.Errorf("Honest: %v", err)
	}
}

// check holds an answer against all versions: one of them has it.
func (h *honest) check(a valid.Answer) error {
	var wrong []error
	for _, one := range h.contracts {
		err := one.Check(a)
		if err == nil {
			return nil
		}
		if !errors.Is(err, valid.ErrNoOperation) {
			wrong = append(wrong, err)
		}
	}
	if wrong != nil {
		return errors.Join(wrong...)
	}
	return h.elsewhere(a)
}

// elsewhere holds answers to requests for no operation.
func (h *honest) elsewhere(a valid.Answer) error {
	var m table.Match
	if h.unlisted.Resolve(a.Method, a.URL, a.Header, &m).Outcome == table.Found {
		return nil
	}
	media, _, _ := mime.ParseMediaType(http.Header(a.Header).Get("Content-Type"))
	switch {
	case a.Status >= 400 && (media == problem.MediaType || media == "text/html" || slices.Contains(h.shapes, media) || a.Method == http.MethodHead):
		return nil
	case a.Status == http.StatusPermanentRedirect, a.Method == http.MethodOptions && a.Status < 300:
		return nil
	}
	return fmt.Errorf("%s %s is no operation of the contract, and was answered %d with %q", a.Method, a.URL.Path, a.Status, media)
}

// keeping keeps what is sent.
type keeping struct {
	http.ResponseWriter
	status int
	header http.Header
	body   bytes.Buffer
}

// Unwrap is for http.ResponseController.
func (k *keeping) Unwrap() http.ResponseWriter { return k.ResponseWriter }

func (k *keeping) WriteHeader(status int) {
	if k.header == nil && status >= 200 {
		k.status, k.header = status, maps.Clone(k.Header())
	}
	k.ResponseWriter.WriteHeader(status)
}

func (k *keeping) Write(b []byte) (int, error) {
	if k.header == nil {
		k.status, k.header = http.StatusOK, maps.Clone(k.Header())
	}
	if k.body.Len() < mostHeld {
		k.body.Write(b)
	}
	return k.ResponseWriter.Write(b)
}
