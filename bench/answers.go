package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"runtime"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
)

// reading is an item of lists and streams.
type reading struct {
	Lock   string    `json:"lock"`
	Metres float64   `json:"metres"`
	Read   time.Time `json:"read"`
}

var firstReading = time.Date(2027, 5, 4, 9, 30, 0, 0, time.UTC)

func readingAt(i int) reading {
	return reading{"bell", 2.4 + float64(i%100)/1000, firstReading.Add(time.Duration(i) * time.Second)}
}

func hundred() []reading {
	list := make([]reading, 100)
	for i := range list {
		list[i] = readingAt(i)
	}
	return list
}

func answering(part wicketway.Part) http.Handler {
	api, err := wicketway.Build(wicketway.Info{Title: "Bench", Version: "1.0.0"}, part)
	if err != nil {
		panic(err)
	}
	return api
}

// asked calls a handler n times for one path, and holds it to a status.
func asked(h http.Handler, status int, fields ...string) func(int) {
	r := httptest.NewRequest("GET", "/readings", nil)
	r.Body = http.NoBody
	for i := 0; i < len(fields); i += 2 {
		r.Header.Set(fields[i], fields[i+1])
	}
	p := &flushed{page{header: http.Header{}}}
	return func(n int) {
		for range n {
			clear(p.header)
			p.body.Reset()
			p.status = http.StatusOK
			h.ServeHTTP(p, r)
			if p.status != status {
				panic(p.body.String())
			}
		}
	}
}

// flushed is a page that can be sent in pieces.
type flushed struct{ page }

func (f *flushed) Flush() { f.body.Reset() }

func listOfHundred(m meter) result {
	list := hundred()
	ours := answering(
		wicketway.Route("GET /readings", func(context.Context, wicketway.None) ([]reading, error) { return list, nil }),
	)
	theirs := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if err := json.MarshalWrite(w, list); err != nil {
			panic(err)
		}
	})
	ratio, a, b := m.compare(asked(ours, 200), asked(theirs, 200))
	return holds("", ratio, 1.05, "%.1f µs to %.1f µs", a/1000, b/1000)
}

const streamed = 10_000

func readingStream(context.Context, wicketway.None) (wicketway.Stream[reading], error) {
	return func(yield func(reading, error) bool) {
		for i := range streamed {
			if !yield(readingAt(i), nil) {
				return
			}
		}
	}, nil
}

// streamOfTenThousand is held against a loop that flushes at the same points: whenever there are
// 16 KiB.
func streamOfTenThousand(m meter) result {
	ours := answering(wicketway.Route("GET /readings", readingStream))
	theirs := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/x-ndjson")
		flusher := w.(http.Flusher)
		var buffer bytes.Buffer
		for i := range streamed {
			one := readingAt(i)
			if err := json.MarshalWrite(&buffer, &one); err != nil {
				panic(err)
			}
			buffer.WriteByte('\n')
			if buffer.Len() >= 16<<10 {
				w.Write(buffer.Bytes())
				buffer.Reset()
				flusher.Flush()
				if r.Context().Err() != nil {
					return
				}
			}
		}
		w.Write(buffer.Bytes())
	})
	lines := []string{"Accept", "application/x-ndjson"}
	ratio, a, b := m.compare(asked(ours, 200, lines...), asked(theirs, 200, lines...))
	return holds("", ratio, 1.1, "%.1f ms to %.1f ms", a/1e6, b/1e6)
}

// streamHeap is how much the heap grows while a stream goes out, in MiB, after each piece.
func streamHeap(meter) result {
	most, before := uint64(0), heap()
	grown := func() {
		if now := heap(); now > before {
			most = max(most, now-before)
		}
	}
	h := answering(
		wicketway.Route("GET /readings", func(context.Context, wicketway.None) (wicketway.Stream[reading], error) {
			return func(yield func(reading, error) bool) {
				for i := range streamed {
					if i%1000 == 999 {
						grown()
					}
					if !yield(readingAt(i), nil) {
						return
					}
				}
			}, nil
		}),
	)
	asked(h, 200, "Accept", "application/x-ndjson")(1)
	runtime.KeepAlive(h)
	return holds("", float64(most)/(1<<20), 1, "%d KiB", most>>10)
}

// unchangedGet ends in 304 on both sides, which find their route first, by a tag that is made of the
// bytes.
func unchangedGet(m meter) result {
	ours := answering(wicketway.Route("GET /readings", func(context.Context, wicketway.None) (reading, error) {
		return readingAt(0), nil
	}, wicketway.Conditional()))
	theirs := http.NewServeMux()
	theirs.HandleFunc("GET /readings", func(w http.ResponseWriter, r *http.Request) {
		var buffer bytes.Buffer
		one := readingAt(0)
		if err := json.MarshalWrite(&buffer, &one); err != nil {
			panic(err)
		}
		sum := sha256.Sum256(buffer.Bytes())
		tag := `"` + hex.EncodeToString(sum[:12]) + `"`
		w.Header().Set("Etag", tag)
		if r.Header.Get("If-None-Match") == tag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		w.Write(buffer.Bytes())
	})
	tag := func(h http.Handler) string {
		w := httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest("GET", "/readings", nil))
		return w.Header().Get("Etag")
	}
	ratio, a, b := m.compare(
		asked(ours, 304, "If-None-Match", tag(ours)), asked(theirs, 304, "If-None-Match", tag(theirs)),
	)
	return holds("", ratio, 1.05, "%.0f ns to %.0f ns", a, b)
}
