//go:build race

package wicketway_test

// slack is how many times as much memory tests may see: the race detector empties
// pools at random.
const slack = 3
