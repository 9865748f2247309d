package main

import (
	"bytes"
	"context"
	"net"
	"strings"
	"testing"
	"time"
)

// runTool runs the tool for at most so long.
func runTool(limit time.Duration, args ...string) (status int, out, errs string) {
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	var o, e bytes.Buffer
	status = run(ctx, args, &o, &e)
	return status, o.String(), e.String()
}

func TestCommands(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	for _, c := range []struct {
		args   string
		limit  time.Duration // when the tool is interrupted
		status int
		out    string
		errs   string // a piece of it; of its only line where the status is 1
	}{
		{"demo --tour", time.Minute, 0, "29 steps, 29 as expected, 0 not", ""},
		{"demo --listen 127.0.0.1:0", time.Second, 0, "The canal is closed.", ""},
		{"demo --listen " + taken.Addr().String(), time.Minute, 1, "", "address already in use"},
		{"demo --listen 127.0.0.1:0 --data /dev/null/canal", time.Minute, 1, "", "/dev/null/canal"},
		{"demo --lissen x", time.Minute, 2, "", "unknown flag: --lissen"},
		{"demo extra", time.Minute, 2, "", "extra"},
		{"demmo", time.Minute, 2, "", "demmo"},
		{"--help", time.Minute, 0, "demo", ""},
	} {
		status, out, errs := runTool(c.limit, strings.Fields(c.args)...)
		if status != c.status || !strings.Contains(out, c.out) || !strings.Contains(errs, c.errs) || c.status == 1 && strings.Count(errs, "\n") != 1 {
			t.Errorf("wicketway %s: status %d, want %d\n%s\n%s", c.args, status, c.status, out, errs)
		}
	}
}

// What is stored in a folder is there again, with the same secret for tokens.
func TestDemoKeepsItsData(t *testing.T) {
	dir := t.TempDir()
	for range 2 {
		if status, _, errs := runTool(time.Second, "demo", "--listen", "127.0.0.1:0", "--data", dir); status != 0 {
			t.Fatal(errs)
		}
	}
}
