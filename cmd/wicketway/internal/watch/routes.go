package watch

import (
	"slices"

	"github.com/wicketway/wicketway/facts"
)

// Changes are what a program does to the routes, each as METHOD PATH.
type Changes struct {
	Added, Gone    []string
	Opened, Closed []string // everyone may call them now, or no longer
}

// Compare finds the changes of routes between two descriptions. Wicketway's own do not count.
func Compare(before, now *facts.API) (c Changes) {
	was, is := routesOf(before), routesOf(now)
	for line, r := range is {
		old, there := was[line]
		switch {
		case !there:
			c.Added = append(c.Added, line)
		case !open(old) && open(r):
			c.Opened = append(c.Opened, line)
		case open(old) && !open(r):
			c.Closed = append(c.Closed, line)
		}
	}
	for line := range was {
		if _, there := is[line]; !there {
			c.Gone = append(c.Gone, line)
		}
	}
	for _, list := range [][]string{c.Added, c.Gone, c.Opened, c.Closed} {
		slices.Sort(list)
	}
	return c
}

func routesOf(api *facts.API) map[string]facts.Route {
	all := map[string]facts.Route{}
	if api == nil {
		return all
	}
	for _, r := range api.Routes {
		if r.Own {
			continue
		}
		line := r.Method + " " + r.Path
		if r.Method == "" {
			line = "* " + r.Path
		}
		if r.Chosen != nil && r.Chosen.By != "path" {
			line += " (" + r.Version + ")" // versions share their paths
		}
		all[line] = r
	}
	return all
}

// open reports whether everyone may call a route, with at least one of its methods.
func open(r facts.Route) bool { return r.Guard == nil || r.Open != nil }
