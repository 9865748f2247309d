package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/go-json-experiment/json"
	"github.com/spf13/cobra"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/observe/usage"
)

// runTool runs the tool for at most so long.
func runTool(limit time.Duration, args ...string) (status int, out, errs string) {
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	var o, e bytes.Buffer
	status = run(ctx, args, &o, &e)
	return status, o.String(), e.String()
}

// TestMain keeps what the tool keeps away from the user's own.
func TestMain(m *testing.M) {
	built, err := exec.Command("go", "env", "GOCACHE").Output()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	dir, err := os.MkdirTemp("", "wicketway-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Setenv("GOCACHE", strings.TrimSpace(string(built)))
	for _, name := range []string{"XDG_CACHE_HOME", "LocalAppData"} {
		os.Setenv(name, dir)
	}
	status := m.Run()
	os.RemoveAll(dir)
	os.Exit(status)
}

// On a narrow terminal nothing is lost, and no line is too long, as far as words let it.
func TestNarrowTerminals(t *testing.T) {
	file := filepath.Join(t.TempDir(), "canal.json")
	program := exec.Command("go", "run", "../../examples/canal")
	program.Env = append(os.Environ(), "WICKETWAY_DESCRIBE="+file)
	if said, err := program.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, said)
	}
	text, err := os.ReadFile(file)
	var d facts.API
	if err == nil {
		err = json.Unmarshal(text, &d)
	}
	if err != nil {
		t.Fatal(err)
	}
	letters := func(text string) string {
		all := []rune(strings.Map(func(r rune) rune {
			if unicode.IsSpace(r) {
				return -1
			}
			return r
		}, regexp.MustCompile("\x1b\\[[0-9]*m").ReplaceAllString(text, "")))
		slices.Sort(all) // cells are folded side by side
		return string(all)
	}
	api, err := newDescribed(d)
	if err != nil {
		t.Fatal(err)
	}
	for name, print := range map[string]func(io.Writer){
		"routes":   func(out io.Writer) { printRoutes(out, d.Routes) },
		"problems": func(out io.Writer) { printProblems(out, d.Problems, len(d.Routes)) },
		"problem":  func(out io.Writer) { printProblem(out, d.Problems[0], len(d.Routes)) },
		"explain": func(out io.Writer) {
			api.explain("POST", &url.URL{Path: "/api/v2/passages"}, http.Header{}).print(out)
		},
		"help": func(out io.Writer) { printHelp(out, newRoot()) },
	} {
		var wide bytes.Buffer
		print(&wide)
		for _, columns := range []int{100, 140, 400} {
			var narrow bytes.Buffer
			print(screen{&narrow, true, true, func() int { return columns }})
			if letters(narrow.String()) != letters(wide.String()) {
				t.Errorf("%s in %d columns lacks something:\n%s", name, columns, &narrow)
			}
			for line := range strings.Lines(narrow.String()) {
				if n := len([]rune(regexp.MustCompile("\x1b\\[[0-9]*m").ReplaceAllString(line, ""))) - 1; n > columns {
					t.Errorf("%s in %d columns: a line has %d: %s", name, columns, n, line)
				}
			}
		}
	}
}

// Each command has an example in its help, which is one of that command, and belongs to a group.
func TestHelp(t *testing.T) {
	var below func(c *cobra.Command)
	below = func(c *cobra.Command) {
		for _, c := range c.Commands() {
			path := strings.TrimPrefix(c.CommandPath(), "wicketway ")
			status, out, errs := runTool(time.Minute, append([]string{"help"}, strings.Fields(path)...)...)
			_, example, _ := strings.Cut(out, "\nExample\n  wicketway ")
			words, _, _ := strings.Cut(example, "\n")
			words, _, _ = strings.Cut(words, " > ")
			found, rest, err := c.Root().Find(strings.Fields(words))
			if err == nil {
				err = found.ParseFlags(rest)
			}
			if status != 0 || err != nil || found != c && found.Parent() != c || c.Parent() == c.Root() && c.GroupID == "" {
				t.Errorf("wicketway help %s: %d %v\n%s%s", path, status, err, out, errs)
			}
			below(c)
		}
	}
	root := newRoot()
	below(root)
	_, out, _ := runTool(time.Minute)
	for _, g := range commandGroups {
		if !strings.Contains(out, "\n"+g.Title+"\n  ") {
			t.Errorf("the help lacks %s: %s", g.Title, out)
		}
	}
	for _, shell := range []string{"bash", "fish", "powershell", "zsh"} {
		if status, out, _ := runTool(time.Minute, "completion", shell); status != 0 || !strings.Contains(out, "__complete") {
			t.Errorf("%s: %d %.200s", shell, status, out)
		}
	}
}

func TestCommands(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	for _, c := range []struct {
		args   string
		limit  time.Duration // when the tool is interrupted
		status int
		out    string
		errs   string // a piece of it; of its only line where the status is 1
	}{
		{"demo --tour", time.Minute, 0, " as expected, 0 not", ""},
		{"demo --listen 127.0.0.1:0", time.Second, 0, "The canal is closed.", ""},
		{"demo --listen " + taken.Addr().String(), time.Minute, 1, "", "address already in use"},
		{"demo --listen 127.0.0.1:0 --data /dev/null/canal", time.Minute, 1, "", "/dev/null/canal"},
		{"demo --lissen x", time.Minute, 2, "", "unknown flag --lissen; wicketway demo has --data, --help, --listen, --metrics, --tour"},
		{"demo extra", time.Minute, 2, "", `unexpected argument "extra": wicketway demo`},
		{"demo --listen", time.Minute, 2, "", "the flag --listen=ADDRESS needs a value"},
		{"demo --tour=maybe", time.Minute, 2, "", `"maybe" is not a value for the flag --tour=true`},
		{"demo ---", time.Minute, 2, "", "flags are written --name or --name=value"},
		{"demmo", time.Minute, 2, "", `unknown command "demmo"; known: demo`},
		{"help demmo", time.Minute, 2, "", `unknown command "demmo"`},
		{"help token show", time.Minute, 0, "wicketway token show TOKEN", ""},
		{"schema demo", time.Minute, 2, "", `no command "demo" prints JSON; known: call, compare, contract check, explain`},
		{"completion tcsh", time.Minute, 2, "", "no script for the shell tcsh; known: bash, fish, powershell, zsh"},
		{"watch a b", time.Minute, 2, "", `unexpected argument "b": wicketway watch PACKAGE [-- ARGUMENTS]`},
		{"watch ../../route", time.Minute, 2, "", "../../route is the package route; name a program"},
		{"watch ./nowhere", time.Minute, 2, "", "./nowhere is neither a file nor a Go package"},
		{"--help", time.Minute, 0, "demo", ""},
	} {
		status, out, errs := runTool(c.limit, strings.Fields(c.args)...)
		if status != c.status || !strings.Contains(out, c.out) || !strings.Contains(errs, c.errs) || c.status == 1 && strings.Count(errs, "\n") != 1 {
			t.Errorf("wicketway %s: status %d, want %d\n%s\n%s", c.args, status, c.status, out, errs)
		}
	}
}

// The demo ends where its numbers cannot be served.
func TestDemoNeedsBothAddresses(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	status, out, errs := runTool(time.Minute, "demo", "--listen", "127.0.0.1:0", "--metrics", taken.Addr().String())
	if status != 1 || out != "" || !strings.HasSuffix(errs, "address already in use\n") {
		t.Errorf("%d %s %s", status, out, errs)
	}
}

// What is stored in a folder is there again, with the same secret for tokens.
func TestDemoKeepsItsData(t *testing.T) {
	dir := t.TempDir()
	for range 2 {
		if status, _, errs := runTool(time.Second, "demo", "--listen", "127.0.0.1:0", "--data", dir); status != 0 {
			t.Fatal(errs)
		}
	}
}

// What the commands tell of the demo, piece by piece.
func TestRoutesAndExplain(t *testing.T) {
	file := filepath.Join(t.TempDir(), "canal.json")
	program := exec.Command("go", "run", "../../examples/canal")
	program.Env = append(os.Environ(), "WICKETWAY_DESCRIBE="+file)
	if said, err := program.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, said)
	}
	for _, c := range []struct {
		args   string
		status int
		want   []string // each in this order
	}{
		{"routes ../../examples/canal --version v1 --method get", 0, []string{"v1", "/api/v1/locks ", "locks.list", "everyone",
			"legacy.go:", "adapted\n", "/api/v1/passages", "bearer with passages", "4 routes, 2 open to everyone; requests pass requestid, tracecontext, accesslog, metrics, usage, secure, cors, compress, unpack, cache-control\n"}},
		{"routes --version v3 ../../examples/editions", 0, []string{"/v3/locks ", "as in v2\n", "/v3/locks/{lock}/tolls", "withdrawn\n", "3 routes"}},
		{"explain GET /v2/locks/heron/tolls ../../examples/editions", 0, []string{"main.tollsByLength", "inherited", "in place of v1's", "main.go:", "settings", "Overrides", "of the route", "Chain", "of Build at"}},
		{"explain POST /api/v1/passages FILE", 0, []string{"passages.book", "v1, chosen by path", "adapted", "as legacy.Error", "body /up", "old passages.Passage", "400 refused", "404 no-such-lock"}},
		{"routes FILE --version v2 --requests --address http://127.0.0.1:9", 0, []string{"# GET /api/v2/locks\ncurl -s http://127.0.0.1:9/api/v2/locks\n\n# GET /api/v2/locks/{lock}\ncurl -s http://127.0.0.1:9/api/v2/locks/bell\n",
			"# GET /api/v2/locks/{lock}/plan\ncurl -s http://127.0.0.1:9/api/v2/locks/bell/plan\n", "# DELETE /api/v2/passages/{passage}\ncurl -s -X DELETE http://127.0.0.1:9/api/v2/passages/61 -H \"Authorization: Bearer $WICKETWAY_TOKEN\"\n"}},
		{"routes FILE --path /api/v2/passages/7", 0, []string{"DELETE", "/api/v2/passages/{passage}", "GET", "PATCH", "3 routes"}},
		{"routes FILE --path /api/v2/pass", 0, []string{"5 routes"}},
		{"routes FILE --path /api/v2/locks/bell", 0, []string{"/api/v2/locks/{lock}", "1 route,"}},
		{"routes FILE --path /api/v2/locks --open", 0, []string{"/api/v2/locks ", "/api/v2/locks/{lock} ", "/api/v2/locks/{lock}/levels", "4 routes, 4 open"}},
		{"routes FILE --path /api/v2/nothing", 2, []string{"no route matches /api/v2/nothing, or is below it"}},
		{"routes FILE --method FETCH", 2, []string{"no route has the method FETCH; known: DELETE, GET, PATCH, POST, PUT"}},
		{"routes FILE --version v9", 2, []string{"no route is in version v9; known: v1, v2"}},
		{"routes FILE --method PUT --json", 0, []string{`"version": "v2"`, `"path": "/api/v2/locks/{lock}/state"`, `"locks:operate"`}},
		{"explain POST /api/v2/passages FILE", 0, []string{"passages.book", "GET /api/v2/passages", "different method", "requestid", "compress",
			"(guard bearer)", "bearer with passages", "body /crew", "minimum=1 maximum=40 default=2", "201 Created", "409 slot-taken"}},
		{"explain POST /api/v2/passages FILE --address http://127.0.0.1:9 --wrong", 0, []string{"fails", "to try", `curl -s 'http://127.0.0.1:9/api/v2/passages?notify=none' -H "Authorization: Bearer $WICKETWAY_TOKEN" -H 'Content-Type: application/json' -d '{"lock":"bell",`,
			"wrong", "405", "the method ", "401 token-missing", "no credentials", "403 scope-missing", "415", "422 input-invalid", "the member /crew breaks maximum (40)", `"crew":41`}},
		{"explain POST /api/v2/passages FILE --wrong --json", 0, []string{`"try": "curl -s `, `"wrong": [`, `"status": 401`, `"code": "token-missing"`}},
		{"explain GET /api/v2/locks/bell FILE", 0, []string{"values", `lock = "bell"`, "everyone", "404 no-such-lock"}},
		{"explain GET /api/v2/locks/bell/ FILE", 0, []string{"308 Permanent Redirect", "/api/v2/locks/bell\n", "/api/v2/locks"}},
		{"explain DELETE /api/v2/locks/bell FILE", 0, []string{"405", "allowed", "GET", "in the group", "/api/v2/locks"}},
		{"explain get /api/v2/locks/bell FILE", 0, []string{"405", "did you mean", "GET /api/v2/locks/bell"}},
		{"explain GET /v2/locks/heron/tolls ../../examples/editions", 0, []string{"route", "main.tolls"}},
		{"explain GET /v3/locks/heron/tolls ../../examples/editions", 0, []string{"answer", "410 Gone", "route"}},
		{"explain GET /api/v2/locks/BELL FILE", 0, []string{"refused", "422 input-invalid", "path lock must match the pattern"}},
		{"explain GET /api/v2/passages?limit=0 FILE --json", 0, []string{`"refused": {`, `"status": 422`, `"name": "limit"`, `"rule": "minimum"`}},
		{"explain GET /api/v2/lock/bell FILE", 0, []string{"404", "did you mean", "GET /api/v2/locks/{lock}", "/api/v2", "requestid"}},
		{"explain GET /api/v9/nothing/at/all FILE --json", 0, []string{`"status": 404`, `"group": "/api"`}},
		{"problems FILE", 0, []string{"400", "input-unreadable", "17 routes", "lists every item", "409", "slot-taken", "POST /api/v2/passages", "503", "timeout", "every request"}},
		{"contract FILE", 2, []string{"missing --version; this API has v1, v2"}},
		{"contract FILE --version v9", 2, []string{`version "v9" does not exist; available: v1, v2`}},
		{"contract FILE --version v1 --openapi 2.0", 2, []string{"OpenAPI 2.0 is not written; known: 3.0, 3.1, 3.2"}},
		{"contract FILE --version v2", 0, []string{"{\n  \"openapi\": \"3.1.1\",\n", `"operationId": "passages.book"`, `"#/components/schemas/Problem.slot-taken"`, "}\n",
			"not in OpenAPI: GET /api/v2/locks/{lock}/levels: the items of the stream application/x-ndjson: x-wicketway-item"}},
		{"contract FILE --version v1 --yaml --openapi 3.0", 0, []string{"openapi: 3.0.4\ninfo:\n", "deprecated: true"}},
		{"compare FILE v1 v2", 1, []string{"GET /api/v2/locks\n", "breaking  read  The answer 200 (application/json): the type is array, and was object.\n", `shown by [{"chamber":{`,
			"breaking  read  The answers 410, 415, 503, 504 and default are of the media type application/problem+json instead of application/json.",
			"POST /api/v2/passages\n", "breaking  sent  The body (application/json): the member direction is new, and required.", "18 breaking, ", "(--all lists them)", "18 changes break clients"}},
		{"compare FILE v1 v2 --markdown", 1, []string{"### `GET /api/v2/locks`\n\n", "- **Breaking:** The answer 200", "For example: `[{\"chamber\":", "### New operations\n\n- `GET /api/v2/locks/{lock}/levels`"}},
		{"compare FILE FILE", 0, []string{"Nothing has changed for clients."}},
		{"compare FILE ../../docs/canal.v2.json", 2, []string{"missing --version: a single document is compared with one of several versions"}},
		{"compare FILE ../../docs/canal.v2.json --version v2", 0, []string{"Nothing has changed for clients."}},
		{"compare FILE v1 v9", 2, []string{`has no version "v9"; available: v1, v2`}},
		{"compare ../../examples/first ../../docs/canal.v2.json --all", 1, []string{"GET /api/v2/locks\n", "safe            The operation is new.", "GET /hello/{name}", "The operation is gone.", `shown by {"method":"GET","path":"/hello/{name}"}`}},
		{"compare FILE http://127.0.0.1:1/contract", 1, []string{"connection refused"}},
		{"compare FILE no-such-revision:./x", 1, []string{"git: fatal: invalid reference: no-such-revision"}},
		{"compare FILE", 2, []string{"missing NEW: wicketway compare OLD NEW"}},
		{"compare FILE v1 v2 --json", 1, []string{`"class": "breaking"`, `"operation": "GET /api/v2/locks"`, `"direction": "read"`, `"witness": [`}},
		{"contract check ../../docs/canal.v2.json", 0, []string{"Nothing is wrong with it."}},
		{"contract check testdata/wrong.yaml", 1, []string{"testdata/wrong.yaml:8:7  error  /paths/~1locks~1{lock}/get\n", `add {"name":"lock","in":"path","required":true}`,
			"is not a member of this object: did you mean parameters?", "advice  ", "accepts no value at all", "9 errors, 5 of advice\n", "9 errors"}},
		{"contract check testdata/wrong.yaml --json", 1, []string{`"pointer": "/paths/~1locks~1{lock}/get"`, `"line": 8`, `"column": 7`, `"level": "error"`}},
		{"contract check nowhere.yaml", 2, []string{"nowhere.yaml"}},
		{"contract check main.go", 1, []string{"error"}},
		{"contract start ../../docs/canal.v2.json", 2, []string{"missing --out FOLDER"}},
		{"contract start main.go --out testdata/never", 1, []string{"main.go is not an OpenAPI document:"}},
		{"contract FILE --version v2 --comments", 2, []string{"--comments needs the source"}},
		{"contract ../../examples/canal --version v2 --comments", 0, []string{`"description": "levels sends a reading for each second`, "POST /api/v2/passages: rules across members, which a Check has: x-wicketway-rules",
			"POST /api/v2/tokens: the limit on requests (too-many-requests): x-wicketway-limits"}},
		{"contract ../../examples/first --openapi 3.2", 0, []string{`"openapi": "3.2.0"`, `"operationId": "get-hello-name"`, `"/levels"`}},
		{"problems FILE --json", 0, []string{`"code": "token-missing"`, `"type": "/problems/token-missing"`, `"GET /api/v1/passages"`}},
		{"routes FILE --open --same-as ../../examples/canal/open.txt", 0, []string{"everyone", "21 routes, 21 open to everyone, and 2 of Wicketway's own"}},
		{"routes FILE --open --version v1 --same-as ../../examples/canal/open.txt --json", 1, []string{"{\n", "the routes are not those of", "GET /api/v2/drill is in the file, but not in the API"}},
		{"routes FILE --same-as ../../examples/canal/open.txt", 1, []string{"DELETE /api/v2/passages/{passage} is in the API, but not in the file"}},
		{"routes FILE --open --same-as nowhere.txt", 2, []string{"nowhere.txt"}},
		{"token", 2, []string{"missing command: wicketway token make|show"}},
		{"token make", 2, []string{"missing --subject NAME"}},
		{"token make --subject x", 0, []string{"eyJ", "a random secret: "}},
		{"token make --subject x --expires-in -1s", 2, []string{"is over already"}},
		{"token make --subject x --key nowhere.pem", 2, []string{"nowhere.pem"}},
		{"token make --subject x --key main_test.go --alg RS256", 2, []string{"is not a key for RS256"}},
		{"token make --subject x --alg ES256", 2, []string{"needs a --key"}},
		{"token make --subject x --claims []", 2, []string{"--claims"}},
		{"token show x.y", 1, []string{"expected three parts separated by dots, found 2"}},
		{"token show e30.W10.x", 1, []string{"part 2 of the token is not a JSON object"}},
		{"token show e30.eyJleHAiOjF9.x", 0, []string{"exp", "1970-01-01T00:00:01Z", "ago", "verified", "no: give the --key"}},
		{"token show e30.eyJleHAiOjF9.AA --key ../../go.sum", 1, []string{"verified", "no: The token's signature", "token is not valid"}},
		{"routes ./testdata/own", 0, []string{"/locks", "1 route, 1 open to everyone, and 1 of Wicketway's own"}},
		{"routes ./testdata/silent", 1, []string{"has neither called api.Serve nor described it within 3s", "if done, err := api.Described(); done {"}},
		{"explain GET", 2, []string{"missing PATH: wicketway explain METHOD PATH PACKAGE"}},
		{"explain", 2, []string{"missing METHOD and PATH: wicketway explain"}},
		{"explain /locks FILE", 2, []string{"missing METHOD before /locks"}},
		{"explain GET canal.json", 2, []string{"missing PATH, which begins with a slash, before canal.json"}},
		{"explain GET https://canal.example/locks?x=1 FILE", 2, []string{"write its path alone: /locks?x=1"}},
		{"explain G( /locks FILE", 2, []string{"is not a method"}},
		{"explain GET /%zz FILE", 2, []string{"percent-encoding is wrong"}},
		{"routes FILE FILE", 2, []string{"unexpected argument", "wicketway routes PACKAGE"}},
		{"routes", 1, []string{"ended without describing an API"}}, // the package in this folder is the tool itself
		{"explain GET api FILE", 2, []string{"begins with a slash, before api"}},
		{"routes ../../route", 2, []string{"is the package route"}},
		{"routes ./nowhere", 2, []string{"neither a file nor a Go package"}},
		{"routes main_test.go", 2, []string{"not a description of an API"}},
	} {
		if strconv.IntSize < 64 && strings.Contains(c.args, "FILE ../../docs/canal.v2.json --version") {
			continue // an int has another format here
		}
		status, out, errs := runTool(2*time.Minute, strings.Fields(strings.ReplaceAll(c.args, "FILE", file))...)
		rest := out + errs
		for _, piece := range c.want {
			_, after, ok := strings.Cut(rest, piece)
			if !ok {
				t.Errorf("wicketway %s: wanted %q\n%s%s", c.args, piece, out, errs)
				break
			}
			rest = after
		}
		if status != c.status {
			t.Errorf("wicketway %s: status %d, want %d\n%s", c.args, status, c.status, errs)
		}
		if strings.HasSuffix(c.args, "--json") {
			command := strings.Fields(c.args)[0]
			if command == "contract" {
				command = "contract check"
			}
			holdsToSchema(t, command, out)
		}
	}
}

// Contracts come from addresses, and from revisions of Git, as packages and as files.
func TestCompareFromElsewhere(t *testing.T) {
	server := httptest.NewServer(http.FileServer(http.Dir("../../docs")))
	defer server.Close()
	inGit := exec.Command("git", "cat-file", "-e", "HEAD:./testdata/contracts/canal.yaml").Run() == nil
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{server.URL + "/canal.v2.json", "../../docs/canal.v2.json"}, 0, "Nothing has changed for clients."},
		{[]string{server.URL + "/nothing.json", "../../docs/canal.v2.json"}, 1, "/nothing.json answered 404 Not Found"},
		{[]string{"HEAD:testdata/contracts/canal.yaml", "testdata/contracts/canal.yaml"}, 0, "Nothing has changed for clients."},
		{[]string{"HEAD:../../examples/first", "../../examples/first"}, 0, "Nothing has changed for clients."},
		{[]string{"HEAD:../../examples/nothing", "../../examples/first"}, 1, "nothing"},
	} {
		if !inGit && strings.HasPrefix(c.args[0], "HEAD") {
			continue
		}
		status, out, errs := runTool(2*time.Minute, append([]string{"compare"}, c.args...)...)
		if status != c.status || !strings.Contains(out+errs, c.want) {
			t.Errorf("compare %v: %d, want %d and %s\n%s%s", c.args, status, c.status, c.want, out, errs)
		}
	}
	if trees, err := exec.Command("git", "worktree", "list").Output(); err == nil && strings.Contains(string(trees), "wicketway-") {
		t.Errorf("worktrees are left: %s", trees)
	}
}

// holdsToSchema holds what a command printed against the schema that the tool has for it.
func holdsToSchema(t *testing.T, command, out string) {
	t.Helper()
	status, text, errs := runTool(time.Minute, append([]string{"schema"}, strings.Fields(command)...)...)
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	compiler := jsonschema.NewCompiler()
	if err = errors.Join(err, compiler.AddResource("output.json", document)); status != 0 || err != nil {
		t.Fatalf("schema %s: %d %v\n%s", command, status, err, errs)
	}
	schema, err := compiler.Compile("output.json")
	if err != nil {
		t.Fatal(err)
	}
	printed, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
	if err = errors.Join(err, schema.Validate(printed)); err != nil {
		t.Errorf("%s: %.2000v", command, err)
	}
}

type oldBooking struct {
	Notify string `from:"query notify" rule:"deprecated=2027-03-01"`
	Body   struct {
		Stops []struct {
			Lock string `json:"lock"`
			Wait int    `json:"wait,omitzero" rule:"deprecated"`
		} `json:"stops"`
	} `from:"body"`
}

// What is deprecated in an input is in the facts, in the log, in the counts and in what retire reads of the log.
func retireInputs(t *testing.T) {
	var log bytes.Buffer
	var counts usage.Table
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"},
		wicketway.Chain(accesslog.To(slog.New(slog.NewJSONHandler(&log, nil)), accesslog.Settings{}), counts.Count()),
		wicketway.Route("POST /bookings", func(context.Context, oldBooking) (wicketway.None, error) { return wicketway.None{}, nil }))
	if err != nil {
		t.Fatal(err)
	}
	for query, body := range map[string]string{"?notify=": `{"stops":[{"lock":"bell"},{"lock":"heron","wait":0},{"wait":1,"lock":"mill"}]}`, "": `{"stops":[]}`,
		"?notify=no": `{"stops":[{"lock":"bell","wait":"long"}]}`} {
		r := httptest.NewRequest("POST", "/bookings"+query, strings.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		api.ServeHTTP(httptest.NewRecorder(), r)
	}
	found, err := lastUses(api.Describe(), &log, false)
	want := []string{"query notify 2027-03-01 1", "body /stops/*/wait  1"}
	for i, r := range found.Routes {
		if got := fmt.Sprint(r.Input, " ", r.Since, " ", r.Uses[0].Calls); err != nil || len(found.Routes) != 2 || got != want[i] {
			t.Errorf("deprecated inputs: %s, want %s: %+v %v", got, want[i], found, err)
		}
	}
	var rows []string
	for _, r := range counts.Rows() {
		rows = append(rows, fmt.Sprint(r.Sent, " ", r.Count))
	}
	if got := strings.Join(rows, ", "); got != " 3, body /stops/*/wait 1, query notify 1" {
		t.Errorf("counted: %s", got)
	}
}

// Who still calls what is to go, by logs of every sort.
func TestRetire(t *testing.T) {
	at := "2026-11-20T08:00:0"
	line := func(second, method, route, caller string) string {
		return `{"time":"` + at + second + `Z","level":"INFO","msg":"request","method":"` + method + `","route":"` + route + `","status":200,` + caller + `"remote":"192.0.2.7"}` + "\n"
	}
	grebe := `"caller":"grebe",`
	log := line("1", "GET", "/v1/locks", grebe) + line("3", "HEAD", "/v1/locks", grebe) + line("2", "GET", "/v1/locks", grebe) +
		line("4", "GET", "/v1/locks", "") + line("5", "GET", "/v2/locks", grebe) + line("5", "POST", "/v1/locks", grebe) +
		line("6", "GET", "/v1/locks", `"caller":"\u001b[31m",`) + "no JSON\n" + `{"time":"2026-11-20T08:00:00Z","msg":"listening"}` + "\n" +
		`{"x":"` + strings.Repeat("x", 3<<20) + "\"}\n" + "\n" + strings.TrimSpace(line("7", "GET", "/v1/locks/{lock}/tolls", grebe))
	file := filepath.Join(t.TempDir(), "log")
	if err := os.WriteFile(file, []byte(log), 0o600); err != nil {
		t.Fatal(err)
	}
	other := file + ".other"
	if err := os.WriteFile(other, []byte(line("5", "GET", "/v2/locks", grebe)), 0o600); err != nil {
		t.Fatal(err)
	}
	status, out, errs := runTool(time.Minute, "retire", "../../examples/editions", "--log", file)
	for _, want := range []string{"GET /v1/locks - 2027-06-30 grebe 3 2026-11-20T08:00:03Z ", " 192.0.2.7 1 2026-11-20T08:00:04Z ",
		`\x1b[31m`, "GET /v1/locks/{lock}/tolls - 2027-06-30 grebe 1 ", "2 of 2 routes are used, by 8 records of the log 4 lines are not a record of a request"} {
		if status != 0 || !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("%d: no %q in\n%s%s", status, want, out, errs)
		}
	}
	tell := func(context.Context, wicketway.None) (string, error) { return "", nil }
	api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.VersionBy(wicketway.InHeader("Edition"), ""),
		wicketway.Version("v1", wicketway.Retirement{Deprecated: time.Unix(1, 0)}, wicketway.Route("GET /locks", tell)), wicketway.Version("v2", wicketway.Route("GET /locks", tell)))
	if err != nil {
		t.Fatal(err)
	}
	shared := line("1", "GET", "/locks", `"version":"v2",`) + line("2", "GET", "/locks", "") + line("3", "HEAD", "/locks", `"version":"v1",`)
	if of, err := lastUses(api.Describe(), strings.NewReader(shared), false); err != nil || len(of.Routes) != 1 || len(of.Routes[0].Uses) != 1 || of.Routes[0].Uses[0].Calls != 1 {
		t.Errorf("of versions that share their paths: %+v %v", of, err)
	}
	retireInputs(t)
	for _, c := range []struct {
		args   string
		status int
		want   string
	}{
		{"../../examples/editions --json --log " + file, 0, `"calls": 3`},
		{"../../examples/editions --log /dev/null", 1, "/dev/null has no record of a request (lines read: 0)"},
		{"../../examples/editions --log main_test.go", 1, "retire reads what chain/accesslog writes as JSON"},
		{"../../examples/editions --log " + other, 0, "2027-06-30  nobody  0      -\n"},
		{"../../examples/editions --all --log " + file, 0, "-           grebe      1      2026-11-20T08:00:05Z\n"},
		{"../../examples/first --log /dev/null", 0, "no route of this API is deprecated or has a sunset, and no input is; --all lists"},
		{"../../examples/editions", 2, "missing --log FILE"},
		{"../../examples/editions --log /none", 2, "/none"},
		{"../../examples/editions --log .", 1, ".: "},
	} {
		if status, out, errs := runTool(time.Minute, append([]string{"retire"}, strings.Fields(c.args)...)...); status != c.status || !strings.Contains(out+errs, c.want) {
			t.Errorf("retire %s: %d\n%s%s", c.args, status, out, errs)
		} else if strings.Contains(c.args, "--json") {
			holdsToSchema(t, "retire", out)
		}
	}
}
