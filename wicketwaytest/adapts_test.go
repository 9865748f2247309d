package wicketwaytest_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/adapt"
	"github.com/wicketway/wicketway/wicketwaytest"
)

type gate struct {
	Name  string `json:"name" rule:"minLength=2"`
	Width int    `json:"width"`
	Sides []leaf `json:"sides"`
	State string `json:"state" rule:"enum=open|closed"`
}

type leaf struct {
	Oak  bool `json:"oak"`
	Year int  `json:"year"`
}

// said keeps what a test would have been told.
type said struct {
	testing.TB
	lines []string
}

func (s *said) Helper()                      {}
func (s *said) Errorf(f string, args ...any) { s.lines = append(s.lines, fmt.Sprintf(f, args...)) }
func (s *said) Fatal(args ...any)            { s.lines = append(s.lines, fmt.Sprint(args...)) }

// Adapters, and what is said of them on two gates.
func TestAdaptsCatchesWhatDoesNotComeBack(t *testing.T) {
	half, double := func(n int) int { return n / 2 }, func(n int) (int, error) { return n * 2, nil }
	isOpen, opened := func(s string) bool { return s == "open" }, func(open bool) (string, error) {
		return map[bool]string{true: "open", false: "closed"}[open], nil
	}
	shaped := func(members ...adapt.Member) adapt.Adapter { return adapt.Struct[gate](members...) }
	for name, c := range map[string]struct {
		a    adapt.Adapter
		want string // "": nothing
	}{
		"the same":               {adapt.Same(), ""},
		"renamed and within":     {shaped(adapt.Rename("name", "id"), adapt.In("sides", adapt.Rename("oak", "wood")), adapt.Rename("sides", "leaves")), ""},
		"dropped":                {shaped(adapt.Drop("width"), adapt.In("sides", adapt.Drop("year"))), ""},
		"computed":               {shaped(adapt.Compute("state", "open", isOpen, opened)), ""},
		"losing":                 {shaped(adapt.Compute("width", "half", half, double)), "example 1 comes back as"},
		"losing, and said":       {shaped(adapt.Compute("width", "half", half, double)).Ignore("width"), ""},
		"not the other way":      {shaped(adapt.Compute("width", "half", half, func(n int) (int, error) { return n * 3, nil })).Ignore("width"), "and that of what it becomes is"},
		"refusing its own":       {shaped(adapt.Compute("state", "open", isOpen, func(bool) (string, error) { return "", errors.New("must be known") })), "open: must be known"},
		"one way":                {shaped(adapt.Compute("state", "open", isOpen, nil)), "no function for this way"},
		"against its own rules":  {shaped(adapt.Compute("width", "half", half, double).WithTag(`rule:"maximum=1"`)).Ignore("width"), `breaks a rule of its type: "/half" must be at most 1`},
		"by functions that lose": {adapt.Func(func(g gate) string { return g.Name }, func(n string) (gate, error) { return gate{Name: n}, nil }), `comes back as {"name":"heron"`},
		"of another type":        {adapt.Struct[leaf](adapt.Rename("oak", "wood")), "want wicketwaytest_test.leaf"},
		"wrong itself":           {shaped(adapt.Rename("nam", "id")), `has no member "nam"`},
	} {
		got := &said{TB: t}
		wicketwaytest.Adapts(got, c.a, gate{"heron", 4, []leaf{{true, 1900}}, "open"}, gate{"bell", 5, []leaf{{false, 1901}, {true, 1902}}, "closed"})
		if text := strings.Join(got.lines, "\n"); c.want == "" && text != "" || !strings.Contains(text, c.want) {
			t.Errorf("%s: said is %q, want %q", name, text, c.want)
		}
	}
	got := &said{TB: t}
	if wicketwaytest.Adapts[gate](got, adapt.Same()); len(got.lines) != 1 {
		t.Errorf("without examples: %q", got.lines)
	}
}
