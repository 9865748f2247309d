//go:build !unix

package main

import "time"

var started = time.Now()

// cpu is the time that has passed: other systems tell the processor time in other ways.
func cpu() time.Duration { return time.Since(started) }
