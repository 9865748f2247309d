package wicketway_test

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime/multipart"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/textproto"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/adapt"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/format/csv"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
	"github.com/wicketway/wicketway/wicketwaytest"
)

type gauge struct {
	Name  string    `json:"name" rule:"minLength=1"`
	Level float64   `json:"level" rule:"maximum=9.5"`
	At    time.Time `json:"-"`
}

func (g gauge) LastModified() time.Time { return g.At }

type listGauges struct {
	After wicketway.Cursor[string] `from:"query after"`
	Kind  string                   `from:"query kind"`
}

// A request, and what the answer is: the status, fields, and its body.
func TestOutputs(t *testing.T) {
	level := gauge{"bell", 1.5, time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC)}
	get := func(context.Context, wicketway.None) (gauge, error) { return level, nil }
	bad := func(context.Context, wicketway.None) ([]gauge, error) {
		return []gauge{{"bell", 1, level.At}, {"", 12, level.At}}, nil
	}
	api := build(t,
		wicketway.Route("GET /none", func(context.Context, wicketway.None) (wicketway.None, error) { return wicketway.None{}, nil }),
		wicketway.Route("GET /map", func(context.Context, wicketway.None) (map[string]int, error) { return nil, nil }),
		wicketway.Route("GET /accepted", func(context.Context, wicketway.None) (wicketway.None, error) { return wicketway.None{}, nil }, wicketway.Answers(202)),
		wicketway.Route("GET /reply", func(context.Context, wicketway.None) (wicketway.Reply[gauge], error) {
			return wicketway.Reply[gauge]{Status: 203, Header: http.Header{"Own": {"a", "b"}}, Value: level}, nil
		}),
		wicketway.Route("GET /page", func(_ context.Context, in listGauges) (wicketway.Page[gauge], error) {
			p := wicketway.Page[gauge]{Items: []gauge{level}, Next: wicketway.CursorAt("kiln").String()}
			if !in.After.IsStart() {
				p = wicketway.Page[gauge]{Previous: wicketway.CursorAt(in.After.Key + "!").String()}
			}
			return p, nil
		}),
		wicketway.Group(wicketway.Envelope("data"), wicketway.Route("GET /wrapped", get),
			wicketway.Route("GET /unwrapped", func(context.Context, wicketway.None) (gauge, error) { return gauge{}, errCanal })),
		wicketway.Route("GET /broken", bad),
		wicketway.Group(wicketway.Development(), wicketway.Route("GET /dev", get), wicketway.Route("GET /dev/broken", bad)),
	)
	for _, c := range []struct {
		request, header, body string
		status                int
		field                 string
		want                  string
	}{
		{"GET /none", "", "", 204, "", ""},
		{"GET /accepted", "", "", 202, "", ""},
		{"GET /reply", "", "", 203, "Own: a", `{"name":"bell","level":1.5}`},
		{"GET /page?kind=x", "", "", 200, `Link: <?after=ImtpbG4i&kind=x>; rel="next"`, `{"items":[{"name":"bell","level":1.5}],"next":"ImtpbG4i"}`},
		{"GET /page?after=ImtpbG4i", "", "", 200, `Link: <?after=ImtpbG4hIg>; rel="prev"`, `{"items":[],"previous":"ImtpbG4hIg"}`},
		{"GET /wrapped", "", "", 200, "Content-Type: application/json", `{"data":{"name":"bell","level":1.5}}`},
		{"GET /unwrapped", "", "", 409, "Content-Type: application/problem+json", `{"type":`},
		{"GET /map", "", "", 200, "", "{}"},
		{"GET /broken", "", "", 200, "", `[{"name":"bell","level":1},{"name":"","level":12}]`},
		{"GET /dev", "", "", 200, "", "{\n  \"name\": \"bell\",\n  \"level\": 1.5\n}"},
		{"GET /dev/broken", "", "", 200, "", "[\n  {\n    \"name\": \"bell\""},
	} {
		w := ask(api, c.request, c.header, c.body)
		name, value, _ := strings.Cut(c.field, ": ")
		if w.Code != c.status || !strings.HasPrefix(w.Body.String(), c.want) && !(w.Code >= 400 && strings.Contains(w.Body.String(), c.want)) ||
			c.want == "" && w.Body.Len() > 0 || w.Header().Get(name) != value {
			t.Errorf("%s (%s): %d %v %s, want %d %s %s", c.request, c.header, w.Code, w.Header(), w.Body, c.status, c.field, c.want)
		}
	}
	t.Setenv("WICKETWAY_DEVELOPMENT", "1")
	if w := ask(build(t, wicketway.Route("GET /dev", get)), "GET /dev", "", ""); !strings.Contains(w.Body.String(), "\n  ") {
		t.Errorf("the environment does not switch to development: %s", w.Body)
	}
	t.Setenv("WICKETWAY_DEVELOPMENT", "tests")
	if _, err := wicketway.Build(about, wicketway.Route("GET /", get)); err == nil || !strings.Contains(err.Error(), `WICKETWAY_DEVELOPMENT is "tests"`) {
		t.Errorf("an unknown mode: %v", err)
	}
}

type paging struct {
	Limit int `from:"query limit" rule:"maximum=5 default=3"`
}

type report struct {
	paging
	Session string           `from:"cookie session" rule:"required minLength=3"`
	Lock    string           `from:"form lock" rule:"enum=bell|heron"`
	Crew    []int            `from:"form crew" rule:"maxItems=2 items.minimum=1"`
	Photo   wicketway.File   `from:"file photo" rule:"required maxLength=100000 contentMediaType=image/png"`
	More    []wicketway.File `from:"file more"`
}

func (r *report) Check(out *schema.Report) {
	if r.Limit == 5 && r.Lock == "heron" {
		out.Fault("query limit", "heron", "must be less for heron")
	}
}

func TestFormsFilesAndPlainBodies(t *testing.T) {
	var left []string
	api := build(t, wicketway.Limits{Body: 400_000},
		wicketway.Route("POST /report", func(_ context.Context, in report) (string, error) {
			all, err := io.ReadAll(in.Photo.Open())
			for _, f := range in.More {
				left = append(left, fmt.Sprintf("%s %s %d", f.Name, f.Type, f.Size))
			}
			return fmt.Sprintf("%d %s %s %v %d %d %s", in.Limit, in.Session, in.Lock, in.Crew, len(all), in.Photo.Size, in.Photo.Type), err
		}),
		wicketway.Route("POST /tiny", func(_ context.Context, in struct {
			Tiny wicketway.File `from:"file tiny" rule:"maxLength=1"`
		}) (int64, error) {
			return in.Tiny.Size, nil
		}),
		wicketway.Route("POST /table", func(_ context.Context, in struct {
			Table wicketway.File `from:"file table" rule:"contentMediaType=text/csv"`
		}) (string, error) {
			return fmt.Sprint(in.Table.Type, " ", in.Table.Size), nil
		}),
		wicketway.Route("POST /simple", func(_ context.Context, in struct {
			Lock string `from:"form lock" rule:"required"`
			Days int    `from:"form days" rule:"default=1"`
		}) (string, error) {
			return fmt.Sprint(in.Lock, in.Days), nil
		}),
		wicketway.Route("POST /raw", func(_ context.Context, in struct {
			Body io.Reader `from:"body"`
		}) (int64, error) {
			return io.Copy(io.Discard, in.Body)
		}),
	)
	png := "\x89PNG\r\n\x1a\n"
	form := func(fields ...string) (body, header string) { // name=value, or name@file=content
		var b bytes.Buffer
		w := multipart.NewWriter(&b)
		for _, f := range fields {
			name, value, _ := strings.Cut(f, "=")
			if name, file, ok := strings.Cut(name, "@"); ok {
				file, media, _ := strings.Cut(file, ";")
				part, _ := w.CreatePart(textproto.MIMEHeader{"Content-Disposition": {`form-data; name="` + name + `"; filename="` + file + `"`}, "Content-Type": {media}})
				io.WriteString(part, value)
				continue
			}
			w.WriteField(name, value)
		}
		w.Close()
		return b.String(), "Cookie: session=abc\nContent-Type: " + w.FormDataContentType()
	}
	temporary := t.TempDir() // which no other test writes into
	t.Setenv("TMPDIR", temporary)
	before, _ := os.ReadDir(temporary)
	for _, c := range []struct {
		line   string
		fields []string
		want   string // a body, or the status and the faults
	}{
		{"POST /report", []string{"lock=bell", "crew=1", "crew=2", "photo@a.png=" + png, "more@b.txt=hello", "more@c.png=" + png}, `"3 abc bell [1 2] 8 8 image/png"`},
		{"POST /report?limit=5", []string{"photo@a.png=" + png + strings.Repeat("x", 90_000), "lock=heron"}, "422 query limit heron"},
		{"POST /report", []string{"photo@a.png=" + png + strings.Repeat("x", 90_000), "lock=heron"}, `"3 abc heron [] 90008 90008 image/png"`}, // on disk
		{"POST /report?limit=9", []string{"lock=kiln", "crew=0", "crew=x", "photo@a.png=hello"},
			"400 file photo contentMediaType, query limit maximum, form lock enum, form crew/0 minimum, form crew/1 type"},
		{"POST /report", []string{"lock=bell", "photo@a.png=" + png + strings.Repeat("x", 100_000)}, "422 file photo maxLength"},
		{"POST /report", []string{"lock=bell"}, "422 file photo required"},
		{"POST /report", []string{"lock=bell", "nobody-asked@x=" + strings.Repeat("x", 90_000), "photo@a.png=" + png}, `"3 abc bell [] 8 8 image/png"`},
		{"POST /report", []string{"photo@a.png=" + png, "photo@b.png=" + png, "lock=bell"}, "400 file photo unique"},
		{"POST /report", []string{"more@a.bin=" + strings.Repeat("x", 500_000)}, "413 "},
		{"POST /report", []string{"lock=bell", "photo@a.png=" + png + strings.Repeat("x", 70_000), "more@b.bin=" + strings.Repeat("y", 70_000), "more@c.bin=" + strings.Repeat("z", 80_000)},
			`"3 abc bell [] 70008 70008 image/png"`}, // one after the other in one file
		{"POST /table", []string{"table@a.csv;text/csv=a,b"}, `"text/csv 3"`}, // what sniffs as plain text is the text that was claimed
		{"POST /table", []string{"table@a.csv;image/png=a,b"}, "422 file table contentMediaType"},
		{"POST /table", []string{"table@a.csv;text/csv=" + png}, "422 file table contentMediaType"},
		{"POST /tiny", []string{"tiny@a=x"}, `1`},
		{"POST /tiny", []string{"tiny@a=xy"}, "422 file tiny maxLength"},
		{"POST /tiny", []string{"tiny@a="}, `0`},
		{"POST /table", append(slices.Repeat([]string{"x=1"}, 1000), "table@a.csv;text/csv=a"), "413 "},
	} {
		body, header := form(c.fields...)
		w := ask(api, c.line, header, body)
		got := strings.TrimSpace(w.Body.String())
		if w.Code != 200 {
			code := map[int]string{400: "input-unreadable", 422: "input-invalid", 413: "body-too-large"}[w.Code]
			got = fmt.Sprint(w.Code, " ", strings.Join(checkProblem(t, c.line, w, w.Code, code), ", "))
		}
		if got != c.want {
			t.Errorf("%s %.60q: %s, want %s", c.line, c.fields, got, c.want)
		}
	}
	if strings.Join(left, ", ") != "b.txt text/plain 5, c.png image/png 8, b.bin text/plain 70000, c.bin text/plain 80000" {
		t.Errorf("files of a list: %q", left)
	}
	if after, _ := os.ReadDir(temporary); len(after) > len(before) {
		t.Errorf("%d temporary files before, %d after", len(before), len(after))
	}
	for _, c := range []struct {
		line, media, body string
		status            int
		want              string
	}{
		{"POST /simple", "application/x-www-form-urlencoded", "lock=bell+lock&days=3", 200, "bell lock3"},
		{"POST /simple", "application/x-www-form-urlencoded", "days=x", 400, "form"},
		{"POST /simple", "application/x-www-form-urlencoded", "lock=%zz", 400, "malformed percent-encoding"},
		{"POST /simple", "multipart/form-data; boundary=x", "--x\r\nbroken", 400, "multipart"},
		{"POST /simple", "multipart/form-data; boundary=x", "--x\r\nContent-Disposition: form-data; name=lock\r\n\r\nbell", 400, "closing delimiter"}, // RFC 2046, 5.1.1
		{"POST /simple", "multipart/form-data; boundary=x", "--x\r\nContent-Disposition: form-data; name=lock\r\n\r\nbell\r\n--x\r\n", 400, "closing delimiter"},
		{"POST /simple", "multipart/form-data; boundary=x", "--x\r\nContent-Disposition: form-data; name=lock\r\n\r\nbell\r\n--x", 400, "closing delimiter"},
		{"POST /simple", "multipart/form-data; boundary=x", "--x\r\nContent-Disposition: form-data; name=other\r\n\r\nbell", 400, "closing delimiter"},
		{"POST /simple", "multipart/form-data; boundary=x", "", 400, "closing delimiter"},
		{"POST /simple", "multipart/form-data", "--x--", 415, "no boundary"},
		{"POST /simple", "multipart/form-data; boundary=x", "--x\r\nContent-Disposition: form-data; name=lock\r\n\r\nbell\r\n--x--", 200, "bell1"},
		{"POST /simple", "application/json", "{}", 415, "application/x-www-form-urlencoded, multipart/form-data"},
		{"POST /raw", "application/octet-stream", strings.Repeat("x", 400_000), 200, "400000"},
	} {
		if w := ask(api, c.line, "Content-Type: "+c.media, c.body); w.Code != c.status || !strings.Contains(w.Body.String(), c.want) {
			t.Errorf("%s %s: %d %s, want %d %s", c.line, c.media, w.Code, w.Body, c.status, c.want)
		}
	}
	t.Setenv("TMPDIR", filepath.Join(temporary, "there is no such folder"))
	if body, header := form("photo@a.png=" + png + strings.Repeat("x", 90_000)); true {
		if w := ask(api, "POST /report", header, body); w.Code != 500 || !strings.Contains(w.Body.String(), "internal") {
			t.Errorf("without a temporary folder: %d %s", w.Code, w.Body)
		}
	}
	wide := build(t, wicketway.Limits{Body: 8 << 20}, wicketway.Route("POST /long", func(_ context.Context, in struct {
		Lock string `from:"form lock"`
	}) (string, error) {
		return in.Lock, nil
	}))
	if body, header := form("lock=" + strings.Repeat("x", 1<<20+1)); ask(wide, "POST /long", header, body).Code != 422 {
		t.Error("a text of more than 1 MiB was taken into memory")
	}
	if w := ask(api, "POST /raw", "", ""); w.Code != 200 || !strings.HasPrefix(w.Body.String(), "0") {
		t.Errorf("no body to be read as it comes: %d %s", w.Code, w.Body)
	}
	chunked := httptest.NewRequest("POST", "/raw", struct{ io.Reader }{strings.NewReader(strings.Repeat("x", 400_001))})
	w := httptest.NewRecorder()
	if api.ServeHTTP(w, chunked); w.Code != 413 { // found out while the route reads
		t.Errorf("a body of unknown length over the limit: %d %s", w.Code, w.Body)
	}
}

// A client that waits for 100 Continue gets the refusal instead, and sends nothing.
func TestNothingIsReadBeforeTheGuardAndTheSize(t *testing.T) {
	api := build(t, wicketway.Limits{Body: 10}, wicketway.Route("POST /open", func(_ context.Context, in gauge) (gauge, error) { return in, nil }),
		wicketway.Route("POST /closed", func(_ context.Context, in gauge) (gauge, error) { return in, nil }, wicketway.Guard(plate("p"))))
	server := httptest.NewServer(api)
	defer server.Close()
	for request, want := range map[string]int{
		"POST /closed 5":  401,
		"POST /open 5000": 413,
		"POST /open 5":    100,
	} {
		conn, err := net.Dial("tcp", server.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		fields := strings.Fields(request)
		fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: %s\r\nExpect: 100-continue\r\n\r\n", fields[0], fields[1], fields[2])
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil || resp.StatusCode != want {
			t.Errorf("%s: %v %+v, want %d", request, err, resp, want)
		}
		conn.Close()
	}
}

// Absent, null and a value are three things.
func TestOptional(t *testing.T) {
	type patch struct {
		Level schema.Optional[float64] `json:"level,omitzero" rule:"maximum=9"`
		Note  schema.Optional[string]  `json:"note,omitzero"`
	}
	api := build(t,
		wicketway.Route("PATCH /gauge", func(_ context.Context, in patch) (patch, error) {
			level := 4.0
			in.Level.Apply(&level)
			if level != map[schema.State]float64{schema.Absent: 4, schema.Null: 0, schema.Given: 7}[in.Level.State] {
				return in, errors.New("wrongly applied")
			}
			return in, nil
		}),
		wicketway.Route("PUT /lenient", func(_ context.Context, in patch) (patch, error) { return in, nil }, wicketway.AllowUnknown()),
	)
	if text, err := json.Marshal(patch{Level: schema.Some(7.5)}); err != nil || string(text) != `{"level":7.5}` {
		t.Errorf("written: %s, %v", text, err)
	}
	for body, want := range map[string]string{
		`{}`:                         "200 {}",
		`{"level":null}`:             `200 {"level":null}`,
		`{"level":7,"note":"x"}`:     `200 {"level":7,"note":"x"}`,
		`{"level":10}`:               "422 ",
		`{"level":"x"}`:              "400 ",
		`{"levels":7}`:               "422 ",
		`{"note":null,"level":null}`: `200 {"level":null,"note":null}`,
	} {
		w := ask(api, "PATCH /gauge", "Content-Type: application/merge-patch+json", body)
		if got := fmt.Sprint(w.Code, " ", strings.TrimSpace(w.Body.String())); !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s", body, got, want)
		}
	}
	if w := ask(api, "PUT /lenient", asJSON, `{"levels":7,"level":1}`); w.Code != 200 {
		t.Errorf("unknown members where they are allowed: %d %s", w.Code, w.Body)
	}
	if w := ask(api, "PATCH /gauge", "Content-Type: text/plain", `{}`); w.Code != 415 || !strings.HasPrefix(w.Header().Get("Accept-Patch"), "application/merge-patch+json") {
		t.Errorf("a patch of another type: %d %v", w.Code, w.Header())
	}
}

// Who sends all of a body that is too large before he reads still gets the answer,
// whether its length was announced or not.
func TestTheRefusalOfALargeBodyArrives(t *testing.T) {
	api := build(t, wicketway.Limits{Body: 1000}, wicketway.Route("POST /body", func(_ context.Context, in gauge) (gauge, error) { return in, nil }))
	server := httptest.NewServer(api)
	defer server.Close()
	const size = 6 << 20
	for _, framing := range []string{fmt.Sprintf("Content-Length: %d", size), "Transfer-Encoding: chunked"} {
		conn, err := net.Dial("tcp", server.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "POST /body HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n%s\r\n\r\n", framing)
		body := strings.Repeat(" ", size)
		if strings.HasPrefix(framing, "Transfer") {
			body = fmt.Sprintf("%x\r\n%s\r\n0\r\n\r\n", size, body)
		}
		if _, err := io.WriteString(conn, body); err != nil {
			t.Errorf("%s: sending: %v", framing, err)
		}
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil {
			t.Errorf("%s: %v", framing, err)
			continue
		}
		if text, err := io.ReadAll(resp.Body); resp.StatusCode != 413 || err != nil || !strings.Contains(string(text), "body-too-large") {
			t.Errorf("%s: %d %s %v", framing, resp.StatusCode, text, err)
		}
		conn.Close()
	}
}

// An embedded struct that is not exported is checked like any other, under its name in JSON as well.
func TestEmbeddedStructsAreChecked(t *testing.T) {
	api := build(t, wicketway.Route("POST /x", func(_ context.Context, in struct {
		moored `json:"berth"`
		Plate  string `json:"plate"`
	}) (wicketway.None, error) {
		return wicketway.None{}, nil
	}))
	for body, want := range map[string]string{
		`{"berth":{"name":"ab"},"plate":"x"}`:                "204",
		`{"berth":{"name":"too long"},"plate":"x"}`:          "422 /berth/name",
		`{"berth":{"name":"ab","paid":true},"plate":"x"}`:    "422 /berth/paid",
		`{"berth":{"name":"ab","nothing":true},"plate":"x"}`: "422 /berth/nothing",
		`{"plate":"x"}`: "422 /berth",
	} {
		w := ask(api, "POST /x", "Content-Type: application/json", body)
		status, pointer, _ := strings.Cut(want, " ")
		if fmt.Sprint(w.Code) != status || pointer != "" && !strings.Contains(w.Body.String(), `"pointer":"`+pointer+`"`) {
			t.Errorf("%s: %d %s, want %s", body, w.Code, w.Body, want)
		}
	}
	for want, part := range map[string]wicketway.Part{
		"JSON cannot fill it": wicketway.Route("POST /x", func(_ context.Context, in struct {
			*moored `json:"berth"`
		}) (wicketway.None, error) {
			return wicketway.None{}, nil
		}),
		"its Check cannot be called": wicketway.Route("POST /x", func(_ context.Context, in struct {
			held `json:"berth"`
		}) (wicketway.None, error) {
			return wicketway.None{}, nil
		}),
	} {
		if _, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, part); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}

type moored struct {
	Name string `json:"name" rule:"maxLength=3"`
	Paid bool   `json:"paid,omitzero" rule:"readOnly"`
}

type held struct {
	Name string `json:"name"`
}

func (*held) Check(*schema.Report) {}

// Each output by what a function returns: a value, nil, a Reply around it with a status and a header field, and all of
// these in an interface.
func TestEachOutput(t *testing.T) {
	type lock struct {
		Name string `json:"name"`
	}
	bell := lock{"bell"}
	cookie := http.Header{"Set-Cookie": {"seen=1"}}
	items := wicketway.Stream[int](func(yield func(int, error) bool) { _ = yield(1, nil) && yield(2, nil) })
	circle := &wicketway.Reply[any]{}
	circle.Value = circle
	for name, c := range map[string]struct {
		part   wicketway.Part
		status int
		want   string // a field, or a part of the body
	}{
		"a value":                          {returning(bell), 200, `{"name":"bell"}`},
		"a nil value":                      {returning((*lock)(nil)), 200, "null"},
		"a nil value at a path that names": {named((*lock)(nil)), 404, "not-found"},
		"a value with a status":            {returning(wicketway.Reply[lock]{Status: 202, Value: bell}), 202, "bell"},
		"a value with a field":             {returning(wicketway.Reply[lock]{Header: cookie, Value: bell}), 200, "Set-Cookie: seen=1"},
		"no value and 204":                 {returning(wicketway.Reply[*lock]{Status: 204}), 204, ""},
		"no value and 205":                 {returning(wicketway.Reply[*lock]{Status: 205}), 205, ""},
		"no value and 304":                 {named(wicketway.Reply[*lock]{Status: 304, Header: cookie}), 304, "Set-Cookie: seen=1"},
		"a value and 204":                  {returning(wicketway.Reply[lock]{Status: 204, Value: bell}), 500, "internal"},
		"a value and 404":                  {returning(wicketway.Reply[lock]{Status: 404, Value: bell}), 500, "internal"},
		"a nil Reply":                      {returning((*wicketway.Reply[lock])(nil)), 500, "internal"},
		"None":                             {returning(wicketway.None{}), 204, ""},
		"None with a status":               {returning(wicketway.Reply[wicketway.None]{Status: 202, Header: cookie}), 202, "Set-Cookie: seen=1"},
		"content":                          {returning(wicketway.Text("weir")), 200, "weir"},
		"content that Answers":             {returning(wicketway.Text("weir"), wicketway.Answers(203)), 203, "weir"},
		"content with a status":            {returning(wicketway.Reply[wicketway.Content]{Status: 404, Value: wicketway.Text("no such weir")}), 404, "no such weir"},
		"content and 204":                  {returning(wicketway.Reply[wicketway.Content]{Status: 204, Value: wicketway.Text("x")}), 500, "internal"},
		"content and 206":                  {returning(wicketway.Reply[wicketway.Content]{Status: 206, Value: wicketway.Text("x")}), 500, "internal"},
		"a redirect":                       {returning(wicketway.Redirect{Path: "/y"}), 303, "Location: /y"},
		"a redirect with a cookie":         {returning(wicketway.Reply[wicketway.Redirect]{Header: cookie, Value: wicketway.Redirect{Path: "/y"}}), 303, "Set-Cookie: seen=1"},
		"a redirect with a status":         {returning(wicketway.Reply[wicketway.Redirect]{Status: 307, Value: wicketway.Redirect{Path: "/y"}}), 307, "Location: /y"},
		"a redirect with two":              {returning(wicketway.Reply[wicketway.Redirect]{Status: 307, Value: wicketway.Redirect{Status: 308, Path: "/y"}}), 500, "internal"},
		"a redirect and 200":               {returning(wicketway.Reply[wicketway.Redirect]{Status: 200, Value: wicketway.Redirect{Path: "/y"}}), 500, "internal"},
		"a stream":                         {returning(items), 200, "[1,\n2]"},
		"a stream with a status":           {returning(wicketway.Reply[wicketway.Stream[int]]{Status: 202, Header: cookie, Value: items}), 202, "[1,\n2]"},
		"a nil stream":                     {returning(wicketway.Stream[int](nil)), 500, "internal"},
		"a stream and 204":                 {returning(wicketway.Reply[wicketway.Stream[int]]{Status: 204, Value: items}), 500, "internal"},
		"a value in any":                   {returning[any](bell), 200, "bell"},
		"nil in any":                       {returning[any](nil), 200, "null"},
		"a Reply in any":                   {returning[any](wicketway.Reply[lock]{Status: 202, Header: cookie, Value: bell}), 202, "bell"},
		"a pointer to a Reply in any":      {returning[any](&wicketway.Reply[any]{Status: 202, Value: bell}), 202, "bell"},
		"a nil Reply in any":               {returning[any]((*wicketway.Reply[lock])(nil)), 500, "internal"},
		"a nil pointer in any":             {returning[any]((*lock)(nil)), 200, "null"},
		"a nil pointer in any at a path that names": {named[any]((*lock)(nil)), 404, "not-found"},
		"a nil redirect in any":                     {returning[any]((*wicketway.Redirect)(nil)), 500, "internal"},
		"a nil stream in any":                       {returning[any](wicketway.Stream[int](nil)), 500, "internal"},
		"a Reply that holds itself":                 {returning[any](circle), 500, "internal"},
		"None in any":                               {returning[any](wicketway.None{}), 204, ""},
		"content in any":                            {returning[any](wicketway.Text("weir")), 200, "weir"},
		"content with a status in any":              {returning[any](wicketway.Reply[wicketway.Content]{Status: 404, Value: wicketway.Text("no")}), 404, "no"},
		"a redirect in any":                         {returning[any](wicketway.Reply[wicketway.Redirect]{Header: cookie, Value: wicketway.Redirect{Path: "/y"}}), 303, "Set-Cookie: seen=1"},
		"a stream in any":                           {returning[any](items), 200, "[1,\n2]"},
		"Created in any":                            {returning[any](wicketway.Created[lock, lockIn]{Value: bell}), 500, "internal"},
		"Created with a Location in any":            {returning[any](wicketway.Created[lock, lockIn]{Value: bell, Location: "/x/bell"}), 201, "Location: /x/bell"},
		"a value in an interface":                   {returning[fmt.Stringer](netip.MustParseAddr("192.0.2.1")), 200, `"192.0.2.1"`},
		"a value in a shape":                        {housed(returning(bell, wicketway.Name("locks.bell"), wicketway.Summary("One lock"))), 200, `{"of":{"data":{"name":"bell"}},"route":"locks.bell One lock","status":200}`},
		"a Reply in a shape":                        {housed(returning(wicketway.Reply[lock]{Status: 202, Message: "later", Value: bell})), 202, `"status":202,"message":"later"`},
		"nil in a shape":                            {housed(returning((*lock)(nil))), 200, `{"of":{"data":null},`},
		"no value and 204 in a shape":               {housed(returning(wicketway.Reply[*lock]{Status: 204})), 204, ""},
		"None in a shape":                           {housed(returning(wicketway.None{})), 204, ""},
		"content in a shape":                        {housed(returning(wicketway.Text("weir"))), 200, "weir"},
		"a stream in a shape":                       {housed(returning(items)), 200, "[1,\n2]"},
		"any in a shape":                            {housed(returning[any](wicketway.Reply[lock]{Value: bell})), 200, `{"of":{"data":{"name":"bell"}},`},
		"a list as CSV in a shape":                  {housed(returning([]lock{bell}, wicketway.Formats(csv.Lists(), format.JSON()), wicketway.FormatChoice{OrFirst: true})), 200, "name\r\nbell\r\n"},
		"an envelope in a shape":                    {housed(returning(bell, wicketway.Envelope("near"))), 200, `{"near":{"name":"bell"}}`},
		"a shape that is undone":                    {housed(returning(bell, wicketway.Undo(wicketway.Envelope("")))), 200, `{"name":"bell"}`},
		"a shape that panics":                       {wicketway.Group(wicketway.ValueShape(func(s format.Success) house { panic("wet") }), returning(bell)), 500, "internal"},
		"a shape without its value":                 {wicketway.Group(wicketway.ValueShape(func(s format.Success) house { return house{} }), returning(bell)), 500, "internal"},
		"an old value in a shape":                   {housed(wicketway.Adapted("GET /x", func(context.Context, wicketway.None) (lock, error) { return bell, nil }, adapt.Same(), adapt.Struct[lock](adapt.Rename("name", "title")))), 200, `{"of":{"data":{"title":"bell"}},`},
		"any in an envelope":                        {wicketway.Group(wicketway.Envelope("data"), returning[any](wicketway.Reply[lock]{Value: bell})), 200, `{"data":{"name":"bell"}}`},
		"content in any, in an envelope":            {wicketway.Group(wicketway.Envelope("data"), returning[any](wicketway.Text("weir"))), 200, "weir"},
	} {
		api := mustBuild(wicketway.Log(slog.New(slog.DiscardHandler)), c.part)
		for _, method := range []string{"GET", "HEAD"} {
			path := "/x"
			if strings.Contains(name, "path") || strings.Contains(name, "304") {
				path = "/x/y"
			}
			w := ask(api, method+" "+path, "", "")
			got := w.Body.String()
			for field, values := range w.Header() {
				got += "\n" + field + ": " + strings.Join(values, ", ")
			}
			if w.Code != c.status || !strings.Contains(got, c.want) && (method == "GET" || strings.Contains(c.want, ": ")) {
				t.Errorf("%s, %s: %d %s, want %d %s", name, method, w.Code, got, c.status, c.want)
			}
		}
	}
}

// A house is a shape for successes.
type house struct {
	Of struct {
		Data format.Payload `json:"data"`
	} `json:"of"`
	Route   string `json:"route"`
	Status  int    `json:"status"`
	Message string `json:"message,omitzero"`
}

func housed(part wicketway.Part) wicketway.Part {
	other := wicketway.Route("GET /other", func(context.Context, wicketway.None) (int, error) { return 1, nil })
	return wicketway.Group(part, other, wicketway.ValueShape(func(s format.Success) (h house) {
		h.Of.Data, h.Route, h.Status, h.Message = s.Value, strings.TrimSpace(s.Route+" "+s.Summary), s.Status, s.Message
		return h
	}))
}

// What a GET under a shape is tagged by does not depend on the message, and the kit reads the value out of the shape.
func TestShapesOfSuccesses(t *testing.T) {
	n := 0
	count := func(context.Context, wicketway.None) (wicketway.Reply[int64], error) {
		n++
		return wicketway.Reply[int64]{Message: fmt.Sprint("call ", n), Value: 7}, nil
	}
	api := mustBuild(housed(wicketway.Route("GET /x", count, wicketway.Conditional())))
	w := ask(api, "GET /x", "", "")
	if again := ask(api, "GET /x", "If-None-Match: "+w.Header().Get("Etag"), ""); again.Code != 304 {
		t.Errorf("%d %s", again.Code, again.Body)
	}
	if out, p := wicketwaytest.Call(t, api, count, wicketway.None{}); p != nil || out.Value != 7 {
		t.Errorf("%+v %v", out, p)
	}
	f := api.Routes()[len(api.Routes())-1] // GET /x
	if want := `{"properties":{"message":{"type":"string"},"of":{"properties":{"data":{"format":"int64","maximum":9223372036854775807,"minimum":-9223372036854775808,"type":"integer"}},"required":["data"],"type":"object"}`; f.Envelope != "/of/data" || !strings.HasPrefix(string(f.Answers[0].Schema), want) {
		t.Errorf("%s %s", f.Envelope, f.Answers[0].Schema)
	}
}

// Parts with shapes can be built at a time: each Build completes its own.
func TestShapesAreBuiltAtATime(t *testing.T) {
	part := wicketway.Group(housed(returning(1)), wicketway.ProblemShape("", asOldError))
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			if f := mustBuild(part).Routes(); f[len(f)-1].Envelope != "/of/data" {
				t.Error(f[len(f)-1].Envelope)
			}
		})
	}
	all.Wait()
}

func returning[Out any](out Out, settings ...wicketway.Setting) wicketway.Part {
	return wicketway.Route("GET /x", func(context.Context, wicketway.None) (Out, error) { return out, nil }, settings...)
}

// named returns an output at a path that names a value.
func named[Out any](out Out) wicketway.Part {
	type value struct {
		Y string `from:"path y"`
	}
	return wicketway.Route("GET /x/{y}", func(context.Context, value) (Out, error) { return out, nil })
}

// Pages that are numbered lead to the first, the last and the neighbours; page sizes have a default for a whole API.
func TestNumberedPages(t *testing.T) {
	type list struct {
		Page wicketway.PageNumber `from:"query page"`
		Size wicketway.PageSize   `from:"query size"`
	}
	type large struct {
		Page wicketway.PageNumber `from:"query page"`
		Size wicketway.PageSize   `from:"query size" rule:"maximum=1000 default=500"`
	}
	page := func(_ context.Context, in list) (wicketway.NumberedPage[int], error) {
		return wicketway.NumberedPage[int]{Items: []int{}, Number: int(in.Page), Size: int(in.Size), Total: 45}, nil
	}
	api := mustBuild(wicketway.PageSizes{Usual: 10, Most: 20}, wicketway.Route("GET /x", page),
		wicketway.Route("GET /large", func(_ context.Context, in large) (wicketway.NumberedPage[int], error) {
			return wicketway.NumberedPage[int]{Number: int(in.Page), Size: int(in.Size)}.Complete(), nil
		}),
		wicketway.Group(wicketway.Undo(wicketway.PageSizes{Usual: 1, Most: 1}), wicketway.Route("GET /usual", page)),
		wicketway.Route("GET /cursor", func(context.Context, wicketway.None) (wicketway.Page[int], error) {
			return wicketway.Page[int]{Items: []int{1}, Next: "x"}, nil
		}))
	for _, c := range []struct {
		path   string
		status int
		links  string
		want   string
	}{
		{"/x", 200, "first 1, next 2, last 5", `{"items":[],"page":1,"size":10,"total":45}`},
		{"/x?page=3&size=20", 200, "first 1, prev 2, last 3", `"page":3,"size":20`},
		{"/x?page=9", 200, "first 1, prev 5, last 5", `"page":9`},
		{"/x?size=21", 422, "", "must be at most 20"},
		{"/x?page=0", 422, "", "must be at least 1"},
		{"/large", 200, "first 1, last 1", `"size":500,"total":0,"first":1,"last":1`},
		{"/usual?size=100", 200, "first 1, last 1", `"size":100`},
		{"/cursor", 200, "", `{"items":[1],"next":"x"}`}, // no parameter takes it, so there is no link
	} {
		w := ask(api, "GET "+c.path, "", "")
		var links []string
		for _, l := range w.Header()["Link"] {
			target, relation, _ := strings.Cut(l, `; rel="`)
			u, _ := url.Parse(strings.Trim(target, "<>"))
			links = append(links, strings.Trim(relation, `"`)+" "+u.Query().Get("page"))
		}
		if w.Code != c.status || strings.Join(links, ", ") != c.links || !strings.Contains(w.Body.String(), c.want) {
			t.Errorf("%s: %d %q %s, want %d %s %s", c.path, w.Code, links, w.Body, c.status, c.links, c.want)
		}
	}
	for want, part := range map[string]wicketway.Part{
		"but no query field of the input is a wicketway.PageNumber": wicketway.Route("GET /y", func(context.Context, wicketway.None) (p wicketway.NumberedPage[int], err error) { return p, nil }),
		"no query field of an input here is a wicketway.PageSize":   wicketway.Route("GET /y", findNothing, wicketway.PageSizes{Most: 30}),
		"the usual size, 200, is more than the largest, 100":        wicketway.Route("GET /y", page, wicketway.PageSizes{Usual: 200}),
	} {
		if _, err := wicketway.Build(about, part); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
}

// Each of many can end in a problem of its own, which says no cause.
func TestProblemsInOutputs(t *testing.T) {
	type outcome struct {
		Lock    string           `json:"lock"`
		Problem *problem.Problem `json:"problem,omitzero"`
	}
	all := []outcome{{"bell", nil}, {"heron", errCanal.New("It is dry.").With("level", 0).Because(errors.New("a leak"))}}
	api := mustBuild(returning(wicketway.Reply[[]outcome]{Status: http.StatusMultiStatus, Value: all}, wicketway.Gives[[]outcome](http.StatusMultiStatus)))
	const want = `[{"lock":"bell"},{"lock":"heron","problem":{"title":"The canal cannot do that now","status":409,"detail":"It is dry.","code":"canal","level":0}}]`
	if w := ask(api, "GET /x", "", ""); w.Code != 207 || w.Body.String() != want+"\n" {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	if d := api.Describe(); !strings.Contains(string(d.Defs["outcome"]), `"problem":{"properties":{"title":{"type":"string"}`) {
		t.Errorf("%s", d.Defs["outcome"])
	}
}
