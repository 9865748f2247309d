package wicketway_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"testing/synctest"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/format/csv"
	"github.com/wicketway/wicketway/format/html"
	"github.com/wicketway/wicketway/wicketwaytest"
)

// A closing body knows whether it was closed, and breaks off where it is to.
type closingBody struct {
	io.Reader
	closed *bool
}

func (b closingBody) Close() error { *b.closed = true; return nil }

// An own answer is one that users write.
type ownAnswer struct{ fails bool }

func (a *ownAnswer) Answer(w http.ResponseWriter, _ *http.Request) error {
	if a.fails {
		return errCanal.New("The ink is dry.")
	}
	w.WriteHeader(http.StatusTeapot - 200)
	return nil
}

func (*ownAnswer) Answers() []facts.Answer {
	return []facts.Answer{{Status: 218}}
}

type lockIn struct {
	Lock string `from:"path lock"`
	Days int    `from:"query days"`
}

func lockOf(_ context.Context, in lockIn) (string, error) { return in.Lock, nil }

// What a route returns, and what is sent: the status, fields of the header, and the body.
func TestAnswers(t *testing.T) {
	closed := false
	broken := io.MultiReader(strings.NewReader(strings.Repeat("x", 9000)), errReader{})
	files := fstest.MapFS{"plan.svg": {Data: []byte("<svg/>"), ModTime: time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC)}}
	content := func(c func() wicketway.Content) func(context.Context, wicketway.None) (wicketway.Content, error) {
		return func(context.Context, wicketway.None) (wicketway.Content, error) { return c(), nil }
	}
	redirect := func(r wicketway.Redirect) func(context.Context, wicketway.None) (wicketway.Redirect, error) {
		return func(context.Context, wicketway.None) (wicketway.Redirect, error) { return r, nil }
	}
	route := wicketway.Route[wicketway.None, wicketway.Content]
	away := wicketway.Route[wicketway.None, wicketway.Redirect]
	text := func() wicketway.Content { return wicketway.Text("Höhe") }
	api := build(t,
		wicketway.Route("GET /locks/{lock}", lockOf),
		wicketway.Route("POST /locks", func(context.Context, wicketway.None) (*wicketway.Created[string, lockIn], error) {
			return &wicketway.Created[string, lockIn]{Value: "bell", At: lockIn{"bell lock", 3}, Header: http.Header{"Own": {"a"}}}, nil
		}, wicketway.LocatedBy(lockOf)),
		wicketway.Version("v2", wicketway.Route("GET /locks/{lock}", lockOf),
			wicketway.Route("POST /locks", func(context.Context, wicketway.None) (wicketway.Created[wicketway.None, lockIn], error) {
				return wicketway.Created[wicketway.None, lockIn]{At: lockIn{Lock: "bell"}}, nil
			}, wicketway.LocatedBy(lockOf))),
		wicketway.Route("GET /reply", func(context.Context, wicketway.None) (*wicketway.Reply[[]int], error) {
			return &wicketway.Reply[[]int]{Status: 203, Header: http.Header{"Content-Type": {"application/vnd.canal+json"}}, Value: []int{1}}, nil
		}),
		wicketway.Route("GET /nothing", func(context.Context, wicketway.None) (*wicketway.Reply[int], error) { return nil, nil }),
		wicketway.Route("GET /named", func(context.Context, wicketway.None) (int, error) { return 7, nil }, wicketway.Media("application/vnd.canal.lock+json")),
		wicketway.Route("GET /null", func(context.Context, wicketway.None) (map[string]any, error) {
			return map[string]any{"a": nil, "b": []any{nil, map[string]any{"c": nil, `d":null`: ":null"}}}, nil
		}, wicketway.OmitNull()),
		wicketway.Route("GET /members", func(context.Context, wicketway.None) (any, error) {
			type m struct {
				A, B, C, D *int
				E          string
			}
			n := 0
			return []any{m{E: ":null,"}, m{A: &n, C: &n, E: `\":null`}, m{B: &n, D: &n}}, nil
		}, wicketway.OmitNull()),
		route("GET /text", content(text)),
		route("GET /tagged", content(text), wicketway.Conditional()),
		route("GET /closed", content(func() wicketway.Content {
			return wicketway.Content{Type: "image/png", Name: "../Plan ä.png", Download: true, Size: 3, Body: closingBody{strings.NewReader("abc"), &closed}}
		})),
		wicketway.Route("GET /failed", func(context.Context, wicketway.None) (*wicketway.Content, error) {
			return &wicketway.Content{Body: closingBody{strings.NewReader("abc"), &closed}}, errCanal
		}),
		route("GET /file", content(func() wicketway.Content { f, _ := files.Open("plan.svg"); return wicketway.Content{Body: f} })),
		route("GET /broken", content(func() wicketway.Content { return wicketway.Content{Body: errReader{}, Size: 9} })),
		route("GET /half", content(func() wicketway.Content { return wicketway.Content{Body: broken} })),
		route("GET /empty", content(func() wicketway.Content { return wicketway.Content{} })),
		route("GET /page", content(func() wicketway.Content { return wicketway.Content{Body: strings.NewReader("<script>")} })),
		away("GET /see", redirect(wicketway.Redirect{Path: "/locks/bell?days=3"})),
		away("POST /moved", redirect(wicketway.Redirect{Status: 308, Path: "/locks"})),
		away("GET /odd", redirect(wicketway.Redirect{Status: 301, Path: "/locks"})),
		away("GET /out", redirect(wicketway.Redirect{Path: "https://canal.example/"})),
		away("GET /out2", redirect(wicketway.Redirect{Path: "//canal.example/"})),
		away("GET /out3", redirect(wicketway.Redirect{Path: "/\\canal.example/"})),
		away("GET /out4", redirect(wicketway.Redirect{Path: "/\t/canal.example/"})),
		away("GET /elsewhere", redirect(wicketway.Redirect{Status: 307, Path: "https://canal.example/", Elsewhere: true})),
		wicketway.Route("GET /by", func(context.Context, wicketway.None) (*wicketway.RedirectBy[lockIn], error) {
			return &wicketway.RedirectBy[lockIn]{At: lockIn{Lock: "a/b"}}, nil
		}, wicketway.LocatedBy(lockOf)),
		wicketway.Route("GET /own", func(context.Context, wicketway.None) (*ownAnswer, error) { return &ownAnswer{}, nil }),
		wicketway.Route("GET /own/fails", func(context.Context, wicketway.None) (wicketway.Answerer, error) { return &ownAnswer{true}, nil }),
		wicketway.Route("GET /own/nil", func(context.Context, wicketway.None) (wicketway.Answerer, error) { return nil, nil }),
		wicketway.Route("GET /own/reply", func(context.Context, wicketway.None) (wicketway.Reply[wicketway.Content], error) {
			return wicketway.Reply[wicketway.Content]{Header: http.Header{"Own": {"b"}}, Value: text()}, nil
		}),
	)
	tag := ask(api, "GET /tagged", "", "").Header().Get("Etag")
	for _, c := range []struct {
		line, header string
		status       int
		field, want  string
	}{
		{"POST /locks", "", 201, "Location: /locks/bell%20lock?days=3", `"bell"`},
		{"POST /v2/locks", "", 201, "Location: /v2/locks/bell", ""},
		{"GET /reply", "", 203, "Content-Type: application/vnd.canal+json", "[1]"},
		{"GET /nothing", "", 500, "", "internal"},
		{"GET /named", "", 200, "Content-Type: application/vnd.canal.lock+json", "7"},
		{"GET /null", "", 200, "", `{"b":[null,{"d\":null":":null"}]}`},
		{"GET /members", "", 200, "", `[{"E":":null,"},{"A":0,"C":0,"E":"\\\":null"},{"B":0,"D":0,"E":""}]`},
		{"GET /text", "", 200, "Content-Type: text/plain; charset=utf-8", "Höhe"},
		{"GET /text", "Range: bytes=0-0", 206, "Content-Range: bytes 0-0/5", "H"},
		{"GET /text", "Range: bytes=9-", 416, "Content-Range: bytes */5", "requested-range-not-satisfiable"},
		{"HEAD /text", "", 200, "Content-Length: 5", ""},
		{"GET /text", "If-None-Match: *", 304, "", ""},
		{"GET /text", "If-Match: \"x\"", 412, "", "precondition-failed"},
		{"GET /tagged", "If-None-Match: " + tag, 304, "Etag: " + tag, ""},
		{"GET /tagged", "Range: bytes=0-0\nIf-Range: " + tag, 206, "Etag: " + tag, "H"},
		{"GET /tagged", "Range: bytes=0-0\nIf-Range: \"x\"", 200, "Etag: " + tag, "Höhe"}, // RFC 9110, 13.1.5
		{"GET /tagged", "Range: bytes=0-0\nIf-Match: \"x\"", 412, "", "precondition-failed"},
		{"GET /closed", "", 200, "Content-Disposition: attachment; filename*=utf-8''Plan%20%C3%A4.png", "abc"},
		{"GET /failed", "", 409, "", "canal"},
		{"GET /file", "", 200, "Last-Modified: Tue, 04 May 2027 09:30:00 GMT", "<svg/>"},
		{"GET /file", "If-Modified-Since: Tue, 04 May 2027 09:30:00 GMT", 304, "", ""},
		{"GET /broken", "", 500, "Content-Length: ", "internal"},
		{"GET /empty", "", 200, "Content-Type: application/octet-stream", ""},
		{"GET /page", "", 200, "X-Content-Type-Options: nosniff", "<script>"},
		{"GET /see", "", 303, "Location: /locks/bell?days=3", ""},
		{"POST /moved", "", 308, "Location: /locks", ""},
		{"GET /odd", "", 500, "", "internal"},
		{"GET /out", "", 500, "Location: ", "internal"},
		{"GET /out2", "", 500, "Location: ", "internal"},
		{"GET /out3", "", 500, "Location: ", "internal"},
		{"GET /out4", "", 500, "Location: ", "internal"},
		{"GET /elsewhere", "", 307, "Location: https://canal.example/", ""},
		{"GET /by", "", 303, "Location: /locks/a%2Fb", ""},
		{"GET /own", "", 218, "", ""},
		{"GET /own/fails", "", 409, "", "The ink is dry."},
		{"GET /own/nil", "", 500, "", "internal"},
		{"GET /own/reply", "", 200, "Own: b", "Höhe"},
	} {
		closed = false
		w := ask(api, c.line, c.header, "")
		name, value, _ := strings.Cut(c.field, ": ")
		got := strings.TrimSpace(w.Body.String())
		if w.Code != c.status || w.Header().Get(name) != value || got != c.want && !(w.Code >= 400 && strings.Contains(got, c.want)) {
			t.Errorf("%s (%s): %d %v %s, want %d %s %s", c.line, c.header, w.Code, w.Header(), got, c.status, c.field, c.want)
		}
		if (c.line == "GET /closed" || c.line == "GET /failed") != closed {
			t.Errorf("%s: the body was closed: %v", c.line, closed)
		}
	}
	server := httptest.NewServer(api)
	defer server.Close()
	resp, err := http.Get(server.URL + "/half")
	if err == nil {
		_, err = io.ReadAll(resp.Body)
	}
	if err == nil {
		t.Error("content that broke off was taken for the whole")
	}
	for _, f := range api.Routes() {
		if said := fmt.Sprint(f.Answers); f.Path == "/locks" && !strings.Contains(said, "201") || f.Path == "/own" && !strings.Contains(said, "218") ||
			f.Path == "/see" && !strings.Contains(said, "303") {
			t.Errorf("%s answers %s", f.Path, said)
		}
	}
	for want, route := range map[string]wicketway.Part{
		"no LocatedBy says to which":                                   wicketway.Route("POST /x", func(context.Context, wicketway.None) (wicketway.Created[int, lockIn], error) { panic("") }),
		"no route of this version is served by":                        wicketway.Route("POST /x", func(context.Context, wicketway.None) (wicketway.Created[int, lockIn], error) { panic("") }, wicketway.LocatedBy(lockOf)),
		"is not a Created or RedirectBy with the input":                wicketway.Route("POST /x", func(context.Context, wicketway.None) (int, error) { panic("") }, wicketway.LocatedBy(lockOf)),
		"LocatedBy: the function is nil":                               wicketway.Route("POST /x", func(context.Context, wicketway.None) (wicketway.Created[int, lockIn], error) { panic("") }, wicketway.LocatedBy[lockIn, int](nil)),
		"leaves the status open":                                       wicketway.Route("GET /x", func(context.Context, wicketway.None) (wicketway.Redirect, error) { panic("") }, wicketway.Answers(201)),
		`"json" is not a media type`:                                   wicketway.Route("GET /x", findNothing, wicketway.Media("json")),
		"no route here sends a value as JSON, or":                      wicketway.Handle("GET /x", http.NotFoundHandler(), wicketway.Media("text/plain")),
		"OmitNull: has no effect":                                      wicketway.Route("GET /x", func(context.Context, wicketway.None) (wicketway.Content, error) { panic("") }, wicketway.OmitNull()),
		"csv: the route answers with int, which is no":                 wicketway.Route("GET /x", findNothing, wicketway.Formats(csv.Lists())),
		"csv (text/csv; charset=utf-8; header=present) is there twice": wicketway.Route("GET /x", findNothing, wicketway.Formats(csv.Lists(), csv.Lists())),
		"a format is nil":                                              wicketway.Route("GET /x", findNothing, wicketway.Formats(nil)),
		"no way is given":                                              wicketway.Route("GET /x", findNothing, wicketway.Formats(html.Pages(nil)), wicketway.FormatChoice{By: []format.Way{}}),
		"the parameter has no name":                                    wicketway.Route("GET /x", findNothing, wicketway.Formats(html.Pages(nil)), wicketway.FormatChoice{By: []format.Way{format.ByQuery("")}}),
		"no route here answers with a value":                           wicketway.Route("DELETE /x", func(context.Context, wicketway.None) (wicketway.None, error) { panic("") }, wicketway.Formats(html.Pages(nil))),
	} {
		if _, err := wicketway.Build(about, route); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
	created, p := wicketwaytest.Call(t, build(t, wicketway.Route("GET /locks/{lock}", lockOf),
		wicketway.Route("POST /locks", createLock, wicketway.LocatedBy(lockOf)), route("GET /text", say)), createLock, wicketway.None{})
	if p != nil || created.Value != "bell" || created.Location != "/locks/bell" {
		t.Errorf("called: %+v %v", created, p)
	}
}

func createLock(context.Context, wicketway.None) (*wicketway.Created[string, lockIn], error) {
	return &wicketway.Created[string, lockIn]{Value: "bell", At: lockIn{Lock: "bell"}}, nil
}

func say(context.Context, wicketway.None) (wicketway.Content, error) { return wicketway.Text("x"), nil }

func findNothing(context.Context, wicketway.None) (int, error) { return 0, nil }

type errReader struct{}

func (errReader) Read([]byte) (int, error) { return 0, errors.New("the file is wet") }

// A drop is an item of a stream.
type drop struct {
	N    int    `json:"n" rule:"maximum=9"`
	Text string `json:"text,omitzero"`
	ID   string `json:"-"`
	Name string `json:"-"`
}

func (d drop) EventID() string   { return d.ID }
func (d drop) EventName() string { return d.Name }

func dripping(drops []drop, then error) func(context.Context, wicketway.None) (wicketway.Stream[drop], error) {
	return func(context.Context, wicketway.None) (wicketway.Stream[drop], error) {
		return func(yield func(drop, error) bool) {
			for _, d := range drops {
				if d.Text == "panic" {
					panic("no water")
				}
				if !yield(d, nil) {
					return
				}
			}
			if then != nil {
				yield(drop{}, then)
			}
		}, nil
	}
}

// What a stream gives, by what is accepted, and how it ends.
func TestStreams(t *testing.T) {
	two := []drop{{N: 1}, {N: 2}}
	api := build(t, wicketway.Group(
		wicketway.Route("GET /two", dripping(two, nil)),
		wicketway.Route("GET /ready", func(ctx context.Context, in wicketway.None) (iter.Seq2[drop, error], error) {
			s, err := dripping(two, nil)(ctx, in)
			return iter.Seq2[drop, error](s), err
		}),
		wicketway.Route("GET /none", dripping(nil, nil)),
		wicketway.Route("GET /early", dripping(nil, errCanal.New("The tap is shut."))),
		wicketway.Route("GET /late", dripping(two, errCanal.New("The tap is shut."))),
		wicketway.Route("GET /panic", dripping([]drop{{N: 1}, {Text: "panic"}}, nil)),
		wicketway.Route("GET /first-panic", dripping([]drop{{Text: "panic"}}, nil)),
		wicketway.Route("GET /nul", dripping([]drop{{N: 1, ID: "a\x00b"}}, nil)),
		wicketway.Route("GET /lines", dripping([]drop{{N: 1, Name: "a\nb"}}, nil)),
		wicketway.Route("GET /nil", func(context.Context, wicketway.None) (wicketway.Stream[drop], error) { return nil, nil }),
		wicketway.Route("GET /wrapped", dripping(two, nil), wicketway.Envelope("data")),
		wicketway.Route("GET /dev", dripping([]drop{{N: 1}, {N: 10}}, nil), wicketway.Development()),
	), wicketway.Fails(errCanal))
	server := httptest.NewServer(api)
	defer server.Close()
	for _, c := range []struct {
		path, accept string
		status       int
		media        string
		want         string
		cut          bool
	}{
		{"/two", "", 200, "application/json", "[{\"n\":1},\n{\"n\":2}]\n", false},
		{"/two", "image/png", 200, "application/json", "[{\"n\":1},\n{\"n\":2}]\n", false},
		{"/two", "application/x-ndjson", 200, "application/x-ndjson", "{\"n\":1}\n{\"n\":2}\n", false},
		{"/two", "text/event-stream", 200, "text/event-stream", "data: {\"n\":1}\n\ndata: {\"n\":2}\n\n", false},
		{"/ready", "", 200, "application/json", "[{\"n\":1},\n{\"n\":2}]\n", false},
		{"/none", "", 200, "application/json", "[]\n", false},
		{"/none", "application/x-ndjson", 200, "application/x-ndjson", "", false},
		{"/none", "text/event-stream", 200, "text/event-stream", "", false},
		{"/wrapped", "", 200, "application/json", "{\"data\":[{\"n\":1},\n{\"n\":2}]}\n", false},
		{"/early", "text/event-stream", 409, "application/problem+json", "The tap is shut.", false},
		{"/late", "", 200, "application/json", "[{\"n\":1},\n{\"n\":2}", true},
		{"/late", "application/x-ndjson", 200, "application/x-ndjson", "{\"n\":1}\n{\"n\":2}\n", true},
		{"/late", "text/event-stream", 200, "text/event-stream", "event: problem\ndata: {\"type\":\"/problems/canal\"", false},
		{"/panic", "", 200, "application/json", "[{\"n\":1}", true},
		{"/panic", "text/event-stream", 200, "text/event-stream", `"code":"internal"`, false},
		{"/first-panic", "", 500, "application/problem+json", "internal", false},
		{"/nul", "text/event-stream", 500, "application/problem+json", "internal", false},
		{"/nul", "", 200, "application/json", "[{\"n\":1}]\n", false},
		{"/lines", "text/event-stream", 500, "application/problem+json", "internal", false},
		{"/nil", "", 500, "application/problem+json", "internal", false},
		{"/dev", "application/x-ndjson", 200, "application/x-ndjson", "{\"n\":1}\n{\"n\":10}\n", false},
	} {
		r, _ := http.NewRequest("GET", server.URL+c.path, nil)
		r.Header.Set("Accept", c.accept)
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Errorf("%s: %v", c.path, err)
			continue
		}
		body, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if !c.cut {
			noteDishonest(api, r, resp.StatusCode, resp.Header, string(body))
		}
		if resp.StatusCode != c.status || resp.Header.Get("Content-Type") != c.media || (err != nil) != c.cut ||
			string(body) != c.want && !((c.status >= 400 || strings.HasPrefix(c.media, "text/event")) && strings.Contains(string(body), c.want)) {
			t.Errorf("%s for %q: %d %s %q, cut: %v; want %d %s %q", c.path, c.accept, resp.StatusCode, resp.Header.Get("Content-Type"), body, err, c.status, c.media, c.want)
		}
	}
	if w := ask(api, "HEAD /two", "", ""); w.Code != 200 || w.Body.Len() > 0 || w.Header().Get("Content-Type") != "application/json" {
		t.Errorf("HEAD: %d %q", w.Code, w.Body)
	}
	endless := func(context.Context, wicketway.None) (wicketway.Stream[drop], error) {
		return func(yield func(drop, error) bool) {
			for yield(drop{}, nil) {
			}
		}, nil
	}
	if w := ask(build(t, wicketway.Route("GET /endless", endless)), "HEAD /endless", "", ""); w.Code != 200 {
		t.Errorf("HEAD of a stream without an end: %d", w.Code)
	}
	late := dripping(two, errCanal)
	drops, _ := wicketwaytest.Call(t, build(t, wicketway.Route("GET /late", late)), late, wicketway.None{})
	var got []string
	for d, err := range drops {
		got = append(got, fmt.Sprint(d.N, err))
	}
	if strings.Join(got, ", ") != "1 <nil>, 2 <nil>, 0 the answer broke off" {
		t.Errorf("called: %q", got)
	}
}

// eventsIn reads a stream of events as the HTML standard has it (9.2.6).
func eventsIn(stream string) (events []string) {
	name, data, id := "", []string(nil), ""
	for line := range strings.SplitSeq(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(stream), "\n") {
		field, value, _ := strings.Cut(line, ":")
		value = strings.TrimPrefix(value, " ")
		switch {
		case line == "":
			if data != nil {
				events = append(events, fmt.Sprintf("%s %s %q", name, id, strings.Join(data, "\n")))
			}
			name, data = "", nil
		case field == "event":
			name = value
		case field == "data":
			data = append(data, value)
		case field == "id" && !strings.ContainsRune(value, 0):
			id = value
		}
	}
	return events
}

// The line feed in a text, an item that writes line breaks between its tokens, and a caller who
// goes on after the last id.
func TestEventsAreReadAsTheHTMLStandardSays(t *testing.T) {
	type resume struct {
		Last int `from:"header Last-Event-ID"`
	}
	api := build(t, wicketway.Route("GET /drops", func(_ context.Context, in resume) (wicketway.Stream[drop], error) {
		return func(yield func(drop, error) bool) {
			for n := in.Last + 1; n < 4 && yield(drop{N: n, Text: "a\nb\r: c", ID: fmt.Sprint(n), Name: "drop"}, nil); n++ {
			}
		}, nil
	}))
	event := func(n int) string {
		return fmt.Sprintf("drop %d %q", n, fmt.Sprintf(`{"n":%d,"text":"a\nb\r: c"}`, n))
	}
	for last, want := range map[string][]string{"": {event(1), event(2), event(3)}, "2": {event(3)}, "3": nil} {
		w := ask(api, "GET /drops", "Accept: text/event-stream\nLast-Event-ID: "+last, "")
		if last == "" {
			w = ask(api, "GET /drops", "Accept: text/event-stream", "")
		}
		if got := eventsIn(w.Body.String()); !slices.Equal(got, want) {
			t.Errorf("after %q: %q, want %q", last, got, want)
		}
	}
}

// A recorder notes when pieces are sent.
type pieces struct {
	*httptest.ResponseRecorder
	start time.Time
	at    []string
	seen  int
}

func (p *pieces) Flush() {
	if n := p.Body.Len(); n > p.seen {
		p.at = append(p.at, fmt.Sprintf("%v:%d", time.Since(p.start).Round(time.Millisecond), n-p.seen))
		p.seen = n
	}
}

// Items go out together, after 50 ms or 16 KiB; who listens is shown that the connection lives.
func TestStreamsSendTogether(t *testing.T) {
	for _, c := range []struct {
		accept string
		give   func(yield func(string, error) bool)
		want   string
	}{
		{"application/x-ndjson", func(yield func(string, error) bool) {
			yield("a", nil)
			time.Sleep(20 * time.Millisecond)
			yield("b", nil)
			time.Sleep(100 * time.Millisecond)
			yield("c", nil)
		}, "50ms:8"}, // the last goes out with the end
		{"application/x-ndjson", func(yield func(string, error) bool) {
			for range 20 {
				yield(strings.Repeat("x", 4093), nil)
			}
		}, "0s:16384 0s:16384 0s:16384 0s:16384 0s:16384"},
		{"text/event-stream", func(yield func(string, error) bool) {
			yield("a", nil)
			time.Sleep(31 * time.Second)
			yield("b", nil)
		}, "50ms:11 15.05s:3 30.05s:3 31s:11"},
	} {
		synctest.Test(t, func(t *testing.T) {
			api := build(t, wicketway.Route("GET /", func(context.Context, wicketway.None) (wicketway.Stream[string], error) { return c.give, nil }))
			w := &pieces{ResponseRecorder: httptest.NewRecorder(), start: time.Now()}
			r := httptest.NewRequest("GET", "/", nil)
			r.Header.Set("Accept", c.accept)
			api.ServeHTTP(w, r)
			if got := strings.Join(w.at, " "); got != c.want {
				t.Errorf("%s: %s, want %s", c.accept, got, c.want)
			}
		})
	}
}

// The time of a route ends with the first item, the stream with the caller, and before the
// server stops it is told.
func TestStreamsEnd(t *testing.T) {
	gone, told := make(chan error, 1), make(chan bool, 1)
	timed := build(t, wicketway.Limits{Time: 60 * time.Millisecond},
		wicketway.Route("GET /slow", func(ctx context.Context, _ wicketway.None) (wicketway.Stream[int], error) {
			return func(yield func(int, error) bool) {
				yield(1, nil)
				time.Sleep(150 * time.Millisecond)
				yield(2, ctx.Err())
			}, nil
		}),
		wicketway.Route("GET /never", func(ctx context.Context, _ wicketway.None) (wicketway.Stream[int], error) {
			return func(yield func(int, error) bool) { <-ctx.Done(); yield(0, ctx.Err()) }, nil
		}))
	synctest.Test(t, func(t *testing.T) {
		if w := ask(timed, "GET /slow", "Accept: application/x-ndjson", ""); w.Code != 200 || w.Body.String() != "1\n2\n" {
			t.Errorf("a stream that takes longer than its first item may: %d %s", w.Code, w.Body)
		}
		if w := ask(timed, "GET /never", "Accept: application/x-ndjson", ""); w.Code != 503 {
			t.Errorf("a stream whose first item does not come: %d", w.Code)
		}
	})
	api := build(t, wicketway.Chain(compress.Bodies(compress.Settings{})),
		wicketway.Route("GET /left", func(ctx context.Context, _ wicketway.None) (wicketway.Stream[int], error) {
			return func(yield func(int, error) bool) {
				for yield(1, nil) {
					time.Sleep(time.Millisecond)
				}
				gone <- ctx.Err()
			}, nil
		}),
		wicketway.Route("GET /drained", func(ctx context.Context, _ wicketway.None) (wicketway.Stream[int], error) {
			return func(yield func(int, error) bool) {
				yield(1, nil)
				select {
				case <-exchange.Of(ctx).Draining():
					told <- true
				case <-ctx.Done():
					told <- false
				}
			}, nil
		}),
	)
	ctx, stop := context.WithCancel(t.Context())
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	served := make(chan error, 1)
	go func() { served <- api.ServeOn(ctx, l) }()
	get := func(path string) *http.Response {
		r, _ := http.NewRequest("GET", "http://"+l.Addr().String()+path, nil)
		r.Header.Set("Accept", "application/x-ndjson")
		r.Header.Set("Accept-Encoding", "gzip")
		resp, err := (&http.Client{Transport: &http.Transport{DisableCompression: true, DisableKeepAlives: true}}).Do(r)
		if err != nil {
			t.Fatal(err)
		}
		return resp
	}
	resp := get("/left")
	io.ReadFull(resp.Body, make([]byte, 10))
	resp.Body.Close()
	select {
	case <-gone:
	case <-time.After(time.Minute):
		t.Error("a stream goes on though the caller has left")
	}
	resp = get("/drained")
	stop()
	if !<-told {
		t.Error("a stream was not told that the server drains")
	}
	if _, err := io.ReadAll(resp.Body); err != nil {
		t.Errorf("the stream was cut off: %v", err)
	}
	if err := <-served; err != nil {
		t.Error(err)
	}
}

// HEAD announces what GET sends, but for a length that is seen only once all has been made (RFC 9110,
// 9.3.2).
func TestHEADAnnouncesWhatGETSends(t *testing.T) {
	large := strings.Repeat("a", 3000)
	stream := func(n int) func(context.Context, wicketway.None) (wicketway.Stream[string], error) {
		return func(context.Context, wicketway.None) (wicketway.Stream[string], error) {
			return func(yield func(string, error) bool) {
				for i := 0; i < n && yield(large, nil); i++ {
				}
			}, nil
		}
	}
	parts := []wicketway.Part{wicketway.Formats(html.Pages(nil)), wicketway.Log(slog.New(slog.DiscardHandler)),
		wicketway.Route("GET /value", func(context.Context, wicketway.None) (string, error) { return large, nil }),
		wicketway.Route("GET /null", func(context.Context, wicketway.None) (any, error) { return nil, nil }),
		wicketway.Route("GET /failed", func(context.Context, wicketway.None) (string, error) { return "", errCanal.New(large) }),
		wicketway.Route("GET /broken", func(context.Context, wicketway.None) (string, error) { return "", io.ErrClosedPipe }),
		wicketway.Route("GET /none", stream(0)), wicketway.Route("GET /one", stream(1)), wicketway.Route("GET /many", stream(20)),
		wicketway.Route("GET /text", func(context.Context, wicketway.None) (wicketway.Content, error) { return wicketway.Text(large), nil }),
		wicketway.Handle("GET /plain", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, large) }))}
	for name, api := range map[string]*wicketway.API{"plain": build(t, parts...), "compressed": build(t, append(parts, wicketway.Chain(compress.Bodies(compress.Settings{})))...)} {
		server := httptest.NewServer(api)
		defer server.Close()
		for _, path := range []string{"value", "null", "failed", "broken", "nowhere", "none", "one", "many", "text", "plain"} {
			for _, accept := range []string{"*/*", "text/html", "text/event-stream"} {
				for _, coding := range []string{"identity", "gzip", "br"} {
					said := map[string]string{}
					for _, method := range []string{"GET", "HEAD"} {
						r, _ := http.NewRequest(method, server.URL+"/"+path, nil)
						r.Header.Set("Accept", accept)
						r.Header.Set("Accept-Encoding", coding)
						resp, err := http.DefaultTransport.RoundTrip(r)
						if err != nil {
							t.Fatal(err)
						}
						io.Copy(io.Discard, resp.Body)
						resp.Body.Close()
						resp.Header.Del("Date")
						resp.Header.Del("Content-Length")
						said[method] = fmt.Sprint(resp.StatusCode, resp.Header)
					}
					if said["GET"] != said["HEAD"] {
						t.Errorf("%s, %s as %s by %s: GET %s, HEAD %s", name, path, accept, coding, said["GET"], said["HEAD"])
					}
				}
			}
		}
	}
}

// A nil value is null, or not there where the path names it: one outcome for each output, in every shape.
func TestNilIsNullOrNotThere(t *testing.T) {
	for name, route := range map[string]func(line string, s ...wicketway.Setting) wicketway.Part{
		"any":         null[any](nil),
		"*T":          null[*vesselRow](nil),
		"Reply[any]":  null(wicketway.Reply[any]{}),
		"Reply[*T]":   null(wicketway.Reply[*vesselRow]{}),
		"*Reply[any]": null(&wicketway.Reply[any]{}),
	} {
		for want, settings := range map[string][]wicketway.Setting{"null\n": nil, "{\"data\":null}\n": {wicketway.Envelope("data")}, "null\n ": {wicketway.Development()}} {
			api := build(t, route("GET /x", settings...), route("POST /x", settings...), route("GET /x/{id}", settings...))
			for line, status := range map[string]int{"GET /x": 200, "POST /x": 200, "GET /x/7": 404} {
				if w := ask(api, line, "", ""); w.Code != status || status == 200 && w.Body.String() != strings.TrimSuffix(want, " ") {
					t.Errorf("%s from %s: %d %q, want %d %q", name, line, w.Code, w.Body, status, want)
				}
			}
		}
	}
}

// null makes routes that return a value of which nothing is sent.
func null[T any](value T) func(line string, s ...wicketway.Setting) wicketway.Part {
	return func(line string, s ...wicketway.Setting) wicketway.Part {
		if strings.Contains(line, "{") {
			return wicketway.Route(line, func(context.Context, struct {
				ID string `from:"path id"`
			}) (T, error) {
				return value, nil
			}, s...)
		}
		return wicketway.Route(line, func(context.Context, wicketway.None) (T, error) { return value, nil }, s...)
	}
}

type openedBerth struct {
	Berth string `json:"berth"`
	Map   string `json:"map,omitzero"`
	Depth int    `json:"depth"`
}

// In development a browser shows JSON as a page, which is in no facts: with the same status, and for nobody who prefers JSON.
func TestPagesOfJSON(t *testing.T) {
	const browser = "text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8"
	one := func(_ context.Context, in struct {
		Berth string `from:"path berth"`
	}) (openedBerth, error) {
		return openedBerth{in.Berth, "https://maps.example/\"><script>", 3}, nil
	}
	parts := []wicketway.Part{
		wicketway.Route("GET /berths", func(context.Context, wicketway.None) ([]openedBerth, error) {
			return []openedBerth{{"dry <b>", "/maps/dry", 4}, {"..", "//evil.example", 5}, {"wet", "javascript:x", 6}}, nil
		}, wicketway.Summary("All berths"), wicketway.Conditional()),
		wicketway.Route("GET /berths/{berth}", one),
		wicketway.Route("POST /berths", func(context.Context, wicketway.None) (wicketway.Reply[openedBerth], error) {
			return wicketway.Reply[openedBerth]{Status: 201, Value: openedBerth{"new", "", 1}, Header: http.Header{"Location": {"/berths/new"}, "Link": {`</berths?after=2>; rel="next"`}}}, nil
		}),
		wicketway.Route("GET /csv", func(context.Context, wicketway.None) ([]openedBerth, error) { return []openedBerth{{"a", "", 1}}, nil },
			wicketway.Formats(format.JSON(), csv.Lists())),
		wicketway.Route("GET /own", ownMedia, wicketway.Media("application/vnd.canal+json")),
		wicketway.At("/manual", wicketway.Handle("GET /", http.NotFoundHandler(), wicketway.Attach(facts.ServiceDoc{}))),
	}
	development, production := build(t, append(parts, wicketway.Development(), wicketway.Log(slog.New(slog.DiscardHandler)))...), build(t, parts...)
	for _, c := range []struct {
		line, accept string
		page         bool
		want, lacks  []string
	}{
		{"GET /berths", browser, true, []string{"<h1>All berths</h1>", `<a rel="noreferrer" href="/berths/dry%20%3Cb%3E">dry &lt;b&gt;</a>`, `<a rel="noreferrer" href="/maps/dry">`, `<td>javascript:x</td>`, `<td>//evil.example</td>`,
			"<td>..</td>", "Accept: text/html", "Authorization: [redacted]", `href="/manual">the handbook`}, []string{"hush", "<b>"}},
		{"GET /berths", "application/json", false, nil, nil},
		{"GET /berths", "*/*", false, nil, nil},
		{"GET /berths", "text/html;q=0.5, application/json", false, nil, nil},
		{"GET /berths/dry", browser, true, []string{`href="https://maps.example/&#34;&gt;&lt;script&gt;"`}, []string{"<script>"}},
		{"POST /berths", browser, true, []string{`href="/berths/new">Location</a>`, `href="/berths?after=2">next</a>`, `<a rel="noreferrer" href="/berths/new">new</a>`}, nil},
		{"GET /csv", browser, true, nil, nil},
		{"GET /own", browser, true, []string{"application/vnd.canal+json"}, nil},
		{"GET /berth", browser, true, []string{`<a rel="noreferrer" href="/berths">GET /berths</a>`, "<code>GET /berths/{berth}</code>"}, nil},
	} {
		var tags []string
		for _, api := range []*wicketway.API{development, production} {
			_, w := send(api, c.line, "Accept: "+c.accept+"\nAuthorization: Bearer hush", "")
			isPage := w.Header().Get("Content-Type") == "text/html; charset=utf-8"
			tags = append(tags, w.Header().Get("ETag"))
			if plain := ask(production, c.line, "Accept: application/json", ""); w.Code != plain.Code || isPage != (c.page && (api == development || w.Code == 404)) {
				t.Errorf("%s for %s: %d, a page %v", c.line, c.accept, w.Code, isPage)
			}
			for _, want := range c.want {
				if api == development && !strings.Contains(w.Body.String(), want) {
					t.Errorf("%s for %s: no %s in\n%s", c.line, c.accept, want, w.Body)
				}
			}
			for _, lacks := range c.lacks {
				if strings.Contains(w.Body.String(), lacks) && isPage {
					t.Errorf("%s for %s: %s is in it", c.line, c.accept, lacks)
				}
			}
		}
		if c.page && tags[0] != "" && tags[0] == tags[1] {
			t.Errorf("%s: the page has the tag of the JSON", c.line)
		}
	}
}

func ownMedia(context.Context, wicketway.None) (openedBerth, error) {
	return openedBerth{Berth: "a"}, nil
}
