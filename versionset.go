package wicketway

import (
	"net/http"
	"reflect"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// A VersionScheme says where requests name the version that they mean: [InPath], [InHeader] or
// [InMediaType].
type VersionScheme struct {
	kind  versionKind
	field string
}

type versionKind uint8

const (
	byPath versionKind = iota
	byHeader
	byMedia
)

// InPath is the scheme that holds where no [VersionBy] is: each version is served under its name,
// /v2/locks.
func InPath() VersionScheme { return VersionScheme{} }

// InMediaType has the parameter version of a media type choose: Accept: application/json;version=v2.
// Answers carry it in Content-Type and vary by Accept; of several that are accepted the best one
// that there is counts. A body that says its version must be of the one that is asked for, and
// chooses it where Accept names none.
func InMediaType() VersionScheme { return VersionScheme{kind: byMedia} }

// InHeader has a header field of the request choose, such as Api-Version. Answers vary by it.
func InHeader(name string) VersionScheme {
	return VersionScheme{kind: byHeader, field: http.CanonicalHeaderKey(name)}
}

// chooses is the field of the request that names the version; "": the path does.
func (s VersionScheme) chooses() string {
	switch s.kind {
	case byHeader:
		return s.field
	case byMedia:
		return "Accept"
	}
	return ""
}

// String says it in words: path, header Api-Version, media type.
func (s VersionScheme) String() string {
	switch s.kind {
	case byHeader:
		return "header " + s.field
	case byMedia:
		return "media type"
	}
	return "path"
}

// versionBy is what a VersionBy says; the zero value is InPath, with no default.
type versionBy struct {
	scheme    VersionScheme
	byDefault string
	at        here.Place
}

// withdrawals is what a Withdrawn says.
type withdrawals struct {
	names []string
	at    here.Place
}

// A versionSet is the versions that are side by side under one prefix. It is complete when all
// parts have been read.
type versionSet struct {
	table.Versions
	by          versionBy
	at          here.Place // of the first version
	withdrawn   []string
	withdrawnAt here.Place
}

// inTable are the versions as the table knows them; nil where there are none.
func (s *versionSet) inTable() *table.Versions {
	if s == nil {
		return nil
	}
	return &s.Versions
}

// sharesPaths reports whether the versions are told apart by something else than the path.
func (s *versionSet) sharesPaths() bool { return s.inTable().SharePaths() }

// variesBy is the field of the request that chooses the version; "": none does.
func (s *versionSet) variesBy() string {
	if s == nil {
		return ""
	}
	return s.Field
}

// raises is the kind of problem for a version that is not there; nil where there are none.
func (s *versionSet) raises() *problem.Kind {
	if s == nil {
		return nil
	}
	return [...]*problem.Kind{problem.VersionUnknown, problem.VersionInvalid, problem.VersionNotAcceptable}[s.by.scheme.kind]
}

// refuse says that a request means a version that is not there.
func (s *versionSet) refuse(as table.Miss, path string) error {
	served := strings.Join(s.Names, ", ")
	if !s.sharesPaths() {
		text := "Version %s does not exist at %s; available: %s."
		if slices.Contains(s.withdrawn, as.Asked) {
			text = "Version %s at %s was withdrawn; available: %s."
		}
		return problem.VersionUnknown.Newf(text, as.Asked, path, served).With("versions", s.Names)
	}
	kind, where := s.raises(), "The field "+s.variesBy()
	if as.Status == http.StatusUnsupportedMediaType {
		kind, where = problem.UnsupportedMedia, "The Content-Type"
	}
	var p *problem.Problem
	switch asked := as.Asked; { // which is not repeated, since a secret may have got into the field
	case asked == "":
		p = kind.Newf("%s names no version of %s; served are %s.", where, path, served)
	case slices.Contains(s.withdrawn, asked):
		p = kind.Newf("%s names version %s of %s, which was withdrawn; served are %s.", where, asked, path, served)
	case slices.Contains(s.Names, asked):
		p = kind.Newf("The content is of version %s, and another one is asked for.", asked)
	default:
		p = kind.Newf("%s names an unknown version of %s; served are %s.", where, path, served)
	}
	return p.With("versions", s.Names)
}

func (s *versionSet) info() *facts.Versions {
	if s == nil {
		return nil
	}
	return &facts.Versions{
		Under:     s.Under.String(),
		By:        [...]string{"path", "header", "media type"}[s.by.scheme.kind],
		Field:     s.Field,
		Unknown:   s.raises().Status(),
		Default:   s.Default,
		Served:    s.Names,
		Withdrawn: s.withdrawn,
	}
}

// A lineage says how a route goes back to an earlier version.
type lineage struct {
	from   string         // the version that it was inherited from, or whose route it replaces
	own    bool           // it is here itself: it replaces an inherited route, or withdraws it
	before route.Template // of the route that was replaced or withdrawn
	at     here.Place     // of Inherit
}

// Retirement says how routes end: since when they are deprecated (RFC 9745), when they are expected to be gone
// (RFC 8594), and what comes instead. Their answers say so in header fields. A zero field leaves what an outer group
// says; Undo lifts the fields that are set. It does not travel with inherited routes, except for the Clock.
//
//	wicketway.Version("v1", legacy.Parts(desk), wicketway.Retirement{Deprecated: september, Sunset: june, Ends: true,
//		Successor: "/api/v2"})
type Retirement struct {
	// Deprecated is the time from which the routes should no longer be used, past or to come.
	Deprecated time.Time
	// Sunset is when they are expected to be gone. They are still served after that, unless Ends is set.
	Sunset time.Time
	// Ends ends the routes at their Sunset: from then on they answer 410 with [problem.Retired]. The guard is asked
	// first, so that the log can name the callers.
	Ends bool
	// Rehearsals are windows of time in which they answer 410 already, so that remaining callers notice.
	Rehearsals []facts.Window
	// Successor leads to the replacement, by a Link with the relation successor-version (RFC 5829): a path or a URI, or
	// the function that serves it in another version, whose path then has parameters of the same names.
	Successor any
	// Clock returns the time; nil: time.Now. It is for tests of the time after the Sunset, and must be safe for
	// concurrent use.
	Clock func() time.Time
}

// A retirement is how something ends, as the request path needs it. It is not changed.
type retirement struct {
	Retirement
	successorOf           *runtime.Func // the function that serves the successor, where one is named
	ending                facts.Retirement
	deprecation, sunsetAt string // the fields
	link                  []string
}

var noRetirement = &retirement{}

// newRetirement makes a retirement of what the settings around a route say.
func newRetirement(says Retirement, related []string) *retirement {
	r := &retirement{Retirement: says, ending: facts.Retirement{
		Deprecated: says.Deprecated,
		Sunset:     says.Sunset,
		Ends:       says.Ends,
		Rehearsals: slices.Clone(says.Rehearsals),
		Links:      related, // all of the field Link, except for a successor that only the request tells
	}}
	if path, is := says.Successor.(string); is {
		r.ending.Links = append(slices.Clip(related), linkTo(path, "successor-version"))
	} else if says.Successor != nil && reflect.ValueOf(says.Successor).Kind() == reflect.Func {
		r.successorOf = functionOf(says.Successor)
	}
	if !says.Deprecated.IsZero() {
		r.deprecation = "@" + strconv.FormatInt(says.Deprecated.Unix(), 10)
	}
	if !says.Sunset.IsZero() {
		r.sunsetAt = says.Sunset.UTC().Format(http.TimeFormat)
	}
	if len(r.ending.Links) > 0 {
		r.link = []string{strings.Join(r.ending.Links, ", ")}
	}
	return r
}

// linkTo is a link of the field Link (RFC 8288, 3).
func linkTo(target, relation string) string { return "<" + target + `>; rel="` + relation + `"` }

// announce writes the header fields of what comes to an end, whatever the status.
func (r *retirement) announce(_ int, h http.Header) {
	if r.deprecation != "" {
		h.Set("Deprecation", r.deprecation)
	}
	if r.sunsetAt != "" {
		h.Set("Sunset", r.sunsetAt)
	}
	writer.AddLinks(h, r.link...)
}

// over says that a route is no longer served.
func (r *retirement) over() error {
	if !r.Ends { // which needs no clock
		return nil
	}
	now := time.Now
	if r.Clock != nil {
		now = r.Clock
	}
	ended, until := r.ending.HasEnded(now())
	sunset := r.Sunset.UTC()
	switch {
	case !ended:
		return nil
	case until.IsZero():
		return problem.Retired.Newf("This ended on %s.", sunset.Format(time.DateOnly)).With("sunset", sunset)
	}
	return problem.Retired.Newf("This ends on %s. It is switched off until %s as a rehearsal.",
		sunset.Format(time.DateOnly), until.UTC().Format(time.RFC3339)).
		With("sunset", sunset).
		With("until", until.UTC()).
		WithHeader("Cache-Control", "no-store") // a 410 may be kept otherwise (RFC 9110, 15.5.11)
}

func (r *retirement) info() *facts.Retirement {
	if r.Deprecated.IsZero() && r.Sunset.IsZero() && r.link == nil && r.successorOf == nil {
		return nil
	}
	one := r.ending
	one.Links = slices.Clone(one.Links)
	return &one
}
