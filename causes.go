package wicketway

import (
	"context"
	"net/http"

	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/here"
)

// ShowCauses adds, for one request that asks for it, the causes of a problem and the places where they arose
// to the problem, as the member debug: in production too, for callers that a function allows. Such an answer
// says Cache-Control: no-store. Secrets that the request had are blanked. In development all problems have the
// member, whether they are asked for it or not.
type ShowCauses struct {
	// Field is the header field, or Query the parameter, by which a request asks, whatever its value is.
	Field, Query string
	// To decides who may see them. It is asked once the guard of the route has let the caller in; where no
	// guard is asked the caller is the zero Identity. It must be safe for concurrent use.
	To func(ctx context.Context, caller Identity) bool
}

func (c ShowCauses) part() here.Place { return here.Place{} }

func (c ShowCauses) setting() setting {
	return setting{
		name: "ShowCauses",
		slot: slotCauses,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			t.causes = &c
			if c.Field == "" && c.Query == "" {
				b.mistake(at, "ShowCauses: neither Field nor Query is set, so nobody can ask")
			}
			if c.Field != "" && !bind.IsToken(c.Field) {
				b.mistake(at, "ShowCauses: Field: %q is not a field name (RFC 9110, 5.1), such as Canal-Debug", c.Field)
			}
			if hasMeaning(http.CanonicalHeaderKey(c.Field)) {
				b.mistake(at, "ShowCauses: Field: %s has a meaning of its own: choose one such as Canal-Debug", c.Field)
			}
			if c.To == nil {
				b.mistake(at, "ShowCauses: To is nil, so nobody may see them")
			}
		},
		undone: func(t *terms) { t.causes = nil },
	}
}

// showsCauses reports whether the request asks for the causes of its problem, and may see them.
func (s *state) showsCauses() bool {
	t := s.target.terms()
	if t.causes == nil {
		return false
	}
	r := &s.request
	_, asks := r.Header[http.CanonicalHeaderKey(t.causes.Field)]
	if !asks && t.causes.Query != "" {
		asks = r.URL.Query().Has(t.causes.Query)
	}
	caller := s.State.Caller()
	if !asks || caller == nil && !s.target.isFallback() && s.target.guarded() {
		return false
	}
	if caller == nil {
		caller = &Identity{}
	}
	return t.causes.To(s, *caller)
}
