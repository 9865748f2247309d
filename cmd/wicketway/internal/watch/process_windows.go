package watch

import (
	"os/exec"
)

func apart(*exec.Cmd) {}

func interrupt(c *exec.Cmd) error { return c.Process.Kill() }

func kill(c *exec.Cmd) error { return c.Process.Kill() }
