package wicketway

import (
	"errors"
	"fmt"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
)

// VersionBy says how requests choose between the versions that are in a group: all of one At in
// the same way. Those that name none get the version by default, and with "" a problem; by [InPath]
// the routes of the default are served without a version in the path as well. Other than by the path the
// versions of a group share their paths; a route beside them that is in no version is served
// for every version. A preflight cannot name a version, so it asks about all of them.
//
// An unknown version is refused with a problem that lists those that are: by the path with 404,
// by a header field with 400, by a media type with 406 or, for the body, with 415.
func VersionBy(scheme VersionScheme, byDefault string) Setting {
	at := here.Here(0)
	return versionByKind.sayAt(at, versionBy{scheme, byDefault, at})
}

var versionByKind = &kindOf[versionBy]{
	name:  "VersionBy",
	mode:  replaces | ofGroups | besideVersions,
	field: func(t *terms) *versionBy { return &t.versionBy },
	wrong: func(in *reading, said versionBy) {
		switch scheme := said.scheme; {
		case scheme.kind != byHeader:
		case !bind.IsToken(scheme.field):
			in.wrong("InHeader(%q) is not a field name (RFC 9110, 5.1), such as Api-Version", scheme.field)
		case hasMeaning(scheme.field):
			in.wrong("the field %s has a meaning of its own: choose one such as Api-Version, or InMediaType", scheme.field)
		}
	},
	where: isVersioned,
	none:  "this group has no Version",
	fits: func(r *resolved, said versionBy) error {
		g, scheme := r.terms().guard, said.scheme
		if g != nil && scheme.kind == byHeader && slices.Contains(g.Scheme().Fields(), scheme.field) {
			return fmt.Errorf("the guard %s reads the field %s: choose another one, such as Api-Version", g.Scheme().Name,
				scheme.field)
		}
		return nil
	},
}

// WithdrawnVersions names versions that are no longer served. A request for one gets the same problem as an
// unknown version; the detail says that it was withdrawn.
func WithdrawnVersions(versions ...string) Setting {
	at := here.Here(0)
	return withdrawnKind.sayAt(at, withdrawals{versions, at})
}

var withdrawnKind = &kindOf[withdrawals]{
	name:  "WithdrawnVersions",
	mode:  replaces | ofGroups | besideVersions,
	field: func(t *terms) *withdrawals { return &t.withdrawn },
	wrong: func(in *reading, said withdrawals) { some(in, said.names) },
	where: isVersioned,
	none:  "this group has no Version",
}

func isVersioned(r *resolved) bool { return r.terms().version != "" }

// Overrides says that a route takes the place of an inherited one. It is a mistake where nothing is
// inherited that the route would replace, so that a slip in its line does not leave the old route
// in place.
func Overrides() Setting { return overridesKind.say(struct{}{}) }

var overridesKind = &kindOf[struct{}]{
	name:    "Overrides",
	mode:    replaces | onlyRoute,
	inherit: func(struct{}) (struct{}, bool) { return struct{}{}, false },
}

// Inherit is in the list of a [Version] and takes over every route of an earlier version
// that is not declared anew: one of the same method whose template differs in the names of
// its parameters at most. The earlier version is next to this one, under the same prefix,
// and may inherit itself.
//
// The settings of this version's list hold for inherited routes too: where both lists have a setting
// of which the nearest wins, its own takes the place of the earlier one's (its guard replaces that
// of the earlier list), and its chain comes first, without middleware of the same name. Whatever
// is further in, on the route or on a group around it, travels with the route. State that a
// middleware or a limit keeps is each version's own only where Wrap makes it.
func Inherit(version string) Part {
	return inheritPart{at: here.Here(0), from: version}
}

type inheritPart struct {
	at   here.Place
	from string
}

func (p inheritPart) part() here.Place { return p.at }

func (r Retirement) part() here.Place { return here.Place{} }

func (r Retirement) setting() setting { return retirementKind.sayAt(here.Place{}, r) }

var retirementKind = &kindOf[Retirement]{
	name:  "Retirement",
	mode:  replaces | byField | ofGroups,
	wrong: checkRetirement,
	field: func(t *terms) *Retirement { return &t.ending },
	apply: func(in *reading, _ Retirement) { in.retirement = newRetirement(in.ending, in.related) },
	fits: func(of *resolved, _ Retirement) error {
		if own := of.terms().ending; own.Ends && own.Sunset.IsZero() {
			return errNoSunset
		}
		return nil
	},
	fields: map[string]fieldKind{
		"Rehearsals": {ends, "no route here has Ends set", false},
		"Clock":      {ends, "no route here has Ends set, so nobody asks what time it is", false},
	},
	inherit: func(said Retirement) (Retirement, bool) { return Retirement{Clock: said.Clock}, said.Clock != nil },
}

func ends(r *resolved) bool { return r.terms().ending.Ends }

var errNoSunset = errors.New("no Sunset says when the routes end: add one")

func checkRetirement(in *reading, said Retirement) {
	if slices.ContainsFunc(said.Rehearsals, func(w facts.Window) bool { return !w.From.Before(w.Until) }) {
		in.wrong("a rehearsal ends before it begins: From must be before Until")
	}
	switch to := said.Successor.(type) {
	case nil:
	case string:
		if !isTarget(to) {
			in.wrong("the successor %q is not a target: write a path such as /api/v2, or a URI", to)
		}
	default:
		if v := reflect.ValueOf(to); v.Kind() != reflect.Func || v.IsNil() {
			in.wrong("the successor is a %T: give a path, a URI, or the function of its route", to)
		}
	}
}

// isTarget reports whether a text can be the target of a Link: a path, or a URI.
func isTarget(text string) bool {
	uri, err := url.Parse(text)
	return err == nil && text != "" && !strings.ContainsAny(text, "<> \"\r\n") &&
		(uri.Scheme != "" || uri.Host != "" || strings.HasPrefix(text, "/"))
}

// Related gives the answers of routes a Link (RFC 8288) to a URI or a path, with a
// relation such as deprecation (RFC 9745), sunset (RFC 8594), describedby or license.
func Related(relation, target string) Setting { return relatedKind.say(related{relation, target}) }

type related struct{ relation, target string }

var relatedKind = &kindOf[related]{
	name: "Related",
	mode: ofGroups,
	apply: func(in *reading, to related) {
		switch {
		case !isTarget(to.target):
			in.wrong("%q is not a target: write a path such as /api/v2, or a URI", to.target)
		case !bind.IsToken(to.relation) && !isURI(to.relation):
			in.wrong("%q is not a relation: write one that is registered (RFC 8288, 2.1), such as successor-version, or a URI",
				to.relation)
		default:
			in.related = append(slices.Clip(in.related), linkTo(to.target, to.relation))
			in.retirement = newRetirement(in.ending, in.related)
		}
	},
	inherit: func(to related) (related, bool) {
		return to, !slices.Contains([]string{"deprecation", "sunset", "successor-version"}, to.relation)
	},
}

func isURI(text string) bool {
	uri, err := url.Parse(text)
	return err == nil && uri.IsAbs() && !strings.ContainsAny(text, "<> \"\r\n")
}
