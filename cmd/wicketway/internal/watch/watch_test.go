package watch_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/watch"
	"github.com/wicketway/wicketway/facts"
)

// program is one whose answers say which it is. What it does at its start and in its description can be replaced.
const program = `package main

import (
	"context"
	_ "embed"
	"fmt"
	"log"
	"os"

	"github.com/wicketway/wicketway"
)

//go:embed greeting.txt
var greeting string

type none = wicketway.None

func number(context.Context, none) (string, error) { return "NUMBER" + greeting, nil }

func die(context.Context, none) (none, error) { go func() { panic("no water") }(); select {} }

func main() {
	defer fmt.Println("closed")
	STARTS
	api, err := wicketway.Build(wicketway.Info{Title: "Numbers", Version: "1.0.0"},
		wicketway.Route("GET /", number, wicketway.Name("read")), wicketway.Route("POST /", number, wicketway.Name("write")),
		ROUTES
		wicketway.Route("GET /die", die))
	if err != nil {
		log.Fatal(err)
	}
	if err := api.Serve(context.Background(), os.Args[1]); err != nil {
		log.Fatal(err)
	}
}
`

// A folder is a module with the program in it.
type folder struct {
	t   testing.TB
	dir string
}

func newFolder(t testing.TB) folder {
	switch {
	case runtime.GOOS == "windows":
		t.Skip("sockets are not handed on there")
	case testing.Short():
		t.Skip("programs are built again and again")
	}
	f := folder{t, t.TempDir()}
	root, err := filepath.Abs("../../../..")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"go.mod", "go.sum"} {
		text, err := os.ReadFile(filepath.Join(root, name))
		if err != nil {
			t.Fatal(err)
		}
		if name == "go.mod" {
			text = append(bytes.Replace(text, []byte("github.com/wicketway/wicketway"), []byte("canal.example/numbers"), 1),
				fmt.Sprintf("\nrequire github.com/wicketway/wicketway v0.0.0\nreplace github.com/wicketway/wicketway => %s\n", root)...)
		}
		f.write(name, string(text))
	}
	f.write("greeting.txt", "")
	return f
}

func (f folder) write(name, text string) {
	if err := os.WriteFile(filepath.Join(f.dir, name), []byte(text), 0o600); err != nil {
		f.t.Fatal(err)
	}
}

// put writes the program, as an editor does that puts a new file in the place of the old one.
func (f folder) put(number int, starts, routes string) {
	text := strings.NewReplacer("NUMBER", strconv.Itoa(number), "STARTS", starts, "ROUTES", routes).Replace(program)
	f.write("main.go~", text)
	if err := os.Rename(filepath.Join(f.dir, "main.go~"), filepath.Join(f.dir, "main.go")); err != nil {
		f.t.Fatal(err)
	}
}

// watched watches the program, and gives its events except those about steps.
func (f folder) watched(w *watch.Watch) (events <-chan any, end func()) {
	f.t.Chdir(f.dir)
	all := make(chan any, 100)
	w.Package, w.Report = ".", func(event any) {
		switch event.(type) {
		case watch.Building, watch.Starting:
		default:
			all <- event
		}
	}
	ctx, cancel := context.WithCancel(f.t.Context())
	done := make(chan error, 1)
	go func() { done <- w.Run(ctx) }()
	end = sync.OnceFunc(func() {
		cancel()
		if err := <-done; err != nil {
			f.t.Error(err)
		}
	})
	f.t.Cleanup(end)
	return all, end
}

// next is the next event, which must be of its type.
func next[E any](t testing.TB, events <-chan any) E {
	t.Helper()
	select {
	case e := <-events:
		if e, ok := e.(E); ok {
			return e
		}
		t.Fatalf("want a %T, got %#v", *new(E), e)
	case <-time.After(2 * time.Minute):
		t.Fatalf("no %T came", *new(E))
	}
	panic("not reached")
}

// locked is a buffer for several writers.
type locked struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *locked) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(b)
}

func (l *locked) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// A load asks all the time: half of its clients on a fresh connection each time, half of them with POST. It counts.
type load struct {
	url                      string
	before, serving          atomic.Int64 // the numbers of the last two programs that were said to serve
	answered, refused, wrong atomic.Int64
	kinds                    sync.Map
	stop                     chan struct{}
	running                  sync.WaitGroup
}

func (l *load) begin() {
	l.stop = make(chan struct{})
	for i := range 16 {
		client := &http.Client{Transport: &http.Transport{DisableKeepAlives: i%4 < 2}}
		method := []string{http.MethodGet, http.MethodPost}[i%2]
		l.running.Go(func() {
			defer client.CloseIdleConnections()
			for every := time.NewTicker(32 * time.Millisecond); ; {
				select {
				case <-l.stop:
					return
				case <-every.C:
					l.ask(client, method)
				}
			}
		})
	}
}

func (l *load) ask(client *http.Client, method string) {
	least := l.before.Load() // the one before may have been asked in its last moments
	request, _ := http.NewRequest(method, l.url, nil)
	response, err := client.Do(request)
	if err != nil {
		if l.kinds.Store(err.Error(), method); errors.Is(err, syscall.ECONNREFUSED) {
			l.refused.Add(1)
			return
		}
		l.wrong.Add(1)
		return
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	n, convErr := strconv.ParseInt(strings.Trim(strings.TrimSpace(string(text)), `"`), 10, 64)
	if err != nil || convErr != nil || n < least || n%3 == 2 {
		l.kinds.Store(fmt.Sprintf("%d %q, at least %d", response.StatusCode, text, least), method)
		l.wrong.Add(1)
		return
	}
	l.answered.Add(1)
}

// Thirty changes under load: each third one is a program that cannot serve, in a way of its own.
func TestNoRequestIsLost(t *testing.T) {
	f := newFolder(t)
	f.put(0, "", "")
	events, end := f.watched(&watch.Watch{Arguments: []string{"127.0.0.1:0"}, Output: io.Discard, Errors: io.Discard})
	first := next[watch.Serving](t, events)
	l := &load{url: first.Addresses[0]}
	l.begin()
	broken := []struct {
		starts, routes, want string
		ended                bool
	}{
		{"no Go", "", "main.go:", false},
		{"", `wicketway.Route("GET /{", number),`, "main.go:", false},
		{`panic("dry")`, "", "panic: dry", true},
	}
	for i := range 12 {
		n := i + 1
		if n%3 == 2 {
			b := broken[n/3%len(broken)]
			f.put(n, b.starts, b.routes)
			if b.ended {
				if e := next[watch.Ended](t, events); e.Message != b.want || e.Served || !e.Serves || len(e.Own) == 0 || e.Own[0].Function != "main.main" {
					t.Errorf("change %d: %+v", n, e)
				}
			} else if e := next[watch.Mistaken](t, events); !e.Serves || !strings.HasPrefix(watch.Line(e.Mistakes[0]), b.want) {
				t.Errorf("change %d: %+v", n, e)
			}
			continue
		}
		f.put(n, "", "")
		if e := next[watch.Serving](t, events); !slices.Equal(e.Changed, []string{"main.go"}) || e.Addresses[0] != l.url {
			t.Errorf("change %d: %+v", n, e)
		}
		l.before.Store(l.serving.Swap(int64(n)))
	}
	close(l.stop)
	l.running.Wait()
	end()
	if l.refused.Load() > 0 || l.wrong.Load() > 0 || l.answered.Load() == 0 {
		t.Errorf("%d answered, %d refused, %d lost or from a wrong program", l.answered.Load(), l.refused.Load(), l.wrong.Load())
		l.kinds.Range(func(text, method any) bool { t.Log(method, text); return true })
	}
	t.Logf("%d answered", l.answered.Load())
	if _, err := net.Dial("tcp", strings.Trim(strings.TrimPrefix(l.url, "http:"), "/")); err == nil {
		t.Error("somebody still listens")
	}
}

func answer(t testing.TB, url, accept string) (status int, header http.Header, body string) {
	t.Helper()
	request, _ := http.NewRequest(http.MethodGet, url, nil)
	request.Header.Set("Accept", accept)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, response.Header, string(text)
}

// newerCode asks until an answer says that newer code does not serve, or no longer says so: the program learns of it a
// moment after the programmer.
func newerCode(t *testing.T, at string, said bool) (header http.Header, page string) {
	t.Helper()
	for until := time.Now().Add(30 * time.Second); time.Now().Before(until); time.Sleep(10 * time.Millisecond) {
		_, header, page = answer(t, at+"nowhere", "text/html")
		if (header.Get("Wicketway-Newer-Code") != "") == said {
			break
		}
	}
	return header, page
}

// What is said, to the programmer and to callers, as a program changes.
func TestADay(t *testing.T) {
	f := newFolder(t)
	var output, errs locked
	f.put(1, `log.Print("opens")`, "")
	f.write("main_test.go", "package main\n\nimport \"testing\"\n\nfunc TestGreeting(t *testing.T) {\n\tif greeting == \"bad\" {\n\t\tt.Error(\"a bad greeting\")\n\t}\n}\n")
	w := &watch.Watch{Arguments: []string{"127.0.0.1:0"}, Output: &output, Errors: &errs, Tests: true,
		Environment: []string{"WICKETWAY_DEVELOPMENT=1"}}
	events, end := f.watched(w)
	at := next[watch.Serving](t, events).Addresses[0]

	// A change of the routes, and the tests that it reaches.
	f.put(1, "", `wicketway.Route("GET /locks", number, wicketway.Name("locks")),`)
	e := next[watch.Serving](t, events)
	if c := watch.Compare(e.Before, e.Now); !slices.Equal(c.Added, []string{"GET /locks"}) || c.Gone != nil || e.First {
		t.Errorf("%+v", c)
	}
	if e := next[watch.Tested](t, events); e.Failed != "" || !slices.Equal(e.Packages, []string{"canal.example/numbers"}) {
		t.Errorf("%+v", e)
	}

	// An embedded file, a test that fails, and one that passes again without a turn.
	f.write("greeting.txt", "bad")
	next[watch.Serving](t, events)
	if e := next[watch.Tested](t, events); !strings.Contains(e.Failed, "a bad greeting") {
		t.Errorf("%+v", e)
	}
	f.write("main_test.go", "package main\n")
	for {
		if e, ok := next[any](t, events).(watch.Tested); ok && e.Failed == "" {
			break // no tests are left
		} else if ok {
			t.Fatalf("%+v", e)
		}
	}

	// A mistake, of which answers tell until it is undone.
	f.put(1, "", `wicketway.Route("GET /locks", nowhere),`)
	if e := next[watch.Mistaken](t, events); len(e.Mistakes) != 1 || e.Mistakes[0].Text != "undefined: nowhere" || !e.Serves {
		t.Errorf("%+v", e)
	}
	header, page := newerCode(t, at, true)
	if got := header.Get("Wicketway-Newer-Code"); !regexp.MustCompile(`^does not build: main.go:\d+: undefined: nowhere$`).MatchString(got) || !strings.Contains(page, got) {
		t.Errorf("%s\n%s", got, page)
	}
	f.put(1, "", `wicketway.Route("GET /locks", number, wicketway.Name("locks")),`)
	next[watch.Same](t, events)
	next[watch.Tested](t, events)
	if header, page := newerCode(t, at, false); header.Get("Wicketway-Newer-Code") != "" || strings.Contains(page, "Newer code") {
		t.Error("the mistake is told of though it is gone")
	}

	// A crash: the watcher answers until the next program does.
	http.Get(at + "die")
	if e := next[watch.Ended](t, events); e.Message != "panic: no water" || !e.Served || e.Serves || !e.Answered || !strings.Contains(e.Own[0].String(), "main.go:") {
		t.Errorf("%+v", e)
	}
	if status, header, body := answer(t, at, "application/json"); status != 503 || header.Get("Content-Type") != "application/problem+json" || !strings.Contains(body, "ended: panic: no water (main.go:") {
		t.Errorf("%d %v %s", status, header, body)
	}
	f.put(2, "", "")
	next[watch.Serving](t, events)
	if status, _, body := answer(t, at, "application/json"); status != 200 || !strings.Contains(body, "2bad") {
		t.Errorf("%d %s", status, body)
	}

	// Another watcher of the address learns who has it.
	other := exec.Command(os.Args[0], "-test.run=^$")
	other.Env = append(os.Environ(), "WATCH_ONLY="+strings.Trim(strings.TrimPrefix(at, "http://"), "/"))
	said, err := other.CombinedOutput()
	if want := fmt.Sprintf("wicketway watch . in %s, process %d, keeps it", f.dir, os.Getpid()); err == nil || !strings.Contains(string(said), want) {
		t.Errorf("%v: %s", err, said)
	}
	end()
	if got := errs.String(); !strings.Contains(got, "opens\n") || strings.Contains(got, "panic") {
		t.Errorf("the program wrote %s", got)
	}
	if n := strings.Count(output.String(), "closed"); n < 3 {
		t.Errorf("%d programs ended in order: %s", n, &output)
	}
}

// A program that writes into its own folder is not started for ever, and one that cannot run twice is stopped first:
// requests wait meanwhile.
func TestStopFirst(t *testing.T) {
	f := newFolder(t)
	const writes = `os.WriteFile("state.json", []byte(os.Args[0]), 0o600); if os.Mkdir("mine", 0o700) != nil { log.Fatal("another one runs") }; defer os.Remove("mine")`
	f.put(1, writes, "")
	events, _ := f.watched(&watch.Watch{Arguments: []string{"127.0.0.1:0"}, StopFirst: true, Output: io.Discard, Errors: io.Discard})
	at := next[watch.Serving](t, events).Addresses[0]
	for range 2 {
		if e := next[watch.Serving](t, events); !slices.Equal(e.Changed, []string{"state.json"}) {
			t.Errorf("%+v", e)
		}
	}
	if e := next[watch.Left](t, events); e.File != "state.json" {
		t.Errorf("%+v", e)
	}
	f.put(2, writes, "")
	for {
		if status, _, body := answer(t, at, "*/*"); status != 200 {
			t.Fatalf("%d %s", status, body)
		} else if strings.HasPrefix(body, `"2`) {
			break
		}
	}
	next[watch.Serving](t, events)
}

// TestMain can be a watcher itself: one that ends at the first program that does, or one to be killed.
func TestMain(m *testing.M) {
	address := os.Getenv("WATCH_ONLY")
	if address == "" {
		os.Exit(m.Run())
	}
	os.Unsetenv("WATCH_ONLY")
	ctx, cancel := context.WithCancelCause(context.Background())
	w := &watch.Watch{Package: ".", Arguments: []string{address}, Output: os.Stdout, Errors: os.Stderr, Report: func(event any) {
		switch e := event.(type) {
		case watch.Ended:
			cancel(errors.New(e.Said))
		case watch.Serving:
			fmt.Println(e.Addresses[0])
		}
	}}
	w.Run(ctx)
	fmt.Println(context.Cause(ctx))
	os.Exit(1)
}

// Nothing outlives a watcher that is killed.
func TestAKilledWatcherLeavesNothing(t *testing.T) {
	f := newFolder(t)
	t.Chdir(f.dir)
	f.put(1, `signal.Ignore(os.Interrupt, syscall.SIGTERM)`, "")
	text, err := os.ReadFile("main.go")
	if err != nil {
		t.Fatal(err)
	}
	f.write("main.go", strings.Replace(string(text), `"os"`, "\"os\"\n\t\"os/signal\"\n\t\"syscall\"", 1))
	self := exec.Command(os.Args[0], "-test.run=^$")
	self.Env = append(os.Environ(), "WATCH_ONLY=127.0.0.1:0", "TMPDIR="+t.TempDir())
	out, err := self.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := self.Start(); err != nil {
		t.Fatal(err)
	}
	line := make([]byte, 100)
	n, err := out.Read(line)
	if err != nil {
		t.Fatal(err)
	}
	at := strings.Trim(strings.TrimSpace(strings.TrimPrefix(string(line[:n]), "http:")), "/")
	if _, _, body := answer(t, "http://"+at, "*/*"); !strings.Contains(body, "1") {
		t.Error(body)
	}
	self.Process.Kill()
	self.Wait()
	for until := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			break
		}
		conn.Close()
		if time.Now().After(until) {
			t.Fatal("the program goes on")
		}
	}
}

func TestCompare(t *testing.T) {
	guard := &facts.Guard{Name: "bearer"}
	was := &facts.API{Routes: []facts.Route{{Method: "GET", Path: "/a"}, {Method: "GET", Path: "/b", Guard: guard}, {Path: "/m", Guard: guard}, {Method: "GET", Path: "/own", Own: true}}}
	is := &facts.API{Routes: []facts.Route{{Method: "GET", Path: "/a", Guard: guard}, {Method: "GET", Path: "/b"}, {Path: "/m", Guard: guard, Open: []string{"GET"}}, {Method: "PUT", Path: "/c"}}}
	if got, want := fmt.Sprint(watch.Compare(was, is), watch.Compare(is, was), watch.Compare(nil, is)),
		"{[PUT /c] [] [* /m GET /b] [GET /a]} {[] [PUT /c] [GET /a] [* /m GET /b]} {[* /m GET /a GET /b PUT /c] [] [] []}"; got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
}
