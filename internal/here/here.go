// Package here finds where in the user's code something was declared.
package here

import (
	"fmt"
	"path"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/wicketway/wicketway/facts"
)

// A Place is where in the user's code something was declared. The zero Place is nowhere.
type Place struct{ pc uintptr }

// Here is the place that called the exported function which called Here, skip functions further up.
func Here(skip int) Place {
	var pc [1]uintptr
	runtime.Callers(3+skip, pc[:])
	return Place{pc[0]}
}

// By is Here for settings that packages of this module make as well: those are best found where they were
// called, and have the name of the function that was: cache.Says; "" where it was one of the root.
func By() (at Place, by string) {
	var pc [1]uintptr
	for skip := 3; runtime.Callers(skip, pc[:]) == 1; skip++ {
		f := runtime.FuncForPC(pc[0] - 1)
		if f == nil || !isOurPackage(f.Name()) {
			break
		}
		if file, _ := (Place{pc[0]}).Frame(); strings.HasSuffix(file, "_test.go") {
			break
		}
		by = path.Base(f.Name())
	}
	return Place{pc[0]}, by
}

// isOurPackage reports whether a function is in a package of this module that makes parts and settings.
func isOurPackage(function string) bool {
	folder, ours := strings.CutPrefix(function, "github.com/wicketway/wicketway/")
	return ours &&
		(strings.HasPrefix(folder, "chain/") || strings.HasPrefix(folder, "format/") || strings.HasPrefix(folder, "observe/") ||
			strings.HasPrefix(folder, "handbook."))
}

// Frame gives the file and the line.
func (p Place) Frame() (file string, line int) {
	if p.pc == 0 {
		return "", 0
	}
	f, _ := runtime.CallersFrames([]uintptr{p.pc}).Next()
	return f.File, f.Line
}

// IsZero reports whether the place is nowhere.
func (p Place) IsZero() bool { return p.pc == 0 }

// Facts is the place as facts have it.
func (p Place) Facts() facts.Place {
	file, line := p.Frame()
	return facts.Place{File: file, Line: line}
}

// IsForeign reports whether p is in another package than q. What another package has made
// is best found where it is used.
func (p Place) IsForeign(q Place) bool { return p.pkg() != q.pkg() }

func (p Place) pkg() string {
	f, _ := runtime.CallersFrames([]uintptr{p.pc}).Next()
	folder, name := path.Split(f.Function)
	name, _, _ = strings.Cut(name, ".")
	return folder + name
}

// String gives the file's name without its folder, and the line.
func (p Place) String() string {
	file, line := p.Frame()
	if file == "" {
		return "(unknown place)"
	}
	return fmt.Sprintf("%s:%d", filepath.Base(file), line)
}
