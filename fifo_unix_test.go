//go:build unix

package wicketway_test

import "syscall"

// makeFIFO makes a pipe with a name, which nobody writes to.
func makeFIFO(name string) error { return syscall.Mkfifo(name, 0o600) }
