package table_test

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

// A path asks for a version where it has one that was withdrawn, or what looks like those that are served.
func TestVersionsInPathsThatAreMissed(t *testing.T) {
	var b table.Builder
	tables := b.Tables()
	for _, c := range []struct{ served, path, asked string }{
		{"v1 v2", "/api/v9/locks", "v9"},
		{"v1 v2", "/api/V10", "V10"},
		{"v1 v2", "/api/vessels", ""},
		{"v1 v2", "/api/v", ""},
		{"v1 v2", "/api/v2x", ""},
		{"v1 v2", "/api/old", "old"}, // it was withdrawn
		{"2024-05-01", "/api/2031-1-1/locks", "2031-1-1"},
		{"2024-05-01", "/api/v1", ""},
		{"2024-05-01", "/api/12", ""},
		{"current next", "/api/latest", ""},
		{"v1", "/api", ""},
	} {
		u := &url.URL{Path: c.path}
		group := table.Group{Depth: 1, Versions: &facts.Versions{Served: strings.Fields(c.served), Withdrawn: []string{"old"}}}
		miss := tables.Miss("GET", u, table.Resolution{Outcome: table.NotFound}, &table.Match{}, group, nil)
		if miss.Status != 404 || miss.Asked != c.asked || miss.Version != (c.asked != "") {
			t.Errorf("%s where %s are served: %+v, want %q", c.path, c.served, miss, c.asked)
		}
	}
}

// The rows follow from the order of precedence: text, text mixed with
// parameters (more text first), a parameter, the rest.
func TestFind(t *testing.T) {
	lines := []string{
		"GET /", "GET /locks", "POST /locks", "GET /locks/", "GET /locks/{lock}", "PUT /locks/{lock}/state",
		"GET /locks/bell", "GET /locks/bell/levels", "GET /locks/{lock}/{detail}",
		"GET /charts/{reach}.{format}", "GET /charts/{reach}.json", "GET /charts/{reach}", "GET /charts/old-{reach}",
		"GET /spans/{from}-{to}", "GET /files/{+path}", "GET /files/index", "DELETE /files/{name}",
		"GET /caf%C3%A9", "GET /a%2Fb", "GET /100%25", " /any/{+path}", "GET /any/one", "HEAD /own", "GET /own",
		"GET /deep/{a}/x", "GET /deep/b/{c}", "GET /mixed/{a}2{b}", "GET /ends/{a}F", "GET /starts/{a}5{b}",
	}
	var b table.Builder
	for _, line := range lines {
		method, text, _ := strings.Cut(line, " ")
		if _, clashes := b.Add(table.Route{Method: method, Template: parse(t, text)}); clashes != nil {
			t.Fatalf("%s clashes with %v", line, clashes)
		}
	}
	tree := b.Table()
	for _, c := range []struct {
		request string
		want    string // the line found and the values, or the outcome
	}{
		{"GET /", "GET /"},
		{"GET /locks", "GET /locks"},
		{"GET /locks/", "GET /locks/"},
		{"GET /locks/heron", "GET /locks/{lock} heron"},
		{"GET /locks/bell", "GET /locks/bell"},
		{"PUT /locks/bell/state", "PUT /locks/{lock}/state bell"},          // the method takes part: text alone has none
		{"GET /locks/bell/state", "GET /locks/{lock}/{detail} bell|state"}, // back from /locks/bell
		{"GET /locks/bell/levels", "GET /locks/bell/levels"},
		{"GET /charts/upper.json", "GET /charts/{reach}.json upper"},
		{"GET /charts/upper.svg", "GET /charts/{reach}.{format} upper|svg"},
		{"GET /charts/a.b.svg", "GET /charts/{reach}.{format} a|b.svg"}, // the shortest piece from the left
		{"GET /charts/.svg", "GET /charts/{reach} .svg"},                // a parameter is never empty
		{"GET /charts/old-upper.svg", "GET /charts/old-{reach} upper.svg"},
		{"GET /spans/3-5", "GET /spans/{from}-{to} 3|5"},
		{"GET /spans/3--5", "GET /spans/{from}-{to} 3|-5"},
		{"GET /spans/3-", "not found"},
		{"GET /files/a/b/c", "GET /files/{+path} a/b/c"},
		{"GET /files/", "GET /files/{+path} "},
		{"GET /files", "not found"},
		{"GET /files/index", "GET /files/index"},
		{"DELETE /files/index", "DELETE /files/{name} index"},
		{"HEAD /files/a", "GET /files/{+path} a"}, // RFC 9110, 9.3.2
		{"HEAD /own", "HEAD /own"},
		{"POST /files/a/b", "other methods"},
		{"POST /locks/bell", "other methods"},
		{"GET /nothing", "not found"},
		{"GET /locks/a%2Fb", "GET /locks/{lock} a/b"}, // RFC 3986, 2.2: an encoded slash separates nothing
		{"GET /locks/a%2Fb/c", "GET /locks/{lock}/{detail} a/b|c"},
		{"GET /locks/%62ell", "GET /locks/bell"}, // RFC 3986, 6.2.2.2: an encoded letter is the letter
		{"GET /locks/%FF", "GET /locks/{lock} \xff"},
		{"GET /locks/50%25", "GET /locks/{lock} 50%"},
		{"GET /caf%C3%A9", "GET /caf%C3%A9"},
		{"GET /a%2fb", "GET /a%2Fb"},
		{"GET /a/b", "not found"},
		{"GET /100%25", "GET /100%25"},
		{"PURGE /any/thing", " /any/{+path} thing"},
		{"GET /any/one", "GET /any/one"},
		{"POST /any/one", " /any/{+path} one"},
		{"GET /mixed/x2y", "GET /mixed/{a}2{b} x|y"},
		{"GET /mixed/x%2Fy", "not found"}, // an escape is a character, not text
		{"GET /mixed/x%2F2y", "GET /mixed/{a}2{b} x/|y"},
		{"GET /mixed/%25y", "not found"},
		{"GET /mixed/%2525y%2F", "GET /mixed/{a}2{b} %|5y/"},
		{"GET /ends/a%2F", "not found"},
		{"GET /ends/a%2FF", "GET /ends/{a}F a/"},
		{"GET /starts/%255%2F", "GET /starts/{a}5{b} %|/"},
		{"GET /starts/%25%2F", "not found"},
		{"GET /deep/b/x", "GET /deep/b/{c} x"},
		{"GET /deep/a/x", "GET /deep/{a}/x a"},
		{"GET *", "not found"},
		{"GET /locks%00/bell", "not found"}, // not even where the hashes are the same
		{"GET /locks/bell%00/state", "GET /locks/{lock}/{detail} bell\x00|state"},
		{"GET /charts%00%00/upper", "not found"},
		{"GET /locks/..", "not found"}, // RFC 3986, 5.2.4: dot segments are no values
		{"GET /locks/%2e%2E", "not found"},
		{"GET /locks/.../x", "GET /locks/{lock}/{detail} ...|x"},
		{"GET /files/a/../b", "not found"},
		{"GET /files/a//b", "not found"},
		{"GET /files/a/", "GET /files/{+path} a/"},
		{"GET /" + strings.Repeat("x/", 5000), "not found"},
		{"GET /files/" + strings.Repeat("x/", 5000), "GET /files/{+path} " + strings.Repeat("x/", 5000)},
	} {
		method, target, _ := strings.Cut(c.request, " ")
		u, err := url.ParseRequestURI(target)
		if err != nil && target != "*" {
			t.Fatal(err)
		}
		if target == "*" {
			u = &url.URL{Path: "*"}
		}
		if got := find(t, tree, lines, method, u.Path, u.RawPath); got != c.want {
			t.Errorf("%s: %q, want %q", c.request, got, c.want)
		}
	}
	var m table.Match
	if got := tree.Find("GET", "/locks/%zz", "/locks/%zz", &m); got != table.Malformed {
		t.Errorf("broken percent-encoding: %v", got)
	}
	if n := testing.AllocsPerRun(100, func() { tree.Find("GET", "/locks/bell/state", "", &m) }); n != 0 {
		t.Errorf("Find allocates %v times", n)
	}
}

func parse(t *testing.T, text string) route.Template {
	template, err := route.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return template
}

func find(t *testing.T, tree *table.Table, lines []string, method, path, rawPath string) string {
	var m table.Match
	switch tree.Find(method, path, rawPath, &m) {
	case table.Found:
		_, text, _ := strings.Cut(lines[m.Route], " ")
		var values []string
		for i := range parse(t, text).Names() {
			values = append(values, m.Value(i))
		}
		if values == nil {
			return lines[m.Route]
		}
		return lines[m.Route] + " " + strings.Join(values, "|")
	case table.NotFound:
		return "not found"
	case table.OtherMethods:
		return "other methods"
	}
	return "malformed"
}

// However many siblings a segment has, and however long they are, each is found, and no
// other text is taken for one of them.
func TestManySiblings(t *testing.T) {
	long := "a-text-of-more-than-fifteen-bytes-"
	var mixed []string
	for i := range 14 {
		mixed = append(mixed, "/{a}"+strings.Repeat("q", i+1)+"{b}")
	}
	for n := range 60 {
		for _, others := range [][]string{nil, {"/{p}"}, {"/{a}.{b}", "/{a}.x.{b}", "/{+rest}"}, append(mixed, "/{p}")} {
			var b table.Builder
			var lines []string
			add := func(text string) {
				lines = append(lines, "GET "+text)
				b.Add(table.Route{Method: "GET", Template: parse(t, text)})
			}
			for i := range n {
				add("/" + []string{"", "wharf-no-", long}[i%3] + strings.Repeat("k", i%9) + string(rune('a'+i%26)) + strings.Repeat("z", i/26))
			}
			for _, text := range others {
				add(text)
			}
			tree := b.Table()
			for i := range n {
				path := strings.TrimPrefix(lines[i], "GET ")
				if got := find(t, tree, lines, "GET", path, ""); got != lines[i] {
					t.Fatalf("%s among %d: %s", path, n, got)
				}
				for _, wrong := range []string{path + "!", path[:len(path)-1] + "!"} {
					if got := find(t, tree, lines, "GET", wrong, ""); (got == "not found") != (others == nil) {
						t.Fatalf("%s among %d and %q: %s", wrong, n, others, got)
					}
				}
			}
		}
	}
}

func TestClashes(t *testing.T) {
	for _, c := range []struct {
		a, b  string
		clash bool
	}{
		{"GET /locks/{lock}", "GET /locks/{name}", true},
		{"GET /locks/{lock}", "POST /locks/{name}", false},
		{"GET /locks/{lock}", "GET /locks/bell", false},
		{"GET /{a}.{b}", "GET /{a}-{b}", true}, // x.y-z
		{"GET /a{x}", "GET /b{x}", false},      // no text starts both ways
		{"GET /a{x}", "GET /{x}b", true},       // a...b
		{"GET /a{x}", "GET /{x}bc", false},     // more text is more specific
		{"GET /{x}.json", "GET /{x}.yaml", false},
		{"GET /{a}-{b}/x", "GET /{a}.{b}/y", false},
		{"GET /{a}-{b}/{c}", "GET /{a}.{b}/{d}", true},
		{"GET /f/{+rest}", "GET /f/{+path}", true},
		{"GET /f/{+rest}", "GET /f/{name}", false},
		{"GET /caf%C3%A9", "GET /café", true},
		{"GET /{a}x", "HEAD /x{a}", true}, // HEAD follows GET
		{"GET /{a}x", "HEAD /{b}x", false},
		{"GET /{y}a/{+r}", " /a{x}/{+mounted}", true}, // any method has GET in it
		{" /a{x}", "PURGE /{x}a", true},
		{" /{a}", "GET /{b}", false}, // the method of its own comes first
		{"PUT /{a}x", "POST /x{a}", false},
	} {
		var b table.Builder
		add := func(line string) []table.Clash {
			method, text, _ := strings.Cut(line, " ")
			_, clashes := b.Add(table.Route{Method: method, Template: parse(t, text)})
			return clashes
		}
		add(c.a)
		if got := add(c.b); (got != nil) != c.clash || c.clash && got[0] != (table.Clash{Earlier: 0, Later: 1}) {
			t.Errorf("%s and %s: clashes %v, want %v", c.a, c.b, got, c.clash)
		}
	}
}

// FuzzFind holds the tree against a matcher written straight from the rules.
func FuzzFind(f *testing.F) {
	f.Add("/a\n/{p}\n/a/{q}\n/{p}/b", "/a/b")
	f.Add("/{p}.{q}\n/{p}.x\n/a{p}\n/{+r}", "/a.x")
	f.Add("/a/{+r}\n/a/{p}\n/a/{p}/c\n/a/b", "/a/b/c")
	f.Add("/{a}-{b}-{c}\n/{a}-{b}", "/1-2-3-4")
	f.Add("/a/{x}\n/{x}/b", "/a%00/b")
	f.Add("/abcdefgh/ijklmnopq\n/abcdefgh/ijklmnopr/{x}\n/abcdefg", "/abcdefgh/ijklmnopr/stuvwxyz0123")
	f.Fuzz(func(t *testing.T, templates, target string) {
		if !strings.HasPrefix(target, "/") {
			return
		}
		u, err := url.ParseRequestURI(target)
		if err != nil {
			return
		}
		var b table.Builder
		var lines, groups []string
		for i, text := range strings.Split(templates, "\n") {
			template, err := route.Parse(text)
			if err != nil || len(lines) > 40 {
				continue
			}
			method := [2]string{"GET", "PUT"}[i%2]
			if i%3 == 0 && text != "/" && !strings.Contains(text, "+") && b.AddGroup(template, 0) > len(groups) {
				groups = append(groups, text)
			}
			if _, clashes := b.Add(table.Route{Method: method, Template: template}); clashes != nil {
				lines = append(lines, "-") // its number is taken
				continue
			}
			lines = append(lines, method+" "+text)
		}
		tree := b.Table()
		for _, method := range []string{"GET", "PUT"} {
			want := oracle(lines, method, u.EscapedPath())
			if got := find(t, tree, lines, method, u.Path, u.RawPath); got != want {
				t.Errorf("%s %s among %q: %q, want %q", method, target, lines, got, want)
			}
			var m table.Match
			if tree.Find(method, u.Path, u.RawPath, &m); strings.HasPrefix(want, "GET") || strings.HasPrefix(want, "PUT") {
				continue
			}
			if ok, rank := oracleGroup(groups, int(m.Group), u.EscapedPath()); !ok {
				t.Errorf("%s %s among the groups %q: group %d, want the one of rank %v", method, target, groups, m.Group, rank)
			}
		}
	})
}

// oracle tries every template on the path, segment by segment, and takes the one
// that is most specific at the first segment where they differ.
func oracle(lines []string, method, path string) string {
	best, bestRank, any := "not found", []int(nil), false
	segments := strings.Split(path, "/")[1:]
	for _, line := range lines {
		own, text, _ := strings.Cut(line, " ")
		values, rank, ok := oracleMatch(strings.Split(text, "/")[1:], segments)
		if line == "-" || !ok {
			continue
		}
		any = true
		if own == method && (bestRank == nil || slices.Compare(rank, bestRank) < 0) {
			best, bestRank = line, rank
			if len(values) > 0 {
				best += " " + strings.Join(values, "|")
			}
		}
	}
	if bestRank == nil && any {
		return "other methods"
	}
	return best
}

// oracleGroup reports whether no group that has the path below it, or is it, is more
// specific than the one that was found.
func oracleGroup(groups []string, found int, path string) (ok bool, best []int) {
	ranks := make([][]int, len(groups)+1)
	for i, g := range groups {
		for _, text := range []string{g, g + "/{+rest}"} {
			_, rank, fits := oracleMatch(strings.Split(text, "/")[1:], strings.Split(path, "/")[1:])
			if fits && (ranks[i+1] == nil || slices.Compare(rank, ranks[i+1]) < 0) {
				ranks[i+1] = rank
			}
			if fits && (best == nil || slices.Compare(rank, best) < 0) {
				best = rank
			}
		}
	}
	return slices.Equal(ranks[found], best), best
}

func oracleMatch(template, path []string) (values []string, rank []int, ok bool) {
	for i, segment := range path {
		segment = unescape(segment)
		if segment == "." || segment == ".." || segment == "" && i < len(path)-1 {
			return nil, nil, false
		}
	}
	for i, pattern := range template {
		if strings.HasPrefix(pattern, "{+") {
			rest := strings.Join(path[min(i, len(path)):], "/")
			return append(values, unescape(rest)), append(rank, 1<<20), i < len(path)
		}
		if i >= len(path) {
			return nil, nil, false
		}
		vs, weight, matched := oracleSegment(pattern, unescape(path[i]))
		if !matched {
			return nil, nil, false
		}
		switch {
		case len(vs) == 0:
			rank = append(rank, 0)
		case weight == 0:
			rank = append(rank, 1<<19)
		default:
			rank = append(rank, 1<<18-weight)
		}
		values = append(values, vs...)
	}
	return values, rank, len(template) == len(path)
}

// oracleSegment matches one segment, trying the shortest piece first.
func oracleSegment(pattern, s string) (values []string, weight int, ok bool) {
	text, rest, more := strings.Cut(pattern, "{")
	text = unescape(text)
	if !strings.HasPrefix(s, text) {
		return nil, 0, false
	}
	weight = len(text) + 2*strings.Count(text, "/") + 2*strings.Count(text, "%") // in canonical form
	s = s[len(text):]
	if !more {
		return nil, weight, s == ""
	}
	_, rest, _ = strings.Cut(rest, "}")
	for n := 1; n <= len(s); n++ {
		if vs, w, ok := oracleSegment(rest, s[n:]); ok {
			return append([]string{s[:n]}, vs...), weight + w, true
		}
	}
	return nil, 0, false
}

func unescape(s string) string {
	u, err := url.PathUnescape(s)
	if err != nil {
		return s
	}
	return u
}

// Each of many editions is found by its name, long or short, and nothing else is.
func TestManyEditions(t *testing.T) {
	var b table.Builder
	c := table.Versions{Field: "Edition"}
	name := func(i int) string { return fmt.Sprint("v", i, strings.Repeat("x", i%20)) }
	template, _ := route.Parse("/locks")
	for i := range 150 {
		b.Add(table.Route{Method: "GET", Template: template, Edition: b.AddVersion(&c, name(i))})
	}
	tables, m := b.Tables(), table.Match{}
	for i := range 300 {
		r := tables.Resolve("GET", &url.URL{Path: "/locks"}, map[string][]string{"Edition": {name(i)}}, &m)
		if found := r.Outcome == table.Found && int(m.Route) == i; found != (i < 150) || !found && r.Outcome != table.NoEdition {
			t.Errorf("%s: %v, route %d", name(i), r, m.Route)
		}
	}
}
