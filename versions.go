package wicketway

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
)

// VersionBy says how requests choose between the versions that are in a group: all of one At in
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
				b.mistake(
					at, "VersionBy: the field %s has a meaning of its own: choose one such as Api-Version, or MediaType",
					scheme.field,
				)
			}
			t.versionBy = versionBy{scheme, byDefault, at}
		},
		undone: func(t *terms) { t.versionBy = versionBy{} },
		acts:   isVersioned,
		lacks:  "this group has no Version",
		suits: func(r *resolved) error {
			if g := r.terms().guard; g != nil && scheme.kind == byHeader && slices.Contains(g.Scheme().Fields(), scheme.field) {
				return fmt.Errorf(
					"the guard %s reads the field %s: choose another one, such as Api-Version", g.Scheme().Name, scheme.field,
				)
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
	return slices.Contains(
		[]string{
			"Authorization",
			"Cookie",
			"Set-Cookie",
			"Range",
			"Origin",
			"Referer",
			"User-Agent",
			"Host",
			"Expect",
			"Date",
			"Forwarded",
			"From",
			"Via",
			"Cache-Control",
			"Pragma",
			"Connection",
			"Keep-Alive",
			"Te",
			"Trailer",
			"Transfer-Encoding",
			"Upgrade",
			"Prefer",
			"Priority",
			"Link",
			"Traceparent",
			"Tracestate",
			"Baggage",
			"Last-Event-Id",
			"X-Request-Id",
			"X-Api-Key",
			"Idempotency-Key",
		},
		field,
	)
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

// Overrides says that a route takes the place of an inherited one. It is a mistake where nothing is
// inherited that the route would replace, so that a slip in its line does not leave the old route
// in place.
func Overrides() Setting {
	return setting{
		at:    here.Here(0),
		name:  "Overrides",
		slot:  slotOverrides,
		mode:  replaces | onlyRoute,
		apply: func(reporter, here.Place, *terms) {},
	}
}

// Inherit is in the list of a [Version] and takes over every route of an earlier version
// that is not declared anew: one of the same method whose template differs in the names of
// its parameters at most. The earlier version is next to this one, under the same prefix,
// and may inherit itself.
//
// What this version's list says holds for inherited routes too: where both lists have a setting
// of which the nearest wins, its own takes the place of the earlier one's (its guard replaces that
// of the earlier list), and its chain comes first, without what it has by the same name. What
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

// Deprecated says that routes should no longer be used, from a time on that may be
// past or to come. Its answers carry the field Deprecation (RFC 9745). [Related] can say where to
// read more, and what comes instead. It does not travel with inherited routes; nor do [Sunset],
// [EndsAtSunset] and what is related to them.
func Deprecated(from time.Time) Setting {
	return retires(
		here.Here(0), "Deprecated", slotDeprecated, func(r *retirement, on bool) { r.deprecated = given(from, on) },
	).
		wrong(from.IsZero(), "the time is zero: give the one from which it holds")
}

// Sunset says when routes are expected to be gone: their answers carry the field
// Sunset (RFC 8594). It is still served after that, unless [EndsAtSunset] says otherwise.
func Sunset(at time.Time) Setting {
	return retires(here.Here(0), "Sunset", slotSunset, func(r *retirement, on bool) { r.sunset = given(at, on) }).
		wrong(at.IsZero(), "the time is zero: give the one at which it ends")
}

// EndsAtSunset ends routes at their [Sunset]: from then on they answer 410 with [problem.Retired].
// In the windows of time that are given it does so before, as a rehearsal for those who have not
// noticed. The guard is asked first, so that the log can say who still calls.
func EndsAtSunset(rehearsals ...facts.Window) Setting {
	s := retires(here.Here(0), "EndsAtSunset", slotEnds, func(r *retirement, on bool) {
		r.ends, r.rehearsals = on, nil
		if on {
			r.rehearsals = slices.Clone(rehearsals)
		}
	})
	s.suits = func(r *resolved) error {
		if r.terms().retirement.sunset.IsZero() {
			return errNoSunset
		}
		return nil
	}
	return s.wrong(slices.ContainsFunc(rehearsals, func(w facts.Window) bool { return !w.From.Before(w.Until) }),
		"a rehearsal ends before it begins: From must be before Until")
}

var errNoSunset = errors.New("no Sunset says when that is: add one")

// Related gives the answers of routes a Link (RFC 8288) to a URI or a path, with a
// relation such as deprecation (RFC 9745), sunset (RFC 8594), successor-version (RFC 5829),
// describedby or license.
func Related(relation, target string) Setting {
	link := "<" + target + `>; rel="` + relation + `"`
	s := setting{at: here.Here(0), name: "Related", slot: slotRelated, mode: ofGroups}
	if slices.Contains([]string{"deprecation", "sunset", "successor-version"}, relation) {
		s.mode |= staysBehind
	}
	s.apply = func(b reporter, at here.Place, t *terms) {
		uri, err := url.Parse(target)
		switch {
		case err != nil,
			target == "",
			strings.ContainsAny(target, "<> \"\r\n"),
			uri.Scheme == "" && uri.Host == "" && !strings.HasPrefix(target, "/"):
			b.mistake(at, "Related: %q is not a target: write a path such as /api/v2, or a URI", target)
		case !bind.IsToken(relation) && !isURI(relation):
			b.mistake(
				at,
				"Related: %q is not a relation: write one that is registered (RFC 8288, 2.1), such as successor-version, or a URI",
				relation,
			)
		default:
			t.retire(func(r *retirement) { r.links = append(slices.Clip(r.links), link) })
		}
	}
	return s
}

func isURI(text string) bool {
	uri, err := url.Parse(text)
	return err == nil && uri.IsAbs() && !strings.ContainsAny(text, "<> \"\r\n")
}

// Clock says what time it is for [EndsAtSunset]: for tests of what comes later.
func Clock(now func() time.Time) Setting {
	return retires(here.Here(0), "Clock", slotClock, func(r *retirement, on bool) {
		r.now = nil
		if on {
			r.now = now
		}
	}).wrong(now == nil, "the function is nil").
		where(func(r *resolved) bool { return r.terms().retirement.ends }, "no EndsAtSunset here asks what time it is")
}

// retire changes the terms' own retirement.
func (t *terms) retire(change func(r *retirement)) {
	own := *t.retirement
	change(&own)
	own.deprecation, own.sunsetAt, own.link = "", "", nil
	if !own.deprecated.IsZero() {
		own.deprecation = "@" + strconv.FormatInt(own.deprecated.Unix(), 10)
	}
	if !own.sunset.IsZero() {
		own.sunsetAt = own.sunset.UTC().Format(http.TimeFormat)
	}
	if len(own.links) > 0 {
		own.link = []string{strings.Join(own.links, ", ")}
	}
	t.retirement = &own
}

// retires makes a setting of a retirement, which can be undone.
func retires(at here.Place, name string, about slot, set func(r *retirement, on bool)) setting {
	s := flag(at, name, about, func(t *terms, on bool) { t.retire(func(r *retirement) { set(r, on) }) })
	if about != slotClock {
		s.mode |= staysBehind
	}
	return s
}
