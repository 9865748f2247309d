package table

import (
	"errors"
	"net/url"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/route"
)

// Described finds the routes of an API that is known by its description, as the API itself does. It is immutable, and
// safe for concurrent use.
type Described struct {
	*Tables
	groups   []facts.Group // by number in the table
	versions map[string]*Versions
}

// Describe makes the tables of a description. A route has the number that it has there.
func Describe(d facts.API) (Described, error) {
	t := Described{versions: map[string]*Versions{}}
	var b Builder
	var errs []error
	parse := func(text string) (template route.Template) {
		if text != "" && text != "/" {
			var err error
			template, err = route.Parse(text)
			errs = append(errs, err)
		}
		return template
	}
	edition := func(v *facts.Versions, version string) int32 {
		if v == nil || version == "" {
			return 0
		}
		if t.versions[v.Under] == nil {
			t.versions[v.Under] = &Versions{Under: parse(v.Under), Field: v.Field, Default: v.Default}
			for _, name := range v.Served {
				b.AddVersion(t.versions[v.Under], name)
			}
		}
		return t.versions[v.Under].Edition(version)
	}
	for _, r := range d.Routes {
		template, err := route.Parse(r.Path)
		errs = append(errs, err)
		of := Route{Method: r.Method, Template: template, Slash: slashOf(r.Slashes), Files: r.Files,
			Edition: edition(r.Chosen, r.Version)}
		if r.Formats != nil {
			of.Suffixes = r.Formats.Suffixes
		}
		for _, p := range r.Except {
			of.Except = append(of.Except, Except{Prefix: parse(p.Path), Edition: edition(p.Chosen, p.Version)})
		}
		n, _ := b.Add(of)
		if r.Chosen == nil {
			continue
		}
		if v := t.versions[r.Chosen.Under]; v.DefaultsTo(r.Version) {
			within, err := v.Within(r.Version, template)
			errs = append(errs, err)
			b.AddDefault(n, v, within)
		}
	}
	for i, g := range d.Groups {
		if i == 0 { // the whole API
			t.groups = append(t.groups, g)
		} else if n := b.AddGroup(parse(g.Path), edition(g.Chosen, g.Version)); n == len(t.groups) {
			t.groups = append(t.groups, g)
		}
	}
	t.Tables = b.Tables()
	return t, errors.Join(errs...)
}

// Versions are those under a prefix.
func (t Described) Versions(under string) *Versions { return t.versions[under] }

// Missed says what it means that a request was resolved to no route, and the group that it is in.
func (t Described) Missed(method string, u *url.URL, as Resolution, m *Match) (Miss, facts.Group) {
	g := t.groups[m.Group]
	return t.Miss(method, u, as, m, groupOf(g), nil), g
}

// groupOf is a group as the table asks about it. Versions are right below it, unless it is inside of one.
func groupOf(g facts.Group) Group {
	of := Group{Depth: strings.Count(strings.TrimSuffix(g.Path, "/"), "/")}
	if g.Version == "" {
		of.Versions = g.Chosen
	}
	return of
}

// slashOf is the policy with a name.
func slashOf(name string) Slash {
	for _, p := range []Slash{SlashStrict, SlashSame} {
		if p.String() == name {
			return p
		}
	}
	return SlashRedirect
}
