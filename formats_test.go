package wicketway_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/netip"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/proxy"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/format/csv"
	"github.com/wicketway/wicketway/format/html"
)

type size struct {
	Length float64  `json:"length"`
	Width  *float64 `json:"width"`
}

type Mooring struct {
	Berth string
}

type vesselRow struct {
	Plate string         `json:"plate"`
	Size  size           `json:"size"`
	Seen  time.Time      `json:"seen,omitzero"`
	Tags  []string       `json:"tags"`
	Pin   string         `json:"-"`
	Draft *float64       `json:"draft"`
	Extra map[string]int `json:"extra"`
	*Mooring
}

func rows() []vesselRow {
	return []vesselRow{
		{Plate: "=1+1", Size: size{Length: -3.5}, Tags: []string{"a", "b"}, Pin: "1", Extra: map[string]int{"b": 1, "a": 2}, Mooring: &Mooring{"-7"}},
		{Plate: "OB \"x\",\r\ny", Seen: time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC)},
	}
}

// RFC 9110, 12.5.1, the suffix and the query: what is asked for, and what comes.
func TestFormats(t *testing.T) {
	templates := template.Must(template.New("rows").Parse(`<p>{{len .}} rows`))
	template.Must(templates.New("no-row.html").Parse(`<p>{{.Code}} {{.Detail}} {{.Status}} {{.Members.row}}`))
	template.Must(templates.New("405").Parse(`<p>not {{.Title}}`))
	template.Must(templates.New("broken").Parse(`{{index . 99}}`))
	errNoRow := errCanal.Define(404, "no-row", "There is no row").Carries("row", 7)
	list := func(context.Context, wicketway.None) ([]vesselRow, error) { return rows(), nil }
	one := func(_ context.Context, in struct {
		Row string `from:"path row"`
	}) (string, error) {
		if in.Row == "7" {
			return "", errNoRow.New("<None>").With("row", 7)
		}
		return "<" + in.Row + ">", nil
	}
	pages := html.Pages(templates)
	always := []format.Way{format.BySuffix(), format.ByQuery("as"), format.ByAccept()}
	api := build(t,
		wicketway.Route("GET /accept", list, wicketway.Formats(pages, csv.Lists()), wicketway.Name("rows")),
		wicketway.Route("GET /shared", list, wicketway.Formats(pages), wicketway.Template("rows")),
		wicketway.Group(wicketway.Formats(format.JSON(), pages, csv.Lists()), wicketway.FormatChoice{By: always},
			wicketway.Route("GET /rows", list),
			wicketway.Route("GET /rows/all.html", func(context.Context, wicketway.None) ([]int, error) { return []int{1}, nil })),
		wicketway.Group(wicketway.Formats(pages), wicketway.FormatChoice{By: always},
			wicketway.Route("GET /rows/{row}", one, wicketway.Fails(errNoRow)),
			wicketway.Route("GET /broken", one2, wicketway.Name("broken")),
			wicketway.Route("POST /plain/{row}", one, wicketway.Fails(errNoRow), wicketway.ProblemPages(format.JSON()))),
		wicketway.Route("GET /first", list, wicketway.Formats(csv.Lists(), format.JSON()), wicketway.FormatChoice{OrFirst: true}),
		wicketway.Route("GET /vendor", list, wicketway.Media("application/vnd.canal+json"), wicketway.Formats(csv.Lists())),
		wicketway.Route("GET /json", list),
		wicketway.Group(wicketway.Formats(csv.Lists()), wicketway.FormatChoice{By: []format.Way{format.ByField("Canal-Format"), format.ByAccept()}},
			wicketway.Route("GET /field", list),
			wicketway.Route("GET /proxied", list, wicketway.Chain(proxy.Trust(proxy.Forwarded, netip.MustParsePrefix("203.0.113.0/24"))))),
	)
	const page, table, plain, wrong = "text/html; charset=utf-8", "text/csv; charset=utf-8; header=present", "application/json", "application/problem+json"
	for _, c := range []struct {
		line, accept string
		status       int
		media, want  string
		vary         bool
	}{
		{"GET /accept", "", 200, plain, `[{"plate":`, true},
		{"GET /accept", "*/*", 200, plain, "", true},
		{"GET /accept", "text/html", 200, page, "<p>2 rows", true},
		{"GET /shared", "text/html", 200, page, "<p>2 rows", true},
		{"GET /accept", "text/*;q=0.5, application/json;q=0.4", 200, page, "", true},
		{"GET /accept", "text/*;q=0.5, text/html;q=0", 200, table, "", true},
		{"GET /accept", "TEXT/CSV", 200, table, "", true},
		{"GET /accept", "text/csv;q=0.3, text/html;q=0.2", 200, table, "", true},
		{"GET /accept", "application/json;q=0.1, */*;q=0.05", 200, plain, "", true},
		{"GET /accept", "image/png", 406, wrong, `"offered":["application/json","text/html","text/csv"]`, true},
		{"GET /accept", "application/json;q=0", 406, wrong, "not-acceptable", true},
		{"GET /accept.csv", "", 404, wrong, "not-found", true},
		{"GET /field", "", 200, plain, "", true},
		{"GET /field", "\nCanal-Format: csv", 200, table, "", false},
		{"GET /field", "\nCanal-Format: csv\nCanal-Format: csv", 200, table, "", false},
		{"GET /field", "\nCanal-Format: xml", 406, wrong, "The field Canal-Format names no format", true},
		{"GET /proxied", "\nCanal-Format: csv", 200, plain, "", true}, // the caller is no proxy that is trusted
		{"GET /first", "", 200, table, "", true},
		{"GET /first", "image/png", 200, table, "", true},
		{"GET /first", "application/json", 200, plain, "", true},
		{"GET /vendor", "application/json", 200, "application/vnd.canal+json", "", true},
		{"GET /vendor", "application/vnd.canal+json", 200, "application/vnd.canal+json", "", true},
		{"GET /json", "image/png", 200, plain, "", false},
		{"GET /rows.csv", "text/html", 200, table, "", false},
		{"GET /rows.html", "text/csv", 200, page, "<table", false},
		{"GET /rows.png", "", 404, wrong, "", true},
		{"GET /rows?as=csv", "text/html", 200, table, "", false},
		{"GET /rows.html?as=csv", "", 200, page, "", false},
		{"GET /rows?as=png", "", 406, wrong, `names no format of this. Offered are json (application/json)`, true},
		{"GET /rows?as=csv&as=csv", "", 200, table, "", false},
		{"GET /rows?as=csv&as=json", "", 406, wrong, "", true},
		{"GET /rows/all.html", "", 200, plain, "[1]", true}, // a text of its own comes first
		{"GET /rows/all.html.csv", "", 200, table, "value\r\n1\r\n", false},
		{"GET /rows/a.b.html", "", 200, page, "&lt;a.b&gt;", false},
		{"GET /rows/a.csv", "", 200, plain, `"<a.csv>"`, true}, // not offered there, so it is no suffix
		{"GET /rows/.html", "", 200, plain, "", true},
		{"GET /rows/a%2Ehtml", "", 200, page, "", false},
		{"GET /rows/%41%2Fb.html", "", 200, page, "&lt;A/b&gt;", false},
		{"HEAD /rows.csv", "", 200, table, "", false},
		{"POST /rows.csv", "", 405, wrong, "GET, HEAD, OPTIONS", true},
		{"OPTIONS /rows.csv", "", 204, "", "", false},
		{"GET /rows/7.html", "", 404, page, "<p>no-row &lt;None&gt; 404 7", false},
		{"GET /rows/7", "text/html", 404, page, "<p>no-row", true},
		{"GET /rows/7?as=json", "text/html", 404, wrong, `"row":7`, false},
		{"GET /rows/7.json", "text/html", 404, wrong, `"row":7`, false},
		{"GET /broken", "text/html", 500, page, "Something went wrong", true}, // a template that fails
		{"POST /plain/7", "text/html", 404, wrong, `"row":7`, false},
	} {
		w := ask(api, c.line, "Accept: "+c.accept, "")
		if c.accept == "" {
			w = ask(api, c.line, "", "")
		}
		if w.Code != c.status || w.Header().Get("Content-Type") != c.media || !strings.Contains(w.Body.String(), c.want) || strings.Contains(w.Header().Get("Vary"), "Accept") != c.vary {
			t.Errorf("%s for %q: %d %v %s, want %d %s %s", c.line, c.accept, w.Code, w.Header(), w.Body, c.status, c.media, c.want)
		}
	}
	const lines = "plate,size.length,size.width,seen,tags,draft,extra,Berth\r\n" +
		"'=1+1,-3.5,,0001-01-01T00:00:00Z,\"[\"\"a\"\",\"\"b\"\"]\",,\"{\"\"a\"\":2,\"\"b\"\":1}\",'-7\r\n" +
		"\"OB \"\"x\"\",\r\ny\",0,,2027-05-04T09:30:00Z,[],,{},\r\n"
	if w := ask(api, "GET /rows.csv", "", ""); w.Body.String() != lines {
		t.Errorf("as CSV:\n%s\nwant:\n%s", w.Body, lines)
	}
	chooses := wicketway.Chain(acceptPages())
	if w := ask(build(t, chooses, wicketway.Route("GET /accept", list, wicketway.Formats(html.Pages(nil)))), "GET /accept", "Accept: image/png", ""); w.Header().Get("Content-Type") != page {
		t.Errorf("a middleware that sets Accept: %v", w.Header())
	}
}

func one2(context.Context, wicketway.None) (string, error) { return "x", nil }

// acceptPages is a middleware that says what its callers accept.
func acceptPages() wicketway.Middleware {
	return wicketway.Wrap("accept", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			r.Header.Set("Accept", "text/html")
			next.ServeHTTP(w, r)
		})
	})
}

// A plain page costs no more than the value's size, whatever its members are called and however deep
// they are.
func TestPagesAreBounded(t *testing.T) {
	var value any
	api := build(t, wicketway.Formats(html.Pages(nil)), wicketway.Route("GET /x", func(context.Context, wicketway.None) (any, error) { return value, nil }))
	nested := func(n int, around func(any) any) (v any) {
		for v = "deep"; n > 0; n-- {
			v = around(v)
		}
		return v
	}
	var named, few []map[string]int
	for i := range 3000 {
		named = append(named, map[string]int{fmt.Sprint("m", i): i})
		few = append(few, map[string]int{fmt.Sprint("m", i%16): i})
	}
	for name, c := range map[string]struct {
		value any
		holds []string
	}{
		"members of the caller's naming": {named, []string{"<li><table>\n<tr><th>m2999</th><td>2999"}},
		"sixteen members":                {few, []string{"<th>m15</th></tr>", "<td>2999</td>"}},
		"lists in lists":                 {nested(2000, func(v any) any { return []any{v, v == nil} }), []string{"[[[", "…"}},
		"objects in lists":               {nested(2000, func(v any) any { return []any{map[string]any{"a": v}} }), []string{"{&#34;a&#34;:[", "…"}},
		"a list of lists of objects":     {[]any{[]any{map[string]any{"a": nil}}, []any{1, true}}, []string{"<li><table class=\"list\">", "<td>–</td>", "<li>true</li>"}},
	} {
		text, _ := json.Marshal(c.value)
		value = c.value
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, w := send(api, "GET /x", "Accept: text/html", "")
		runtime.ReadMemStats(&after)
		if cost := after.TotalAlloc - before.TotalAlloc; w.Body.Len() > 40*len(text)+5000 || cost > uint64(300*len(text)+100_000) {
			t.Errorf("%s: %d bytes become a page of %d, and cost %d", name, len(text), w.Body.Len(), cost)
		}
		for _, want := range c.holds {
			if !strings.Contains(w.Body.String(), want) {
				t.Errorf("%s: no %q in %.3000s", name, want, w.Body)
			}
		}
	}
}

// CSV keeps every text as it is, so that it can be read back.
func TestCSVKeepsTexts(t *testing.T) {
	texts := []string{"a\rb", "a\nb", "a\r\nb", "", `"`, "a,b", " a ", "\"\r\""}
	api := build(t, wicketway.Formats(csv.Lists()), wicketway.Route("GET /x", func(context.Context, wicketway.None) ([]string, error) { return texts, nil }))
	body := ask(api, "GET /x", "Accept: text/csv", "").Body.String()
	if want := "value\r\n\"a\rb\"\r\n\"a\nb\"\r\n\"a\r\nb\"\r\n\"\"\r\n\"\"\"\"\r\n\"a,b\"\r\n\" a \"\r\n\"\"\"\r\"\"\"\r\n"; body != want {
		t.Errorf("%q, want %q", body, want)
	}
}

// Templates of problems get the request and the faults, and reach no cause; one that fails gives way to the plain page.
func TestPagesOfProblems(t *testing.T) {
	templates := template.Must(template.New("").Parse(`{{define "500"}}{{.}} {{printf "%+v" .}}{{end}}` +
		`{{define "input-invalid"}}{{.Method}} {{.Path}} {{.Route}} {{.Version}} {{.Caller}} {{range .Errors}}{{.Name}} {{.Detail}}{{end}}{{end}}` +
		`{{define "no-row"}}{{index .Errors 5}}{{end}}`))
	type in struct {
		Row int `from:"path row" rule:"maximum=9"`
	}
	errNoRow := errCanal.Define(404, "no-row", "There is no row")
	api := build(t, wicketway.Formats(html.Pages(templates)), wicketway.Version("v1", wicketway.Guard(plate("p")),
		wicketway.Route("GET /rows/{row}", func(_ context.Context, in in) (string, error) {
			if in.Row == 1 {
				return "", fmt.Errorf("disk on fire")
			}
			return "", errNoRow.New("none").Because(errors.New("disk on fire"))
		}, wicketway.Fails(errNoRow))))
	for path, want := range map[string]string{
		"/v1/rows/1":  "Something went wrong on the server",
		"/v1/rows/2":  "<!doctype html>",
		"/v1/rows/10": "GET /v1/rows/10 /v1/rows/{row} v1 grebe row must be at most 9",
	} {
		w := ask(api, "GET "+path, "Accept: text/html\nPlate: grebe", "")
		if body := w.Body.String(); !strings.Contains(body, want) || strings.Contains(body, "fire") || w.Header().Get("Content-Type") != "text/html; charset=utf-8" {
			t.Errorf("%s: %v %s", path, w.Header(), body)
		}
	}
}

// The tag of a page counts for what changes the value, though the page shows more of the route.
func TestTagsOfPages(t *testing.T) {
	value := 7
	find := func(context.Context, wicketway.None) (int, error) { return value, nil }
	change := func(ctx context.Context, in struct {
		If wicketway.Conditions[int] `rule:"required"`
		To int                       `from:"query to"`
	}) (wicketway.None, error) {
		err := in.If.Hold(value)
		return wicketway.None{}, err
	}
	api := build(t, wicketway.Conditional(), wicketway.Formats(html.Pages(nil)), wicketway.Route("GET /x", find, wicketway.Summary("The gauge")),
		wicketway.Route("PUT /x", change))
	page := ask(api, "GET /x", "Accept: text/html", "")
	if w := ask(api, "PUT /x", "If-Match: "+page.Header().Get("Etag"), ""); w.Code != 204 || !strings.Contains(page.Body.String(), "<h1>The gauge</h1>") {
		t.Errorf("%d %s\n%s", w.Code, w.Body, page.Body)
	}
}
