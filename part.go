package wicketway

import (
	"fmt"
	"path/filepath"
	"runtime"
)

// A Part is one piece of a description: what [Route], [At], [Group], [Version]
// and the settings return. Parts are immutable, and can be built from more than
// once.
type Part interface {
	part() place
}

// A Setting is a part that says what holds for a route, or for all that stands
// in a group.
type Setting interface {
	Part
	setting() setting
}

// A setting changes the terms of the list in which it stands.
type setting struct {
	at       place
	name     string
	replaces bool // the nearest wins, so one list can hold only one
	apply    func(b *builder, t *terms)
}

func (s setting) part() place      { return s.at }
func (s setting) setting() setting { return s }

// replacing makes a setting of which the nearest wins.
func replacing(name string, apply func(*terms)) Setting {
	return setting{here(1), name, true, func(_ *builder, t *terms) { apply(t) }}
}

// adding makes a setting that adds to what outer groups say.
func adding(name string, apply func(*builder, *terms)) Setting {
	return setting{here(1), name, false, apply}
}

// A group is a list of parts under a prefix, a version, or neither.
type group struct {
	at      place
	kind    string // At, Version, Group
	prefix  string
	version string
	parts   []Part
}

func (g group) part() place { return g.at }

// At puts parts under a path prefix, which may hold parameters.
func At(prefix string, parts ...Part) Part {
	return group{at: here(0), kind: "At", prefix: prefix, parts: parts}
}

// Group puts parts together that share settings.
func Group(parts ...Part) Part {
	return group{at: here(0), kind: "Group", parts: parts}
}

// Version puts parts under a version of the API. The version is served under a
// path prefix of its name: Version("v2", ...) under /v2.
func Version(name string, parts ...Part) Part {
	return group{at: here(0), kind: "Version", prefix: "/" + name, version: name, parts: parts}
}

// A place is where in the user's code something was declared.
type place struct{ pc uintptr }

// here is the place outside this package that called the exported function
// which called here, skip functions further up.
func here(skip int) place {
	var pc [1]uintptr
	runtime.Callers(3+skip, pc[:])
	return place{pc[0]}
}

func (p place) frame() (file string, line int) {
	if p.pc == 0 {
		return "", 0
	}
	f, _ := runtime.CallersFrames([]uintptr{p.pc}).Next()
	return f.File, f.Line
}

// String gives the file's name without its folder, and the line.
func (p place) String() string {
	file, line := p.frame()
	if file == "" {
		return "(unknown place)"
	}
	return fmt.Sprintf("%s:%d", filepath.Base(file), line)
}
