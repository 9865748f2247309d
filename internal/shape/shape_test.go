package shape_test

import (
	"reflect"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/internal/shape"
)

type gate struct {
	Name  string  `json:"name" rule:"minLength=2"`
	Width float64 `json:"width"`
	Oak   bool    `json:"oak"`
	Year  int     `json:"year"`
	inner
	Sides []*inner `json:"sides"`
}

type inner struct {
	Depth int32 `json:"depth"`
	Note  note  `json:"note"`
	Size  size  `json:",embed"`
}

type size struct {
	Tall int `json:"tall"`
}

type note struct {
	Text string `json:"text"`
}

func shaped(t testing.TB) *shape.Adapter {
	a, errs := shape.Derive(reflect.TypeFor[gate](), []shape.Member{
		{New: "name", Old: "id"},
		{New: "note/text", Old: "says"},
		{New: "note"},
		{New: "sides", Old: "sides", Within: []shape.Member{{New: "depth", Old: "deep"}, {New: "note", Old: "note", Within: []shape.Member{{New: "text", Old: "says"}}}}},
	})
	if errs != nil {
		t.Fatal(errs)
	}
	return a
}

// What is at a place of the present value is where the old one has it, or around that.
func TestPlace(t *testing.T) {
	a := shaped(t)
	for now, old := range map[string]string{
		"name": "id", "width": "width", "note/text": "says", "note": "", "depth": "depth", "tall": "tall", "nowhere": "",
		"sides": "sides", "sides/3": "sides/3", "sides/3/depth": "sides/3/deep", "sides/0/note/text": "sides/0/note/says", "sides/0/nowhere": "sides/0",
	} {
		if got := shape.Text(a.Place(strings.Split(now, "/"))); got != old {
			t.Errorf("%s is at %q, want %q", now, got, old)
		}
	}
	if got, _ := shape.Derive(reflect.TypeFor[[]*gate](), []shape.Member{{New: "name", Old: "id"}}); shape.Text(got.Place([]string{"2", "name"})) != "2/id" {
		t.Errorf("of a list: %v", got.Place([]string{"2", "name"}))
	}
}

// Both ways, whatever way a member is copied.
func TestBothWays(t *testing.T) {
	a := shaped(t)
	now := gate{"heron", 4.5, true, 1900, inner{3, note{"wet"}, size{7}}, []*inner{{1, note{"a"}, size{8}}, nil, {2, note{"b"}, size{9}}}}
	old, back := reflect.New(a.Old).Elem(), reflect.New(a.New).Elem()
	var f shape.Faults
	if err := a.ToOld(reflect.ValueOf(&now).Elem(), old); err != nil {
		t.Fatal(err)
	}
	if a.ToNew(old, back, &f); !reflect.DeepEqual(back.Interface(), now) || f.Found != nil {
		t.Errorf("%+v became %+v, and that %+v %v", now, old, back, f.Found)
	}
	if missing := a.Missing(); missing != nil {
		t.Errorf("missing are %v", missing)
	}
}

// What unsafe buys: the same without it, by the fields of both.
func BenchmarkToOld(b *testing.B) {
	type flat struct {
		Name  string  `json:"name"`
		Width float64 `json:"width"`
		Oak   bool    `json:"oak"`
		Year  int     `json:"year"`
	}
	a, _ := shape.Derive(reflect.TypeFor[flat](), []shape.Member{{New: "name", Old: "id"}})
	now, old := reflect.ValueOf(&flat{"heron", 4.5, true, 1900}).Elem(), reflect.New(a.Old).Elem()
	b.Run("direct", func(b *testing.B) {
		for b.Loop() {
			a.ToOld(now, old)
		}
	})
	b.Run("reflection", func(b *testing.B) {
		for b.Loop() {
			for i := range 4 {
				old.Field(i).Set(now.Field(i))
			}
		}
	})
}
