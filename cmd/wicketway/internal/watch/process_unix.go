//go:build unix

package watch

import (
	"os/exec"
	"syscall"
)

// apart has a command run in a process group of its own, so that a Ctrl-C reaches the watcher alone, which ends it, and
// all that it has started can be ended with it.
func apart(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	endWithParent(c.SysProcAttr)
}

func interrupt(c *exec.Cmd) error { return syscall.Kill(-c.Process.Pid, syscall.SIGINT) }

func kill(c *exec.Cmd) error { return syscall.Kill(-c.Process.Pid, syscall.SIGKILL) }
