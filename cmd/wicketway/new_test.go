package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

var addition = regexp.MustCompile(`Add before (\S+):(\d+), in .*:\n  (.+)\n\nand import:\n  (".+")\n(?:\nTo try it:\n.*)?`)

// added does by hand what add asks for.
func added(t *testing.T, said string) {
	t.Helper()
	m := addition.FindStringSubmatch(said)
	if m == nil {
		t.Fatalf("add said no place: %s", said)
	}
	text, err := os.ReadFile(m[1])
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(text), "\n")
	at, _ := strconv.Atoi(m[2])
	lines = slices.Insert(lines, at-1, m[3])
	text = []byte(strings.Replace(strings.Join(lines, "\n"), "import (\n", "import (\n\t"+m[4]+"\n", 1))
	if err := os.WriteFile(m[1], text, 0o644); err != nil {
		t.Fatal(err)
	}
}

func goRuns(t *testing.T, args ...string) string {
	t.Helper()
	said, err := exec.Command("go", args...).CombinedOutput()
	if err != nil {
		t.Fatalf("go %s: %v\n%s", strings.Join(args, " "), err, said)
	}
	return string(said)
}

// A program is begun and extended as its programmer would, is well by itself, and answers.
func TestNewAndAdd(t *testing.T) {
	if testing.Short() {
		t.Skip("programs are built")
	}
	for _, store := range []string{"memory", "sqlite"} {
		t.Run(store, func(t *testing.T) {
			t.Chdir(t.TempDir())
			tool := func(args ...string) string {
				t.Helper()
				status, out, errs := runTool(2*time.Minute, args...)
				if status != 0 {
					t.Fatalf("wicketway %v: %s", args, errs)
				}
				return out
			}
			tool("new", "harbour", "--module", "canal.example/harbour", "--part", "berths", "--store", store)
			t.Chdir("harbour")
			added(t, tool("add", "part", "cranes"))
			added(t, tool("add", "middleware", "tides"))
			added(t, tool("add", "version", "v2"))
			added(t, tool("add", "guard", "callers"))
			if unformatted, err := exec.Command("gofmt", "-l", "berths", "cranes", "tides", "callers", "v2", "main_test.go").Output(); err != nil || len(unformatted) > 0 {
				t.Errorf("gofmt: %s %v", unformatted, err)
			}
			goRuns(t, "vet", "./...")
			goRuns(t, "test", "./...")
			goRuns(t, "build", "-o", "program", ".")

			describedOnce(t, tool)

			const secret = "the secret of the harbour: 32 bytes"
			if err := os.WriteFile("secret", []byte(secret), 0o600); err != nil {
				t.Fatal(err)
			}
			token := strings.TrimSpace(tool("token", "make", "--key", "secret", "--issuer", "harbour", "--audience", "harbour", "--subject", "grebe"))
			at := runs(t, exec.Command("./program", "--listen", "127.0.0.1:0"), "CALLERS_SECRET="+secret)
			for _, c := range []struct {
				method, path, body string
				status             int
				want               string
			}{
				{"POST", "api/v1/berths", `{"name":"Heron"}`, 201, `"name":"Heron"`},
				{"POST", "api/v1/berths", `{"name":"Heron"}`, 409, `"code":"berth-name-taken"`},
				{"POST", "api/v1/cranes", `{"name":""}`, 422, `"pointer":"/name"`},
				{"GET", "api/v2/berths?limit=1", "", 200, `"items":[{"id":1,"name":"Heron"`},
				{"GET", "api/v2/berths/9", "", 404, `"code":"no-such-berth"`},
			} {
				status, body := ask(t, c.method, at+c.path, c.body, token)
				if status != c.status || !strings.Contains(body, c.want) {
					t.Errorf("%s %s: %d %s", c.method, c.path, status, body)
				}
			}
			if status, body := ask(t, "GET", at+"api/v1/berths", "", ""); status != 401 || !strings.Contains(body, "token-missing") {
				t.Errorf("without a token: %d %s", status, body)
			}
			for args, want := range map[string]string{
				"add part cranes":                 "cranes.go is there already; nothing was written",
				"add version v2":                  "version v2 is there already, in v2/v2.go",
				"add version two":                 `"two" is not a name for a version: write v2`,
				"add middleware Log":              `"Log" is not a name for a middleware`,
				"add guard ../x":                  `"../x" is not a name for a guard`,
				"add part string":                 "has a meaning in Go",
				"add part stores":                 "choose another",
				"add part":                        "missing NAME",
				"add piece x":                     `unknown command "piece"; known: part, middleware, guard, version`,
				"new .":                           "missing --module PATH",
				"new . --module a/b":              "is not empty",
				"new x --module /a":               "is not a module path",
				"new x --module a.b --store tape": `the store "tape" is not known; known: memory, sqlite`,
			} {
				before := files(t)
				status, _, errs := runTool(time.Minute, strings.Fields(args)...)
				if status != 2 || !strings.Contains(errs, want) || strings.Count(errs, "\n") != 1 || !slices.Equal(before, files(t)) {
					t.Errorf("wicketway %s: status %d, %s", args, status, errs)
				}
			}
		})
	}
}

// describedOnce asks a program several things: it runs once for all of them, as long as nothing changes.
func describedOnce(t *testing.T, tool func(...string) string) {
	t.Helper()
	log := filepath.Join(t.TempDir(), "runs")
	t.Setenv("RUNS", log)
	append := func(name, text string) {
		t.Helper()
		f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		if err == nil {
			_, err = f.WriteString(text)
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	append("runs.go", "package main\n\nimport \"os\"\n\nfunc init() {\n\tf, _ := os.OpenFile(os.Getenv(\"RUNS\"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)\n\tf.WriteString(\"x\")\n}\n")
	for _, step := range []struct {
		does func()
		args string
		want string // of what is printed
		runs int
	}{
		{func() {}, "routes --path /api/v1/berths", "PATCH   /api/v1/berths/{id}  berths.change  bearer ", 1},
		{func() {}, "problems --code berth-name-taken", "POST /api/v2/berths", 1},
		{func() {}, "__complete explain GET /api/v1/b", "/api/v1/berths\tAll berths, page by page\n/api/v1/berths/{id}\tOne berth\n", 1},
		{func() {}, "__complete explain P", "PATCH\nPOST\n", 1},
		{func() {}, "__complete problems --code no-such-c", "no-such-crane\tThere is no such crane\n", 1},
		{func() {}, "__complete routes --version ", "v1\nv2\n", 1},
		{func() { append("berths/berths.go", "// more\n") }, "routes", "berths.list", 2},
		{func() { t.Setenv("OTHER", "1") }, "routes", "berths.list", 3},
		{func() {}, "routes --fresh", "berths.list", 4},
		{func() { append("greeting.txt", "hello") }, "routes", "berths.list", 5},
		{func() {}, "explain GET /api/v1/berths", "berths.list", 5},
	} {
		step.does()
		out := tool(strings.Split(step.args, " ")...)
		ran, err := os.ReadFile(log)
		if err != nil || len(ran) != step.runs || !strings.Contains(out, step.want) {
			t.Errorf("wicketway %s: %d runs, want %d: %s %v", step.args, len(ran), step.runs, out, err)
		}
	}
}

// files are the names of all files here.
func files(t *testing.T) (all []string) {
	t.Helper()
	err := filepath.WalkDir(".", func(path string, _ os.DirEntry, err error) error { all = append(all, path); return err })
	if err != nil {
		t.Fatal(err)
	}
	return slices.DeleteFunc(all, func(name string) bool { return strings.Contains(name, ".db") })
}

var listening = regexp.MustCompile(`"url":"(http://[^"]+)"`)

// runs starts a program until the end of the test, and gives its address, which it logs.
func runs(t *testing.T, program *exec.Cmd, environment ...string) string {
	t.Helper()
	program.Env = append(os.Environ(), environment...)
	log, err := program.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := program.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { program.Process.Kill(); program.Wait() })
	said := bufio.NewScanner(log)
	for said.Scan() {
		if m := listening.FindStringSubmatch(said.Text()); m != nil {
			go io.Copy(io.Discard, log)
			return m[1]
		}
	}
	t.Fatal(fmt.Errorf("it did not listen: %w", said.Err()))
	return ""
}

func ask(t *testing.T, method, url, body, token string) (int, string) {
	t.Helper()
	request, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, string(text)
}

// What contracts are begun with builds, and is as they say.
func TestContractStart(t *testing.T) {
	if testing.Short() {
		t.Skip("programs are built")
	}
	folder, err := os.MkdirTemp("testdata", "started")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	for file, want := range map[string]string{
		"testdata/contracts/canal.yaml": "ok",
		"testdata/contracts/odd.yaml":   "ok",
		"../../docs/canal.v2.json":      `GET /api/v2/passages: The media type text/csv; charset=utf-8; header=present of the answer 200 is gone`,
	} {
		name := strings.Split(filepath.Base(file), ".")[0] + strconv.Itoa(len(want))
		out := filepath.Join(folder, name)
		var said, errs strings.Builder
		if got := run(t.Context(), []string{"contract", "start", file, "--out", out}, &said, &errs); got != 0 || !strings.Contains(said.String(), "wrote "+out) {
			t.Fatalf("%s: %d\n%s%s", file, got, said.String(), errs.String())
		}
		if wrong := goRuns(t, "vet", "./"+out); wrong != "" {
			t.Errorf("%s: %s", file, wrong)
		}
		if tested, _ := exec.Command("go", "test", "./"+out).CombinedOutput(); !strings.Contains(string(tested), want) {
			t.Errorf("%s:\n%s", file, tested)
		}
		if got := run(t.Context(), []string{"contract", "start", file, "--out", out}, &said, &errs); got != 1 || !strings.Contains(errs.String(), "is there already") {
			t.Errorf("%s is written over: %d %s", out, got, errs.String())
		}
	}
}
