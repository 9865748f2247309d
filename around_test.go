package wicketway_test

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/problem"
)

type lockInput struct {
	Lock  string `from:"path lock"`
	Since int    `from:"query since"`
}

func findLock(_ context.Context, in lockInput) (string, error) { return in.Lock, nil }

type restInput struct {
	Path string `from:"path path"`
}

// A request line, and what the answer is: status, then Location, Allow or body.
func TestAroundTheMatch(t *testing.T) {
	api := build(t, wicketway.Chain(mark("chain")),
		wicketway.At("/locks", wicketway.Guard(plate("p")),
			wicketway.Route("GET /", whoami, wicketway.Public()),
			wicketway.Route("GET /{lock}", findLock, wicketway.Public()),
			wicketway.Route("PUT /{lock}/state", func(_ context.Context, in struct {
				Lock string `from:"path lock"`
			}) (string, error) {
				return in.Lock, nil
			}),
		),
		wicketway.Route("GET /closing/", whoami),
		wicketway.Group(wicketway.Slashes(wicketway.SlashStrict), wicketway.Route("GET /strict", whoami)),
		wicketway.Group(wicketway.Slashes(wicketway.SlashSame), wicketway.Route("GET /same/{lock}", findLock)),
		wicketway.Route("GET /rest/{+path}", func(_ context.Context, in restInput) (string, error) { return in.Path, nil }),
		wicketway.Route("HEAD /own", func(context.Context, wicketway.None) (wicketway.Reply[wicketway.None], error) {
			return wicketway.Reply[wicketway.None]{Header: http.Header{"Own": {"yes"}}}, nil
		}),
		wicketway.Route("OPTIONS /own", func(context.Context, wicketway.None) (string, error) { return "own", nil }),
		wicketway.Route("PURGE /own", whoami),
		wicketway.Route("GET /{tenant}/gates/{gate}", func(_ context.Context, in struct {
			Tenant string `from:"path tenant"`
			Gate   string `from:"path gate"`
		}) (string, error) {
			return in.Tenant + "|" + in.Gate, nil
		}),
		wicketway.Handle("* /any/{+path}", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "any ", r.Method) })),
		wicketway.Handle("GET /any/one", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "one") })),
	)
	for request, want := range map[string]string{
		"GET /locks/bell":                           `200 "bell"`,
		"GET /locks/bell/?since=3":                  "308 /locks/bell?since=3",
		"PUT /locks/bell/state/":                    "308 /locks/bell/state",
		"GET /locks/":                               "308 /locks",
		"GET /closing":                              "308 /closing/",
		"GET /strict/":                              "404 not-found",
		"GET /same/bell/":                           `200 "bell"`,
		"GET //same//bell/":                         "308 /same/bell/",
		"GET //locks///bell":                        "308 /locks/bell",
		"GET /x/../locks/./bell":                    "308 /locks/bell",
		"GET /x/%2e%2E/locks/bell/":                 "308 /locks/bell",
		"GET //evil.example/../lock":                "404 not-found",
		"GET /rest/a/../../locks":                   "308 /locks",
		"GET /rest/a/b":                             `200 "a/b"`,
		"GET /locks/a%2Fb":                          `200 "a/b"`,
		"GET /locks/%E2%82%AC":                      `200 "€"`,
		"GET /locks/%FF":                            "400 input-unreadable", // no UTF-8
		"HEAD /locks/bell":                          "200 ",
		"HEAD /own":                                 "204 ",
		"OPTIONS /own":                              `200 "own"`,
		"PURGE /own":                                `200 ""`,
		"GET /own":                                  "405 HEAD, OPTIONS, PURGE",
		"OPTIONS /locks/bell":                       "204 GET, HEAD, OPTIONS",
		"OPTIONS /locks/bell/state":                 "204 OPTIONS, PUT", // the guard is not asked
		"DELETE /locks/bell/state":                  "405 OPTIONS, PUT",
		"PUT /locks/bell/state":                     "401 unauthorized",
		"GET http://canal.example":                  "404 not-found", // absolute form, empty path (RFC 9110, 4.2.3)
		"GET http://canal.example/locks/bell":       `200 "bell"`,
		"OPTIONS *":                                 "204 ",
		"PUT /any/thing":                            "200 any PUT",
		"DELETE /any/one":                           "200 any DELETE",
		"GET /any/one":                              "200 one",
		`GET /\evil.example/gates/x/`:               "308 /%5Cevil.example/gates/x",
		`GET //\evil.example/gates/x`:               "308 /%5Cevil.example/gates/x",
		`GET /%5Cevil.example/gates/x/`:             "308 /%5Cevil.example/gates/x",
		"GET ///evil.example/gates/x":               "308 /evil.example/gates/x",
		"GET /a%2Fb\"^`\\é/gates/x/":                "308 /a%2Fb%22%5E%60%5C%C3%A9/gates/x",
		"GET /a%2fb/gates//%3Cx%3E?q=%2F&r=\"<é>":   "308 /a%2fb/gates/%3Cx%3E?q=%2F&r=%22%3C%C3%A9%3E",
		"GET /a#b/gates/x/":                         "308 /a%23b/gates/x",
		"GET /a;b=c:@!$&'()*+,/gates/x/":            "308 /a;b=c:@!$&'()*+,/gates/x",
		"GET *":                                     "400 bad-request",
		"CONNECT canal.example:443":                 "501 not-implemented",
		"GET /locks/" + strings.Repeat("x", 20_000): `200 "x`,
	} {
		w := ask(api, request, "", "")
		said := w.Header().Get("Location") + w.Header().Get("Allow")
		if said == "" {
			said = strings.TrimSpace(w.Body.String())
			if _, code, ok := strings.Cut(said, `"code":"`); ok {
				said, _, _ = strings.Cut(code, `"`)
			}
		}
		if got := fmt.Sprintf("%d %s", w.Code, said); got != want && !(strings.HasSuffix(want, "x") && strings.HasPrefix(got, want)) {
			t.Errorf("%.60s: %.80s, want %s", request, got, want)
		}
		if w.Header().Get("Passed") != "chain" {
			t.Errorf("%.60s does not pass the chain", request)
		}
	}
	if w := ask(http.StripPrefix("/front", api), "GET /front/locks/?x=1", "", ""); w.Header().Get("Location") != "/front/locks?x=1" {
		t.Errorf("behind a stripped prefix: %s", w.Header().Get("Location"))
	}
	if w := ask(http.StripPrefix("//evil.example", api), "GET http://x//evil.example/locks/", "", ""); strings.HasPrefix(w.Header().Get("Location"), "//") {
		t.Errorf("behind a prefix that is a host: %s", w.Header().Get("Location"))
	}
}

// manyRanges are n ranges of one byte, far apart.
func manyRanges(n int) (list string) {
	for i := range n {
		list += fmt.Sprintf(",%d-%d", 3*i+3, 3*i+3)
	}
	return list
}

//go:embed examples/first
var nested embed.FS

// What is not there is 404, whatever the operating system calls it, and ranges are as
// RFC 9110, 14 has them.
func TestFilesOfTheSystem(t *testing.T) {
	dir := t.TempDir()
	inside := filepath.Join(dir, "in")
	for _, err := range []error{
		os.MkdirAll(filepath.Join(inside, "a b?"), 0o700), os.MkdirAll(filepath.Join(inside, "names"), 0o700), os.WriteFile(filepath.Join(inside, "names", "ten.txt"), nil, 0o600), os.WriteFile(filepath.Join(inside, "ten.txt"), []byte("0123456789"), 0o600),
		os.WriteFile(filepath.Join(dir, "secret"), []byte("secret"), 0o600), os.WriteFile(filepath.Join(inside, "a b?", "index.html"), []byte("index"), 0o600),
		os.WriteFile(filepath.Join(inside, "names", "b\xe9ll"), nil, 0o600), // no path of fs.FS leads to it
		os.Symlink("../secret", filepath.Join(inside, "out")), os.Symlink("loop", filepath.Join(inside, "loop")),
		os.WriteFile(filepath.Join(inside, "closed"), nil, 0), makeFIFO(filepath.Join(inside, "pipe")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	root, err := os.OpenRoot(inside)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	below, err := fs.Sub(nested, "examples/first")
	if err != nil {
		t.Fatal(err)
	}
	api := build(t, wicketway.Chain(compress.Bodies(compress.Settings{})), wicketway.Log(slog.New(slog.DiscardHandler)),
		wicketway.Files("/root", root.FS()), wicketway.Files("/dir", os.DirFS(inside)), wicketway.Files("/sub", below),
		wicketway.Files("/list", os.DirFS(inside), wicketway.Listing()))
	tag := ask(api, "GET /sub/main.go", "", "").Header().Get("Etag")
	checkServed(t, api, []served{
		{"GET /root/ten.txt/x", "", 404, "", "Nothing is at"}, // ENOTDIR
		{"GET /root/" + strings.Repeat("x", 5000), "", 404, "", "Nothing is at"},
		{"GET /root/a%00b", "", 404, "", "Nothing is at"},
		{"GET /root/loop", "", 404, "", "Nothing is at"},
		{"GET /root/out", "", 404, "", "Nothing is at"}, // a link that leaves its root
		{"GET /root/pipe", "", 404, "", "Nothing is at"},
		{"GET /dir/pipe", "", 404, "", "Nothing is at"},
		{"GET /dir/ten.txt/", "", 404, "", "Nothing is at"},
		{"GET /root/a%20b%3F?x=1", "", 308, "Location: /root/a%20b%3F/?x=1", ""},
		{"GET /root/a%20b%3F/", "", 200, "", "index"},
		{"GET /list/names/", "", 200, "", `[{"name":"ten.txt"`},
		{"GET /sub/main.go", "If-None-Match: " + tag, 304, "Etag: " + tag, ""},
		{"GET /root/ten.txt", "Range: bytes=2-3", 206, "Content-Range: bytes 2-3/10", "23"},
		{"GET /root/ten.txt", "Range: BYTES=-2", 206, "Content-Range: bytes 8-9/10", "89"},
		{"GET /root/ten.txt", "Range: bytes=-0", 416, "Content-Range: bytes */10", "range"},
		{"GET /root/ten.txt", "Range: bytes=10-", 416, "Content-Range: bytes */10", "range"},
		{"GET /root/ten.txt", "Range: bytes=-0,1-1", 206, "Content-Range: bytes 1-1/10", "1"},
		{"GET /root/ten.txt", "Range: lines=1-2", 200, "", "0123456789"}, // 14.2
		{"GET /root/ten.txt", "Range: bytes=x-2", 200, "", "0123456789"},
		{"GET /root/ten.txt", "Range: bytes=", 200, "", "0123456789"},
		{"HEAD /root/ten.txt", "Range: bytes=2-3", 200, "Content-Length: 10", ""},
		{"GET /root/ten.txt", "Range: bytes=0-3,2-5,9-9", 206, "", "2345"}, // an overlap or two may be a client's clumsiness
		{"GET /root/ten.txt", "Range: bytes=0-8,1-8,2-8", 416, "Content-Range: bytes */10", "none twice"},
		{"GET /root/ten.txt", "Range: bytes=0-0" + strings.Repeat(",2-2", 3), 416, "Content-Range: bytes */10", "none twice"},
		{"GET /root/ten.txt", "Range: bytes=-1,-2,-3", 416, "Content-Range: bytes */10", "none twice"},
		{"GET /root/ten.txt", "Range: bytes=0-0" + manyRanges(17), 416, "Content-Range: bytes */10", "At most 16 ranges"},
		{"HEAD /sub/main.go", "Accept-Encoding: gzip", 200, "Content-Length: ", ""}, // the compressed length is not known
		{"HEAD /sub/main.go", "Accept-Encoding: gzip", 200, "Content-Encoding: gzip", ""},
		{"GET /sub/main.go", "Accept-Encoding: gzip\nIf-None-Match: " + strings.TrimSuffix(tag, `"`) + "-gzip\"", 304, "Etag: " + strings.TrimSuffix(tag, `"`) + "-gzip\"", ""},
	})
	if tag == "" {
		t.Error("a file below an embedded folder has no tag")
	}
}

// A served is a request and what is served for it: one field of the header, and a part
// of the body, or nothing.
type served struct {
	request, header string
	status          int
	field, body     string
}

func checkServed(t *testing.T, api *wicketway.API, rows []served) {
	t.Helper()
	for _, c := range rows {
		w := ask(api, c.request, c.header, "")
		name, value, _ := strings.Cut(c.field, ": ")
		if w.Code != c.status || !strings.Contains(w.Body.String(), c.body) || c.body == "" && w.Body.Len() > 0 || c.field != "" && w.Header().Get(name) != value {
			t.Errorf("%.60s (%s): %d %v %.200s, want %d %s %s", c.request, c.header, w.Code, w.Header(), w.Body, c.status, c.field, c.body)
		}
	}
}

//go:embed doc.go
var embedded embed.FS

func TestPlainHandlersMountsAndFiles(t *testing.T) {
	echo := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "%s %s raw=%s lock=%s", r.Method, r.URL.Path, r.URL.RawPath, r.PathValue("lock"))
	})
	old := http.NewServeMux()
	old.HandleFunc("/teapot", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Kept", "yes")
		http.Error(w, "<h1>short and stout</h1>", http.StatusTeapot)
	})
	old.HandleFunc("/own", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusConflict)
		io.WriteString(w, `{"own":true}`)
	})
	old.HandleFunc("/well", func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "well") })
	inner := build(t, wicketway.Route("GET /locks/{lock}", findLock))
	day := time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC)
	files := fstest.MapFS{
		"index.html":    {Data: []byte("<h1>canal</h1>"), ModTime: day},
		"map.txt":       {Data: []byte("0123456789"), ModTime: day},
		"late/x.txt":    {Data: []byte("a"), ModTime: day.AddDate(9000, 0, 0)}, // a year that RFC 3339 does not have
		"docs/a.txt":    {Data: []byte("a"), ModTime: day},
		".secret":       {Data: []byte("pin"), ModTime: day},
		"docs/.git/key": {Data: []byte("pin"), ModTime: day},
	}
	api := build(t,
		wicketway.Handle("GET /plain/{lock}/state", echo),
		wicketway.Mount("/old", old, wicketway.ErrorsAsProblems()),
		wicketway.Mount("/echo/{lock}", echo),
		wicketway.Mount("/inner", inner),
		wicketway.Route("GET /old/new", whoami),
		wicketway.Files("/files", files),
		wicketway.Files("/listed", files, wicketway.Listing()),
		wicketway.Files("/fixed", embedded),
	)
	tag := ask(api, "GET /fixed/doc.go", "", "").Header().Get("Etag")
	checkServed(t, api, []served{
		{"GET /plain/bell/state", "", 200, "", "GET /plain/bell/state raw= lock=bell"},
		{"PATCH /echo/bell/a/b?x=1", "", 200, "", "PATCH /a/b raw= lock="},
		{"GET /echo/a%2Fb/c%2Fd", "", 200, "", "GET /c/d raw=/c%2Fd lock="},
		{"GET /echo/bell", "", 308, "Location: /echo/bell/", ""},
		{"GET /inner/locks/bell", "", 200, "", `"bell"`},
		{"GET /inner/lochs", "", 404, "Content-Type: application/problem+json", `"code":"not-found"`},
		{"GET /old/well", "", 200, "", "well"},
		{"GET /old/new", "", 200, "", `""`}, // more specific than the mount
		{"POST /old/new", "", 404, "Content-Type: application/problem+json", `"code":"not-found"`},
		{"GET /old/teapot", "", 418, "X-Kept: yes", `"code":"im-a-teapot"`},
		{"GET /old/own", "", 409, "", `{"own":true}`},
		{"GET /files/", "", 200, "Content-Type: text/html; charset=utf-8", "<h1>canal</h1>"},
		{"GET /files/map.txt", "", 200, "Last-Modified: Tue, 04 May 2027 09:30:00 GMT", "0123456789"},
		{"GET /files/map.txt", "If-Modified-Since: Tue, 04 May 2027 09:30:00 GMT", 304, "", ""},
		{"GET /files/map.txt", "Range: bytes=2-4", 206, "Content-Range: bytes 2-4/10", "234"},
		{"GET /files/map.txt", "Range: bytes=90-", 416, "Content-Range: bytes */10", `"status":416`},
		{"HEAD /files/map.txt", "", 200, "Content-Length: 10", ""},
		{"PUT /files/map.txt", "", 405, "Allow: GET, HEAD, OPTIONS", "method-not-allowed"},
		{"GET /files/none", "", 404, "Content-Type: application/problem+json", "Nothing is at"},
		{"GET /files/docs", "", 308, "Location: /files/docs/", ""},
		{"GET /files/docs/", "", 404, "", "not-found"}, // no index, and no listing unless asked
		{"GET /files/map.txt/", "", 404, "", "not-found"},
		{"GET /files/.secret", "", 404, "", "not-found"},
		{"GET /files/docs/.git/key", "", 404, "", "not-found"},
		{"GET /files/%2e%2e/layout_test.go", "", 404, "", "not-found"},
		{"GET /files/..%2Flayout_test.go", "", 404, "", "not-found"},
		{"GET /files/docs%5Ca.txt", "", 404, "", "not-found"},
		{"GET /listed/late/", "", 200, "Content-Type: application/json", `[{"name":"x.txt","size":1}]`},
		{"GET /listed/docs/", "", 200, "Content-Type: application/json", `[{"name":"a.txt","size":1,"modified":"2027-05-04T09:30:00Z"}]`},
		{"GET /fixed/doc.go", "If-None-Match: " + tag, 304, "Etag: " + tag, ""},
	})
	if tag == "" {
		t.Error("an embedded file has no tag")
	}
}

// A file that is not there is a miss like any other: Files at the root hide neither the
// API's own 404 nor another route's slash or method. Of files behind a guard nothing is told.
func TestFilesThatAreNotThere(t *testing.T) {
	files := fstest.MapFS{"a.txt": {Data: []byte("a")}, "d/index.html": {Data: []byte("<p>")}, ".env": {Data: []byte("secret")}}
	api := mustBuild(
		wicketway.Development(),
		wicketway.Files("/", files),
		wicketway.Route("GET /locks", whoami),
		wicketway.Route("POST /book", whoami),
		wicketway.Files("/d", files),
		wicketway.At("/safe", wicketway.Guard(plate("p")), wicketway.Files("/", files)),
	)
	for request, want := range map[string]string{
		"GET /a.txt":        "200",
		"GET /none.txt":     "404 Nothing is at /none.txt.",
		"HEAD /none.txt":    "404",
		"GET /lock":         `404 "near": [` + "\n" + `      "GET /locks"`,
		"POST /none.txt":    "404 Nothing is at /none.txt.",
		"OPTIONS /none.txt": "404",
		"POST /a.txt":       "405 GET, HEAD, OPTIONS",
		"POST /.env":        "404",
		"POST /d/":          "405 GET, HEAD, OPTIONS",
		"POST /d/a.txt":     "405 GET, HEAD, OPTIONS",
		"POST /d/none":      "404 Nothing is at /d/none.",
		"OPTIONS /a.txt":    "204 GET, HEAD, OPTIONS",
		"GET /locks/":       "308 /locks",
		"GET /book":         "405 OPTIONS, POST",
		"POST /book":        "200",
		"GET /safe/a.txt":   "401",
		"GET /safe/none":    "401",
		"POST /safe/a.txt":  "405 GET, HEAD, OPTIONS",
		"POST /safe/none":   "405 GET, HEAD, OPTIONS",
	} {
		method, path, _ := strings.Cut(request, " ")
		w := httptest.NewRecorder()
		api.ServeHTTP(w, httptest.NewRequest(method, path, nil))
		status, more, _ := strings.Cut(want, " ")
		said := w.Header().Get("Allow") + w.Header().Get("Location") + w.Body.String()
		if fmt.Sprint(w.Code) != status || !strings.Contains(said, more) || w.Header().Get("Allow") != "" && w.Header().Get("Allow") != more {
			t.Errorf("%s: %d %s %s, want %s", request, w.Code, w.Header(), w.Body, want)
		}
	}
}

func TestLinks(t *testing.T) {
	type span struct {
		From int64     `from:"path from"`
		To   int64     `from:"path to"`
		On   time.Time `from:"query on"`
		Tags []string  `from:"query tag"`
		Key  string    `from:"header Key"`
	}
	var linked string
	api := build(t,
		wicketway.Version("v1", wicketway.Route("GET /locks/{lock}", findLock), wicketway.Handle("GET /locks/own", http.NotFoundHandler())),
		wicketway.Handle("GET /either/{from}-{to}", http.NotFoundHandler(), wicketway.Name("either")),
		wicketway.Version("v2", wicketway.Route("GET /chambers/{lock}", findLock),
			wicketway.Route("GET /here", func(ctx context.Context, _ wicketway.None) (string, error) {
				var err error
				linked, err = exchange.Of(ctx).Link("wicketway_test.findLock", lockInput{Lock: "bell"})
				return linked, err
			})),
		wicketway.Route("GET /spans/{from}-{to}", func(context.Context, span) (string, error) { return "", nil }, wicketway.Name("span")),
		wicketway.Handle("GET /files/{+path}", http.NotFoundHandler(), wicketway.Name("file")),
		wicketway.Route("GET /me", whoami), wicketway.Route("GET /you", whoami),
	)
	for _, c := range []struct {
		name  string
		input any
		want  string // a path, or a piece of the error
	}{
		{"span", span{From: 3, To: 5, Key: "k"}, "/spans/3-5"},
		{"span", &span{From: 3, To: 5, Tags: []string{"a b", "c"}, On: time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC)},
			"/spans/3-5?on=2027-05-04T09%3A30%3A00Z&tag=a+b&tag=c"},
		{"v2/wicketway_test.findLock", lockInput{Lock: "a/b", Since: 4}, "/v2/chambers/a%2Fb?since=4"},
		{"v1/wicketway_test.findLock", lockInput{Lock: "bell"}, "/v1/locks/bell"},
		{"wicketway_test.findLock", lockInput{Lock: "bell"}, "write one of v1/wicketway_test.findLock, v2/wicketway_test.findLock"},
		{"either", map[string]string{"from": "3", "to": "5"}, "/either/3-5"},
		{"either", map[string]string{"from": "3-4", "to": "5"}, "would be read back as"},
		{"v1/wicketway_test.findLock", lockInput{Lock: "bell/"}, "/v1/locks/bell%2F"},
		{"v1/wicketway_test.findLock", lockInput{Lock: "own"}, "leads to GET /v1/locks/own"},
		{"file", map[string]string{"path": "a/b c"}, "/files/a/b%20c"},
		{"file", map[string]string{"file": "a"}, "has no parameter {file}"},
		{"file", lockInput{}, "give a map[string]string"},
		{"span", lockInput{}, "the input is wicketway_test.lockInput, want wicketway_test.span"},
		{"span", nil, "the input is <nil>"},
		{"v1/wicketway_test.findLock", lockInput{}, "a path cannot hold an empty value"},
		{"none", lockInput{}, `no route is named "none"`},
		{"wicketway_test.whoami", nil, `no route is named "wicketway_test.whoami"`}, // two routes have the function, so neither has its name
	} {
		got, err := api.Link(c.name, c.input)
		if err != nil && strings.HasPrefix(c.want, "/") || got != c.want && !strings.Contains(fmt.Sprint(err), c.want) {
			t.Errorf("Link(%s, %+v) = %q, %v, want %s", c.name, c.input, got, err, c.want)
		}
	}
	if ask(api, "GET /v2/here", "", ""); linked != "/v2/chambers/bell" {
		t.Errorf("from within v2: %q", linked)
	}
	_, err := wicketway.Build(about, wicketway.Route("GET /a", whoami, wicketway.Name("x")), wicketway.Route("GET /b", whoami, wicketway.Name("x")),
		wicketway.Route("get /c", whoami), wicketway.Route("CONNECT /d", whoami))
	for _, want := range []string{`"x" is the name of GET /a at around_test.go:`, "methods are case-sensitive", "the target of CONNECT is not a path"} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q: %v", want, err)
		}
	}
}

// Served for real: raw requests that no client would send, the description in
// place of listening, and an end when the context ends.
func TestServe(t *testing.T) {
	api := build(t, wicketway.Chain(mark("chain")), wicketway.Route("GET /locks/{lock}", findLock, wicketway.Summary("One lock")))
	ctx, stop := context.WithCancel(context.Background())
	address := make(chan net.Addr, 1)
	ended := make(chan error, 1)
	go func() { ended <- api.Serve(ctx, "127.0.0.1:0", func(a net.Addr) { address <- a }) }()
	at := (<-address).String()
	for request, want := range map[string]int{
		"OPTIONS *":                       204,
		"CONNECT canal.example:443":       501,
		"GET http://x.example/locks/bell": 200,
		"GET /locks/a%2Fb":                200,
	} {
		conn, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "%s HTTP/1.1\r\nHost: canal.example\r\nConnection: close\r\n\r\n", request)
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil || resp.StatusCode != want || resp.Header.Get("Passed") != "chain" {
			t.Errorf("%s: %v %+v, want %d", request, err, resp, want)
		}
		conn.Close()
	}
	stop()
	if err := <-ended; err != nil {
		t.Errorf("Serve ends with %v", err)
	}
	file := filepath.Join(t.TempDir(), "d.json")
	t.Setenv("WICKETWAY_DESCRIBE", file)
	if err := api.Serve(context.Background(), "no address"); err != nil {
		t.Error(err)
	}
	text, err := os.ReadFile(file)
	var d facts.API
	if err == nil {
		err = json.Unmarshal(text, &d)
	}
	if err != nil || len(d.Routes) != 2 || d.Routes[0].Name != "wicketway_test.findLock" || d.Routes[0].Summary != "One lock" ||
		len(d.Routes[0].Chain) != 1 || filepath.Base(d.Routes[0].At.File) != "around_test.go" || len(d.Routes[0].Inputs) != 2 {
		t.Errorf("%v: %s", err, text)
	}
	server := httptest.NewUnstartedServer(api)
	if err := api.ServeOn(context.Background(), server.Listener); err != nil {
		t.Error(err)
	}
}

// What may have been meant: for callers what is open to all, for the programmer what is guarded as well. No
// guard is asked.
func TestNearRoutes(t *testing.T) {
	one := func(context.Context, struct {
		ID string `from:"path id"`
	}) (string, error) {
		return "", nil
	}
	parts := []wicketway.Part{wicketway.At("/api", wicketway.Version("v1", wicketway.Route("GET /locks", whoami)), wicketway.Version("v2",
		wicketway.Route("GET /locks", whoami), wicketway.Route("GET /locks/{id}", one), wicketway.Route("PUT /locks/{id}", one), wicketway.Route("GET /locks/{id}/levels", one),
		wicketway.Route("GET /notices", whoami), wicketway.Route("POST /tokens", whoami), wicketway.Route("GET /a", whoami),
		wicketway.At("/passages", wicketway.Guard(plate("p")), wicketway.Route("GET /", whoami), wicketway.Route("GET /{id}", one), wicketway.Route("POST /", whoami))))}
	for _, c := range []struct{ line, open, all string }{
		{"GET /locks", "GET /api/v1/locks,GET /api/v2/locks,GET /api/v2/locks/{id}", ""},
		{"GET /v2/locks", "GET /api/v2/locks,GET /api/v2/locks/{id}", ""},
		{"GET /api/notices", "GET /api/v2/notices", ""},
		{"GET /api/v2/lock", "GET /api/v2/locks,GET /api/v2/locks/{id}", ""},
		{"GET /api/v2/notice", "GET /api/v2/notices", ""},
		{"GET /api/v2/lokcs/bell", "GET /api/v2/locks/{id},PUT /api/v2/locks/{id},GET /api/v2/locks/{id}/levels", ""},
		{"GET /api/v2/levels", "GET /api/v2/locks/{id}/levels", ""},
		{"PUT /api/v2/locks", "PUT /api/v2/locks/{id}", ""},
		{"POST /api/v2/tokans", "POST /api/v2/tokens", ""},
		{"POST /tokens", "POST /api/v2/tokens", ""},
		{"GET /passages", "", "GET /api/v2/passages,POST /api/v2/passages,GET /api/v2/passages/{id}"},
		{"DELETE /api/v2/passages", "", ""},
		{"GET /api/v2/weirs", "", ""},
		{"GET /", "", ""},
		{"GET /problems", "", ""},
		{"GET /" + strings.Repeat("locks/", 40), "", ""},
		{"GET /" + strings.Repeat("x", 300), "", ""},
	} {
		for _, development := range []bool{false, true} {
			settings := parts
			if development {
				settings = append(settings[:1:1], wicketway.Development())
			}
			w := ask(mustBuild(settings...), c.line, "", "")
			var got struct {
				Near  []string
				Debug struct{ Near []string }
			}
			if err := json.Unmarshal(w.Body.Bytes(), &got, json.MatchCaseInsensitiveNames(true)); err != nil {
				t.Fatal(err)
			}
			all := cmp.Or(c.all, c.open)
			if !development {
				all = ""
			}
			if strings.Join(got.Near, ",") != c.open || strings.Join(got.Debug.Near, ",") != all || w.Code != 404 && w.Code != 405 {
				t.Errorf("%s, development %t: %d near are %q, with guarded ones %q; want %q", c.line, development, w.Code, got.Near, got.Debug.Near, c.open)
			}
		}
	}
}

type closedFiles struct{ fs.FS }

func (c closedFiles) Open(name string) (fs.File, error) {
	if name == "closed.txt" {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
	}
	return c.FS.Open(name)
}

// A file that may not be read is not found for callers, and a line of the log for those who run the server.
func TestFilesThatMayNotBeRead(t *testing.T) {
	var log bytes.Buffer
	api := mustBuild(wicketway.Log(slog.New(slog.NewTextHandler(&log, nil))), wicketway.Files("/", closedFiles{fstest.MapFS{"a.txt": {}}}))
	if w := ask(api, "GET /closed.txt", "", ""); w.Code != 404 || !strings.Contains(log.String(), `msg="a file may not be read" path=/closed.txt error="open closed.txt: permission denied"`) {
		t.Errorf("%d %s", w.Code, log.String())
	}
	api = mustBuild(wicketway.Log(slog.New(slog.DiscardHandler)), wicketway.Files("/", closedFiles{fstest.MapFS{"a.txt": {}}}, wicketway.Fails(problem.Forbidden),
		wicketway.Translate(func(err error) error {
			if errors.Is(err, fs.ErrPermission) {
				return problem.Forbidden.New("This file is for keepers.")
			}
			return nil
		})))
	for path, status := range map[string]int{"/closed.txt": 403, "/none.txt": 404, "/a.txt": 200} {
		if w := ask(api, "GET "+path, "", ""); w.Code != status || strings.Contains(w.Body.String(), "permission") {
			t.Errorf("where a Translate knows it: %s %d %s", path, w.Code, w.Body)
		}
	}
}

// A request can be made of a stream, and an item may be as large as all.
func TestRequestsWithStreams(t *testing.T) {
	sum := func(_ context.Context, in wicketway.Stream[int]) (total int, err error) {
		for n, err := range in {
			if err != nil {
				return 0, err
			}
			total += n
		}
		return total, nil
	}
	api := mustBuild(wicketway.Route("POST /sum", sum, wicketway.Limits{Item: math.MaxInt64}))
	numbers := wicketway.Stream[int](func(yield func(int, error) bool) { _ = yield(20, nil) && yield(22, nil) })
	r, err := api.NewRequest(t.Context(), sum, numbers)
	if err != nil {
		t.Fatal(err)
	}
	w := httptest.NewRecorder()
	if api.ServeHTTP(w, r); w.Body.String() != "42\n" {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	if w := ask(api, "POST /sum", asJSON, "[1, 2]"); w.Body.String() != "3\n" {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	broken := wicketway.Stream[int](func(yield func(int, error) bool) { yield(0, io.EOF) })
	if _, err := api.NewRequest(t.Context(), sum, broken); err == nil {
		t.Error("a stream that fails was sent")
	}
}

type byNumber struct {
	Number int `from:"path number"`
}

// Finding is not inlined, so that all that it makes have one code.
//
//go:noinline
func finding(what string) func(context.Context, byNumber) (string, error) {
	return func(context.Context, byNumber) (string, error) { return what, nil }
}

// Functions that one factory has made are different ones, though their code is the same.
func TestFunctionsOfOneFactory(t *testing.T) {
	locks, gauges := finding("lock"), finding("gauge")
	add := func(context.Context, wicketway.None) (wicketway.Created[string, byNumber], error) {
		return wicketway.Created[string, byNumber]{At: byNumber{7}}, nil
	}
	api := mustBuild(wicketway.Route("GET /locks/{number}", locks), wicketway.Route("GET /gauges/{number}", gauges),
		wicketway.Route("POST /locks", add, wicketway.LocatedBy(locks)), wicketway.Route("POST /gauges", add, wicketway.LocatedBy(gauges)))
	for _, path := range []string{"/locks", "/gauges"} {
		if w := ask(api, "POST "+path, "", ""); w.Code != 201 || w.Header().Get("Location") != path+"/7" {
			t.Errorf("%s: %d %v", path, w.Code, w.Header())
		}
	}
	if r, err := api.NewRequest(t.Context(), gauges, byNumber{3}); err != nil || r.URL.Path != "/gauges/3" {
		t.Errorf("a request for one of them: %v %v", r, err)
	}
	_, err := wicketway.Build(about, wicketway.Route("GET /locks/{number}", locks), wicketway.Route("GET /gauges/{number}", gauges),
		wicketway.Route("POST /locks", add, wicketway.LocatedBy(finding("weir"))))
	if err == nil || !strings.Contains(err.Error(), "serves several routes, GET /locks/{number} and GET /gauges/{number}") {
		t.Errorf("one that no route was given: %v", err)
	}
}
