package sources

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// State is the state of the files in some folders that a program can be made from, by size and time of change: where it
// is the same, nothing has changed. What programs write to themselves does not count. The files of the second list do
// in any case.
func State(roots, files []string) string {
	sum := sha256.New()
	note := func(path string, about fs.FileInfo) {
		fmt.Fprintf(sum, "%s\x00%d\x00%d\x00", path, about.Size(), about.ModTime().UnixNano())
	}
	skip := Program{Roots: roots}
	for _, root := range roots {
		filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return nil
			}
			if d.IsDir() {
				if path != root && skip.Skipped(path) {
					return fs.SkipDir
				}
				return nil
			}
			if about, err := d.Info(); err == nil && isSource(path) {
				note(path, about)
			}
			return nil
		})
	}
	for _, file := range files {
		if about, err := os.Stat(file); err == nil {
			note(file, about)
		}
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// ofTheShell are variables that differ from one shell to the next, or from one line to the next, and that no program
// asks for its routes.
var ofTheShell = []string{
	"_", "SHLVL", "PWD", "OLDPWD", "COLUMNS", "LINES", "TERM", "COLORTERM", "WINDOWID", "TERM_SESSION_ID", "TTY", "STY",
	"TMUX", "TMUX_PANE", "SSH_TTY", "SSH_CLIENT", "SSH_CONNECTION", "SSH_AUTH_SOCK", "NO_COLOR", "COMP_LINE", "COMP_POINT",
	"COMP_TYPE", "COMP_KEY",
}

// Environment is the state of the environment: a program may build another API in another one.
func Environment() string {
	all := slices.DeleteFunc(os.Environ(), func(one string) bool {
		name, _, _ := strings.Cut(one, "=")
		return slices.Contains(ofTheShell, name)
	})
	slices.Sort(all)
	sum := sha256.Sum256([]byte(strings.Join(all, "\x00")))
	return hex.EncodeToString(sum[:])
}
