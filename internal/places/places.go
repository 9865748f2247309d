// Package places says whether problems note where they were made: once an API in development was built in the
// process. It costs a few thousand instructions for each, which production need not pay.
package places

import "sync/atomic"

var kept atomic.Bool

// Keep has places noted from now on.
func Keep() { kept.Store(true) }

// AreKept reports whether they are.
func AreKept() bool { return kept.Load() }
