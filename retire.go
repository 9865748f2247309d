package wicketway

import (
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

// Deprecated says that what stands here should not be used any more, from a time on that may be
// past or to come. Its answers carry the field Deprecation (RFC 9745). [Related] can say where to
// read more, and what comes instead. It does not travel with inherited routes; nor do [Sunset],
// [EndsAtSunset] and what is related to them.
func Deprecated(from time.Time) Setting {
	return retires(here.Here(0), "Deprecated", slotDeprecated, func(r *retirement, on bool) { r.deprecated = given(from, on) }).
		wrong(from.IsZero(), "the time is zero: give the one from which it holds")
}

// Sunset says when what stands here is expected to be no longer there: its answers carry the field
// Sunset (RFC 8594). It is still served after that, unless [EndsAtSunset] says otherwise.
func Sunset(at time.Time) Setting {
	return retires(here.Here(0), "Sunset", slotSunset, func(r *retirement, on bool) { r.sunset = given(at, on) }).
		wrong(at.IsZero(), "the time is zero: give the one at which it ends")
}

// EndsAtSunset ends what stands here at its [Sunset]: from then on it answers 410 with [problem.Retired].
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

// Related has the answers of what stands here carry a Link (RFC 8288) to a URI or a path, with a
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
		case err != nil, target == "", strings.ContainsAny(target, "<> \"\r\n"), uri.Scheme == "" && uri.Host == "" && !strings.HasPrefix(target, "/"):
			b.mistake(at, "Related: %q is not a target: write a path such as /api/v2, or a URI", target)
		case !bind.IsToken(relation) && !isURI(relation):
			b.mistake(at, "Related: %q is not a relation: write one that is registered (RFC 8288, 2.1), such as successor-version, or a URI", relation)
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

// A retirement is how something ends. One that terms have is not changed.
type retirement struct {
	deprecated, sunset time.Time
	ends               bool
	rehearsals         []facts.Window
	links              []string
	now                func() time.Time

	deprecation, sunsetAt string // the fields
	link                  []string
}

var noRetirement = &retirement{}

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

// wrong makes a setting a mistake where it is one by itself.
func (s setting) wrong(is bool, text string) setting {
	apply := s.apply
	s.apply = func(b reporter, at here.Place, t *terms) {
		if is {
			b.mistake(at, "%s: %s", s.name, text)
		}
		apply(b, at, t)
	}
	return s
}

func given(at time.Time, on bool) time.Time {
	if !on {
		return time.Time{}
	}
	return at
}

// checkRetirement holds the times of a list against each other (RFC 9745, 4).
func (b *builder) checkRetirement(l *list) {
	r := l.terms.retirement
	if r.sunset.IsZero() || !r.sunset.Before(r.deprecated) {
		return
	}
	for _, s := range l.settings {
		if s.slot == slotSunset || s.slot == slotDeprecated {
			b.mistake(s.at, "%s: the sunset, %s, is before the deprecation, %s: it must not be (RFC 9745, 4)", s.name,
				r.sunset.UTC().Format(time.RFC3339), r.deprecated.UTC().Format(time.RFC3339))
			return
		}
	}
}

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
	if !r.ends {
		return nil
	}
	now := time.Now
	if r.now != nil {
		now = r.now
	}
	at := now()
	if !at.Before(r.sunset) {
		return problem.Retired.Newf("This ended on %s.", r.sunset.UTC().Format(time.DateOnly)).With("sunset", r.sunset.UTC())
	}
	for _, w := range r.rehearsals {
		if !at.Before(w.From) && at.Before(w.Until) {
			return problem.Retired.Newf("This ends on %s. It is switched off until %s as a rehearsal.",
				r.sunset.UTC().Format(time.DateOnly), w.Until.UTC().Format(time.RFC3339)).
				With("sunset", r.sunset.UTC()).
				With("until", w.Until.UTC()).
				WithHeader("Cache-Control", "no-store") // a 410 may be kept otherwise (RFC 9110, 15.5.11)
		}
	}
	return nil
}

func (r *retirement) info() *facts.Retirement {
	if r.deprecated.IsZero() && r.sunset.IsZero() && r.links == nil {
		return nil
	}
	return &facts.Retirement{
		Deprecated: r.deprecated,
		Sunset:     r.sunset,
		Ends:       r.ends,
		Rehearsals: r.rehearsals,
		Links:      r.links,
	}
}
