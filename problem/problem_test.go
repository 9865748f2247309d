package problem_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/problem"
)

var (
	errCanal  = problem.Define(http.StatusConflict, "canal", "The canal cannot do that now")
	errClosed = errCanal.Define(http.StatusConflict, "lock-closed", "The lock is closed").Means("Another may be open.")
)

func Example() {
	err := fmt.Errorf("booking: %w", errClosed.Newf("Bell Lock reopens on %s.", "4 May").With("reopens", "2027-05-04").Because(errors.New("gate 7 is out")))
	fmt.Println(errors.Is(err, errCanal), err)
	text, _ := problem.In(err).Append(nil, problem.Rendering{Base: "/problems/"})
	fmt.Println(string(text))
	// Output:
	// true booking: lock-closed: Bell Lock reopens on 4 May.: gate 7 is out
	// {"type":"/problems/lock-closed","title":"The lock is closed","status":409,"detail":"Bell Lock reopens on 4 May.","code":"lock-closed","reopens":"2027-05-04"}
}

func TestKinds(t *testing.T) {
	for _, c := range []struct {
		kind *problem.Kind
		want string
	}{
		{errClosed, ""}, {nil, "the kind is nil"}, {problem.Define(399, "a", "A"), "status 399 is not an error"}, {problem.Define(600, "a", "A"), "status 600"},
		{problem.Define(400, "a", ""), "the title is empty"}, {problem.Define(400, "", "A"), "has no code"}, {problem.Define(400, "A", "A"), "lower-case"},
		{problem.Define(599, "a-9", "A"), ""}, {problem.Define(400, "-a", "A"), "lower-case"}, {problem.Define(400, "z{", "A"), "lower-case"},
		{problem.Define(400, "a", "A").Carries("", 1), "it has no name"}, {problem.Define(400, "a", "A").Carries("errors", 1), "standard member"},
		{problem.Define(400, "a", "A").Carries("f", func() {}), `the member "f" cannot be carried`},
	} {
		if err := c.kind.Check(); (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v: %v, want %q", c.kind, err, c.want)
		}
	}
	for status, code := range map[int]string{404: "not-found", 418: "im-a-teapot", 429: "too-many-requests", 500: "internal", 599: "internal", 200: "internal", 413: "body-too-large"} {
		if k := problem.OfStatus(status); k.Code() != code {
			t.Errorf("%d: %s, want %s", status, k.Code(), code)
		}
	}
	if errClosed.Family() != errCanal || errClosed.Meaning() != "Another may be open." || errCanal.Is(errClosed) || !errClosed.Is(errCanal) {
		t.Error("families")
	}
	codes := map[string]bool{}
	for _, k := range problem.BuiltIn() {
		if k.Check() != nil || codes[k.Code()] {
			t.Errorf("the built-in kind %s: %v", k.Code(), k.Check())
		}
		codes[k.Code()] = true
	}
	problem.BuiltIn()[0] = nil
	if problem.BuiltIn()[0] == nil {
		t.Error("the list of kinds is shared")
	}
}

// A kind says which members its problems carry, with those of its family.
func TestDeclaredMembers(t *testing.T) {
	family := problem.Define(409, "a", "A").Carries("lock", "bell")
	kind := family.Define(409, "b", "B").Carries("crew", 4)
	text, _ := kind.Example().Append(nil, problem.Rendering{Base: "/p/"})
	if want := `{"type":"/p/b","title":"B","status":409,"detail":"What happened this time, in a sentence.","code":"b","lock":"bell","crew":4}`; string(text) != want {
		t.Errorf("%s", text)
	}
	for _, c := range []struct {
		p    *problem.Problem
		want string
	}{
		{kind.New("").With("lock", "heron").With("crew", 2), ""}, {problem.NotFound.New("").With("any", 1), ""}, {kind.New(""), ""},
		{kind.New("").With("reef", 1), `does not carry the member "reef"`}, {kind.New("").With("crew", "four"), `is string, and was declared as int`},
	} {
		if err := c.p.CheckMembers(); (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v: %v, want %q", c.p, err, c.want)
		}
	}
}

// What an error becomes, and whether the place is noted: not where callers can bring it
// about at will.
func TestFrom(t *testing.T) {
	cause := errors.New("gate 7")
	for _, c := range []struct {
		err   error
		kind  *problem.Kind
		stack bool
		text  string
	}{
		{cause, problem.Internal, false, "internal: The failure has been recorded.: gate 7"},
		{fmt.Errorf("x: %w", context.DeadlineExceeded), problem.Timeout, false, "took longer than"},
		{errClosed, errClosed, false, "lock-closed: lock-closed: The lock is closed"},
		{errors.Join(cause, errClosed.New("a")), errClosed, false, "lock-closed: a"},
		{problem.Internal.New("x"), problem.Internal, true, "internal: x"},
		{problem.OfStatus(502).New("x"), problem.OfStatus(502), true, "x"},
		{problem.Overloaded.New("x"), problem.Overloaded, false, "x"},
		{problem.NotImplemented.New("x"), problem.NotImplemented, false, "x"},
		{problem.Hidden(errClosed), problem.Internal, false, "lock-closed"},
		{nil, problem.Internal, false, "internal"},
	} {
		p := problem.From(c.err)
		if p.Kind() != c.kind || (len(p.Stack()) > 0) != c.stack || !strings.Contains(p.Error(), c.text) || c.stack && !strings.Contains(string(p.Stack()), "problem_test.go:") {
			t.Errorf("%v: %v, stack %s", c.err, p, p.Stack())
		}
	}
	if n := testing.AllocsPerRun(100, func() { _ = errClosed.New("Until May.") }); n > 1 {
		t.Errorf("making an ordinary problem takes %v allocations", n)
	}
	if problem.In(cause) != nil || problem.In(nil) != nil {
		t.Error("a foreign error holds a problem")
	}
}

func TestMembers(t *testing.T) {
	p := errClosed.New("Closed.").With("day", 3).With("day", 4).With("status", 1).With("c", make(chan int)).Private("gate", 7).
		WithHeader("Allow", "GET").RetryAfter(1500 * time.Millisecond).Because(io.EOF)
	text, lost := p.Append([]byte("x"), problem.Rendering{Base: "https://canal.example/#", Instance: "urn:uuid:1", Debug: jsontext.Value(`{"a":1}`)})
	const want = `x{"type":"https://canal.example/#lock-closed","title":"The lock is closed","status":409,"detail":"Closed.","instance":"urn:uuid:1","code":"lock-closed","day":4,"debug":{"a":1}}`
	if string(text) != want || lost == nil || !strings.Contains(lost.Error(), `member "status"`) || !strings.Contains(lost.Error(), `member "c"`) {
		t.Errorf("%s\n%v", text, lost)
	}
	if day, ok := p.Member("day"); day != 4 || !ok || p.Header().Get("Retry-After") != "2" || p.Header().Get("Allow") != "GET" || len(p.LogAttrs()) != 1 || !errors.Is(p, io.EOF) {
		t.Errorf("%v %v", p, p.Header())
	}
}

// However much is put into a problem, it is valid JSON of at most 64 KiB, and what was
// cut can be seen.
func TestProblemsAreBounded(t *testing.T) {
	long := strings.Repeat("<é\x01\xff", 20_000)
	items := make([]problem.Item, 3000)
	for i := range items {
		items[i] = problem.Item{In: "body", Pointer: &long, Name: long, Rule: "enum", Want: []string{"a", "b"}, Detail: long}
	}
	few := slices.Clone(items[:1])
	for name, c := range map[string]struct {
		p     *problem.Problem
		debug jsontext.Value
		holds []string
		lacks string
	}{
		"a long detail":   {errClosed.New(long), nil, []string{`…"`}, "more"},
		"no characters":   {errClosed.Newf("%s", strings.Repeat("\x80", 90_000)), nil, []string{`…"`}, "more"},
		"many faults":     {errClosed.New("x").WithItems(items...), nil, []string{`"more":true`, `"errors":[{`, "…"}, "debug"},
		"one fault":       {errClosed.New("x").WithItems(few...), nil, []string{`"errors":[{`, "…"}, "more"},
		"more is told":    {errClosed.New("x").With("more", 7).WithItems(items...), nil, []string{`"more":7`}, `"more":true`},
		"a long member":   {errClosed.New("x").With("all", long).With("b", 1), nil, []string{`"b":1`}, "all"},
		"a long debug":    {errClosed.New("x"), jsontext.Value(`"` + strings.Repeat("x", 70_000) + `"`), []string{`"code"`}, "debug"},
		"members fill it": {errClosed.New("x").With("all", strings.Repeat("x", 64_000)).WithItems(few...), nil, []string{`"more":true`, `"all"`}, "errors"},
		"kinds of wants": {errClosed.New("x").WithItems(problem.Item{Rule: "a", Want: 1}, problem.Item{Rule: "b", Want: int64(2)}, problem.Item{Rule: "c", Want: "three"},
			problem.Item{Rule: "d", Want: jsontext.Value("4.0")}, problem.Item{Rule: "e", Want: []int{5}}, problem.Item{Rule: "f"}), nil,
			[]string{`"want":1`, `"want":2`, `"want":"three"`, `"want":4.0`, `"want":[5]`, `"rule":"f","detail":""`}, "more"},
	} {
		text, lost := c.p.Append(nil, problem.Rendering{Base: "/problems/", Debug: c.debug})
		if (lost != nil) != (c.lacks == "all" || c.lacks == "debug" && c.debug != nil) {
			t.Errorf("%s: it says of what is left out: %v", name, lost)
		}
		if len(text) > problem.MaxSize || !jsontext.Value(text).IsValid() || strings.Contains(string(text), c.lacks) {
			t.Errorf("%s: %d bytes, valid %v: %.300s", name, len(text), jsontext.Value(text).IsValid(), text)
		}
		for _, want := range c.holds {
			if !strings.Contains(string(text), want) {
				t.Errorf("%s lacks %s: %.300s", name, want, text)
			}
		}
		if said := c.p.Error(); len(said) > 9<<10 || !strings.HasPrefix(said, "lock-closed: ") {
			t.Errorf("%s: an error of %d bytes", name, len(said))
		}
	}
}

func TestRead(t *testing.T) {
	answer := func(media, body string) *http.Response {
		return &http.Response{Status: "409 Conflict", StatusCode: 409, Header: http.Header{"Content-Type": {media}}, Body: io.NopCloser(strings.NewReader(body))}
	}
	p, err := problem.Read(answer("application/problem+json; charset=utf-8", `{"code":"lock-closed","detail":"x","day":4,"errors":[{"in":"query","name":"n","rule":"minimum","detail":"y"}]}`), errCanal, errClosed)
	if err != nil || !errors.Is(p, errClosed) || len(p.Items()) != 1 || p.Detail() != "x" {
		t.Errorf("%v %v", p, err)
	}
	if day, _ := p.Member("day"); fmt.Sprint(day) != "4" {
		t.Errorf("the member day is %v", day)
	}
	for body, kind := range map[string]string{`{"code":"not-found"}`: "not-found", `{"code":"conflict"}`: "conflict", `{"code":"new","title":"New"}`: "new", `{}`: ""} {
		if p, err := problem.Read(answer(problem.MediaType, body)); err != nil || p.Kind().Code() != kind || kind == "new" && (p.Kind().Status() != 409 || p.Kind().Title() != "New") {
			t.Errorf("%s: %v %v", body, p, err)
		}
	}
	for media, body := range map[string]string{"application/json": "{}", problem.MediaType: "[", "": "{}"} {
		if p, err := problem.Read(answer(media, body)); err == nil {
			t.Errorf("%q %s: %v", media, body, p)
		}
	}
	var item problem.Item
	if err := json.Unmarshal([]byte(`{"in":"body","pointer":"","rule":"type","detail":"x"}`), &item); err != nil || item.Pointer == nil {
		t.Errorf("%+v %v", item, err)
	}
}
