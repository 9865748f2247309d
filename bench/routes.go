package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"reflect"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

// A routeTable is one of routes of the canal's kind, with a path for each.
type routeTable struct {
	templates, paths []string
}

var (
	areas = []string{"locks", "vessels", "passages", "gauges", "notices", "tolls", "berths", "keepers", "reaches",
		"charts",
		"bridges", "weirs", "permits", "invoices", "works", "moorings", "surveys", "incidents", "closures", "reports"}
	details = []string{"history", "levels", "state", "photos", "documents", "contacts", "schedule", "limits", "events",
		"summary"}
)

// routes makes n routes: three of eight static, two with one parameter, one
// each with two, with one followed by text and another, and mixed.
func routes(n int) routeTable {
	var t routeTable
	for i := 0; len(t.templates) < n; i++ {
		area := areas[i%len(areas)]
		if i >= len(areas) {
			area = fmt.Sprintf("%s-%d", area, i/len(areas))
		}
		detail := func(k int) string { return details[(i+k)%len(details)] }
		for _, pair := range [][2]string{
			{"", ""},
			{"/recent", "/recent"},
			{"/" + detail(3), "/" + detail(3)},
			{"/{id}", fmt.Sprintf("/%d", 1000+i*37)},
			{"/{id}/" + detail(0), fmt.Sprintf("/%d/%s", 1000+i*37, detail(0))},
			{"/{id}/" + detail(1) + "/{sub}", fmt.Sprintf("/%d/%s/%d", 1000+i*37, detail(1), i)},
			{"/{from}-{to}/plan", fmt.Sprintf("/%d-%d/plan", i, i+5)},
			{"/overview/" + detail(5), "/overview/" + detail(5)},
		} {
			if len(t.templates) < n {
				t.templates = append(t.templates, "/api/v2/"+area+pair[0])
				t.paths = append(t.paths, "/api/v2/"+area+pair[1])
			}
		}
	}
	return t
}

// finders gives the two sides for n routes: our table, and a map from the whole
// path, as no real router could be.
func finders(n int, order func(paths []string) []string) (ours, theirs func(int)) {
	return methodFinder("GET", n, order)
}

func methodFinder(method string, n int, order func(paths []string) []string) (ours, theirs func(int)) {
	t := routes(n)
	var b table.Builder
	exact := map[string]int{}
	for i, text := range t.templates {
		template, err := route.Parse(text)
		if err != nil {
			panic(err)
		}
		if _, clashes := b.Add(table.Route{Method: "GET", Template: template}); clashes != nil {
			panic(text)
		}
		exact[t.paths[i]] = i
	}
	made := b.Table()
	asked := order(t.paths)
	var m table.Match
	for _, p := range t.paths { // the same answers
		if made.Find("GET", p, "", &m) != table.Found || int(m.Route) != exact[p] {
			panic("the table and the map disagree about " + p)
		}
	}
	at, at2 := 0, 0
	ours = func(n int) {
		sum := 0
		for range n {
			if at++; at == len(asked) {
				at = 0
			}
			made.Find(method, asked[at], "", &m)
			sum += int(m.Route)
		}
		runtime.KeepAlive(sum)
	}
	theirs = func(n int) {
		sum := 0
		for range n {
			if at2++; at2 == len(asked) {
				at2 = 0
			}
			sum += exact[asked[at2]]
		}
		runtime.KeepAlive(sum)
	}
	return ours, theirs
}

// shuffled asks for every path equally often, in no order, each time with a
// string of its own, as requests have.
func shuffled(paths []string) []string {
	random := rand.New(rand.NewPCG(1, 2))
	asked := make([]string, 0, 1<<14)
	for len(asked) < 1<<14 {
		for _, i := range random.Perm(len(paths)) {
			asked = append(asked, strings.Clone(paths[i]))
		}
	}
	return asked
}

func findRandom(m meter) result {
	ours, theirs := finders(800, shuffled)
	ratio, a, b := m.compare(ours, theirs)
	miss, _ := finders(800, func(paths []string) []string {
		return changed(shuffled(paths), func(p string) string { return p + "x/y" })
	})
	other, _ := methodFinder("DELETE", 800, shuffled)
	return holds("", ratio, 2.4, "%.0f ns to %.0f ns, %.0f allocations; no route %.0f ns, only other methods %.0f ns",
		a, b, allocations(ours), m.alone(miss), m.alone(other))
}

func changed(paths []string, change func(string) string) []string {
	for i, p := range paths {
		paths[i] = change(p)
	}
	return paths
}

// findHostile looks up paths that fit nearly every template of a table and in the
// end none: every choice of text or parameter for eight segments, and a segment
// that could be divided in many ways. Twice the length may take twice as long.
func findHostile(m meter) result {
	var b table.Builder
	add := func(text string) {
		template, err := route.Parse(text)
		if err != nil {
			panic(err)
		}
		b.Add(table.Route{Method: "GET", Template: template})
	}
	for choice := range 1 << 8 {
		text := ""
		for i := range 8 {
			if choice>>i&1 == 1 {
				text += fmt.Sprintf("/{p%d}", i)
			} else {
				text += "/a"
			}
		}
		add(text + "/end")
	}
	add("/{a}--{b}--{c}--{d}--end")
	made := b.Table()
	work := func(path string) func(int) {
		var match table.Match
		return func(n int) {
			for range n {
				if made.Find("GET", path, "", &match) != table.NotFound {
					panic(path)
				}
			}
		}
	}
	long := func(n int) (deep, dashed string) {
		return strings.Repeat("/"+strings.Repeat("a", n), 8) + "/enx", "/" + strings.Repeat("-", 8*n) + "--enx"
	}
	deep1, dashed1 := long(100)
	deep2, dashed2 := long(200)
	ratio1, two, one := m.compare(work(deep2), work(deep1))
	ratio2, twoDashed, oneDashed := m.compare(work(dashed2), work(dashed1))
	return holds("", max(ratio1, ratio2)/2, 1.2,
		"800 to 1,600 bytes: segments %.1f to %.1f µs, one segment %.1f to %.1f µs",
		one/1000, two/1000, oneDashed/1000, twoDashed/1000)
}

func findHot(m meter) result {
	var ratios, us, them []float64
	for i := range 8 { // each kind of path in the table
		ours, theirs := finders(800, func(paths []string) []string { return []string{strings.Clone(paths[400+i])} })
		ratio, a, b := m.compare(ours, theirs)
		ratios, us, them = append(ratios, ratio), append(us, a), append(them, b)
	}
	return holds("", mean(ratios), 2.3, "%.0f ns to %.0f ns, mean of the eight kinds of path", mean(us), mean(them))
}

func mean(of []float64) float64 {
	sum := 0.0
	for _, v := range of {
		sum += v
	}
	return sum / float64(len(of))
}

func findGrowth(m meter) result {
	few, fewMap := finders(80, shuffled)
	many, manyMap := finders(8000, shuffled)
	ours, a, b := m.compare(many, few)
	theirs, c, d := m.compare(manyMap, fewMap)
	return holds("", ours/theirs, 1.2, "table %.0f to %.0f ns, map %.0f to %.0f ns", b, a, d, c)
}

// Inputs of the routes that parts makes.
type (
	one struct {
		ID string `from:"path id" rule:"maxLength=40"`
	}
	two struct {
		ID  int64 `from:"path id"`
		Sub int64 `from:"path sub"`
	}
	span struct {
		From int64 `from:"path from"`
		To   int64 `from:"path to"`
	}
)

// parts describes an API of n routes.
func parts(n int) []wicketway.Part {
	list := make([]wicketway.Part, n)
	for i, text := range routes(n).templates {
		line := "GET " + text
		switch i % 8 {
		case 3, 4:
			list[i] = wicketway.Route(line, func(context.Context, one) (string, error) { return "", nil })
		case 5:
			list[i] = wicketway.Route(line, func(context.Context, two) (string, error) { return "", nil })
		case 6:
			list[i] = wicketway.Route(line, func(context.Context, span) (string, error) { return "", nil })
		default:
			list[i] = wicketway.Route(line, func(context.Context, wicketway.None) (string, error) { return "", nil })
		}
	}
	return list
}

func build(list []wicketway.Part) *wicketway.API {
	api, err := wicketway.Build(wicketway.Info{Title: "Bench", Version: "1.0.0"}, list...)
	if err != nil {
		panic(err)
	}
	return api
}

// buildTimeOf is the median time of one Build, in milliseconds.
func buildTimeOf(m meter, list []wicketway.Part) float64 {
	brief := m
	brief.pairs = max(3, m.pairs/3)
	return brief.alone(building(list)) / 1e6
}

func building(list []wicketway.Part) func(int) {
	return func(n int) {
		for range n {
			build(list)
		}
	}
}

// buildTime compares Build with what it cannot do without: parsing the templates, and
// walking over the types of inputs and outputs.
func buildTime(m meter) result {
	const n = 10_000
	list, templates := parts(n), routes(n).templates
	types := []reflect.Type{reflect.TypeFor[wicketway.None](), reflect.TypeFor[one](), reflect.TypeFor[two](),
		reflect.TypeFor[span](), reflect.TypeFor[string]()}
	brief := m
	brief.pairs, brief.milliseconds = max(3, m.pairs/3), 1
	ratio, a, b := brief.compare(building(list), func(n int) {
		for range n {
			for i, text := range templates {
				parsed, err := route.Parse(text)
				if err != nil {
					panic(err)
				}
				walk(types[i%len(types)], parsed.Names())
			}
		}
	})
	return holds("", ratio, 2.5, "%.0f ms to %.0f ms", a/1e6, b/1e6)
}

// walk reads what the tags of a struct say, and looks for each parameter.
func walk(t reflect.Type, names []string) {
	if t.Kind() != reflect.Struct {
		return
	}
	found := 0
	for i := range t.NumField() {
		f := t.Field(i)
		source, name, _ := strings.Cut(f.Tag.Get("from"), " ")
		if source == "path" && slices.Contains(names, name) {
			found++
		}
		for rule := range strings.FieldsSeq(f.Tag.Get("rule")) {
			keyword, _, _ := strings.Cut(rule, "=")
			found += len(keyword)
		}
	}
	runtime.KeepAlive(found)
}

// buildLinear allows for the memory: work that is linear in itself takes longer for
// each route once it no longer fits the caches and the collector has to run beside
// it. Quadratic work would show as 10.
func buildLinear(m meter) result {
	few, many := buildTimeOf(m, parts(1_000)), buildTimeOf(m, parts(10_000))
	return holds("", many/few/10, 2, "%.1f ms to %.1f ms", few, many)
}

// inheriting is ten versions, of which the first has all n routes.
func inheriting(n int) []wicketway.Part {
	list := []wicketway.Part{wicketway.Version("v1", parts(n)...)}
	for i := 2; i <= 10; i++ {
		list = append(list, wicketway.Version("v"+strconv.Itoa(i), wicketway.Inherit("v"+strconv.Itoa(i-1))))
	}
	return list
}

func buildInheriting(m meter) result {
	one, ten := buildTimeOf(
		m, []wicketway.Part{wicketway.Version("v1", parts(1_000)...)},
	), buildTimeOf(m, inheriting(1_000))
	return holds("", ten/one/10, 2, "%.1f ms to %.1f ms", one, ten)
}

// findVersionByPath looks paths up in random order; what a version costs is its segment of the path.
func findVersionByPath(m meter) result { return findVersion(m, false) }

// findVersionByHeader does so where the versions share their paths.
func findVersionByHeader(m meter) result { return findVersion(m, true) }

func findVersion(m meter, byHeader bool) result {
	var ten, one table.Builder
	const field, n = "Api-Version", 200
	versions := &table.Versions{Field: field, Default: "v1"}
	var asked, plain []*http.Request
	add := func(to *table.Builder, prefix string, edition int32, of routeTable) {
		for _, text := range of.templates {
			template, err := route.Parse(prefix + text)
			if err != nil {
				panic(err)
			}
			to.Add(table.Route{Method: "GET", Template: template, Edition: edition})
		}
	}
	few, many := routes(n), routes(10*n)
	for v := range 10 {
		name := "v" + strconv.Itoa(v+1)
		prefix, header, edition := "/"+name, http.Header(nil), int32(0)
		if byHeader {
			prefix, header, edition = "", http.Header{field: {name}}, ten.AddVersion(versions, name)
		}
		add(&ten, prefix, edition, few)
		for _, path := range few.paths {
			r := httptest.NewRequest("GET", prefix+path, nil)
			r.Header = header
			asked = append(asked, r)
		}
	}
	add(&one, "/v1", 0, many)
	for _, path := range many.paths {
		plain = append(plain, httptest.NewRequest("GET", "/v1"+path, nil))
	}
	ratio, a, b := m.compare(resolver(ten.Tables(), asked), resolver(one.Tables(), plain))
	return holds("", ratio, 1.2, "%.0f ns to %.0f ns", a, b)
}

// resolver looks requests up in random order.
func resolver(in *table.Tables, requests []*http.Request) func(times int) {
	shuffled := make([]*http.Request, len(requests))
	for i, k := range rand.New(rand.NewPCG(1, 2)).Perm(len(requests)) {
		shuffled[i] = requests[k]
	}
	var match table.Match
	return func(times int) {
		for i := range times {
			r := shuffled[i%len(shuffled)]
			if in.Resolve(r.Method, r.URL, r.Header, &match).Outcome != table.Found {
				panic(r.URL.Path + " is not found")
			}
		}
	}
}

func buildMemory(meter) result {
	const n = 10_000
	list := parts(n)
	before := heap()
	api := build(list)
	bytes := float64(heap()-before) / n
	runtime.KeepAlive(api)
	runtime.KeepAlive(list)
	return holds("", bytes/1024, 1, "%.0f bytes", bytes)
}

func tableMemory(meter) result {
	const n = 10_000
	templates := routes(n).templates
	before := heap()
	made := tableOf(templates)
	bytes := float64(heap()-before) / n
	runtime.KeepAlive(made)
	runtime.KeepAlive(templates)
	return holds("", bytes/300, 1, "%.0f bytes", bytes)
}

func tableOf(templates []string) *table.Table {
	var b table.Builder
	for _, text := range templates {
		template, err := route.Parse(text)
		if err != nil {
			panic(err)
		}
		b.Add(table.Route{Method: "GET", Template: template})
	}
	return b.Table()
}

func heap() uint64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}
