package watch

import "syscall"

// endWithParent has a command end where the watcher is killed: Go's own runs on threads that live as long as the process.
func endWithParent(a *syscall.SysProcAttr) { a.Pdeathsig = syscall.SIGTERM }
