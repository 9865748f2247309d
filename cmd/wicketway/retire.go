package main

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/facts"
)

func retireCommand() *cobra.Command {
	var log string
	var all bool
	c := aboutAPI("retire PACKAGE", "List callers of deprecated routes and inputs, from an access log",
		func(d facts.API, _ []string) (answering, error) {
			if log == "" {
				return answering{}, errors.New("missing --log FILE (- for standard input)")
			}
			in := io.Reader(os.Stdin)
			if log != "-" {
				file, err := os.Open(log)
				if err != nil {
					return answering{}, err
				}
				defer file.Close()
				in = file
			}
			use, err := lastUses(d, in, all)
			if err != nil {
				return answering{}, checked(fmt.Errorf("%s: %w", log, err))
			}
			if use.Records == 0 && len(use.Routes) > 0 {
				return answering{}, checked(fmt.Errorf("%s has no record of a request (lines read: %d); "+
					"retire reads what chain/accesslog writes as JSON", log, use.Skipped))
			}
			return answering{data: use, print: use.print}, nil
		})
	c.Flags().
		StringVar(&log, "log", "", "`FILE` with the records of chain/accesslog as JSON, a line each; - is the standard input")
	c.Flags().BoolVar(&all, "all", false, "also list the callers of all other routes")
	return c
}

// retiring lists routes and inputs of routes, with those who use them.
type retiring struct {
	Routes []retiringRoute `json:"routes"`
	// Records are those of requests that the log has, and Skipped the lines that are none.
	Records int `json:"records"`
	Skipped int `json:"skipped,omitzero"`
	// Left are requests of callers beyond those that are counted one by one.
	Left int `json:"left,omitzero"`
}

type retiringRoute struct {
	Version    string            `json:"version,omitzero"`
	Method     string            `json:"method"`
	Path       string            `json:"path"`
	Input      string            `json:"input,omitzero"` // a parameter or a member, which is deprecated rather than the route
	Since      string            `json:"since,omitzero"` // of that
	Retirement *facts.Retirement `json:"retirement,omitzero"`
	Uses       []use             `json:"uses"` // most calls first
}

type use struct {
	Caller string    `json:"caller"` // as the guard knows it; else the remote address
	Issuer string    `json:"issuer,omitzero"`
	Calls  int       `json:"calls"`
	Last   time.Time `json:"last"`
}

// A record is what is read of a line.
type record struct {
	Time    time.Time `json:"time"`
	Version string    `json:"version"`
	Method  string    `json:"method"`
	Route   string    `json:"route"`
	Caller  string    `json:"caller"`
	Issuer  string    `json:"issuer"`
	Remote  string    `json:"remote"`
	Sent    []string  `json:"deprecated"`
}

// routeNumbers finds the routes and inputs that are listed, by their numbers.
type routeNumbers map[[4]string]int // by version, method, template and input; without the version where the path has it

func (e routeNumbers) add(r facts.Route, input string, i int) {
	e[[4]string{r.Version, r.Method, r.Path, input}] = i
	if r.Chosen == nil || r.Chosen.Field == "" {
		e[[4]string{"", r.Method, r.Path, input}] = i
	}
}

// find looks for the route that a request was for: that for GET serves HEAD, and mounted handlers all
// methods.
func (e routeNumbers) find(r record, input string) (i int, ok bool) {
	methods := []string{r.Method, ""}
	if r.Method == "HEAD" {
		methods = []string{"HEAD", "GET", ""}
	}
	for _, method := range methods {
		if i, ok = e[[4]string{r.Version, method, r.Route, input}]; ok {
			return i, true
		}
	}
	return 0, false
}

const (
	longestRecord = 1 << 20
	mostCallers   = 100_000
)

// lastUses reads a log, a line at a time, for the routes that end, or for all.
func lastUses(d facts.API, log io.Reader, every bool) (retiring, error) {
	found := retiring{Routes: []retiringRoute{}}
	at := routeNumbers{}
	for _, r := range d.Routes {
		if e := r.Retirement; every && !r.Own || e != nil && !(e.Deprecated.IsZero() && e.Sunset.IsZero()) {
			at.add(r, "", len(found.Routes))
			found.Routes = append(found.Routes, retiringRoute{Version: r.Version, Method: methodName(r.Method), Path: r.Path,
				Retirement: e, Uses: []use{}})
		}
		for _, d := range r.Deprecated {
			input := d.In + " " + d.Name
			at.add(r, input, len(found.Routes))
			found.Routes = append(found.Routes, retiringRoute{Version: r.Version, Method: methodName(r.Method), Path: r.Path,
				Input: input, Since: d.Since, Uses: []use{}})
		}
	}
	type key struct {
		route          int
		caller, issuer string
	}
	uses := map[key]*use{}
	lines := bufio.NewReaderSize(log, longestRecord)
	for {
		line, err := lines.ReadSlice('\n')
		for long := err; errors.Is(long, bufio.ErrBufferFull); {
			line = nil
			_, long = lines.ReadSlice('\n')
			err = long
		}
		var r record
		switch {
		case len(line) == 0 && err != nil:
		case json.Unmarshal(line, &r, jsontext.AllowDuplicateNames(true)) != nil || r.Method == "" || r.Time.IsZero():
			found.Skipped++
		default:
			found.Records++
			for _, input := range append([]string{""}, r.Sent...) {
				i, is := at.find(r, input)
				if !is {
					continue
				}
				k := key{i, cmp.Or(r.Caller, r.Remote, "unknown"), r.Issuer}
				if uses[k] == nil {
					if len(uses) >= mostCallers {
						found.Left++
						continue
					}
					uses[k] = &use{Caller: k.caller, Issuer: k.issuer}
				}
				uses[k].Calls++
				if r.Time.After(uses[k].Last) {
					uses[k].Last = r.Time
				}
			}
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return found, err
		}
	}
	for k, u := range uses {
		found.Routes[k.route].Uses = append(found.Routes[k.route].Uses, *u)
	}
	for _, r := range found.Routes {
		slices.SortFunc(r.Uses, func(x, y use) int {
			return cmp.Or(cmp.Compare(y.Calls, x.Calls), cmp.Compare(x.Caller, y.Caller), cmp.Compare(x.Issuer, y.Issuer))
		})
	}
	return found, nil
}

func (f retiring) print(out io.Writer) {
	if len(f.Routes) == 0 {
		fmt.Fprintln(out, "no route of this API is deprecated or has a sunset, and no input is; --all lists the callers of all routes")
		return
	}
	t := newGrid(out)
	t.row("VERSION", "METHOD", "PATH", "INPUT", "SUNSET", "CALLER", "CALLS", "LAST")
	used := 0
	for _, r := range f.Routes {
		sunset := "-"
		if r.Retirement != nil && !r.Retirement.Sunset.IsZero() {
			sunset = r.Retirement.Sunset.Format(time.DateOnly)
		}
		if len(r.Uses) == 0 {
			t.row(dash(r.Version), r.Method, r.Path, dash(r.Input), sunset, "nobody", "0", "-")
			continue
		}
		used++
		for _, u := range r.Uses {
			t.row(dash(r.Version), r.Method, r.Path, dash(r.Input), sunset, u.who(), strconv.Itoa(u.Calls),
				u.Last.UTC().Format(time.RFC3339))
		}
	}
	t.flush()
	fmt.Fprintf(
		out, "%d of %d %s used, by %d %s of the log\n", used, len(f.Routes),
		f.counted(), f.Records, plural(f.Records, "record", "records"),
	)
	if f.Skipped > 0 {
		fmt.Fprintf(out, "%d %s not a record of a request\n", f.Skipped, plural(f.Skipped, "line is", "lines are"))
	}
	if f.Left > 0 {
		fmt.Fprintf(out, "%d calls of further callers are not listed\n", f.Left)
	}
}

// counted says what is listed.
func (f retiring) counted() string {
	if slices.ContainsFunc(f.Routes, func(r retiringRoute) bool { return r.Input != "" }) {
		return plural(len(f.Routes), "route or input is", "routes and inputs are")
	}
	return plural(len(f.Routes), "route is", "routes are")
}

// who is a caller as the table has it.
func (u use) who() string {
	if u.Issuer == "" {
		return printable(u.Caller)
	}
	return printable(u.Caller) + " of " + printable(u.Issuer)
}

// printable keeps what a log has from steering the terminal.
func printable(text string) string {
	quoted := fmt.Sprintf("%q", text)
	return quoted[1 : len(quoted)-1]
}
