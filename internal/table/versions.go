package table

import (
	"cmp"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/route"
)

// SharePaths reports whether the versions are told apart by something else than the path.
func (v *Versions) SharePaths() bool { return v != nil && v.Field != "" }

// AddVersion adds a version to others, unless it is there, and gives the number of its edition: 1 for the first, and
// so on, and 0 where its path tells it.
func (b *Builder) AddVersion(of *Versions, name string) (edition int32) {
	if i := slices.Index(of.Names, name); i >= 0 {
		return of.editions[i]
	}
	if of.SharePaths() {
		if len(of.Names) == 0 {
			b.versions = append(b.versions, of)
		}
		b.editions++
		edition = b.editions
	}
	of.Names, of.editions = append(of.Names, name), append(of.editions, edition)
	return edition
}

// Edition is the number that AddVersion gave for a version; 0 for one that is not there.
func (v *Versions) Edition(name string) int32 {
	if i := slices.Index(v.Names, name); i >= 0 {
		return v.editions[i]
	}
	return 0
}

// DefaultsTo reports whether a version is served without its name in the path, too.
func (v *Versions) DefaultsTo(name string) bool {
	return v != nil && v.Field == "" && v.Default == name
}

// Within is a template of a version below the version: / for the version itself.
func (v *Versions) Within(name string, t route.Template) (route.Template, error) {
	return route.Parse(cmp.Or(strings.TrimPrefix(t.String(), v.Under.String()+"/"+name), "/"))
}

// AddDefault lets a route of the default version be found without the version in its path.
func (b *Builder) AddDefault(n int, v *Versions, within route.Template) []Clash {
	short, err := v.Under.Join(within)
	if err != nil {
		return nil // it was part of a longer one before
	}
	return b.addForm(n, short)
}
