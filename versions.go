package wicketway

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// A VersionScheme says where requests name the version that they mean: [Path], [Header] or
// [MediaType].
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

// Path is the scheme that holds where no [VersionBy] stands: each version is served under its name,
// /v2/locks.
var Path = VersionScheme{}

// MediaType has the parameter version of a media type choose: Accept: application/json;version=v2.
// Answers carry it in Content-Type and vary by Accept; of several that are accepted the best one
// that there is counts. A body that says its version must be of the one that is asked for, and
// chooses it where Accept names none.
var MediaType = VersionScheme{kind: byMedia}

// Header has a header field of the request choose, such as Api-Version. Answers vary by it.
func Header(name string) VersionScheme {
	return VersionScheme{kind: byHeader, field: http.CanonicalHeaderKey(name)}
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

// VersionBy says how requests choose between the versions that stand in a group: all of one At in
// the same way. Those that name none get the version by default, and with "" a problem; by [Path]
// the routes of the default are served without a version in the path as well. Other than by Path the
// versions of a group share their paths; a route beside them that is in no version is served
// whatever is asked for. A preflight cannot name a version, so it asks about all of them.
//
// An unknown version is refused with a problem that lists those that are: by Path with 404,
// by Header with 400, by MediaType with 406 or, for the body, with 415.
func VersionBy(scheme VersionScheme, byDefault string) Setting {
	return setting{
		at:   here.Here(0),
		name: "VersionBy",
		slot: slotVersionBy,
		mode: replaces | ofGroups | besideVersions,
		apply: func(b reporter, at here.Place, t *terms) {
			if scheme.kind == byHeader && !bind.IsToken(scheme.field) {
				b.mistake(at, "VersionBy: Header(%q) is not a field name (RFC 9110, 5.1), such as Api-Version", scheme.field)
			}
			if scheme.kind == byHeader && hasMeaning(scheme.field) {
				b.mistake(at, "VersionBy: the field %s has a meaning of its own: choose one such as Api-Version, or MediaType", scheme.field)
			}
			t.versionBy = versionBy{scheme, byDefault, at}
		},
		undone: func(t *terms) { t.versionBy = versionBy{} },
		acts:   isVersioned,
		lacks:  "this group has no Version",
		suits: func(r *resolved) error {
			if g := r.terms().guard; g != nil && scheme.kind == byHeader && slices.Contains(g.Scheme().Fields(), scheme.field) {
				return fmt.Errorf("the guard %s reads the field %s: choose another one, such as Api-Version", g.Scheme().Name, scheme.field)
			}
			return nil
		},
	}
}

// hasMeaning reports whether a field says something else than a version: what the connection, the
// content, the caller or intermediaries are about. Some of it is secret, and a problem would repeat it.
func hasMeaning(field string) bool {
	for _, start := range []string{"Accept", "Access-Control-", "Content-", "If-", "Proxy-", "Sec-", "X-Forwarded-"} {
		if strings.HasPrefix(field, start) {
			return true
		}
	}
	return slices.Contains([]string{"Authorization", "Cookie", "Set-Cookie", "Range", "Origin", "Referer", "User-Agent", "Host", "Expect", "Date",
		"Forwarded", "From", "Via", "Cache-Control", "Pragma", "Connection", "Keep-Alive", "Te", "Trailer", "Transfer-Encoding", "Upgrade",
		"Prefer", "Priority", "Link", "Traceparent", "Tracestate", "Baggage", "Last-Event-Id", "X-Request-Id", "X-Api-Key", "Idempotency-Key"}, field)
}

// Withdrawn names versions that are no longer served. Who asks for one gets the same problem as for
// a version that never was, and is told.
func Withdrawn(versions ...string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Withdrawn",
		slot: slotWithdrawn,
		mode: replaces | ofGroups | besideVersions,
		apply: func(b reporter, at here.Place, t *terms) {
			some(b, at, "Withdrawn", versions)
			t.withdrawn = withdrawals{versions, at}
		},
		undone: func(t *terms) { t.withdrawn = withdrawals{} },
		acts:   isVersioned,
		lacks:  "this group has no Version",
	}
}

func isVersioned(r *resolved) bool { return r.terms().version != "" }

// withdrawals is what a Withdrawn says.
type withdrawals struct {
	names []string
	at    here.Place
}

// versionBy is what a VersionBy says; the zero value is Path, with no default.
type versionBy struct {
	scheme    VersionScheme
	byDefault string
	at        here.Place
}

// A versionSet is the versions that stand side by side under one prefix. It is complete when all
// parts have been read.
type versionSet struct {
	under       route.Template
	by          versionBy
	at          here.Place // of the first version
	withdrawn   []string
	withdrawnAt here.Place
	names       []string
	editions    []int32 // of the table, where the versions share their paths
}

// versionsBelow are the versions that stand right below a group; nil for one inside of a version.
func (b *builder) versionsBelow(group resolved) *versionSet {
	if group.terms().version != "" {
		return nil
	}
	return b.under[group.path]
}

// addVersion adds a version to those that stand under its prefix, and gives the number of its
// edition.
func (b *builder) addVersion(g group, under route.Template, outer *terms) (*versionSet, int32) {
	if outer.versionBy.scheme.kind != byPath && !bind.IsToken(g.version) {
		b.mistake(g.at, "Version %q: requests name it by %s, so it must be a token (RFC 9110, 5.6.2), such as v2", g.version, outer.versionBy.scheme)
	}
	s := b.under[under.String()]
	if s == nil {
		s = &versionSet{under: under, by: outer.versionBy, at: g.at}
		b.sets, b.under[under.String()] = append(b.sets, s), s
	}
	if by := outer.versionBy; by.scheme != s.by.scheme || by.byDefault != s.by.byDefault {
		b.mistake(g.at, "Version %q: is chosen by %s, and the one at %s under the same prefix by %s: choose all in one way, with one default",
			g.version, by.scheme, b.where(s.at), s.by.scheme)
	}
	for _, name := range outer.withdrawn.names {
		s.withdrawnAt = outer.withdrawn.at
		if !slices.Contains(s.withdrawn, name) {
			s.withdrawn = append(s.withdrawn, name)
		}
	}
	i := slices.Index(s.names, g.version)
	if i < 0 {
		i = len(s.names)
		s.names = append(s.names, g.version)
		edition := int32(0)
		if s.sharesPaths() {
			edition = b.table.NewEdition()
		}
		s.editions = append(s.editions, edition)
	}
	return s, s.editions[i]
}

// sharesPaths reports whether the versions are told apart by something else than the path.
func (s *versionSet) sharesPaths() bool { return s != nil && s.by.scheme.kind != byPath }

// enterVersions puts the choices between versions into the table, and the default of those that
// stand in the path.
func (b *builder) enterVersions() {
	for i, s := range b.sets {
		if s.by.byDefault != "" && !slices.Contains(s.names, s.by.byDefault) {
			b.mistake(s.by.at, "VersionBy: version %s does not exist under %s; available: %s", s.by.byDefault,
				cmp.Or(s.under.String(), "/"), strings.Join(s.names, ", "))
		}
		for _, name := range s.withdrawn {
			if slices.Contains(s.names, name) {
				b.mistake(s.withdrawnAt, "Withdrawn: version %s stands under %s: leave one of the two out", name, cmp.Or(s.under.String(), "/"))
			}
		}
		if !s.sharesPaths() {
			continue
		}
		for _, other := range b.sets[:i] {
			if other.sharesPaths() && table.Meet(other.under, s.under) {
				b.mistake(s.at, "Version %q: a path under %s can be under %s as well, where versions are chosen at %s: keep them apart",
					s.names[0], cmp.Or(s.under.String(), "/"), cmp.Or(other.under.String(), "/"), b.where(other.by.at))
			}
		}
		group := int32(0)
		if s.under.String() != "" {
			group = int32(b.table.AddGroup(s.under, 0))
		}
		b.table.AddChoice(table.Choice{Prefix: s.under, Group: group, Field: s.variesBy(), Names: s.names,
			Editions: s.editions, Default: slices.Index(s.names, s.by.byDefault)})
	}
}

// defaultsTo reports whether a version is served without its name in the path, too.
func (s *versionSet) defaultsTo(version string) bool {
	return s != nil && !s.sharesPaths() && s.by.byDefault == version
}

// enterDefault lets a route of the default version be found without the version in its path.
func (b *builder) enterDefault(i int, r *resolved) {
	t := r.terms()
	if !t.versions.defaultsTo(t.version) {
		return
	}
	under := t.versions.under
	rest, err := route.Parse(cmp.Or(strings.TrimPrefix(r.path, under.String()+"/"+t.version), "/"))
	if err != nil {
		return // it was one before
	}
	if first := rest.Segments()[0]; !first.IsText() {
		b.mistake(r.at, "%s: begins with a parameter, so that without a version in the path, as VersionBy at %s allows, every unknown version would lead here: begin it with a text",
			r.line(), b.where(t.versions.by.at))
		return
	}
	if rest, err = under.Join(rest); err == nil {
		b.clash(r, b.table.AddForm(i, rest))
	}
}

// mediaParameter is what the media types of answers carry.
func (t *terms) mediaParameter() string {
	if t.versions.sharesPaths() && t.versions.by.scheme.kind == byMedia {
		return ";version=" + t.version
	}
	return ""
}

// variant tells the tags apart of versions that share their paths, and of shapes (RFC 9110, 8.8.1).
func (r *resolved) variant() (variant string) {
	if t := r.terms(); t.versions.sharesPaths() {
		variant = t.version
	}
	if by, _ := r.adapts(); by != nil {
		variant += " old"
	}
	return variant
}

// variesBy is the field of the request that chooses the version; "": none does.
func (s *versionSet) variesBy() string {
	switch {
	case !s.sharesPaths():
		return ""
	case s.by.scheme.kind == byHeader:
		return s.by.scheme.field
	}
	return "Accept"
}

// varies are the fields that choose, by edition.
func (b *builder) varies() []string {
	all := []string{""}
	for _, s := range b.sets {
		for _, e := range s.editions {
			all = append(all, make([]string, max(0, int(e)+1-len(all)))...)
			all[e] = s.variesBy()
		}
	}
	return all
}

// asking writes into the header of a request that it means a version.
func (t *terms) asking(h http.Header) {
	switch field := t.versions.variesBy(); field {
	case "":
	case "Accept":
		h.Set("Accept", "application/json"+t.mediaParameter())
		if h.Get("Content-Type") == "application/json" {
			h.Set("Content-Type", "application/json"+t.mediaParameter())
		}
	default:
		h.Set(field, t.version)
	}
}

// raises is the kind of problem for a version that is not there; nil where there are none.
func (s *versionSet) raises() *problem.Kind {
	if s == nil {
		return nil
	}
	return [...]*problem.Kind{problem.VersionUnknown, problem.VersionInvalid, problem.VersionNotAcceptable}[s.by.scheme.kind]
}

// refuse says that a request means a version that is not there.
func (s *versionSet) refuse(as table.Resolution, path string) error {
	served := strings.Join(s.names, ", ")
	kind, where := s.raises(), "The field "+s.variesBy()
	if as.Outcome == table.OtherContent {
		kind, where = problem.UnsupportedMedia, "The Content-Type"
	}
	var p *problem.Problem
	switch asked := as.Path; { // which is not repeated, since a secret may have got into the field
	case asked == "":
		p = kind.Newf("%s names no version of %s; served are %s.", where, path, served)
	case slices.Contains(s.withdrawn, asked):
		p = kind.Newf("%s names version %s of %s, which was withdrawn; served are %s.", where, asked, path, served)
	case slices.Contains(s.names, asked):
		p = kind.Newf("The content is of version %s, and another one is asked for.", asked)
	default:
		p = kind.Newf("%s names an unknown version of %s; served are %s.", where, path, served)
	}
	return p.With("versions", s.names)
}
