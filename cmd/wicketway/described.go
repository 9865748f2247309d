package main

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

// A described API finds routes as the API itself does, by the same table.
type described struct {
	facts.API
	table   *table.Tables
	groupOf []int                    // by number in the table
	choices map[string]*table.Choice // by their prefix; those of versions that share their paths
}

func newDescribed(d facts.API) (described, error) {
	t := described{API: d, groupOf: []int{0}}
	var b table.Builder
	var errs []error
	parse := func(text string) route.Template {
		template, err := route.Parse(text)
		errs = append(errs, err)
		return template
	}
	policies := map[string]table.Slash{}
	for _, p := range []table.Slash{table.SlashRedirect, table.SlashStrict, table.SlashSame} {
		policies[p.String()] = p
	}
	for _, r := range d.Routes {
		of := table.Route{Method: r.Method, Template: parse(r.Path), Slash: policies[r.Slashes], Files: r.Files,
			Edition: t.edition(&b, r.Chosen, r.Version)}
		if r.Formats != nil {
			of.Suffixes = r.Formats.Suffixes
		}
		for _, p := range r.Except {
			of.Except = append(of.Except, table.Except{Prefix: parse(p.Path), Edition: t.edition(&b, p.Chosen, p.Version)})
		}
		n, _ := b.Add(of)
		if c := r.Chosen; c != nil && of.Edition == 0 && c.Default == r.Version {
			b.AddForm(n, parse(c.Under+strings.TrimPrefix(r.Path, c.Under+"/"+r.Version)))
		}
	}
	for i, g := range d.Groups {
		edition := int32(0)
		if g.Version != "" {
			edition = t.edition(&b, g.Chosen, g.Version)
		}
		prefix := route.Template{}
		if g.Path != "/" {
			prefix = parse(g.Path)
		}
		n := 0
		if i > 0 {
			if n = b.AddGroup(prefix, edition); n == len(t.groupOf) {
				t.groupOf = append(t.groupOf, i)
			}
		}
		if c := g.Chosen; c != nil && g.Version == "" && t.choices[c.Under] != nil {
			t.choices[c.Under].Prefix, t.choices[c.Under].Group = prefix, int32(n)
		}
	}
	for _, c := range t.choices {
		b.AddChoice(*c)
	}
	t.table = b.Tables()
	return t, errors.Join(errs...)
}

// edition is the number of a version in the table; 0 where its path tells it.
func (t *described) edition(b *table.Builder, chosen *facts.Versions, version string) int32 {
	if chosen == nil || chosen.Field == "" {
		return 0
	}
	c := t.choices[chosen.Under]
	if c == nil {
		c = &table.Choice{Field: chosen.Field, Names: chosen.Served, Default: slices.Index(chosen.Served, chosen.Default)}
		for range chosen.Served {
			c.Editions = append(c.Editions, b.NewEdition())
		}
		if t.choices == nil {
			t.choices = map[string]*table.Choice{}
		}
		t.choices[chosen.Under] = c
	}
	return c.Editions[slices.Index(c.Names, version)]
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
