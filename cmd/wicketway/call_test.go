package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestCallCommand(t *testing.T) {
	canal, address, file := served(t)
	token := file("token", canal.Skipper)
	body := file("body.json", `{"lock":"bell","direction":"up","slot":"2027-05-06T09:30:00Z"}`)
	t.Setenv("WICKETWAY_TOKEN", "")
	for _, c := range []struct {
		args   string
		in     string
		status int
		want   []string
	}{
		{"", "", 0, []string{"passages.book", "POST /api/v2/passages", "direction* lock*", "Book a passage", "notices.find"}},
		{"--json", "", 0, []string{`"name": "locks.levels"`, `"lock*"`, `"open": true`}},
		{"--version v1", "", 0, []string{"locks.find", "/api/v1/locks/{lock}"}},
		{"--version v9", "", 1, []string{"has no version v9; available: v1, v2"}},
		{"locks.find lock=bell", "", 0, []string{"200 OK", "Content-Type: application/json\n", "  \"length\": 38.5,\n"}},
		{"GET /api/v2/locks/bell", "", 0, []string{"\"lock\": \"bell\""}},
		{"GET /api/v2/locks/bell/levels?count=1", "", 0, []string{`"reading": `}},
		{"GET /api/v2/weirs", "", 2, []string{"no operation GET /api/v2/weirs"}},
		{"locks.levels lock=bell count=1 --accept events", "", 0, []string{"Content-Type: text/event-stream", "event: level\n", "data: {"}},
		{"passages.book lock=bell direction=sideways crew=many TOKEN", "", 1, []string{"direction: value must be one of 'up', 'down'", "crew: got string, want integer", "nothing was sent: passages.book"}},
		{"passages.book direction=sideways TOKEN --json", "", 1, []string{`"faults": [`, `"pointer": "/direction"`}},
		{"passages.book lock=bell direction=sideways slot=2027-05-04T09:30:00Z --unchecked TOKEN", "", 1, []string{"422 Unprocessable Entity", `"pointer": "/direction"`}},
		{"passages.book lock=bell direction=up slot=2027-05-04T09:30:00Z crew=3 TOKEN", "", 0, []string{"201 Created", "Location: /api/v2/passages/61", `"crew": 3`}},
		{"passages.book lock=bell direction=up slot=2027-05-04T09:30:00Z TOKEN", "", 1, []string{"409 Conflict", `"code": "slot-taken"`, "was answered 409"}},
		{"passages.book - TOKEN", `{"lock":"bell","direction":"up","slot":"2027-05-05T09:30:00Z"}`, 0, []string{"/api/v2/passages/62"}},
		{"passages.book body=@" + body + " TOKEN", "", 0, []string{"/api/v2/passages/63"}},
		{"passages.change passage=61 crew=4 remark=null TOKEN --json", "", 0, []string{`"status": 200`, `"crew": 4`}},
		{"passages.change passage=61 crew=4 remark=null --curl TOKEN", "", 0, []string{`curl -s -X PATCH ` + address + `/api/v2/passages/61 -H "Authorization: Bearer $WICKETWAY_TOKEN" -H 'Content-Type: application/merge-patch+json' -d '{"crew":4,"remark":null}'`}},
		{"passages.find passage=61 -H If-Match:\"x\" TOKEN", "", 1, []string{"412 Precondition Failed"}},
		{"passages.list limit=1 --accept csv TOKEN", "", 0, []string{"Content-Type: text/csv", "Link: <?after=", "1,basin,OB-1001"}},
		{"passages.list", "", 1, []string{"401 Unauthorized", "token-missing"}},
		{"notices.latest", "", 0, []string{"303 See Other", "Location: /api/v2/notices/high-water"}},
		{"tokens.signIn vessel=OB-1001 pin=2200", "", 0, []string{"201 Created", `"token_type": "Bearer"`}},
		{"passages.lits", "", 2, []string{"did you mean passages.list?"}},
		{"locks.find bell", "", 2, []string{`"bell" is not name=value; known: lock`}},
		{"locks.find lock=bell lock=heron", "", 2, []string{"lock is given 2 times"}},
		{"locks.find lock=@/nowhere", "", 2, []string{"/nowhere"}},
		{"locks.find lock=bell -H nonsense", "", 2, []string{"is not a header field"}},
		{"locks.find lock=bell --at http://127.0.0.1:1", "", 1, []string{"nothing listens at http://127.0.0.1:1: start it"}},
		{"__complete passages.b", "", 0, []string{"passages.book\tBook a passage"}},
		{"__complete passages.book dir", "", 0, []string{"direction="}},
		{"__complete passages.book direction=", "", 0, []string{"direction=up", "direction=down"}},
	} {
		args := []string{"call", "--at", address}
		if rest, complete := strings.CutPrefix(c.args, "__complete "); complete {
			args, c.args = append([]string{"__complete"}, args...), rest
		}
		args = append(args, strings.Fields(strings.Replace(c.args, "TOKEN", "--token-file "+token, 1))...)
		root := newRoot()
		var out, errs bytes.Buffer
		root.SetIn(strings.NewReader(c.in))
		status := runRoot(t.Context(), root, args, &out, &errs)
		said := out.String() + errs.String()
		if status != c.status {
			t.Errorf("%s: exit status %d, want %d\n%s", c.args, status, c.status, said)
		}
		for _, want := range c.want {
			if !strings.Contains(said, want) {
				t.Errorf("%s: %q is not in\n%s", c.args, want, said)
			}
		}
		if strings.Contains(said, canal.Skipper) {
			t.Errorf("%s: the token is shown", c.args)
		}
	}
}

// A client is written of a package, and --check says when it is out of date.
func TestClientCommand(t *testing.T) {
	if testing.Short() {
		t.Skip("a program is built")
	}
	dir := filepath.Join(t.TempDir(), "canal")
	const canal = "../../examples/canal"
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{canal, "--version", "v2", "--out", dir, "--check"}, 1, "out of date: "},
		{[]string{canal, "--version", "v2", "--out", dir}, 0, "wrote " + filepath.Join(dir, "client.go")},
		{[]string{canal, "--version", "v2", "--out", dir, "--check"}, 0, ""},
		{[]string{canal, "--version", "v2", "--out", dir, "--package", "other", "--check"}, 1, "out of date: "},
		{[]string{canal, "--version", "v1", "--out", dir, "--module", "canal.example/client"}, 0, "go.mod"},
		{[]string{canal, "--version", "v2", "--js", filepath.Join(dir, "canal.mjs")}, 0, "canal.mjs"},
		{[]string{canal, "--version", "v2", "--js", filepath.Join(dir, "canal.mjs"), "--check"}, 0, ""},
		{[]string{canal, "--out", dir}, 2, "choose one by --version (v1, v2)"},
		{[]string{canal}, 2, "--out FOLDER is missing"},
		{[]string{"testdata/wrong.yaml", "--out", dir + "2"}, 0, "not as the contract has it: /paths/~1locks~1{lock}/get: "},
		{[]string{"call_test.go", "--out", dir}, 1, "call_test.go"},
	} {
		status, out, errs := runTool(2*time.Minute, append([]string{"client"}, c.args...)...)
		if status != c.status || !strings.Contains(out+errs, c.want) {
			t.Errorf("client %v: exit status %d, want %d and %q\n%s%s", c.args, status, c.status, c.want, out, errs)
		}
	}
	if text, err := os.ReadFile(filepath.Join(dir, "go.mod")); err != nil || !strings.HasPrefix(string(text), "module canal.example/client\n\ngo 1.26\n") {
		t.Errorf("%s %v", text, err)
	}
	if said, err := exec.Command("gofmt", "-l", dir).Output(); err != nil || len(said) > 0 {
		t.Errorf("gofmt: %s %v", said, err)
	}
}

// Pages are written of a document of anybody's.
func TestHandbookCommand(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "pages")
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"../../docs/canal.v2.json", "--out", dir, "--address", "https://canal.example"}, 0, "wrote 21 files into " + dir + ": begin with index.html"},
		{[]string{"../../docs/canal.v2.json"}, 2, "--out FOLDER is missing"},
		{[]string{"call_test.go", "--out", dir}, 1, "call_test.go"},
	} {
		status, out, errs := runTool(time.Minute, append([]string{"handbook"}, c.args...)...)
		if status != c.status || !strings.Contains(out+errs, c.want) {
			t.Errorf("handbook %v: exit status %d, want %d and %q\n%s%s", c.args, status, c.status, c.want, out, errs)
		}
	}
	text, err := os.ReadFile(filepath.Join(dir, "api", "passages.book.html"))
	if err != nil || !strings.Contains(string(text), `href="../assets/style.css"`) || !strings.Contains(string(text), "curl -s &#39;https://canal.example/api/v2/passages") {
		t.Errorf("%v\n%s", err, text)
	}
}
