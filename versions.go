package wicketway

import (
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
)

// VersionBy says how requests choose between the versions that are in a group: all of one At in
// the same way. Those that name none get the version by default, and with "" a problem; by [InPath]
// the routes of the default are served without a version in the path as well. Other than by the path the
// versions of a group share their paths; a route beside them that is in no version is served
// whatever is asked for. A preflight cannot name a version, so it asks about all of them.
//
// An unknown version is refused with a problem that lists those that are: by the path with 404,
// by a header field with 400, by a media type with 406 or, for the body, with 415.
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

// WithdrawnVersions names versions that are no longer served. Who asks for one gets the same problem as for
// a version that never was, and is told.
func WithdrawnVersions(versions ...string) Setting {
	return setting{
		at:   here.Here(0),
		name: "WithdrawnVersions",
		slot: slotWithdrawn,
		mode: replaces | ofGroups | besideVersions,
		apply: func(b reporter, at here.Place, t *terms) {
			some(b, at, "WithdrawnVersions", versions)
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

func (r Retirement) part() here.Place { return here.Place{} }

func (r Retirement) setting() setting {
	s := setting{
		name:    "Retirement",
		slot:    slotRetirement,
		mode:    replaces | ofGroups | staysBehind,
		retires: &r,
		apply: func(b reporter, at here.Place, t *terms) {
			r.check(func(format string, args ...any) { b.mistake(at, "Retirement: "+format, args...) })
			t.retire(func(own *retirement) { r.set(own, r) })
		},
		undone: func(t *terms) { t.retire(func(own *retirement) { r.set(own, Retirement{}) }) },
		suits: func(of *resolved) error {
			if own := of.terms().retirement; own.ends && own.sunset.IsZero() {
				return errNoSunset
			}
			return nil
		},
		pieces: r.pieces(),
	}
	if r.Clock != nil && r.Deprecated.IsZero() && r.Sunset.IsZero() && !r.Ends && r.Rehearsals == nil && r.Successor == nil {
		s.mode &^= staysBehind
	}
	return s
}

var errNoSunset = errors.New("no Sunset says when the routes end: add one")

// check says what is wrong with it by itself.
func (r Retirement) check(mistake func(format string, args ...any)) {
	if r.pieces() == nil {
		mistake("no field is set: leave it out, or set one")
	}
	if slices.ContainsFunc(r.Rehearsals, func(w facts.Window) bool { return !w.From.Before(w.Until) }) {
		mistake("a rehearsal ends before it begins: From must be before Until")
	}
	switch to := r.Successor.(type) {
	case nil:
	case string:
		if !isTarget(to) {
			mistake("the successor %q is not a target: write a path such as /api/v2, or a URI", to)
		}
	default:
		if v := reflect.ValueOf(to); v.Kind() != reflect.Func || v.IsNil() {
			mistake("the successor is a %T: give a path, a URI, or the function of its route", to)
		}
	}
}

// set takes over from another one what r names.
func (r Retirement) set(to *retirement, from Retirement) {
	if !r.Deprecated.IsZero() {
		to.deprecated = from.Deprecated
	}
	if !r.Sunset.IsZero() {
		to.sunset = from.Sunset
	}
	if r.Ends {
		to.ends = from.Ends
	}
	if r.Rehearsals != nil {
		to.rehearsals = slices.Clone(from.Rehearsals)
	}
	if r.Clock != nil {
		to.now = from.Clock
	}
	if r.Successor != nil {
		to.successor, to.successorOf = "", nil
		if path, is := from.Successor.(string); is {
			to.successor = path
		} else if reflect.ValueOf(from.Successor).Kind() == reflect.Func {
			to.successorOf = functionOf(from.Successor)
		}
	}
}

// pieces are the fields that are set, each a setting of its own.
func (r Retirement) pieces() (all []piece) {
	ends := func(of *resolved) bool { return of.terms().retirement.ends }
	for _, field := range []struct {
		name  string
		isSet func(Retirement) bool
		acts  func(*resolved) bool
		lacks string
	}{
		{"Deprecated", func(r Retirement) bool { return !r.Deprecated.IsZero() }, nil, ""},
		{"Sunset", func(r Retirement) bool { return !r.Sunset.IsZero() }, nil, ""},
		{"Ends", func(r Retirement) bool { return r.Ends }, nil, ""},
		{"Rehearsals", func(r Retirement) bool { return r.Rehearsals != nil }, ends, "no route here has Ends set"},
		{"Successor", func(r Retirement) bool { return r.Successor != nil }, nil, ""},
		{"Clock", func(r Retirement) bool { return r.Clock != nil }, ends, "no route here has Ends set, so nobody asks what time it is"},
	} {
		if !field.isSet(r) {
			continue
		}
		all = append(all, piece{field.name, func(at *list, of *resolved) bool {
			for nearer := of.list; nearer != at; nearer = nearer.outer {
				if slices.ContainsFunc(nearer.settings, func(s setting) bool { return s.retires != nil && field.isSet(*s.retires) }) {
					return false
				}
			}
			return field.acts == nil || field.acts(of)
		}, cmp.Or(field.lacks, "inner settings overrule it for every route")})
	}
	return all
}

// isTarget reports whether a text can be the target of a Link: a path, or a URI.
func isTarget(text string) bool {
	uri, err := url.Parse(text)
	return err == nil && text != "" && !strings.ContainsAny(text, "<> \"\r\n") &&
		(uri.Scheme != "" || uri.Host != "" || strings.HasPrefix(text, "/"))
}

// Related gives the answers of routes a Link (RFC 8288) to a URI or a path, with a
// relation such as deprecation (RFC 9745), sunset (RFC 8594), describedby or license.
func Related(relation, target string) Setting {
	link := linkTo(target, relation)
	s := setting{at: here.Here(0), name: "Related", slot: slotRelated, mode: ofGroups}
	if slices.Contains([]string{"deprecation", "sunset", "successor-version"}, relation) {
		s.mode |= staysBehind
	}
	s.apply = func(b reporter, at here.Place, t *terms) {
		switch {
		case !isTarget(target):
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
	if links := own.allLinks(); len(links) > 0 {
		own.link = []string{strings.Join(links, ", ")}
	}
	t.retirement = &own
}
