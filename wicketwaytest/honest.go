package wicketwaytest

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"mime"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/contract/valid"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
)

// mostHeld is how much of a body is held against its schema, in bytes; what is longer is held by its header alone.
const mostHeld = 4 << 20

// Honest stands around an API, and fails the test for each answer that its contract does not have: the status, the media
// type, a header field, or a body that breaks its schema. An answer to a request for none of its operations must be
// what wicketway explain says of it: status, Location and Allow, and a problem where it is an error. What Unlisted routes
// answer is not held.
//
//	server := httptest.NewServer(wicketwaytest.Honest(t, api))
//
// It is safe for concurrent use, and lets streams pass as they come.
func Honest(t testing.TB, api *wicketway.API) http.Handler {
	t.Helper()
	h := &honest{t: t, api: api, described: api.Describe()}
	var err error
	if h.routes, err = table.Describe(h.described); err != nil {
		t.Fatalf("Honest: the routes: %v", err)
	}
	var versions []string
	for _, r := range h.described.Routes {
		if !slices.Contains(versions, r.Version) {
			versions = append(versions, r.Version)
		}
		if r.Problems != nil {
			h.shapes = append(h.shapes, r.Problems.Media)
		}
		h.hasFiles = h.hasFiles || r.Files
	}
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
	described facts.API
	routes    table.Described
	contracts []*valid.Answers
	shapes    []string // media types of problems
	hasFiles  bool
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

// elsewhere holds answers to requests for no operation: of routes that are in no contract nothing is known, and all
// others are as explain says, unless a middleware has answered with a problem that the API declares.
func (h *honest) elsewhere(a valid.Answer) error {
	var m table.Match
	as := h.routes.Resolve(a.Method, a.URL, a.Header, &m)
	if as.Outcome == table.Found {
		if r := h.described.Routes[m.Route]; !r.Own && !r.Unlisted && !r.Withdrawn {
			return fmt.Errorf("%s %s is served by a route that no contract has: %s %s", a.Method, a.URL.Path, r.Method, r.Path)
		}
		return nil
	}
	media, _, _ := mime.ParseMediaType(http.Header(a.Header).Get("Content-Type"))
	isProblem := media == problem.MediaType || media == "text/html" || slices.Contains(h.shapes, media)
	if a.Status >= 400 && !isProblem && a.Method != http.MethodHead {
		return fmt.Errorf("%s %s is no operation of the contract, and was answered %d with %q, which is no problem", a.Method, a.URL.Path, a.Status, media)
	}
	miss, _ := h.routes.Missed(a.Method, a.URL, as, &m)
	if a.Status == miss.Status && h.leads(a, miss) || a.Status >= 400 && !isOfMisses(a.Status) && h.declares(a.Status) {
		return nil
	}
	if a.Status == http.StatusNotFound && h.hasFiles { // which of them are there is not in the description
		return nil
	}
	return fmt.Errorf("%s %s is no operation of the contract; want %d %s%s, and it was answered %d %s%s", a.Method, a.URL.Path,
		miss.Status, miss.Location, strings.Join(miss.Allowed, ", "), a.Status, one(a.Header, "Location"), one(a.Header, "Allow"))
}

// leads reports whether the fields Location and Allow are those of a miss.
func (h *honest) leads(a valid.Answer, miss table.Miss) bool {
	location, _, _ := strings.Cut(one(a.Header, "Location"), "?")
	return (miss.Location == "" || strings.HasSuffix(location, miss.Location)) &&
		(miss.Allowed == nil || h.hasFiles || one(a.Header, "Allow") == strings.Join(miss.Allowed, ", "))
}

func one(h map[string][]string, name string) string { return strings.Join(h[name], ", ") }

// isOfMisses reports whether a status says that no route takes a request.
func isOfMisses(status int) bool {
	return status == http.StatusNotFound || status == http.StatusMethodNotAllowed
}

func (h *honest) declares(status int) bool {
	return slices.ContainsFunc(h.described.Problems, func(k facts.Kind) bool { return k.Status == status })
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
