package quiet_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/quiet"
	"github.com/wicketway/wicketway/wicketwaytest"
)

func work(context.Context, wicketway.None) (string, error) { return "open", nil }

func look(context.Context, wicketway.None) (string, error) { return "closed", nil }

func build(parts ...wicketway.Part) (*wicketway.API, error) {
	return wicketway.Build(wicketway.Info{Title: "Quiet", Version: "1.0.0"}, parts...)
}

func at(hour int) func() time.Time {
	return func() time.Time { return time.Date(2027, 5, 4, hour, 30, 0, 0, time.UTC) }
}

func TestHours(t *testing.T) {
	wicketwaytest.Middleware(t, quiet.Keep(at(12)))
	for hour, rests := range map[int]bool{5: true, 6: false, 12: false, 21: false, 22: true} {
		api, err := build(
			wicketway.Chain(quiet.Keep(at(hour))),
			wicketway.Route("POST /locks", work, quiet.Hours(22, 6)),
			wicketway.Route("GET /locks", look),
		)
		if err != nil {
			t.Fatal(err)
		}
		if _, p := wicketwaytest.Call(t, api, work, wicketway.None{}); errors.Is(p, quiet.ErrQuietHours) != rests {
			t.Errorf("at %d: %v", hour, p)
		}
		if _, p := wicketwaytest.Call(t, api, look, wicketway.None{}); p != nil {
			t.Errorf("reading at %d: %v", hour, p)
		}
	}
	wicketwaytest.Middleware(t, quiet.Keep(at(12)))
}

// Every wrong use is a mistake with its place, one for each place.
func TestWrongUse(t *testing.T) {
	keep := wicketway.Chain(quiet.Keep(at(12)))
	_, err := build(
		wicketway.Route("POST /nobody", work, quiet.Hours(22, 6)),
		wicketway.Group(keep, quiet.Hours(22, 25), wicketway.Route("POST /a", work)),
		wicketway.Group(keep, wicketway.Route("GET /b", look, quiet.Hours(22, 6))),
		wicketway.Group(keep, quiet.Hours(22, 6), wicketway.Route("POST /c", work, wicketway.Undo(quiet.Hours(0, 0)))),
		wicketway.Route("POST /d", work, wicketway.Undo(quiet.Hours(0, 0))),
	)
	mistakes, _ := errors.AsType[wicketway.Mistakes](err)
	wants := []string{
		"no middleware in the chain and no guard here reads a quiet.hours",
		"POST /a: from 22 to 25 are no hours of rest",
		"GET /b: reading disturbs nobody",
		"inner settings overrule it for every route",
		"no group around it has such a setting",
	}
	if len(mistakes) != len(wants) {
		t.Fatalf("%d mistakes, want %d:\n%v", len(mistakes), len(wants), err)
	}
	for i, m := range mistakes {
		if !strings.HasSuffix(m.File, "quiet_test.go") || i > 0 && m.Line != mistakes[i-1].Line+1 || !strings.Contains(m.Text, wants[i]) {
			t.Errorf("%v: wanted a line with %q", m, wants[i])
		}
	}
}
