package main

import (
	"context"
	"fmt"
	"go/format"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/client"
	"github.com/wicketway/wicketway/client/generate"
	"github.com/wicketway/wicketway/contract"
	canal "github.com/wicketway/wicketway/examples/canal/client"
)

// byCalls are a call of a generated client, and the same by hand, to a server on this machine that answers the same bytes.
func byCalls() (ours, theirs func(int), end func()) {
	const body = `{"lock":"bell","name":"Bell Lock","chamber":{"length":38.5,"width":5.2},"state":"open"}`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, body)
	}))
	c, err := canal.New(server.URL, client.Settings{})
	if err != nil {
		panic(err)
	}
	ctx := context.Background()
	ours = func(n int) {
		for range n {
			if got, err := c.LocksFind(ctx, canal.LocksFindInput{Lock: "bell"}); err != nil || got.Name == "" {
				panic(fmt.Sprint(got, err))
			}
		}
	}
	theirs = func(n int) {
		for range n {
			if got, err := lockByHand(ctx, server.URL, "bell"); err != nil || got.Name == "" {
				panic(fmt.Sprint(got, err))
			}
		}
	}
	return ours, theirs, server.Close
}

// lockByHand is a call as a careful engineer writes it.
func lockByHand(ctx context.Context, base, lock string) (out canal.Lock, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, base+"/api/v2/locks/"+url.PathEscape(lock), nil)
	if err != nil {
		return out, err
	}
	r.Header.Set("Accept", "application/json")
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return out, fmt.Errorf("the answer is %s", resp.Status)
	}
	text, err := io.ReadAll(io.LimitReader(resp.Body, 16<<20))
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal(text, &out)
}

func generatedCall(m meter) result {
	ours, theirs, end := byCalls()
	defer end()
	ratio, a, b := m.compare(ours, theirs)
	return holds("", ratio, 1.05, "%.1f µs to %.1f µs", a/1e3, b/1e3)
}

func generatedCallAllocations(meter) result {
	ours, theirs, end := byCalls()
	defer end()
	a, b := allocations(ours), allocations(theirs)
	return holds("", a-b, 2, "%.1f to %.1f", a, b)
}

// iteratedItems reads 10,000 items, and gives by how much the heap grows, in MiB.
func iteratedItems(meter) result {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/x-ndjson")
		line := `{"reading":1796024460,"metres":2.514,"read":"2026-11-30T07:41:00Z","note":"` + strings.Repeat("x", 200) + "\"}\n"
		for range 10_000 {
			io.WriteString(w, line)
		}
	}))
	defer server.Close()
	c, err := canal.New(server.URL, client.Settings{})
	if err != nil {
		panic(err)
	}
	most, before, n := uint64(0), heap(), 0
	for _, err := range c.LocksLevels(context.Background(), canal.LocksLevelsInput{Lock: "bell"}) {
		if err != nil {
			panic(err)
		}
		if n++; n%500 == 0 {
			if now := heap(); now > before {
				most = max(most, now-before)
			}
		}
	}
	return holds("", float64(most)/(1<<20), 1, "%d items, %d KiB", n, most>>10)
}

// writtenClient compares writing a client of 1,000 operations with formatting it.
func writtenClient(m meter) result {
	document, err := contract.Of(build(parts(1_000)).Describe(), "")
	if err != nil {
		panic(err)
	}
	made, err := generate.Go(document, "bench")
	if err != nil {
		panic(err)
	}
	brief := m
	brief.pairs, brief.milliseconds = max(3, m.pairs/6), 1
	ratio, a, b := brief.compare(func(n int) {
		for range n {
			if _, err := generate.Go(document, "bench"); err != nil {
				panic(err)
			}
		}
	}, func(n int) {
		for range n {
			for _, text := range made.Files {
				if _, err := format.Source(text); err != nil {
					panic(err)
				}
			}
		}
	})
	return holds("", ratio, 10, "%v to %v", time.Duration(a).Round(time.Millisecond), time.Duration(b).Round(time.Millisecond))
}
