package demo

import (
	"io"
	"log/slog"
	"regexp"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/internal/honest"
)

// changing is what no two runs have alike: ids, tokens, moments and readings.
var changing = regexp.MustCompile(`\b1\d{9}\b|"metres":[\d.]+|[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}|eyJ[\w-]+\.[\w-]+\.[\w-]+|"\d{4}-\d\d-\d\dT[\d:.]+Z"`)

// Development shows more, and answers the same; and the facts know all that is answered.
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
	canal, err := Open("", slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer canal.Close()
	apis, err := canal.all()
	if err != nil {
		t.Fatal(err)
	}
	steps, err := canal.allSteps()
	if err != nil {
		t.Fatal(err)
	}
	for i, p := range production {
		checker, err := honest.New(apis[steps[i].on].Describe())
		if err != nil {
			t.Fatal(err)
		}
		method, target := steps[i].request()
		path, _, _ := strings.Cut(target, "?")
		if wrong := checker.Wrong(honest.Answer{Method: method, Path: path, Status: p.status, Header: p.whole, Body: p.body}, true); wrong != "" {
			t.Errorf("%s: %s", steps[i].title, wrong)
		}
		d := development[i]
		is, want := changing.ReplaceAllString(d.plain(), "*"), changing.ReplaceAllString(p.plain(), "*")
		if d.status != p.status || is != want || d.media != p.media {
			t.Errorf("%s: in development %d %s %s\nin production %d %s %s", steps[i].title, d.status, d.media, is, p.status, p.media, want)
		}
	}
}
