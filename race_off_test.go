//go:build !race

package wicketway_test

const slack = 1
