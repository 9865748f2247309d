package main

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/facts"
)

func routesCommand() *cobra.Command {
	var version, method, path, sameAs, out, address string
	var open, asRequests bool
	c := aboutAPI("routes PACKAGE", "List the routes of an API: version, path, name, who may call, chain, place",
		func(d facts.API, _ []string) (answering, error) {
			if err := unknownOf(d, method, version, path); err != nil {
				return answering{}, err
			}
			routes := d.Routes
			if path != "" {
				routes = matching(d, path)
			}
			routes = slices.DeleteFunc(routes, func(r facts.Route) bool {
				return version != "" && r.Version != version || method != "" && !strings.EqualFold(r.Method, method) ||
					open && r.Guard != nil && r.Open == nil
			})
			if asRequests || out != "" {
				return answerRequests(d, routes, address, out)
			}
			d.Routes = routes
			found := answering{data: d, print: func(out io.Writer) { printRoutes(out, routes) }}
			if sameAs != "" {
				found.shortfall = differs(routes, sameAs)
			}
			return found, nil
		})
	c.Flags().StringVar(&version, "version", "", "only those of this version")
	c.Flags().StringVar(&method, "method", "", "only those of this method")
	c.Flags().StringVar(&path, "path", "", "only those that match this path, and those below it")
	c.Flags().BoolVar(&open, "open", false, "only those that everyone may call")
	c.Flags().StringVar(&sameAs, "same-as", "",
		"compare with `FILE` (one METHOD PATH per line); exit 1 if they differ")
	c.Flags().BoolVar(&asRequests, "requests", false, "print a request for each that must succeed, as a line for a shell")
	c.Flags().StringVar(&out, "out", "", "write the requests into `FILE`, as a script that says where an answer differs")
	c.Flags().StringVar(&address, "address", defaultAddress, "the `ADDRESS` of the API, for requests")
	completeFlag(c, "version", func(r facts.Route) string { return r.Version })
	completeFlag(c, "method", func(r facts.Route) string { return r.Method })
	completeFlag(c, "path", func(r facts.Route) string { return r.Path })
	return c
}

// unknownOf says which of the words that select routes no route has, and which there are.
func unknownOf(d facts.API, method, version, path string) error {
	var methods, versions []string
	for _, r := range d.Routes {
		methods, versions = append(methods, methodName(r.Method)), append(versions, r.Version)
	}
	known := func(list []string) string {
		list = slices.DeleteFunc(slices.Compact(slices.Sorted(slices.Values(list))), func(s string) bool { return s == "" })
		return cmp.Or(strings.Join(list, ", "), "none")
	}
	same := func(word string) func(string) bool {
		return func(other string) bool { return strings.EqualFold(word, other) }
	}
	switch {
	case method != "" && !slices.ContainsFunc(methods, same(method)):
		return fmt.Errorf("no route has the method %s; known: %s", method, known(methods))
	case version != "" && !slices.Contains(versions, version):
		return fmt.Errorf("no route is in version %s; known: %s", version, known(versions))
	case path != "" && !strings.HasPrefix(path, "/"):
		return fmt.Errorf("the path %q does not begin with a slash: --path /locks", path)
	case path != "" && matching(d, path) == nil:
		return fmt.Errorf("no route matches %s, or is below it", path)
	}
	return nil
}

// differs compares routes with the lines of a file. Empty lines and those that begin with # do not
// count.
func differs(routes []facts.Route, file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	want := map[string]bool{}
	for line := range strings.Lines(string(text)) {
		if line = strings.Join(strings.Fields(line), " "); line != "" && !strings.HasPrefix(line, "#") {
			want[line] = true
		}
	}
	var differences []string
	there := map[string]bool{} // versions may share their paths
	for _, r := range routes {
		if r.Own {
			continue
		}
		line := methodName(r.Method) + " " + r.Path
		if !want[line] {
			differences = append(differences, fmt.Sprintf("%s is in the API, but not in the file (%s)", line, where(r.At)))
		}
		there[line] = true
	}
	for line := range want {
		if there[line] {
			continue
		}
		differences = append(differences, line+" is in the file, but not in the API")
	}
	if differences == nil {
		return nil
	}
	slices.Sort(differences)
	return checked(fmt.Errorf("the routes are not those of %s:\n%s", file, strings.Join(differences, "\n")))
}

// matching are the routes that match a path, the most specific first, and those below it; else those whose
// template starts with it.
func matching(d facts.API, path string) []facts.Route {
	var found []facts.Route
	t, err := newDescribed(d)
	if err == nil {
		for _, i := range t.table.AllAt(path, nil, true) {
			found = append(found, d.Routes[i])
		}
	}
	matches := len(found)
	for _, r := range d.Routes {
		isMatch := slices.ContainsFunc(found[:matches], func(f facts.Route) bool {
			return f.Method == r.Method && f.Path == r.Path && f.Version == r.Version
		})
		if !isMatch && (r.Path == path || strings.HasPrefix(r.Path, strings.TrimSuffix(path, "/")+"/")) {
			found = append(found, r)
		}
	}
	if found == nil { // a part of a word
		for _, r := range d.Routes {
			if strings.HasPrefix(r.Path, path) {
				found = append(found, r)
			}
		}
	}
	return found
}

// printRoutes prints a table. What all chains begin with is printed once, below it.
func printRoutes(out io.Writer, routes []facts.Route) {
	shared := sharedChain(routes)
	more := slices.ContainsFunc(routes, func(r facts.Route) bool { return len(r.Chain) > len(shared) })
	t := newGrid(out)
	t.style = func(_ int, text string) style {
		if strings.HasPrefix(text, "everyone") {
			return warn
		}
		return plain
	}
	row := func(version, method, path, name, who, chain, at string) {
		cells := []string{version, method, path, name, who, chain, at}
		if !more {
			cells = slices.Delete(cells, 5, 6)
		}
		t.row(cells...)
	}
	row("VERSION", "METHOD", "PATH", "NAME", "WHO MAY CALL", "CHAIN", "DECLARED")
	for _, r := range routes {
		row(dash(r.Version), methodName(r.Method), r.Path, dash(r.Name), access(r),
			dash(chainText(r.Chain[len(shared):], " ")), strings.TrimSpace(where(r.At)+" "+adapted(r)+fromEarlier(r)))
	}
	t.flush()
	n, public, own := counts(routes)
	text := fmt.Sprintf("%d %s, %d open to everyone", n, plural(n, "route", "routes"), public)
	if own > 0 {
		text += fmt.Sprintf(", and %d of Wicketway's own", own)
	}
	if len(shared) > 0 {
		text += "; requests pass " + chainText(shared, ", ")
		if more {
			text += ", and then their route's own chain"
		}
	}
	fmt.Fprintln(out, fold(text, t.to.width(), 0))
	printChoices(out, routes)
}

// counts are how many routes there are, and how many of them are open, as a server says when it starts; and how
// many more are Wicketway's own.
func counts(routes []facts.Route) (n, public, own int) {
	for _, r := range routes {
		switch {
		case r.Own:
			own++
		case r.Guard == nil:
			public++
			fallthrough
		default:
			n++
		}
	}
	return n, public, own
}

// printChoices says how requests choose between versions, where that is not by the path alone.
func printChoices(out io.Writer, routes []facts.Route) {
	var said []string
	for _, r := range routes {
		c := r.Chosen
		if c == nil || c.Field == "" && c.Default == "" && c.Withdrawn == nil {
			continue
		}
		text := "versions under " + c.Under + "/ are chosen by " + waysOf(c)
		if c.Default != "" {
			text += ", and by default " + c.Default
		}
		if c.Withdrawn != nil {
			text += "; withdrawn: " + strings.Join(c.Withdrawn, ", ")
		}
		if !slices.Contains(said, text) {
			said = append(said, text)
			fmt.Fprintln(out, text)
		}
	}
}

// adapted says that a route has an older shape of what its function reads and sends.
func adapted(r facts.Route) string {
	if r.Adapted {
		return "adapted "
	}
	return ""
}

// fromEarlier says what a route has to do with an earlier version.
func fromEarlier(r facts.Route) string {
	switch i := r.Inherited; {
	case r.Withdrawn:
		return "withdrawn"
	case i == nil:
		return ""
	case i.Override:
		return "in place of " + i.From + "'s"
	default:
		return "as in " + i.From
	}
}

// sharedChain is what the chains of all routes begin with.
func sharedChain(routes []facts.Route) []facts.Middleware {
	if len(routes) == 0 {
		return nil
	}
	shared := routes[0].Chain
	for _, r := range routes {
		n := 0
		for n < len(shared) && n < len(r.Chain) && shared[n].Name == r.Chain[n].Name && shared[n].At == r.Chain[n].At {
			n++
		}
		shared = shared[:n]
	}
	return shared
}

func chainText(chain []facts.Middleware, between string) string {
	names := make([]string, len(chain))
	for i, l := range chain {
		names[i] = l.Name
	}
	return strings.Join(names, between)
}

// access says who may call a route.
func access(r facts.Route) string {
	if r.Guard == nil {
		return "everyone"
	}
	who, needs := r.Guard.Name, slices.Clone(r.Scopes)
	for _, oneOf := range r.AnyScope {
		needs = append(needs, strings.Join(oneOf, " or "))
	}
	if len(needs) > 0 {
		who += " with " + strings.Join(needs, ", ")
	}
	if r.Rules > 0 {
		who += ", by rule"
	}
	if r.Open != nil {
		who = "everyone for " + strings.Join(r.Open, ", ") + ", else " + who
	}
	return who
}

func methodName(m string) string {
	if m == "" {
		return "(all)"
	}
	return m
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}
