package main

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/facts"
)

// A ready request is one for a route, with the successes that the contract has.
type ready struct {
	requests.Request
	route    string
	statuses []string
}

// requestsOf makes a good request for each route that is in a contract.
func requestsOf(d facts.API, routes []facts.Route) (all []ready, err error) {
	made := map[string]*requests.Maker{}
	documents := map[string]*contract.Document{}
	for _, r := range routes {
		if r.Own || r.Unlisted || r.Withdrawn || r.Method == "" {
			continue
		}
		if made[r.Version] == nil {
			if documents[r.Version], err = contract.Of(d, r.Version); err != nil {
				return nil, err
			}
			made[r.Version] = requests.Of(documents[r.Version])
		}
		good, err := made[r.Version].Good(r.Method, r.Path)
		if err != nil {
			continue // no values can be made by the rules
		}
		one := ready{Request: good, route: r.Method + " " + r.Path}
		item, _ := documents[r.Version].Paths.Get(strings.ReplaceAll(r.Path, "{+", "{"))
		for method, o := range item.Operations() {
			if method != r.Method {
				continue
			}
			for status := range o.Responses.All() {
				if status < "4" {
					one.statuses = append(one.statuses, status)
				}
			}
		}
		all = append(all, one)
	}
	return all, nil
}

// defaultAddress is that of an API on this machine.
const defaultAddress = "http://127.0.0.1:8080"

// readyRequest is one as it is printed with --json.
type readyRequest struct {
	Route string `json:"route"`
	Line  string `json:"line"`
}

// answerRequests prints the requests for routes, or writes them into a file.
func answerRequests(d facts.API, routes []facts.Route, address, file string) (answering, error) {
	all, err := requestsOf(d, routes)
	if err != nil {
		return answering{}, checked(err)
	}
	lines := []readyRequest{}
	for _, r := range all {
		lines = append(lines, readyRequest{r.route, r.Line(address)})
	}
	found := answering{data: lines, print: func(out io.Writer) { printRequests(out, all, address) }}
	if file == "" {
		return found, nil
	}
	var script strings.Builder
	writeScript(&script, d, all, address)
	if err := os.WriteFile(file, []byte(script.String()), 0o755); err != nil {
		return answering{}, checked(err)
	}
	found.print = func(out io.Writer) { fmt.Fprintf(out, "wrote %s: %d requests\n", file, len(all)) }
	return found, nil
}

// printRequests prints a line to paste for each route.
func printRequests(out io.Writer, all []ready, address string) {
	for i, r := range all {
		if i > 0 {
			fmt.Fprintln(out)
		}
		fmt.Fprintf(out, "# %s\n%s\n", r.route, r.Line(address))
	}
}

// writeScript writes the requests as a script for a POSIX shell, which says where an answer has another status than the
// contract.
func writeScript(out io.Writer, d facts.API, all []ready, address string) {
	fmt.Fprintf(out, `#!/bin/sh
# A request for each route of %s %s, by its contract. WICKETWAY_TOKEN is the token of a caller.
# Usage: sh FILE [ADDRESS]
ADDRESS=${1:-%s}
failed=0

# try ROUTE "STATUS STATUS ..." curl ARGUMENTS: sends a request, and says where its status is another one.
try() {
	route=$1 wanted=$2
	shift 3
	got=$(curl -o /dev/null -m 10 -w '%%{http_code}' "$@")
	case " $wanted " in
	*" $got "*) echo "ok    $route: $got" ;;
	*)
		echo "WRONG $route: $got, want $wanted"
		failed=1
		;;
	esac
}

`, strings.Join(strings.Fields(d.Title), " "), strings.Join(strings.Fields(d.Version), " "), address)
	slices.SortStableFunc(all, func(a, b ready) int { // what others read is deleted last
		return cmp.Compare(strings.Count(a.Method, "DELETE"), strings.Count(b.Method, "DELETE"))
	})
	for _, r := range all {
		statuses := slices.DeleteFunc(slices.Clone(r.statuses), func(s string) bool { return s == "304" || s == "206" })
		fmt.Fprintf(out, "try '%s' '%s' %s\n", strings.ReplaceAll(r.route, "'", ""), strings.Join(statuses, " "), r.Line("$ADDRESS"))
	}
	fmt.Fprintln(out, "\nexit $failed")
}
