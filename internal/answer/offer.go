package answer

import (
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/negotiate"
	"github.com/wicketway/wicketway/problem"
)

// An Offer is a format in which values can be sent.
type Offer struct {
	Name    string // csv
	Media   string // text/csv; charset=utf-8
	Version string // of its templates, for tags
	// Write writes a value; nil for JSON, which is written here.
	Write func(to io.Writer, v format.Value) error
	// Problem writes a problem; nil where the format has no way to.
	Problem func(to io.Writer, p format.Problem) error

	header []string // Content-Type
	bare   string   // the media type without its parameters
}

// A Choice says between which offers callers choose, and how. It is immutable.
type Choice struct {
	Offers []Offer // the first comes where nothing was asked for
	Accept bool    // by the field Accept
	Query  string  // by a query parameter of this name; "": by none
	Field  string  // by a header field of this name; "": by none
	Suffix bool    // by the suffix of the path
	First  bool    // what is not offered gets the first, instead of a refusal

	medias []string
}

// NewChoice completes a choice.
func NewChoice(c Choice) *Choice {
	c.Offers = slices.Clone(c.Offers)
	for i := range c.Offers {
		o := &c.Offers[i]
		o.header = []string{o.Media}
		o.bare, _, _ = strings.Cut(o.Media, ";")
		o.bare = strings.TrimSpace(o.bare)
		c.medias = append(c.medias, o.bare)
	}
	return &c
}

// Suffixes are the names that the end of a path can have.
func (c *Choice) Suffixes() (names []string) {
	if c == nil || !c.Suffix {
		return nil
	}
	for _, o := range c.Offers {
		names = append(names, o.Name)
	}
	return names
}

// calling is the choice where JSON has another media type, and all have a parameter.
func (c *Choice) calling(media, parameter string) *Choice {
	if c == nil {
		return c
	}
	own := *c
	own.Offers, own.medias = slices.Clone(c.Offers), nil
	if json := c.json(); json >= 0 && media != "" {
		own.Offers[json].Media = media
	}
	for i := range own.Offers {
		own.Offers[i].Media += parameter
	}
	return NewChoice(own)
}

// json is the place of JSON among the offers.
func (c *Choice) json() int {
	return slices.IndexFunc(c.Offers, func(o Offer) bool { return o.Write == nil })
}

// named finds an offer; -1 where there is none.
func (c *Choice) named(name string) int {
	return slices.IndexFunc(c.Offers, func(o Offer) bool { return o.Name == name })
}

// Choose finds the offer for a request: by the suffix that its path had, by the field if it is believed, by its query, or
// by the field Accept. Varies reports whether Accept had a say. The error is a problem of status 406.
func (c *Choice) Choose(r *http.Request, suffix string, believed bool) (i int, varies bool, err error) {
	if suffix != "" {
		return max(c.named(suffix), 0), false, nil
	}
	if asked := r.Header[c.Field]; c.Field != "" && asked != nil && believed {
		if i = c.named(asked[0]); i >= 0 && areOne(asked) {
			return i, false, nil
		}
		return 0, false, c.refuse("The field %s names no format of this.", c.Field)
	}
	if c.Query != "" {
		if asked := r.URL.Query()[c.Query]; asked != nil {
			if i = c.named(asked[0]); i >= 0 && areOne(asked) {
				return i, false, nil
			}
			return 0, false, c.refuse("The parameter %s names no format of this.", c.Query)
		}
	}
	if !c.Accept || len(c.Offers) == 1 {
		return 0, false, nil
	}
	found := negotiate.MediaType(r.Header["Accept"], c.medias...)
	if found == "" && negotiate.MediaType(r.Header["Accept"], "application/json") != "" {
		return c.json(), true, nil // whatever the route calls its JSON
	}
	if found == "" {
		return 0, true, c.refuse("None of the accepted media types is available.")
	}
	return slices.Index(c.medias, found), true, nil
}

// areOne reports whether values say the same, however often.
func areOne(values []string) bool {
	return !slices.ContainsFunc(values, func(v string) bool { return v != values[0] })
}

func (c *Choice) refuse(format string, args ...any) error {
	if c.First {
		return nil
	}
	var list []string
	for _, o := range c.Offers {
		if c.Query != "" || c.Field != "" || c.Suffix {
			list = append(list, o.Name+" ("+o.bare+")")
		} else {
			list = append(list, o.bare)
		}
	}
	return problem.NotAcceptable.Newf(format+" Offered are "+strings.Join(list, ", ")+".", args...).
		With("offered", c.medias)
}
