//go:build unix && !linux

package watch

import "syscall"

// endWithParent needs a signal that only Linux sends: programs that serve notice by themselves.
func endWithParent(*syscall.SysProcAttr) {}
