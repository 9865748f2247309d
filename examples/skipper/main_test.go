package main

import (
	"bytes"
	"errors"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/client/generate"
	canal "github.com/wicketway/wicketway/examples/canal/client"
	"github.com/wicketway/wicketway/examples/canal/demo"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/problem"
)

func TestSkipper(t *testing.T) {
	api, err := demo.Open(t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer api.Close()
	server := httptest.NewServer(api.API)
	defer server.Close()
	for _, c := range []struct {
		args string
		want string // of what is printed, or of the error
		is   error
	}{
		{"list", "   1  2027-04-01 06:00  basin    up    crew 1\n  21  ", nil},
		{"book bell up 2027-05-04T09:30:00Z", "  61  2027-05-04 09:30  bell     up    crew 2\n", nil},
		{"book bell up 2027-05-04T09:30:00Z", "try half an hour later", canal.ErrSlotTaken},
		{"book bell sideways 2027-05-04T09:40:00Z", "body /direction must be one of up, down", problem.Invalid},
		{"book bell up 2027-05-04T09:40:00Z", "body /slot must be the start of a half hour", problem.Invalid},
		{"change 61 4", "crew 4\n", nil},
		{"change 61 99", "body /crew must be at most 40", problem.Invalid},
		{"cancel 61", "", nil},
		{"cancel 61", "You have no passage 61", canal.ErrNoSuchPassage},
		{"levels bell 2", " m\n", nil},
		{"levels nowhere 2", "No lock is called", canal.ErrNoSuchLock},
		{"sail", "want list", errUsage},
	} {
		var out bytes.Buffer
		err := skipper{server.URL, store.SamplePlate(0), store.SamplePIN(0), &out}.run(t.Context(), strings.Fields(c.args))
		said := out.String()
		if err != nil {
			said += told(err)
		}
		if !strings.Contains(said, c.want) || !errors.Is(err, c.is) {
			t.Errorf("%s: %q, want %q and %v", c.args, said, c.want, c.is)
		}
	}
	err = skipper{server.URL, store.SamplePlate(0), "0000", &bytes.Buffer{}}.run(t.Context(), []string{"list"})
	if !errors.Is(err, canal.ErrWrongPIN) {
		t.Errorf("a wrong PIN: %v", err)
	}
}

// The client is what the contract of the demo makes it; go run ./cmd/wicketway client ./examples/canal --version v2
// --package canal --out examples/canal/client writes it anew.
func TestTheClientIsUpToDate(t *testing.T) {
	if strconv.IntSize != 64 {
		t.Skip("the contract has other bounds for int")
	}
	api, err := demo.Open(t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer api.Close()
	d, err := api.API.Contract("v2")
	if err != nil {
		t.Fatal(err)
	}
	made, err := generate.Go(d, "canal")
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range made.Files {
		if is, err := os.ReadFile(filepath.Join("../canal/client", name)); err != nil || !bytes.Equal(is, text) {
			t.Errorf("%s is out of date (%v)", name, err)
		}
	}
}
