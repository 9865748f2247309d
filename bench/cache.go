package main

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"time"

	"github.com/wicketway/wicketway/chain/cache"
)

// changing fills a cache with n answers, half of them of one path, and gives what changes that path.
func changing(n int) func(int) {
	h := cache.Responses(cache.Settings{Bytes: 1 << 30}).
		Wrap(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Cache-Control", "max-age=3600")
			w.Write([]byte(`"bell"`))
		}))
	p := &page{header: http.Header{}}
	serve := func(r *http.Request) {
		clear(p.header)
		p.body.Reset()
		h.ServeHTTP(p, r)
	}
	start := time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC).Unix()
	for i := range n / 2 {
		serve(httptest.NewRequest("GET", fmt.Sprintf("/readings?from=%d", start+int64(i)), nil))
		serve(httptest.NewRequest("GET", fmt.Sprintf("/readings/%d", i), nil))
	}
	put := httptest.NewRequest("PUT", "/readings", nil)
	return func(n int) {
		for range n {
			serve(put)
		}
	}
}

// changeThroughCache compares a change through a cache of many answers with one of a few.
func changeThroughCache(m meter) result {
	ratio, a, b := m.compare(changing(80_000), changing(10))
	return holds("", ratio, 1.2, "%.0f ns to %.0f ns", a, b)
}
