package handbook_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"go/parser"
	gotoken "go/token"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/canal/demo"
	"github.com/wicketway/wicketway/handbook"
	"github.com/wicketway/wicketway/internal/browser"
	"github.com/wicketway/wicketway/observe/trail"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// canal serves the demo.
func canal(t *testing.T) string {
	t.Helper()
	_, address := served(t)
	return address
}

func served(t *testing.T) (*demo.Canal, string) {
	t.Helper()
	canal, err := demo.Open(t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { canal.Close() })
	server := httptest.NewServer(canal.API)
	t.Cleanup(server.Close)
	return canal, server.URL
}

// A sitting is somebody in front of the handbook.
type sitting struct {
	*browser.Tab
	t *testing.T
}

// field is the selector of what a member or a parameter is written in.
const field = `[...document.querySelectorAll('.field')].find(f => f.querySelector('.name')?.firstChild?.textContent === NAME)`

// fill writes a value into a field.
func (s sitting) fill(name, value string) {
	s.t.Helper()
	quoted, _ := json.Marshal(name)
	text, _ := json.Marshal(value)
	var done bool
	s.Value(`(() => { const f = `+strings.Replace(field, "NAME", string(quoted), 1)+`.querySelector('.control input, .control textarea');
		f.value = `+string(text)+`; f.dispatchEvent(new Event('input', {bubbles: true})); return true })()`, &done)
}

// send sends the request of the form, and waits for an answer that begins with a text.
func (s sitting) send(answer string) {
	s.t.Helper()
	s.Click("form.try button[type=submit]")
	s.answered(answer)
}

func (s sitting) answered(answer string) {
	s.t.Helper()
	s.Until(`document.querySelector('.said')?.textContent.startsWith("` + answer + `")`)
}

// open follows the link with a text.
func (s sitting) open(text, title string) {
	s.t.Helper()
	quoted, _ := json.Marshal(text)
	var done bool
	s.Value(`(() => { [...document.querySelectorAll('a')].find(a => a.textContent.trim() === `+string(quoted)+`).click(); return true })()`, &done)
	s.Until(`document.querySelector('h1')?.textContent.startsWith("` + title + `")`)
}

// sees holds what is on the page.
func (s sitting) sees(all ...string) {
	s.t.Helper()
	text := s.Text()
	for _, want := range all {
		if !strings.Contains(text, want) {
			s.t.Errorf("no %q in\n%s", want, text)
		}
	}
}

// holds holds the value of an expression.
func (s sitting) holds(expression string, want any) {
	s.t.Helper()
	var got any
	if s.Value(expression, &got); got != want {
		s.t.Errorf("%s is %v, want %v", expression, got, want)
	}
}

// accessible has axe-core look at the page, in light and in dark. CI demands that it is there.
func (s sitting) accessible() {
	s.t.Helper()
	script, err := os.ReadFile(os.Getenv("AXE_CORE"))
	if err != nil && os.Getenv("CI") != "" {
		s.t.Fatalf("AXE_CORE is not the file of axe-core: %v; .ci/run fetches it", err)
	}
	if err != nil {
		return
	}
	for _, scheme := range []string{"light", "dark"} {
		s.Scheme(scheme)
		var loaded bool
		s.Value(string(script)+"; true", &loaded)
		var found []string
		s.Value(`axe.run().then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ": " + n.html.slice(0, 160) + " " + (n.any[0]?.message ?? ""))))`, &found)
		for _, one := range found {
			s.t.Errorf("%s: %s", scheme, one)
		}
	}
	s.Scheme("light")
}

// pasted runs the line of a request, which the page has sent with one status, and holds that it gets another now; and that
// the Go is Go. Neither has the token in it.
func (s sitting) pasted(was, now string) {
	s.t.Helper()
	var texts []string
	var token string
	s.Value(`[...document.querySelectorAll('.lines code')].map(c => c.textContent)`, &texts)
	s.Value(`document.querySelector('.credentials input').value`, &token)
	if strings.Contains(texts[0]+texts[1], token) || !strings.Contains(texts[1], `"Bearer " + os.Getenv("WICKETWAY_TOKEN")`) {
		s.t.Errorf("the token is in\n%s\n%s", texts[0], texts[1])
	}
	if _, err := parser.ParseFile(gotoken.NewFileSet(), "", "package p\nfunc f(ctx context.Context) error {\n"+texts[1]+"\nreturn nil\n}", 0); err != nil {
		s.t.Errorf("%v\n%s", err, texts[1])
	}
	if _, err := exec.LookPath("curl"); err != nil {
		return
	}
	shell := exec.Command("sh", "-c", texts[0])
	shell.Env = append(os.Environ(), "WICKETWAY_TOKEN="+token)
	if out, err := shell.Output(); err != nil || !strings.Contains(string(out), now) {
		s.t.Errorf("%s: %v, after %s wanted %s\n%s", texts[0], err, was, now, out)
	}
}

// Somebody finds an operation, sends it right and wrong, signs in, follows what was created, and watches a stream.
func TestTrying(t *testing.T) {
	address := canal(t)
	s := sitting{browser.Open(t), t}
	s.Go(address + "/handbook")
	s.sees("Osterbeck Canal", "the present one", "deprecated since", "How to get in")
	s.accessible()
	s.open("v2", "Osterbeck Canal v2")
	s.accessible()

	s.Click("#q")
	s.Keys("slot crew post\r")
	s.Until(`document.querySelector('h2')?.textContent === "Found for “slot crew post”"`)
	s.open("Book a passage", "Book a passage")
	s.send("401 Unauthorized")
	s.sees("token-missing")

	s.open("operation that gives one", "A token for")
	s.send("201 Created")
	s.sees("Its token is kept")
	s.open("Operations of v2", "Osterbeck Canal")
	s.open("Book a passage", "Book a passage")
	s.holds(`document.querySelector('.credentials input').value.length > 20`, true)

	s.fill("direction", "sideways")
	s.holds(`(() => { const f = [...document.querySelectorAll('.field select:not(.state)')].find(x => x.value === 'up'); f.value = 'another value …'; f.dispatchEvent(new Event('change')); f.nextSibling.value = 'sideways'; f.nextSibling.dispatchEvent(new Event('input')); return f.value })()`, "another value …")
	s.fill("crew", "99")
	s.send("422 ")
	s.sees("must be at most 40", "must be one of up, down", "2 values are wrong")
	s.holds(`[...document.querySelectorAll('[aria-invalid]')].map(e => document.getElementById(e.getAttribute('aria-describedby').split(' ')[1]).textContent).join()`, "must be at most 40,must be one of up, down")
	s.holds(`document.activeElement.getAttribute('aria-invalid')`, "true")
	s.accessible()

	// As JSON, in step with the fields; and what is no JSON goes out as well.
	s.Click(".ways label:last-child input")
	s.holds(`JSON.parse(document.querySelector('.raw').value).crew`, 99.)
	s.holds(`(() => { const raw = document.querySelector('.raw'); raw.value = '{"lock":'; raw.dispatchEvent(new Event('input')); return raw.nextSibling.textContent.startsWith("It is no JSON") })()`, true)
	s.send("400 Bad Request")
	s.holds(`(() => { const raw = document.querySelector('.raw'); raw.value = '{"lock":"bell","direction":"up","slot":"2027-05-04T09:30:00Z","crew":9007199254740993}'; raw.dispatchEvent(new Event('input')); return true })()`, true)
	s.Click(".ways label:first-child input")
	s.holds(strings.Replace(field, "NAME", `"crew"`, 1)+`.querySelector('.control input').value`, "9007199254740993")
	s.fill("crew", "4")
	s.send("201 Created")
	s.pasted("201 Created", "409 Conflict")

	s.Until(`document.querySelector('.next a')`)
	s.accessible()
	s.open("GET /api/v2/passages/{passage}", "One passage")
	s.holds(`location.hash.startsWith("#path.passage=")`, true)
	s.send("200 OK")
	s.sees(`"crew": 4`)

	s.holds(`performance.getEntriesByType('resource').every(r => r.name.startsWith(location.origin)) && localStorage.length + sessionStorage.length === 0 && document.cookie === ""`, true)
	s.Go(address + "/handbook/v2/passages.list") // the pages are left: the token is gone
	s.Until(`document.querySelector('.credentials input')`)
	s.holds(`document.querySelector('.credentials input').value`, "")

	s.Go(address + "/handbook/v2/locks.levels#path.lock=tanners&query.count=3")
	s.holds(strings.Replace(field, "NAME", `"lock"`, 1)+`.querySelector('.control input').value`, "tanners")
	s.fill("count", "3600")
	s.Click("form.try button[type=submit]")
	s.Until(`document.querySelector('.said').textContent.includes('items so far') && document.querySelector('.answer pre').textContent.split('\n').length > 4`)
	s.Click(".send button[type=button]")
	s.answered("200 OK")
	s.sees("stopped")
	s.fill("lock", "no-such-lock")
	s.send("404 Not Found")
	s.holds(`[...document.querySelectorAll('#sent input')].slice(0, 2).map(i => i.click()).length`, 2.)
	s.Click("#sent p button")
	s.sees("+ 404 Not Found", "− 200 OK")
	s.accessible()
	s.Click("#sent li:first-child button:last-child")
	s.Until(`document.querySelector('#sent [aria-label="a test in Go"]')`)
	s.sees("func TestLocksLevels404(t *testing.T) {", `wicketwaytest.Answers(t, api, r, 404, "no-such-lock")`)
	s.Click("#sent li:first-child button")
	s.Until(`document.querySelectorAll('#sent li').length === 3`)
	s.holds(`document.querySelector('.answer h2').textContent.startsWith("404")`, true)

	for _, page := range []string{"/handbook/v2/problems", "/handbook/v2/since", "/handbook/v1/passages.list"} {
		s.Go(address + page)
		s.accessible()
	}
}

// The same by keyboard alone: from the top of a page to an answer.
func TestKeyboard(t *testing.T) {
	s := sitting{browser.Open(t), t}
	s.Go(canal(t) + "/handbook/v2/")
	until := func(what string) {
		t.Helper()
		for range 60 {
			var is bool
			if s.Value(what, &is); is {
				return
			}
			s.Keys("\t")
		}
		t.Fatalf("the Tab key does not lead to %s", what)
	}
	s.Keys("\t")
	s.holds(`document.activeElement.className`, "skip")
	until(`document.activeElement.id === 'q'`)
	s.Keys("locks.find")
	s.Until(`document.querySelector('[role=status]').textContent.startsWith("1 of ")`)
	until(`document.activeElement.textContent === 'One lock'`)
	s.Keys("\r")
	s.Until(`document.querySelector('h1').textContent === 'One lock' && document.activeElement.tagName === 'MAIN'`)
	until(`document.activeElement.value === "bell"`)
	s.Keys("\r")
	s.answered("200 OK")
	until(`document.activeElement.textContent.endsWith("header fields")`)
	s.Keys(" ")
	s.Until(`document.querySelector('.answer details').open`)
}

type hostile struct {
	Text string `json:"text" note:"</script><script>window.ran=1</script>" rule:"default=</script><script>window.ran=2</script> enum=</script><script>window.ran=2</script>|b"`
}

// Nothing that a description or an answer has in it is run.
func TestNothingRuns(t *testing.T) {
	const evil = `</script><img src=x onerror="window.ran=3"><script>window.ran=4</script>[a](javascript:window.ran=5)`
	serve := func(_ context.Context, in struct {
		Body hostile `from:"body"`
	}) (map[string]string, error) {
		if in.Body.Text == "b" {
			return nil, problem.NotFound.New(evil).Because(errors.New(evil))
		}
		return map[string]string{evil: "javascript:window.ran=6", "at": "//evil.example/x"}, nil
	}
	api := built(t, wicketway.Development(), wicketway.Log(slog.New(slog.DiscardHandler)), new(trail.Trails).Parts("/trails"), wicketway.Route("POST /a", serve, wicketway.Name("a"), wicketway.Summary(evil), wicketway.Description(evil)),
		wicketway.At("/handbook", handbook.Pages()))
	server := httptest.NewServer(api)
	defer server.Close()
	s := sitting{browser.Open(t), t}
	for _, page := range []string{"", "/api/", "/api/a", "/api/problems", "/api/?q=%3Cscript%3Ewindow.ran=7%3C/script%3E"} {
		s.Go(server.URL + "/handbook" + page)
		s.holds(`typeof window.ran`, "undefined")
	}
	s.Go(server.URL + "/handbook/api/a")
	s.send("200 OK")
	s.sees(evil, "javascript:window.ran=6")
	s.holds(`document.querySelectorAll('.answer pre a, a[href^="javascript"]').length`, 0.)
	s.holds(`typeof window.ran`, "undefined")

	r, _ := http.NewRequest("POST", server.URL+"/a?"+url.QueryEscape(evil), strings.NewReader(`{"text":"b"}`))
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("X-Note", evil)
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	s.Go(server.URL + "/handbook/trail/2")
	s.Until(`document.querySelector('#trails .steps')`)
	s.sees("404 not-found", evil, "*errors.errorString")
	for _, button := range []string{"As a test", "Send again"} {
		s.holds(`[...document.querySelectorAll('#trails button')].filter(b => b.textContent === '`+button+`').map(b => b.click()).length`, 1.)
	}
	s.Until(`document.querySelector('#trails pre[aria-label="a test in Go"]') && document.querySelector('#trails [role=status]').textContent.startsWith('404 not-found')`)
	s.Go(server.URL + "/handbook/trail/")
	s.Until(`document.querySelectorAll('.trails tbody tr').length === 3`)
	s.Go(server.URL + "/handbook/trail/" + url.PathEscape(evil))
	s.Until(`document.querySelector('#trails [role=alert]')`)
	s.sees("No trail of this request is kept")
	s.holds(`document.querySelectorAll('a[href^="javascript"], main img').length`, 0.)
	s.holds(`typeof window.ran`, "undefined")
}

// Five hundred operations stay one page that can be searched; what a browser loads for it and for the demo stays small.
func TestSizes(t *testing.T) {
	var parts []wicketway.Part
	for i := range 500 {
		parts = append(parts, wicketway.Route(fmt.Sprintf("POST /berths/%d", i), make1, wicketway.Name(fmt.Sprintf("berths.make%d", i)),
			wicketway.Summary(fmt.Sprintf("A new berth on quay %d", i)), wicketway.Fails(errFull)))
	}
	server := httptest.NewServer(built(t, append(parts, wicketway.At("/handbook", handbook.Pages()))...))
	defer server.Close()
	s := sitting{browser.Open(t), t}
	for _, page := range []string{server.URL + "/handbook/api/", server.URL + "/handbook/api/berths.make7", canal(t) + "/handbook/v2/passages.book"} {
		s.Go(page)
		s.Until(`performance.getEntriesByName('first-contentful-paint').length > 0`)
		var loaded []string
		s.Value(`[location.href, ...performance.getEntriesByType('resource').map(r => r.name)]`, &loaded)
		var packed bytes.Buffer
		w := gzip.NewWriter(&packed)
		for _, address := range loaded {
			response, err := http.Get(address)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := io.Copy(w, response.Body); err != nil {
				t.Fatal(err)
			}
			response.Body.Close()
		}
		w.Close()
		if len(loaded) < 9 || packed.Len() > 80_000 {
			t.Errorf("%s: %d files, %d bytes packed", page, len(loaded), packed.Len())
		}
		var painted float64
		s.Value(`performance.getEntriesByName('first-contentful-paint')[0].startTime`, &painted)
		t.Logf("%s: %d files, %d bytes packed, first painted after %.0f ms", strings.TrimPrefix(page, server.URL), len(loaded), packed.Len(), painted)
	}
	s.Go(server.URL + "/handbook/api/")
	s.Click("#q")
	s.Keys("quay 499")
	s.Until(`document.querySelector('[role=status]').textContent === "1 of 500 operations"`)
}

type work interface{ lock() }

type dredging struct {
	Depth int `json:"depth" rule:"minimum=1"`
}

type repair struct {
	Gate string `json:"gate"`
}

func (dredging) lock() {}
func (repair) lock()   {}

type works struct{}

func (works) Cases() (string, map[string]work) {
	return "kind", map[string]work{"dredging": dredging{}, "repair": repair{}}
}

type plan struct {
	Works  []schema.OneOf[work, works] `json:"works" rule:"minItems=1"`
	Names  map[string]int              `json:"names,omitzero"`
	Day    schema.Date                 `json:"day"`
	Quiet  bool                        `json:"quiet"`
	Remark schema.Optional[string]     `json:"remark,omitzero"`
	Self   *plan                       `json:"self,omitzero"`
}

// Every kind of input can be written down, and what is left out, null and a value are told apart.
func TestKindsOfInputs(t *testing.T) {
	api := built(t, wicketway.At("/handbook", handbook.Pages()),
		wicketway.Route("POST /plans", func(_ context.Context, in struct {
			Body plan `from:"body"`
		}) (plan, error) {
			return in.Body, nil
		}, wicketway.Name("plans")),
		wicketway.Route("GET /params/{+rest}", func(_ context.Context, in struct {
			Rest string   `from:"path rest"`
			Tag  []string `from:"query tag"`
			Quay string   `from:"header X-Quay"`
			Dock string   `from:"cookie dock"`
		}) (string, error) {
			return fmt.Sprint(in.Rest, in.Tag, in.Quay, in.Dock), nil
		}, wicketway.Name("params")),
		wicketway.Route("POST /forms", func(_ context.Context, in struct {
			Lock  string         `from:"form lock" rule:"enum=bell|heron"`
			Crew  []int          `from:"form crew" rule:"items.minimum=1"`
			Photo wicketway.File `from:"file photo" rule:"required"`
		}) (string, error) {
			return fmt.Sprint(in.Lock, in.Crew, in.Photo.Name, in.Photo.Size), nil
		}, wicketway.Name("forms")))
	server := httptest.NewServer(api)
	defer server.Close()
	file := filepath.Join(t.TempDir(), "a.txt")
	if err := os.WriteFile(file, []byte("hello"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := sitting{browser.Open(t), t}
	body := func(want string) {
		t.Helper()
		s.send("200 OK")
		s.holds(`document.querySelector('.answer pre').textContent.replace(/\s+/g, "")`, want)
	}
	state := func(name, is string) {
		s.holds(`(() => { const f = `+strings.Replace(field, "NAME", `"`+name+`"`, 1)+`.querySelector('.state'); f.value = '`+is+`'; f.dispatchEvent(new Event('change')); return true })()`, true)
	}
	s.Go(server.URL + "/handbook/api/plans")
	state("self", "left out")
	s.Click(".body .members .members ~ button") // a member of the map
	s.holds(`(() => { const key = document.querySelector('[aria-label="name of the member"]'); key.value = '__proto__'; key.dispatchEvent(new Event('input')); const of = key.parentNode.querySelector(':scope > .control input'); of.value = 7; of.dispatchEvent(new Event('input')); return true })()`, true)
	state("remark", "null")
	body(`{"works":[{"kind":"dredging","depth":1}],"names":{"__proto__":7},"day":"2027-05-04","quiet":false,"remark":null}`)
	state("remark", "left out")
	s.holds(`(() => { const pick = document.querySelector('[aria-label$="which of them"]'); pick.selectedIndex = 1; pick.dispatchEvent(new Event('change')); return true })()`, true)
	s.fill("gate", "upper")
	body(`{"works":[{"kind":"repair","gate":"upper"}],"names":{"__proto__":7},"day":"2027-05-04","quiet":false}`)

	s.Go(server.URL + "/handbook/api/params#path.rest=a%2Fb%3Fc&query.tag=x&query.tag=y")
	s.fill("X-Quay", "west")
	s.fill("dock", "dry dock")
	body(`"a/b?c[xy]westdrydock"`)
	s.holds(`document.cookie`, "")

	s.Go(server.URL + "/handbook/api/forms")
	s.Do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}))
	body(`"bell[1]a.txt5"`)
}

// Every wrong request gets what it must; and in development kinds, a panic and a late answer come on purpose.
func TestBreaking(t *testing.T) {
	t.Setenv("WICKETWAY_DEVELOPMENT", "1")
	canal, address := served(t)
	s := sitting{browser.Open(t), t}
	s.Go(address + "/handbook/v2/passages.book")
	typed := func(selector, text string) {
		t.Helper()
		s.holds(`(() => { const f = document.querySelector('`+selector+`'); f.value = '`+text+`'; f.dispatchEvent(new Event('input')); return true })()`, true)
	}
	typed(".credentials input", canal.Skipper)
	s.Click(".break summary")
	s.Click(".break p > button")
	s.Until(`document.querySelector('.break [role=status]').textContent.includes("all as they must be; 1 not sent")`)
	typed(".break input", canal.Keeper)
	s.Click(".break p > button")
	s.Until(`document.querySelector('.break [role=status]').textContent.endsWith("all as they must be")`)
	s.holds(`[...document.querySelectorAll('.break tbody tr')].filter(r => !r.cells[2].className.includes('well')).length`, 0.)
	s.holds(`document.querySelectorAll('.break tbody tr').length > 15`, true)
	s.Scheme("light")
	s.accessible()

	s.holds(`(() => { const line = document.querySelector('.break tbody tr'); line.querySelector('button').click(); return line.cells[1].textContent })()`, "405")
	s.Until(`document.querySelectorAll('#sent li').length === 1`)
	for _, c := range []struct {
		what, answer string
		again        string
		inside       []string
	}{
		{"slot-taken", "409 Conflict", "409 slot-taken", []string{"409 slot-taken The slot is taken", "raised on purpose by the field Wicketway-Raise", "guard bearer", "OB-1001 of osterbeck"}},
		{"keys-unavailable", "503 ", "503 keys-unavailable", []string{"raised on purpose"}},
		{"panic", "500 ", "500 internal", []string{"panic: raised on purpose"}},
		{"lost=database", "500 ", "500 internal", []string{"*net.OpError", "lost on purpose", "begin"}},
		{"slow=3s", "201 Created", "409 slot-taken", []string{"INSERT INTO passages", "commit", "crew = 2", "1 row", "What was read"}},
		{"nothing", "409 Conflict", "409 slot-taken", []string{"begin", "INSERT INTO passages", "UNIQUE constraint failed", "rollback", "passages.desk.reserve passages/passages.go:"}},
	} {
		s.holds(`(() => { const f = [...document.querySelectorAll('.try select')].find(f => [...f.options].some(o => o.value === 'panic')); f.value = '`+c.what+`'; f.dispatchEvent(new Event('change')); return f.value })()`, c.what)
		s.send(c.answer)
		if c.what == "slow=3s" {
			s.holds(`Number(/after ([0-9]+) ms/.exec(document.querySelector('.answer h2').textContent)[1]) >= 3000`, true)
		}
		s.Click(".answer a.inside")
		s.Until(`document.querySelector('#trails .steps') && document.querySelector('h1').textContent.startsWith('POST /api/v2/passages')`)
		s.sees(c.inside...)
		s.Click("#again")
		s.Until(`document.querySelector('#trails [role=status]').textContent.startsWith('` + c.again + ` after')`)
		if c.what == "slot-taken" {
			s.accessible()
		}
		s.Until(`[...document.querySelectorAll('#trails a')].some(a => a.textContent === 'Open it in its form')`)
		s.open("Open it in its form", "Book a passage")
		s.Until(`[...document.querySelectorAll('.try select')].some(f => f.value === '` + c.what + `')`) // it is filled in
	}
	s.holds(`document.querySelectorAll('#sent li').length`, 7.)

	s.open("Trail", "The last requests")
	s.Until(`document.querySelectorAll('.trails tbody tr').length > 30`)
	rows := 0.
	s.Value(`document.querySelectorAll('.trails tbody tr').length`, &rows)
	if resp, err := http.Get(address + "/api/v2/locks?limit=x"); err == nil {
		resp.Body.Close()
	}
	s.Until(`document.querySelector('.trails tbody tr th').textContent === 'GET /api/v2/locks?limit=x'`)
	s.holds(`document.querySelectorAll('.trails tbody tr').length`, rows+1)
	s.holds(`(() => { document.querySelector('#trails input').click(); return [...document.querySelectorAll('.trails tbody tr')].filter(r => !r.hidden && r.cells[1].textContent.startsWith('2')).length })()`, 0.)
	s.accessible()
	s.holds(`document.documentElement.innerHTML.includes('`+canal.Skipper+`')`, false)
}
