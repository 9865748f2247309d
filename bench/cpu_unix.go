//go:build unix

package main

import (
	"syscall"
	"time"
)

// cpu is the processor time of the whole process: other processes do not count, and the collector
// does.
func cpu() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		panic(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
