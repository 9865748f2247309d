package route_test

import (
	"errors"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

func TestParseErrorsPointAtTheCharacter(t *testing.T) {
	for _, c := range []struct {
		template string
		offset   int
		reason   string
	}{
		{"", 0, "starts with a slash"},
		{"locks", 0, "starts with a slash"},
		{"/a//b", 3, "empty segment"},
		{"/a/../b", 3, "dot segment"},
		{"/locks/{lock", 7, "never closed"},
		{"/locks/lock}", 11, "closes nothing"},
		{"/locks/{}", 8, "needs a name"},
		{"/locks/{lo ck}", 10, "is not allowed in a parameter's name"},
		{"/{2nd}", 2, "is not allowed in a parameter's name"},
		{"/{a}/{a}", 6, "the template has the parameter a twice"},
		{"/{a}{b}", 4, "need text between them"},
		{"/x{+rest}", 2, "a segment of its own"},
		{"/{+rest}/x", 8, "nothing can follow"},
		{"/{+rest}x", 8, "nothing can follow"},
		{"/100%", 4, "two hexadecimal digits"},
		{"/a b", 2, "percent-encoded"},
		{"/a?b", 2, "percent-encoded"},
		{"/" + strings.Repeat("{a}/", 2), 6, "twice"},
	} {
		_, err := route.Parse(c.template)
		e, ok := errors.AsType[*route.SyntaxError](err)
		if !ok || e.Offset != c.offset || !strings.Contains(e.Reason, c.reason) {
			t.Errorf("Parse(%q) = %v, want %q at offset %d", c.template, err, c.reason, c.offset)
		}
	}
	for _, wrong := range "`{@[/:\x7f" { // they stand beside the letters and the digits
		if _, err := route.Parse("/{a" + string(wrong) + "}"); err == nil {
			t.Errorf("a name with %q is taken", wrong)
		}
	}
	if names := parse(t, "/{azAZ_09}/{_}").Names(); !slices.Equal(names, []string{"azAZ_09", "_"}) {
		t.Errorf("the edges of the alphabet: %q", names)
	}
}

func parse(t *testing.T, text string) route.Template {
	template, err := route.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return template
}

func TestExpand(t *testing.T) {
	for _, c := range []struct {
		template string
		value    string
		want     string // "" for an error
	}{
		{"/locks/{v}", "bell", "/locks/bell"},
		{"/locks/{v}", "a/b c", "/locks/a%2Fb%20c"}, // RFC 6570, 3.2.2
		{"/locks/{v}", "50%", "/locks/50%25"},
		{"/locks/{v}", "é", "/locks/%C3%A9"},
		{"/locks/{v}", "", ""},
		{"/locks/{v}", "..", ""},
		{"/locks/{v}.json", ".", "/locks/..json"},
		{"/files/{+v}", "a/b;c=1", "/files/a/b;c=1"}, // RFC 6570, 3.2.3
		{"/files/{+v}", "what?.txt#x", "/files/what%3F.txt%23x"},
		{"/files/{+v}", "a/../b", ""},
		{"/files/{+v}", "", "/files/"},
		{"/caf%c3%a9/{v}", "x", "/caf%C3%A9/x"},
		{"/a%2Fb/{v}", "x", "/a%2Fb/x"},
		{"/{v}.json", "a.json", "/a.json.json"},
		{"/{v}-x{w}", "a-xb", ""}, // would be read back as a
		{"/{v}2", "/", "/%2F2"},
	} {
		got, err := parse(t, c.template).Expand(func(string) string { return c.value })
		if got != c.want || (err != nil) != (c.want == "") {
			t.Errorf("%s with %q: %q, %v, want %q", c.template, c.value, got, err, c.want)
		}
	}
}

// RFC 3986, 5.2.4, with empty segments taken out as well.
func TestClean(t *testing.T) {
	for path, want := range map[string]string{
		"/a/b": "/a/b", "/a//b": "/a/b", "/a/./b": "/a/b", "/a/../b": "/b", "/../a": "/a", "/a/..": "/", "/a/b/..": "/a/",
		"/a/%2e%2E/b": "/b", "/a/.%2e": "/", "/a/%2e": "/a/", "//": "/", "/a//": "/a/", "/.a/..b": "/.a/..b", "//evil.example/..": "/",
		"/a%2F..%2Fb": "/a%2F..%2Fb", "/%2ehidden": "/%2ehidden",
	} {
		if got := route.Clean(path); got != want {
			t.Errorf("Clean(%q) = %q, want %q", path, got, want)
		}
	}
}

// What Parse takes prints back as it was, and what it expands to matches again
// with the same values.
func FuzzTemplate(f *testing.F) {
	for _, s := range []string{"/locks/{lock}", "/{a}-{b}.{c}", "/f/{+rest}", "/a%2Fb/%25", "/x{a}y/"} {
		f.Add(s, "v1", "a/b%?#é")
	}
	f.Fuzz(func(t *testing.T, text, v1, v2 string) {
		template, err := route.Parse(text)
		if err != nil {
			if e, ok := errors.AsType[*route.SyntaxError](err); !ok || e.Offset < 0 || e.Offset > len(text) {
				t.Fatalf("Parse(%q): %v", text, err)
			}
			return
		}
		if same, err := route.Parse(template.String()); err != nil || template.String() != text || !same.Equal(template) {
			t.Fatalf("%q prints as %q: %v", text, template, err)
		}
		names := template.Names()
		values := map[string]string{}
		for i, n := range names {
			values[n] = []string{v1, v2}[i%2]
		}
		path, err := template.Expand(func(n string) string { return values[n] })
		if err != nil {
			return
		}
		u, err := url.ParseRequestURI(path)
		if err != nil || u.RawQuery != "" || u.EscapedPath() != path {
			t.Fatalf("%q expands to %q, which is no path: %v", text, path, err)
		}
		var b table.Builder
		b.Add(table.Route{Method: "GET", Template: template})
		var m table.Match
		if b.Table().Find("GET", u.Path, u.RawPath, &m) != table.Found {
			t.Fatalf("%q expands to %q, which it does not match", text, path)
		}
		for i, n := range names {
			if got := m.Value(i); got != values[n] {
				t.Fatalf("%q expands to %q, where %s is %q and was %q", text, path, n, got, values[n])
			}
		}
	})
}
