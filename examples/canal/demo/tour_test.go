package demo

import (
	"io"
	"regexp"
	"testing"
)

// changing is what no two runs have alike: ids, tokens, moments and readings.
var changing = regexp.MustCompile(`\b1\d{9}\b|"metres":[\d.]+|[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}|eyJ[\w-]+\.[\w-]+\.[\w-]+|"\d{4}-\d\d-\d\dT[\d:.]+Z"`)

// Development shows more, and answers the same.
func TestTourInBothModes(t *testing.T) {
	production, err := walk(t.Context(), io.Discard)
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("WICKETWAY_DEVELOPMENT", "1")
	development, err := walk(t.Context(), io.Discard)
	if err != nil {
		t.Fatal(err)
	}
	if len(production) != len(steps) || len(development) != len(steps) {
		t.Fatalf("%d and %d answers to %d steps", len(production), len(development), len(steps))
	}
	for i, p := range production {
		d := development[i]
		is, want := changing.ReplaceAllString(d.plain(), "*"), changing.ReplaceAllString(p.plain(), "*")
		if d.status != p.status || is != want || d.media != p.media {
			t.Errorf("%s: in development %d %s %s\nin production %d %s %s", steps[i].title, d.status, d.media, is, p.status, p.media, want)
		}
	}
}
