package bind

import (
	"io"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/wicketway/wicketway/internal/check"
)

type berth struct {
	Wharf string `json:"wharf" rule:"minLength=1"`
	Crew  *int   `json:"crew" rule:"maximum=40"`
	Quiet bool   `json:"quiet"`
}

func itemsOf(from io.Reader, media string, of *check.Sequence, most int64) *Items {
	h := http.Header{"Content-Type": {media}}
	return &Items{of: of, how: check.Reading{Most: 100}, most: most, from: from, lines: isLines(h), request: &http.Request{}}
}

// A stream takes the arrays that a list takes, however they come, and gives the same items.
func FuzzItems(f *testing.F) {
	var set check.Set
	of, err := set.Sequence(reflect.TypeFor[berth](), `rule:"maxItems=3"`)
	if err != nil {
		f.Fatal(err)
	}
	one := `{"wharf":"a\"]","crew":3,"quiet":false}`
	for _, text := range []string{"[" + one + "]", "[" + one + ", {\"quiet\":true,\"wharf\":\"\\\\\",\"crew\":null}\n]", "[]", " [ ] ", "[,]", "[" + one + ",]",
		"[" + one + one + "]", "[" + one, "[" + one + "] x", "", "{}", "[1]", "[nul]", "[null]", `[{"wharf":"","crew":41,"quiet":false},` + one + "]",
		"[" + one + "," + one + "," + one + "," + one + "]", `[{"wharf":]}]`, `[{"crew":[{]}]`} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var all []berth
		wrong, _ := of.List.Decode(data, &all, check.Reading{})
		fits := wrong == nil && len(all) <= 3
		for _, from := range []io.Reader{strings.NewReader(string(data)), iotest.OneByteReader(strings.NewReader(string(data)))} {
			i := itemsOf(from, "application/json", of, 1<<20)
			var found []berth
			faulty := false
			for {
				var b berth
				more, err := i.Next(&b)
				if err == nil && more {
					found = append(found, b)
				}
				if faulty = faulty || err != nil; !more {
					break
				}
			}
			if faulty == fits || fits && !slices.EqualFunc(found, all, func(a, b berth) bool { return reflect.DeepEqual(a, b) }) {
				t.Fatalf("%q: as a list %+v (%v), item by item %+v (faulty %v)", data, all, wrong, found, faulty)
			}
		}
	})
}

func TestItems(t *testing.T) {
	var set check.Set
	of, _ := set.Sequence(reflect.TypeFor[berth](), "")
	good, bad := `{"wharf":"a","crew":3,"quiet":true}`, `{"wharf":"","crew":3,"quiet":true}`
	long := `{"wharf":"` + strings.Repeat("a", 70_000) + `","crew":3,"quiet":true}`
	const list, each = "application/json", "application/x-ndjson; charset=utf-8"
	for _, c := range []struct{ media, text, want string }{
		{list, "[" + good + "," + bad + "," + good + "]", "item, /1/wharf, item"},
		{list, "[" + good + `,{"wharf":tru},` + good + "]", "item, /1/wharf and over"}, // nobody knows what is behind it
		{list, "[" + good + "," + long + "," + good + "]", "item, too large and over"},
		{list, "[" + good, "item,  and over"},
		{each, good + "\n\r\n " + bad + "\r\n" + good, "item, /1/wharf, item"},
		{each, good + "\n{\"wharf\":tru}\n" + good + "\n", "item, /1/wharf, item"},
		{each, good + "\n" + long + "\n" + good, "item, too large and over"},
		{each, "\n \n", ""},
		{each, good + good, "/0"},
		{"", "", ""},
	} {
		for _, from := range []io.Reader{strings.NewReader(c.text), iotest.OneByteReader(strings.NewReader(c.text))} {
			i := itemsOf(from, c.media, of, 64<<10)
			var got []string
			for {
				more, err := i.Next(new(berth))
				if err == nil && !more {
					break
				}
				seen := "item"
				if err != nil {
					_, place, _ := strings.Cut(err.Error(), `body "`)
					seen, _, _ = strings.Cut(place, `"`)
				}
				if err != nil && strings.Contains(err.Error(), "Item 1 of the body is larger than 65536 bytes") {
					seen = "too large"
				}
				if !more {
					got = append(got, seen+" and over")
					break
				}
				got = append(got, seen)
			}
			if s := strings.Join(got, ", "); s != c.want {
				t.Errorf("%s %.60q: %s, wanted %s", c.media, c.text, s, c.want)
			}
			if err := i.Begin(); err == nil {
				t.Errorf("%.60q: can be gone through again", c.text)
			}
		}
	}
	for _, tag := range []reflect.StructTag{`rule:"uniqueItems"`, `rule:"required"`, `rule:"items.minimum=1"`, `rule:"default=1"`, `rule:"minItems=x"`} {
		if _, err := set.Sequence(reflect.TypeFor[int](), tag); err == nil {
			t.Errorf("%s was taken", tag)
		}
	}
	few, _ := set.Sequence(reflect.TypeFor[int](), `rule:"minItems=2"`)
	i := itemsOf(strings.NewReader("[1]"), list, few, 99)
	_, _ = i.Next(new(int))
	if more, err := i.Next(new(int)); more || err == nil || !strings.Contains(err.Error(), "at least 2 items") {
		t.Errorf("too few: %v, %v", more, err)
	}
}
