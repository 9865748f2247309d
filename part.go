package wicketway

import (
	"fmt"
	"path"
	"path/filepath"
	"runtime"
	"strings"
)

// A Part is one piece of a description: what [Route], [At], [Group], [Version]
// and the settings return. Parts are immutable, and can be built from more than
// once.
type Part interface {
	part() place
}

// A group is a list of parts under a prefix, a version, or neither.
type group struct {
	at      place
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

func (g group) part() place { return g.at }

// At puts parts under a path prefix, which may hold parameters.
func At(prefix string, parts ...Part) Part {
	at, _ := hereBy()
	return group{at: at, kind: atGroup, prefix: prefix, parts: parts}
}

// Group puts parts together that share settings.
func Group(parts ...Part) Part {
	at, _ := hereBy()
	return group{at: at, kind: plainGroup, parts: parts}
}

// Version puts parts under a version of the API. It is served under a path prefix of its name,
// Version("v2", ...) under /v2, unless [VersionBy] says otherwise.
func Version(name string, parts ...Part) Part {
	return group{at: here(0), kind: versionGroup, version: name, parts: parts}
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

// hereBy is here for what packages of this module make as well: that is best found where they were called,
// and has the name of the function that was: cache.Says; "" where it was one of this package.
func hereBy() (at place, by string) {
	var pc [1]uintptr
	for skip := 3; runtime.Callers(skip, pc[:]) == 1; skip++ {
		f := runtime.FuncForPC(pc[0] - 1)
		if f == nil || !isOurPackage(f.Name()) {
			break
		}
		if file, _ := (place{pc[0]}).frame(); strings.HasSuffix(file, "_test.go") {
			break
		}
		by = path.Base(f.Name())
	}
	return place{pc[0]}, by
}

// isOurPackage reports whether a function is in a package of this module that makes parts and settings.
func isOurPackage(function string) bool {
	folder, ours := strings.CutPrefix(function, "github.com/wicketway/wicketway/")
	return ours && (strings.HasPrefix(folder, "chain/") || strings.HasPrefix(folder, "format/") || strings.HasPrefix(folder, "observe/"))
}

func (p place) frame() (file string, line int) {
	if p.pc == 0 {
		return "", 0
	}
	f, _ := runtime.CallersFrames([]uintptr{p.pc}).Next()
	return f.File, f.Line
}

// isForeign reports whether p is in another package than q. What another package has made
// is best found where it is used.
func (p place) isForeign(q place) bool { return p.pkg() != q.pkg() }

func (p place) pkg() string {
	f, _ := runtime.CallersFrames([]uintptr{p.pc}).Next()
	folder, name := path.Split(f.Function)
	name, _, _ = strings.Cut(name, ".")
	return folder + name
}

// String gives the file's name without its folder, and the line.
func (p place) String() string {
	file, line := p.frame()
	if file == "" {
		return "(unknown place)"
	}
	return fmt.Sprintf("%s:%d", filepath.Base(file), line)
}
