package demo_test

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/wicketway/wicketway/examples/canal/demo"
)

// Four hundred bookings at once: each slot is had once, and nobody meets a failure of
// the server. A store that is busy says when to come back.
func TestManyBookAtOnce(t *testing.T) {
	canal, err := demo.Open(t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer canal.Close()
	server := httptest.NewServer(canal.API)
	defer server.Close()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 400}}
	var all sync.WaitGroup
	var mu sync.Mutex
	counts := map[int]int{}
	for i := range 400 {
		all.Go(func() {
			slot := fmt.Sprintf("2027-06-%02dT%02d:00:00Z", 1+i%20, i/20%5) // 100 slots, four callers for each
			r, _ := http.NewRequest("POST", server.URL+"/api/v2/passages", strings.NewReader(`{"lock":"bell","direction":"up","slot":"`+slot+`"}`))
			r.Header.Set("Content-Type", "application/json")
			r.Header.Set("Authorization", "Bearer "+canal.Skipper)
			resp, err := client.Do(r)
			if err != nil {
				t.Error(err)
				return
			}
			text, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			mu.Lock()
			defer mu.Unlock()
			counts[resp.StatusCode]++
			if s := resp.StatusCode; s != 201 && s != 409 && (s != 503 || resp.Header.Get("Retry-After") == "") {
				t.Errorf("%s: %d %s", slot, s, text)
			}
		})
	}
	all.Wait()
	if counts[201] > 100 || counts[201]+counts[503] < 100 {
		t.Errorf("%v: each of the 100 slots is had once", counts)
	}
}
