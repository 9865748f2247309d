package negotiate_test

import (
	"strings"
	"testing"

	"github.com/wicketway/wicketway/negotiate"
)

// RFC 9110, 12.5.3.
func TestEncoding(t *testing.T) {
	for _, c := range []struct {
		accept []string
		want   string
	}{
		{nil, ""},                    // anything would do: as it is
		{[]string{""}, ""},           // nothing but identity
		{[]string{"gzip"}, "gzip"},   //
		{[]string{"GZIP"}, "gzip"},   // codings are case-insensitive
		{[]string{"x-gzip"}, "gzip"}, // 8.4.1.3
		{[]string{"deflate, br"}, "br"},
		{[]string{"gzip, br"}, "br"}, // equal: the server's order
		{[]string{"gzip;q=1, br;q=0.9"}, "gzip"},
		{[]string{"br;q=0.2", "gzip;q=0.4"}, "gzip"}, // two lines are one list (5.3)
		{[]string{"*"}, "br"},
		{[]string{"*, br;q=0"}, "gzip"},
		{[]string{"*;q=0"}, ""},
		{[]string{"gzip;q=0"}, ""},
		{[]string{"identity, gzip;q=0.5"}, ""},
		{[]string{"identity;q=0.1, gzip;q=0.5"}, "gzip"},
		{[]string{"gzip;q=2"}, ""},      // no weight (12.4.2)
		{[]string{"gzip;q=0.1234"}, ""}, // three digits at most
		{[]string{"gzip ; Q=0.5"}, "gzip"},
		{[]string{"gzip;q=0, gzip;q=1"}, "gzip"}, // the order never decides
		{[]string{"gzip;q=1, x-gzip;q=0"}, "gzip"},
		{[]string{"*;q=0, *;q=0.5"}, "br"},
		{[]string{"identity;q=0.9, br;q=0.8, identity;q=0"}, ""},
		{[]string{`x;a="gzip, br"`}, ""}, // a quoted string is one value (5.6.4)
		{[]string{",, gzip ,"}, "gzip"},  // empty items count for nothing (5.6.1.2)
	} {
		if got := negotiate.Encoding(c.accept, "br", "gzip"); got != c.want {
			t.Errorf("%q: %q, want %q", c.accept, got, c.want)
		}
	}
}

// RFC 9110, 12.5.1.
func TestMediaType(t *testing.T) {
	for _, c := range []struct {
		accept []string
		want   string
	}{
		{nil, "application/json"},
		{[]string{"*/*"}, "application/json"},
		{[]string{"text/html"}, "text/html"},
		{[]string{"text/*"}, "text/html"},
		{[]string{"TEXT/HTML;level=1"}, "text/html"},
		{[]string{"text/csv"}, ""},
		{[]string{"text/html, application/json"}, "application/json"}, // equal: the server's order
		{[]string{"text/html, application/json;q=0.9"}, "text/html"},
		{[]string{"text/html;q=0.1, */*"}, "application/json"},
		{[]string{"*/*, application/json;q=0"}, "text/html"}, // the most specific range counts
		{[]string{"application/*;q=0.2, text/html;q=0.1"}, "application/json"},
		{[]string{`text/html;x="a,application/json", application/json;q=0.5`}, "text/html"}, // quoted strings (5.6.4)
		{[]string{`text/html;x="a\"b;q=0,c";q=0.2, application/json;q=0.1`}, "text/html"},
		{[]string{"text/html;q=0.1, application/json;q=0.5, text/html;q=0.9"}, "text/html"}, // the order never decides
		{[]string{"text/html;q=0.9, application/json;q=0.5, text/html;q=0.1"}, "text/html"},
		{[]string{"text/html;level=1;q=0.9, application/json;q=0.5, text/html;q=0.1"}, "application/json"},
		{[]string{"application/json;charset=utf-8;q=0.9, application/json;v=2;q=0.1, text/html;q=0.5"}, "application/json"},
		{[]string{`text/html;q="0.5`}, ""}, // a string that never ends
		{[]string{"text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8"}, "text/html"},
	} {
		if got := negotiate.MediaType(c.accept, "application/json", "text/html"); got != c.want {
			t.Errorf("%q: %q, want %q", c.accept, got, c.want)
		}
	}
}

func TestParameter(t *testing.T) {
	for _, c := range []struct {
		accept, want string
		ok           bool
	}{
		{"application/json", "", true},
		{"application/json;version=v2", "v2", true},
		{`a/b;Version="v\2"`, "v2", true},
		{"a/b;version=v2;q=0.2, a/c;version=v1;q=0.3", "v1", true},
		{"a/b;version=v2, a/c;version=v1", "v1", true}, // equal: the server's order
		{"*/*, a/b;version=v2", "v2", true},            // and what is named before what is not
		{"*/*, a/b;version=v2;q=0.9", "", true},
		{"a/b;version=v9, */*;q=0.1", "", true},
		{"a/b;version=v9, a/b;version=v8", "v9", false},
		{"a/b;version=v9;q=0", "", true}, // it is not asked for
		{"a/b;version=", `""`, false},
		{`a/b;x="version=v2"`, "", true},
		{"a/b;version=v2;version=v1", "v2", true}, // the first
	} {
		if got, ok := negotiate.Parameter([]string{c.accept}, "version", "v1", "v2"); got != c.want || ok != c.ok {
			t.Errorf("%s: %q %v, want %q %v", c.accept, got, ok, c.want, c.ok)
		}
	}
}

func TestLanguage(t *testing.T) {
	for accept, want := range map[string]string{
		"de": "de", "DE-at": "de", "de-Latn-CH-x-gate": "de", "fr, nl;q=0.5": "nl", "pt": "", "pt-br-x": "pt-BR", "en;q=0.1, de;q=0.2": "de",
		"de;q=0": "", "*": "", "*, nl;q=0.1": "nl", "": "", "de;q=0.5, nl;q=0.5": "de", ",,;q=1": "", "x-de": "", "-": "",
		strings.Repeat("fr,", 40) + "de": "", // nobody speaks so many
	} {
		if got := negotiate.Language([]string{accept}, "en", "de", "nl", "pt-BR"); got != want {
			t.Errorf("%q: %q, want %q", accept, got, want)
		}
	}
}
