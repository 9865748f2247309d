package main

import (
	"fmt"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/table"
)

// A described API finds routes as the API itself does, by the same table.
type described struct {
	facts.API
	table table.Described
}

func newDescribed(d facts.API) (described, error) {
	made, err := table.Describe(d)
	return described{d, made}, err
}

// why says why one matching route comes before another.
func why(first, other facts.Route, method string) string {
	if other.Method != method && other.Method != "" {
		return "different method"
	}
	a, b := strings.Split(first.Path, "/"), strings.Split(other.Path, "/")
	for i := 1; i < len(a) && i < len(b); i++ {
		x, y := kind(a[i]), kind(b[i])
		if x != y || x == "text mixed with parameters" && a[i] != b[i] {
			return fmt.Sprintf("segment %d: %s %s comes before %s %s", i, x, a[i], y, b[i])
		}
	}
	if other.Method == "" {
		return "a method of its own comes before all methods"
	}
	return "it has fewer segments"
}

func kind(segment string) string {
	switch {
	case strings.HasPrefix(segment, "{+"):
		return "the rest"
	case !strings.Contains(segment, "{"):
		return "text"
	case strings.HasPrefix(segment, "{") && strings.IndexByte(segment, '}') == len(segment)-1:
		return "a parameter"
	}
	return "text mixed with parameters"
}

// waysOf says by what requests choose a version: path, header Api-Version, media type.
func waysOf(c *facts.Versions) string {
	if c.By == "header" {
		return "header " + c.Field
	}
	return c.By
}
