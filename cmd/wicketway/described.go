package main

import (
	"errors"
	"fmt"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

// A described API finds routes as the API itself does, by the same table.
type described struct {
	facts.API
	table    *table.Tables
	groupOf  []int // by number in the table
	versions map[string]*table.Versions
}

func newDescribed(d facts.API) (described, error) {
	t := described{API: d, groupOf: []int{0}, versions: map[string]*table.Versions{}}
	var b table.Builder
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
			t.versions[v.Under] = &table.Versions{Under: parse(v.Under), Field: v.Field, Default: v.Default}
			for _, name := range v.Served {
				b.AddVersion(t.versions[v.Under], name)
			}
		}
		return t.versions[v.Under].Edition(version)
	}
	for _, r := range d.Routes {
		template, err := route.Parse(r.Path)
		errs = append(errs, err)
		of := table.Route{Method: r.Method, Template: template, Slash: slashOf(r.Slashes), Files: r.Files,
			Edition: edition(r.Chosen, r.Version)}
		if r.Formats != nil {
			of.Suffixes = r.Formats.Suffixes
		}
		for _, p := range r.Except {
			of.Except = append(of.Except, table.Except{Prefix: parse(p.Path), Edition: edition(p.Chosen, p.Version)})
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
			continue
		}
		if n := b.AddGroup(parse(g.Path), edition(g.Chosen, g.Version)); n == len(t.groupOf) {
			t.groupOf = append(t.groupOf, i)
		}
	}
	t.table = b.Tables()
	return t, errors.Join(errs...)
}

// slashOf is the policy with a name.
func slashOf(name string) table.Slash {
	for _, p := range []table.Slash{table.SlashStrict, table.SlashSame} {
		if p.String() == name {
			return p
		}
	}
	return table.SlashRedirect
}

// why says why one matching route comes before another.
func why(first, other facts.Route, method string) string {
	if other.Method != method && other.Method != "" {
		return "different method"
	}
	a, b := strings.Split(first.Path, "/"), strings.Split(other.Path, "/")
	for i := 1; i < len(a) && i < len(b); i++ {
		x, y := kind(a[i]), kind(b[i])
		if x != y || x == "text mixed with parameters" && a[i] != b[i] {
			return fmt.Sprintf("segment %d: %s %s comes before %s %s", i, x, a[i], y, b[i])
		}
	}
	if other.Method == "" {
		return "a method of its own comes before all methods"
	}
	return "it has fewer segments"
}

func kind(segment string) string {
	switch {
	case strings.HasPrefix(segment, "{+"):
		return "the rest"
	case !strings.Contains(segment, "{"):
		return "text"
	case strings.HasPrefix(segment, "{") && strings.IndexByte(segment, '}') == len(segment)-1:
		return "a parameter"
	}
	return "text mixed with parameters"
}

// waysOf says by what requests choose a version: path, header Api-Version, media type.
func waysOf(c *facts.Versions) string {
	if c.By == "header" {
		return "header " + c.Field
	}
	return c.By
}
