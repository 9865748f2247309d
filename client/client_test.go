package client_test

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/wicketway/wicketway/client"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

type lock struct {
	Lock  string `json:"lock"`
	State string `json:"state" rule:"enum=open|closed"`
}

type oneLock struct {
	Lock  string   `from:"path lock" rule:"pattern='^[a-z .]+$'"`
	Tags  []string `from:"query tag"`
	Limit int      `from:"query limit" rule:"maximum=9"`
	Match string   `from:"header If-Match"`
	Seen  string   `from:"cookie seen"`
}

type newLock struct {
	Key  string `from:"header Idempotency-Key"`
	Body lock   `from:"body"`
}

type patch struct {
	Lock string `from:"path lock"`
	Body struct {
		State schema.Optional[string] `json:"state,omitzero"`
		Crew  int                     `json:"crew,omitzero"`
	} `from:"body"`
}

var (
	errTaken = problem.Define(http.StatusConflict, "slot-taken", "The slot is taken")
	find     = client.Describe[oneLock, client.Answer[lock]]("locks.find", "GET", "/locks/{lock}")
	create   = client.Describe[newLock, lock]("locks.create", "POST", "/locks")
	change   = client.Describe[patch, client.None]("locks.change", "PATCH", "/locks/{lock}")
	list     = client.Describe[client.None, []lock]("locks.list", "GET", "/locks")
)

// made is a client of a handler.
func made(t *testing.T, s client.Settings, h http.HandlerFunc) *client.Client {
	t.Helper()
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	c, err := client.New(server.URL+"/v1/", s)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

var quick = client.Retry{First: time.Millisecond}

// What is sent for an input, and what a wrong one is told before anything is.
func TestInputs(t *testing.T) {
	var asked atomic.Int32
	c := made(t, client.Settings{Header: http.Header{"User-Agent": {"skipper"}}}, func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		body, _ := io.ReadAll(r.Body)
		said := fmt.Sprint(r.Method, " ", r.RequestURI, " ", r.Header.Get("If-Match"), r.Header.Get("Cookie"), r.Header.Get("Content-Type"), " ", string(body), r.UserAgent())
		w.Header().Set("ETag", `"7"`)
		json.NewEncoder(w).Encode(map[string]string{"lock": said, "state": "open"})
	})
	got, err := client.Call(t.Context(), c, find, oneLock{Lock: "bell .", Tags: []string{"a b", "c"}, Match: `"1"`, Seen: "x"})
	if want := `GET /v1/locks/bell%20.?tag=a+b&tag=c "1"seen=x skipper`; err != nil || got.Value.Lock != want || got.Tag() != `"7"` {
		t.Errorf("%v %q, want %q, tag %s", err, got.Value.Lock, want, got.Tag())
	}
	if got, err := client.Call(t.Context(), c, find, oneLock{Lock: ".."}); err != nil || !strings.HasPrefix(got.Value.Lock, "GET /v1/locks/%2E%2E ") {
		t.Errorf("%v %q", err, got.Value.Lock)
	}
	p := patch{Lock: "bell"}
	p.Body.State = schema.Some("open")
	if _, err := client.Call(t.Context(), c, change, p); err != nil {
		t.Error(err)
	}
	made, err := client.Call(t.Context(), c, create, newLock{Body: lock{"heron", "open"}})
	if want := `POST /v1/locks application/json {"lock":"heron","state":"open"}skipper`; err != nil || made.Lock != want {
		t.Errorf("%v %q, want %q", err, made.Lock, want)
	}
	before := asked.Load()
	_, err = client.Call(t.Context(), c, find, oneLock{Lock: "BELL", Limit: 12})
	var told *problem.Problem
	if !errors.As(err, &told) || !errors.Is(err, problem.Invalid) || len(told.Items()) != 2 || told.Items()[1].Name != "limit" || told.Items()[1].Rule != "maximum" {
		t.Errorf("a wrong input: %v %+v", err, told)
	}
	if _, err := client.Call(t.Context(), c, create, newLock{Body: lock{"heron", "ajar"}}); !errors.As(err, &told) || *told.Items()[0].Pointer != "/state" {
		t.Errorf("a wrong body: %v", err)
	}
	if asked.Load() != before {
		t.Error("a wrong input was sent")
	}
	broken := client.Describe[struct {
		Lock string `from:"nowhere"`
	}, client.None]("broken", "GET", "/{lock}/{other")
	if _, err := client.Call(t.Context(), c, broken, struct {
		Lock string `from:"nowhere"`
	}{}); err == nil || !strings.Contains(err.Error(), "unknown source") || !strings.Contains(err.Error(), "a brace that is not closed") {
		t.Errorf("a broken operation: %v", err)
	}
}

// What answers become.
func TestAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		settings client.Settings
		status   int
		header   string
		body     string
		check    func(lock, error) bool
	}{
		"a problem of a known kind": {client.Settings{Kinds: []*problem.Kind{errTaken}}, 409, "application/problem+json", `{"code":"slot-taken","title":"x","status":409,"detail":"again"}`,
			func(_ lock, err error) bool {
				return errors.Is(err, errTaken) && strings.Contains(err.Error(), "again")
			}},
		"a problem of an unknown kind": {client.Settings{}, 418, "application/problem+json", `{"code":"kettle","title":"A kettle","status":418}`,
			func(_ lock, err error) bool {
				p := problem.In(err)
				return p != nil && p.Kind().Code() == "kettle" && p.Kind().Status() == 418
			}},
		"a foreign page": {client.Settings{Retry: quick}, 502, "text/html", "<h1>Bad gateway</h1>" + strings.Repeat("x", 9000), func(_ lock, err error) bool {
			f, is := errors.AsType[*client.Foreign](err)
			return is && f.Status == 502 && len(f.Beginning) == 512 && !f.Whole && strings.Contains(err.Error(), "<h1>Bad gateway")
		}},
		"a broken problem": {client.Settings{}, 400, "application/problem+json", "{", func(_ lock, err error) bool { _, is := errors.AsType[*client.Foreign](err); return is }},
		"no JSON":          {client.Settings{}, 200, "application/json", "<", func(_ lock, err error) bool { return err != nil && strings.Contains(err.Error(), "locks.create") }},
		"too large":        {client.Settings{Most: 20}, 200, "application/json", `{"lock":"a long name of a lock"}`, func(_ lock, err error) bool { return err != nil && strings.Contains(err.Error(), "larger") }},
		"unchecked":        {client.Settings{}, 200, "application/json", `{"lock":"bell","state":"ajar","newer":1}`, func(l lock, err error) bool { return err == nil && l.State == "ajar" }},
		"checked and well": {client.Settings{Checked: true}, 200, "application/json", `{"lock":"bell","state":"open","newer":1}`, func(l lock, err error) bool { return err == nil && l.State == "open" }},
		"checked and not": {client.Settings{Checked: true}, 200, "application/json", `{"lock":"bell","state":"ajar"}`, func(_ lock, err error) bool {
			b, is := errors.AsType[*client.Broken](err)
			return is && b.Faults[0].Pointer == "/state"
		}},
	} {
		cl := made(t, c.settings, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", c.header)
			w.WriteHeader(c.status)
			io.WriteString(w, c.body)
		})
		if got, err := client.Call(t.Context(), cl, create, newLock{Body: lock{"bell", "open"}}); !c.check(got, err) {
			t.Errorf("%s: %+v %v", name, got, err)
		}
	}
}

// How often something is sent, for what is answered first.
func TestRetries(t *testing.T) {
	for _, c := range []struct {
		name   string
		first  int // -1: the connection breaks
		after  string
		retry  client.Retry
		call   func(context.Context, *client.Client) error
		sent   int32
		failed bool
	}{
		{"503 to GET", 503, "", quick, calls(list, client.None{}), 3, true},
		{"503 to GET, never", 503, "", client.Retry{Times: -1}, calls(list, client.None{}), 1, true},
		{"429 and a long wait", 429, "3600", quick, calls(list, client.None{}), 1, true},
		{"429 and no wait", 429, "0", quick, calls(list, client.None{}), 3, true},
		{"a broken connection", -1, "", quick, calls(list, client.None{}), 3, true},
		{"500 to GET", 500, "", quick, calls(list, client.None{}), 1, true},
		{"503 to POST", 503, "", quick, calls(create, newLock{Body: lock{"a", "open"}}), 1, true},
		{"503 to POST with a key", 503, "", quick, calls(create, newLock{Key: "k", Body: lock{"a", "open"}}), 3, true},
		{"503 to PATCH", 503, "", quick, calls(change, patch{Lock: "a"}), 1, true},
	} {
		var sent atomic.Int32
		cl := made(t, client.Settings{Retry: c.retry}, func(w http.ResponseWriter, r *http.Request) {
			sent.Add(1)
			if c.first < 0 {
				panic(http.ErrAbortHandler)
			}
			w.Header().Set("Retry-After", c.after)
			w.WriteHeader(c.first)
		})
		if err := c.call(t.Context(), cl); (err != nil) != c.failed || sent.Load() != c.sent {
			t.Errorf("%s: sent %d times, want %d: %v", c.name, sent.Load(), c.sent, err)
		}
	}
	cl := made(t, client.Settings{Retry: client.Retry{First: time.Hour, Most: 2 * time.Hour}}, func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(503) })
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(10*time.Millisecond, cancel)
	if _, err := client.Call(ctx, cl, list, client.None{}); !errors.Is(err, context.Canceled) {
		t.Errorf("the context does not end a wait: %v", err)
	}
}

func calls[In, Out any](o *client.Operation[In, Out], in In) func(context.Context, *client.Client) error {
	return func(ctx context.Context, c *client.Client) error {
		_, err := client.Call(ctx, c, o, in)
		return err
	}
}

// A token is asked for once, and once more where it has expired; other credentials go out as they are, and none where the
// operation is open.
func TestCredentials(t *testing.T) {
	var asked atomic.Int32
	token := func(context.Context) (string, error) { return fmt.Sprint("token-", asked.Add(1)), nil }
	valid := atomic.Pointer[string]{}
	set := func(s string) { valid.Store(&s) }
	set("Bearer token-1")
	c := made(t, client.Settings{Credentials: client.All(client.Bearer(token), client.Key("Canal-Key", "k"))}, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != *valid.Load() || r.Header.Get("Canal-Key") != "k" {
			w.Header().Set("Content-Type", problem.MediaType)
			w.WriteHeader(401)
			io.WriteString(w, `{"code":"token-expired","title":"x","status":401}`)
			return
		}
		io.WriteString(w, "[]")
	})
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			if _, err := client.Call(t.Context(), c, list, client.None{}); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	set("Bearer token-2")
	if _, err := client.Call(t.Context(), c, list, client.None{}); err != nil || asked.Load() != 2 {
		t.Errorf("asked %d times: %v", asked.Load(), err)
	}
	set("nothing")
	if _, err := client.Call(t.Context(), c, list, client.None{}); err == nil || asked.Load() != 3 {
		t.Errorf("asked %d times: %v", asked.Load(), err)
	}
	set("")
	if _, err := client.Call(t.Context(), c, list.Open(), client.None{}); err == nil {
		t.Error("an open operation has the key")
	}
	c = made(t, client.Settings{Credentials: client.Basic("grebe", "p")}, func(w http.ResponseWriter, r *http.Request) {
		if name, password, _ := r.BasicAuth(); name != "grebe" || password != "p" {
			w.WriteHeader(401)
		}
		io.WriteString(w, "[]")
	})
	if _, err := client.Call(t.Context(), c, list, client.None{}); err != nil {
		t.Error(err)
	}
	if _, err := client.New("http://a.example", client.Settings{HTTP: http.DefaultClient, Credentials: client.Certificate(tls.Certificate{})}); err == nil {
		t.Error("a certificate that nobody sends is taken")
	}
	for _, address := range []string{"", "canal.example", "ftp://canal.example", "http://u:p@canal.example", "http://canal.example?a=b"} {
		if _, err := client.New(address, client.Settings{}); err == nil {
			t.Errorf("%q is taken for an address", address)
		}
	}
}

// A redirect to another host takes no credentials along.
func TestRedirectsTakeNothingAlong(t *testing.T) {
	var seen atomic.Value
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen.Store(r.Header.Get("Canal-Key") + r.Header.Get("Authorization"))
		io.WriteString(w, "[]")
	}))
	defer elsewhere.Close()
	token := func(context.Context) (string, error) { return "t", nil }
	for _, given := range []*http.Client{nil, {}, {CheckRedirect: func(*http.Request, []*http.Request) error { return nil }}} {
		c := made(t, client.Settings{HTTP: given, Credentials: client.All(client.Key("Canal-Key", "k"), client.Bearer(token))}, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
		})
		if _, err := client.Call(t.Context(), c, list, client.None{}); err != nil || seen.Load() != "" {
			t.Errorf("%v: %q went elsewhere", err, seen.Load())
		}
	}
	c := made(t, client.Settings{}, func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, r.URL.Path, http.StatusSeeOther) })
	if _, err := client.Call(t.Context(), c, list, client.None{}); err == nil || !strings.Contains(err.Error(), "10 redirects") {
		t.Errorf("a circle: %v", err)
	}
}

// Pages follow their links, and stay where they are.
func TestPages(t *testing.T) {
	var other string
	c := made(t, client.Settings{}, func(w http.ResponseWriter, r *http.Request) {
		after, _ := strconv.Atoi(r.URL.Query().Get("after"))
		switch {
		case r.Header.Get("Leads") != "":
			w.Header().Set("Link", "<"+r.Header.Get("Leads")+`>; rel="next"`)
		case after < 3:
			w.Header().Set("Link", fmt.Sprintf(`</v1/x>; rel=prev, <?after=%d>; title="a"; rel="last next"`, after+1))
		}
		fmt.Fprintf(w, `[{"lock":"%d","state":"open"},{"lock":"%d.5","state":"open"}]`, after, after)
	})
	var got []string
	for l, err := range client.Each(client.Pages(t.Context(), c, list, client.None{}), func(page []lock) []lock { return page }) {
		if err != nil {
			t.Fatal(err)
		}
		if got = append(got, l.Lock); l.Lock == "3" {
			break
		}
	}
	if !slices.Equal(got, []string{"0", "0.5", "1", "1.5", "2", "2.5", "3"}) {
		t.Errorf("%v", got)
	}
	for _, other = range []string{"http://elsewhere.example/locks", "/v1/locks", "https://" + "127.0.0.1/"} {
		led := client.Describe[struct {
			Leads string `from:"header Leads"`
		}, []lock]("led", "GET", "/locks")
		n, failed := 0, error(nil)
		for _, err := range client.Pages(t.Context(), c, led, struct {
			Leads string `from:"header Leads"`
		}{other}) {
			n, failed = n+1, err
		}
		if n != 2 || failed == nil {
			t.Errorf("to %s: %d pages, %v", other, n, failed)
		}
	}
}

// Streams come item by item, whatever they are sent as; a broken one goes on, or says that it has broken off.
func TestStreams(t *testing.T) {
	type level struct {
		Reading int `json:"reading"`
	}
	levels := client.Describe[struct {
		As string `from:"query as"`
	}, level]("levels", "GET", "/levels")
	var again atomic.Int32
	c := made(t, client.Settings{Retry: quick, Most: 1 << 10}, func(w http.ResponseWriter, r *http.Request) {
		as := r.URL.Query().Get("as")
		media := map[string]string{"lines": "application/x-ndjson", "array": "application/json", "short": "application/json", "long": "application/x-ndjson", "bad": "application/x-ndjson"}[as]
		if media == "" {
			media = "text/event-stream"
		}
		w.Header().Set("Content-Type", media)
		switch as {
		case "lines":
			io.WriteString(w, "{\"reading\":1}\n\n{\"reading\":2}\n{\"reading\":3}")
		case "array":
			io.WriteString(w, `[{"reading":1},{"reading":2} , {"reading":3}]`)
		case "short":
			io.WriteString(w, `[{"reading":1},{"reading":2}`)
		case "long":
			io.WriteString(w, `{"reading":`+strings.Repeat(" ", 2<<10)+"1}\n")
		case "bad":
			io.WriteString(w, "{\"reading\":1}\nnonsense\n")
		case "problem":
			io.WriteString(w, "data: {\"reading\":1}\n\nevent: problem\ndata: {\"code\":\"slot-taken\",\"title\":\"x\",\"status\":409}\n\n")
		case "events":
			from, _ := strconv.Atoi(r.Header.Get("Last-Event-ID"))
			again.Add(1)
			io.WriteString(w, "retry: 1\n: a comment\n\n")
			if from < 3 {
				fmt.Fprintf(w, "event: level\nid: %d\ndata: {\"reading\":\ndata: %d}\r\n\r\n", from+1, from+1)
				return // and breaks off
			}
			w.Header().Set("Content-Type", problem.MediaType)
		}
	})
	for as, want := range map[string]string{"lines": "1 2 3", "array": "1 2 3", "short": "1 2 error", "long": "error", "bad": "1 error", "problem": "1 error", "events": "1 2 3 error"} {
		var said []string
		for l, err := range client.Items(t.Context(), c, levels, struct {
			As string `from:"query as"`
		}{as}) {
			if err != nil {
				said = append(said, "error")
			} else {
				said = append(said, fmt.Sprint(l.Reading))
			}
		}
		if got := strings.Join(said, " "); got != want {
			t.Errorf("%s: %s, want %s", as, got, want)
		}
	}
	if again.Load() < 4 {
		t.Errorf("the events went on %d times", again.Load())
	}
	for range client.Items(t.Context(), c, levels, struct {
		As string `from:"query as"`
	}{"events"}) {
		break
	}
}

// Uploads are read while they are sent, and downloads go on where they broke off.
func TestTransfers(t *testing.T) {
	text := strings.Repeat("a plan of the canal ", 40_000)
	var broke atomic.Int32
	c := made(t, client.Settings{Retry: quick}, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/v1/photo":
			r.ParseMultipartForm(1 << 20)
			f, h, err := r.FormFile("photo")
			if err != nil {
				t.Error(err)
				return
			}
			body, _ := io.ReadAll(f)
			fmt.Fprintf(w, `{"lock":%q,"state":"%d"}`, fmt.Sprint(r.FormValue("title"), " ", h.Filename, " ", h.Header.Get("Content-Type"), " ", len(r.MultipartForm.File["more"])), len(body))
		case r.URL.Path == "/v1/import":
			n := strings.Count(func() string { b, _ := io.ReadAll(r.Body); return string(b) }(), "\n")
			fmt.Fprintf(w, `{"lock":"%s","state":"%d"}`, r.Header.Get("Content-Type"), n)
		case r.URL.Path == "/v1/changed" && r.Header.Get("Range") != "":
			io.WriteString(w, "another")
		default:
			w.Header().Set("ETag", `"1"`)
			w.Header().Set("Content-Disposition", `attachment; filename="plan.txt"`)
			if n := broke.Add(1); n < 4 {
				w.Header().Set("Accept-Ranges", "bytes")
				w.Header().Set("Content-Length", strconv.Itoa(len(text)))
				from := 0
				if fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-", &from); from > 0 {
					w.Header().Set("Content-Length", strconv.Itoa(len(text)-from))
					w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, len(text)-1, len(text)))
					w.WriteHeader(206)
				}
				io.WriteString(w, text[from:min(len(text), from+300_000)])
				return
			}
			http.ServeContent(w, r, "", time.Time{}, strings.NewReader(text))
		}
	})
	type photo struct {
		Title string        `from:"form title"`
		Photo client.File   `from:"file photo"`
		More  []client.File `from:"file more"`
	}
	put := client.Describe[photo, lock]("photo", "PUT", "/photo")
	got, err := client.Call(t.Context(), c, put, photo{"heron", client.File{Name: "a.png", Type: "image/png", Body: strings.NewReader(text)}, []client.File{{Body: strings.NewReader("1")}, {Body: strings.NewReader("2")}}})
	if want := "heron a.png image/png 2"; err != nil || got.Lock != want || got.State != strconv.Itoa(len(text)) {
		t.Errorf("%v %+v, want %s", err, got, want)
	}
	type many struct {
		Locks iter.Seq2[lock, error] `from:"body"`
	}
	imports := client.Describe[many, lock]("import", "POST", "/import")
	got, err = client.Call(t.Context(), c, imports, many{func(yield func(lock, error) bool) {
		for range 5 {
			if !yield(lock{"bell", "open"}, nil) {
				return
			}
		}
	}})
	if err != nil || got.Lock != "application/x-ndjson" || got.State != "5" {
		t.Errorf("%v %+v", err, got)
	}
	failed := errors.New("the disk is full")
	if _, err := client.Call(t.Context(), c, imports, many{func(yield func(lock, error) bool) { yield(lock{}, failed) }}); !errors.Is(err, failed) {
		t.Errorf("a stream that fails: %v", err)
	}
	nobody, err := client.New("http://127.0.0.1:1", client.Settings{Credentials: client.Bearer(func(context.Context) (string, error) { return "", failed })})
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	if _, err := client.Call(t.Context(), nobody, imports, many{func(yield func(lock, error) bool) {
		defer close(ended)
		yield(lock{"bell", "open"}, nil)
	}}); !errors.Is(err, failed) {
		t.Errorf("without a token: %v", err)
	}
	<-ended // though nobody has read it
	plan := client.Describe[client.None, *client.Content]("plan", "GET", "/plan")
	content, err := client.Download(t.Context(), c, plan, client.None{})
	if err != nil {
		t.Fatal(err)
	}
	defer content.Close()
	if body, err := io.ReadAll(content); err != nil || string(body) != text || content.Name != "plan.txt" || content.Size != int64(len(text)) || broke.Load() != 3 {
		t.Errorf("%d bytes of %d in %d requests, %s: %v", len(body), len(text), broke.Load(), content.Name, err)
	}
	broke.Store(0)
	changed := client.Describe[client.None, *client.Content]("changed", "GET", "/changed")
	content, err = client.Download(t.Context(), c, changed, client.None{})
	if err != nil {
		t.Fatal(err)
	}
	defer content.Close()
	if body, err := io.ReadAll(content); err == nil || len(body) != 300_000 {
		t.Errorf("what has changed meanwhile is taken: %d bytes", len(body))
	}
}

// The end of an operation is told of once.
func TestEndings(t *testing.T) {
	var told []client.Ending
	c := made(t, client.Settings{Ending: func(e client.Ending) { told = append(told, e) }}, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Deprecation", "@1788220800")
		w.Header().Set("Sunset", "Wed, 30 Jun 2027 00:00:00 GMT")
		w.Header().Set("Link", `</v2/locks>; rel="successor-version"`)
		io.WriteString(w, "[]")
	})
	for range 3 {
		if _, err := client.Call(t.Context(), c, list, client.None{}); err != nil {
			t.Fatal(err)
		}
	}
	if len(told) != 1 || told[0].Operation != "locks.list" || told[0].Deprecated.Unix() != 1788220800 || told[0].Sunset.Year() != 2027 || !strings.HasSuffix(told[0].Successor, "/v2/locks") {
		t.Errorf("%+v", told)
	}
}

// A client links HTTP, problems and rules, and neither the server nor the reader of contracts.
func TestClientLinksLittle(t *testing.T) {
	list, err := exec.CommandContext(t.Context(), "go", "list", "-deps", ".").Output()
	if err != nil {
		t.Fatal(err)
	}
	allowed := []string{"client", "problem", "schema", "internal/"}
	for path := range strings.Lines(string(list)) {
		path = strings.TrimSpace(path)
		if inside, ours := strings.CutPrefix(path, "github.com/wicketway/wicketway"); ours {
			if !slices.ContainsFunc(allowed, func(a string) bool { return strings.HasPrefix(inside, "/"+a) }) {
				t.Errorf("the client links %s", path)
			}
		} else if first, _, _ := strings.Cut(path, "/"); strings.Contains(first, ".") && !strings.HasPrefix(path, "github.com/go-json-experiment/json") {
			t.Errorf("the client links %s", path)
		}
	}
}
