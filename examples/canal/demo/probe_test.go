package demo_test

import (
	"log/slog"
	"testing"

	"github.com/wicketway/wicketway/examples/canal/demo"
	"github.com/wicketway/wicketway/wicketwaytest"
)

func TestProbeFindsNothing(t *testing.T) {
	canal, err := demo.OpenAt(demo.Unlimited, t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer canal.Close()
	wicketwaytest.Probe(t, canal.API, wicketwaytest.Probing{Version: "v2", Tokens: []string{canal.Skipper, canal.Keeper}, Other: canal.Visitor, Draws: 60})
}
