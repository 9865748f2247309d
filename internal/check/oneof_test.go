package check

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/schema"
)

// What can be planned at a lock: one type is held by value, one by a pointer, and that contains others.
type work interface{ days() int }

type dredging struct {
	Metres int    `json:"metres" rule:"minimum=1"`
	Note   string `json:"note,omitzero"`
	Crew   int    `json:"crew" rule:"default=3"`
}

type term struct {
	Works []schema.OneOf[work, works] `json:"works" rule:"minItems=1"`
}

func (d dredging) days() int { return d.Metres / 10 }
func (s *term) days() int    { return len(s.Works) }

func (d dredging) Check(r *schema.Report) {
	if d.Metres > 100 && d.Crew < 5 {
		r.Fault("/crew", "strength", "must be at least 5 for so long a reach")
	}
}

type works struct{}

func (works) Cases() (string, map[string]work) {
	return "kind", map[string]work{"dredging": dredging{}, "season": &term{}}
}

// A value of a closed set is read by its member, wherever that is, and written with it.
func TestOneOfSeveralTypes(t *testing.T) {
	typ := compiled(t, reflect.TypeFor[schema.OneOf[work, works]]())
	late := func(n int) string {
		return strings.Repeat(`{"works":[`, n) + `{"kind":"dredging","metres":4}` + strings.Repeat(`],"kind":"season"}`, n)
	}
	for _, c := range []struct{ text, want string }{
		{`{"kind":"dredging","metres":4}`, `{"kind":"dredging","metres":4,"crew":3}`},
		{`{"metres":4, "crew" : 9,"kind":"dredging"}`, `{"kind":"dredging","metres":4,"crew":9}`},
		{`{"works":[{"metres":2,"note":"{\"}","kind":"dredging"}],"k\u0069nd":"season"}`, `{"kind":"season","works":[{"kind":"dredging","metres":2,"note":"{\"}","crew":3}]}`},
		{`{"metres":0,"kind":"dredging","more":1}`, `/metres minimum, /more additionalProperties`},
		{`{"metres":200,"kind":"dredging"}`, `/crew strength`},
		{`{"kind":"season","works":[{"kind":"dredging","metres":200},{"kind":"dredging","metres":0},null]}`, `/works/1/metres minimum, /works/2 type, /works/0/crew strength`},
		{`{"kind":"paint","metres":"x"}`, `/kind enum`},
		{`{"metres":4}`, `/kind required`},
		{`{"kind":null,"metres":4}`, `/kind type`},
		{`{"kind":4}`, `/kind type`},
		{`{"kind":"dredging","kind":"season","metres":4}`, `/kind unique`},
		{`null`, ` type`},
		{`[]`, ` type`},
		{`{"kind":"dredging","metres":4`, ` syntax`},
		{`{"kind":"dredg`, `/kind syntax`},
		{`{"kind`, ` syntax`},
		{late(8), `{"kind":"season","works":[`},
		{late(9), ` depth`},
		{late(40), ` depth`},
	} {
		var v schema.OneOf[work, works]
		found, _ := typ.Decode([]byte(c.text), &v, Reading{})
		var places []string
		for _, f := range found {
			places = append(places, f.Pointer+" "+f.Rule)
		}
		got := strings.Join(places, ", ")
		if found == nil {
			text, err := json.Marshal(v)
			got = string(text)
			if sent := typ.Check(text); err != nil || sent != nil {
				t.Errorf("%s is sent as %s: %v, %v", c.text, text, err, sent)
			}
		}
		if got != c.want && !strings.HasPrefix(got, c.want) {
			t.Errorf("%s: %s, wanted %s", c.text, got, c.want)
		}
	}
	var v schema.OneOf[work, works]
	for _, text := range []string{`{"kind":"paint"}`, `{}`, `3`} {
		if err := json.Unmarshal([]byte(text), &v); err == nil || !strings.Contains(err.Error(), "dredging, season") {
			t.Errorf("%s without rules: %v", text, err)
		}
	}
	text := `{"metres":4,"note":"` + strings.Repeat("n", 9000) + `","kind":"dredging"}` // comes in pieces
	if err := json.UnmarshalRead(strings.NewReader(text), &v); err != nil || v.Value.days() != 0 {
		t.Errorf("read in pieces: %v", err)
	}
	if _, err := json.Marshal(schema.One[works, work]((*term)(nil))); err == nil {
		t.Error("a nil pointer was sent")
	}
}

type wrong[I any] struct {
	member string
	types  map[string]I
}

var declared any // what the wrong declaration says

func (wrong[I]) Cases() (string, map[string]I) {
	w := declared.(wrong[I])
	return w.member, w.types
}

type other struct{ A int }

func TestMistakesInClosedSets(t *testing.T) {
	for _, c := range []struct {
		is   any
		want string
	}{
		{wrong[any]{"kind", nil}, "the set has no types"},
		{wrong[any]{"", map[string]any{"a": other{}}}, `"" cannot be the name of the member`},
		{wrong[any]{"kind", map[string]any{"": other{}}}, "a type has the empty name"},
		{wrong[any]{"kind", map[string]any{"a": nil}}, `"a" is nil`},
		{wrong[any]{"kind", map[string]any{"a": 3}}, `"a" is a int: only structs`},
		{wrong[any]{"kind", map[string]any{"a": other{}, "b": &other{}}}, `"a" and "b" are both a check.other`},
		{wrong[any]{"A", map[string]any{"a": other{}}}, `has a member "A" itself`},
		{wrong[any]{"kind", map[string]any{"a": schema.Date{}}}, "only objects are told apart"},
	} {
		declared = c.is
		var s Set
		_, err := s.Type(reflect.TypeFor[schema.OneOf[any, wrong[any]]]())
		if err == nil || !strings.Contains(fmt.Sprint(err), c.want) {
			t.Errorf("%+v: %v, wanted %q", c.is, err, c.want)
		}
	}
}
