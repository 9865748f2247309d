package wicketway

import "github.com/wicketway/wicketway/internal/here"

// A Part is one piece of a description: what [Route], [At], [Group], [Version]
// and the settings return. Parts are immutable, and can be built from more than
// once.
type Part interface {
	part() here.Place
}

// A group is a list of parts under a prefix, a version, or neither.
type group struct {
	at      here.Place
	kind    groupKind
	prefix  string
	version string
	parts   []Part
}

// A groupKind says how a list of parts was declared.
type groupKind uint8

const (
	builtGroup groupKind = iota // the list of Build
	atGroup
	plainGroup
	versionGroup
)

// String gives the name of the function.
func (k groupKind) String() string { return [...]string{"Build", "At", "Group", "Version"}[k] }

func (g group) part() here.Place { return g.at }

// At puts parts under a path prefix, which may hold parameters.
func At(prefix string, parts ...Part) Part {
	at, _ := here.By()
	return group{at: at, kind: atGroup, prefix: prefix, parts: parts}
}

// Group puts parts together that share settings.
func Group(parts ...Part) Part {
	at, _ := here.By()
	return group{at: at, kind: plainGroup, parts: parts}
}

// Version puts parts under a version of the API. It is served under a path prefix of its name,
// Version("v2", ...) under /v2, unless [VersionBy] says otherwise.
func Version(name string, parts ...Part) Part {
	return group{at: here.Here(0), kind: versionGroup, version: name, parts: parts}
}
