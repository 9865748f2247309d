// Bench measures what Wicketway adds over code written by hand for the same
// work with the same libraries. It prints ratios of processor time: both sides run in one
// process, in turn, so that whatever else the machine does meets both. With -count it prints
// instructions, which repeat, in place of time; valgrind must be installed for it.
package main

import (
	"flag"
	"fmt"
	"os"
	"regexp"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A result is one line of the table.
type result struct {
	Name  string  `json:"name"`
	Ratio float64 `json:"ratio"`
	Limit float64 `json:"limit"`
	Holds bool    `json:"holds"`
	// Spread is by how much one side differs from itself in the same run, as a share; 0
	// where nothing was compared in turn.
	Spread float64 `json:"spread"`

	note string // figures behind the ratio
}

func holds(name string, ratio, limit float64, note string, args ...any) result {
	return result{Name: name, Ratio: ratio, Limit: limit, Holds: ratio <= limit, note: fmt.Sprintf(note, args...)}
}

func main() {
	asJSON := flag.Bool("json", false, "print an array of {name, ratio, limit, holds}")
	quick := flag.Bool("quick", false, "measure briefly: enough to see that it runs, not to judge")
	only := flag.String("only", "", "measure only lines whose name matches this regular `expression`")
	levels := flag.Bool("levels", false, "print sizes and times of the demo's answers by coding and level")
	count := flag.Bool("count", false, "count instructions, by valgrind, rather than measure time")
	against := flag.String(
		"against",
		"",
		"with -count: only lines of this `file`, and fail where one has grown by more than 2 %",
	)
	keep := flag.String("keep", "", "with -count: write what was counted into this `file`")
	flag.Parse()
	if said := os.Getenv(partVariable); said != "" {
		fail(runPart(said))
	}
	chosen, err := regexp.Compile(*only)
	if err != nil {
		fail(err)
	}
	if *levels {
		printLevels(os.Stdout)
		return
	}
	if *count {
		if err := countLines(os.Stdout, chosen.MatchString, *against, *keep); err != nil {
			fail(err)
		}
		return
	}
	spread := 0.0
	m := meter{pairs: 31, milliseconds: 8, spread: &spread}
	if *quick {
		m.pairs, m.milliseconds = 5, 1
	}
	var results []result
	for _, line := range lines {
		if !chosen.MatchString(line.name) {
			continue
		}
		spread = 0
		r := line.measure(m)
		r.Name, r.Spread = line.name, spread
		results = append(results, r)
		if !*asJSON {
			if len(results) == 1 {
				fmt.Printf("%-66s %7s %7s %7s\n", "", "ratio", "limit", "spread")
			}
			mark := "holds"
			if !r.Holds {
				mark = "FALLS SHORT"
			}
			fmt.Printf("%-66s %7.2f %7.2f %6.0f%%  %-11s  %s\n", r.Name, r.Ratio, r.Limit, 100*r.Spread, mark, r.note)
		}
	}
	if *asJSON {
		if err := json.MarshalWrite(os.Stdout, results, jsontext.WithIndent("  ")); err != nil {
			fail(err)
		}
		fmt.Println()
	}
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, "bench:", err)
	os.Exit(1)
}

// lines are the table, in the order of the design.
var lines = []struct {
	name    string
	measure func(meter) result
}{
	{"find a route among 800, random order, against a map", findRandom},
	{"find a route among 800, one path again and again", findHot},
	{"growth from 80 to 8,000 routes, against the map's own", findGrowth},
	{"twice the hostile path, against twice the time", findHostile},
	{"checked decoding of 400 bytes, against plain decoding", decodeChecked},
	{"allocations of checked decoding, against plain", decodeAllocations},
	{"one of several types by its member, against decoding the known type", oneOfSeveral},
	{"a body of 100,000 items as a stream, against decoding them one by one", streamedBody},
	{"heap while that body comes in, in MiB above before", bodyHeap},
	{"the worst hostile megabyte, against plain decoding of a good one", hostileMegabyte},
	{"a GET with a parameter, against the standard library's mux", smallGet},
	{"allocations of that GET, beyond the one by hand", smallGetAllocations},
	{"the same GET in an older shape, renamed and computed, against the present one", adaptedGet},
	{"the same with three attached values, against none", attachedValues},
	{"a list of 100 items, against one written by hand", listOfHundred},
	{"a stream of 10,000 items, against a loop that flushes alike", streamOfTenThousand},
	{"heap while that stream goes out, in MiB above before", streamHeap},
	{"a GET that ends in 304, against one written by hand", unchangedGet},
	{"a token seen before, against verifying it by hand", guardSeen},
	{"a new token by HS256, the same", guardNew},
	{"a new token by ES256, the same", guardES256},
	{"tokens seen before, after a flood of bad ones, against before", guardFlooded},
	{"the access log, against one record written by hand", accessLog},
	{"ids, trace, metrics and log around a GET, the same by hand", watchedChain},
	{"a route that nobody watches beside one that is, against alone", unwatched},
	{"a GET of an API with trails, in production, against none", trailsInProduction},
	{"heap of the trails of 30,000 requests, against their bound", trailsHeap},
	{"a change through a cache of 80,000 answers, against one of 10", changeThroughCache},
	{"20 KiB compressed, against the bare encoder", compressed},
	{"memory of a thousand open streams, compressed, in MiB", openStreams},
	{"a whole request in process, against one written by hand", requestInProcess},
	{"allocations of a whole request, against one written by hand", requestAllocations},
	{"CPU time of a whole request over an in-memory connection", requestOverWire},
	{"a request that ends in 404, against one written by hand", notFound},
	{"a request that ends in 422 with three faults, the same", invalid},
	{"Build of 10,000 routes, against parsing and walking by hand", buildTime},
	{"Build of 10,000 routes, against ten times 1,000", buildLinear},
	{"Build of ten versions of 1,000 routes that inherit, against ten times one", buildInheriting},
	{"a path of one version of ten, 200 routes each, against one of 2,000", findVersionByPath},
	{"the same where a header field chooses the version", findVersionByHeader},
	{"the contract of 1,000 routes, against writing it", madeContract},
	{"reading a contract, against decoding it into any", readContract},
	{"comparing contracts of 1,000 routes, against reading both", compareContracts},
	{"a call of a generated client, against one by hand", generatedCall},
	{"allocations of that call, beyond the one by hand", generatedCallAllocations},
	{"heap while a client reads 10,000 items, in MiB above before", iteratedItems},
	{"a client of 1,000 operations, against formatting it", writtenClient},
	{"the requests of 1,000 routes, in seconds", readyRequests},
	{"a probe of the demo, in milliseconds for each request", probeDemo},
	{"memory for a route, in units of 1 KiB", buildMemory},
	{"memory for a route in the table, in units of 300 bytes", tableMemory},
}
