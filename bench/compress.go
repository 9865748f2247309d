package main

import (
	"bytes"
	"compress/flate"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/examples/canal/demo"
)

// demoAnswers are real answers of the demo, by path.
func demoAnswers() map[string][]byte {
	canal, err := demo.Open("", slog.New(slog.DiscardHandler))
	if err != nil {
		panic(err)
	}
	defer canal.Close()
	answers := map[string][]byte{}
	for _, path := range []string{"/api/v2/locks", "/api/v2/passages?limit=100", "/api/v2/notices", "/api/v2/locks/bell/levels?back=3600&count=3000", "/problems/slot-taken"} {
		r := httptest.NewRequest("GET", path, nil)
		r.Header.Set("Authorization", "Bearer "+canal.Skipper)
		w := httptest.NewRecorder()
		canal.API.ServeHTTP(w, r)
		answers[path] = w.Body.Bytes()
	}
	return answers
}

// resetter is an encoder of any coding.
type resetter interface {
	io.WriteCloser
	Reset(io.Writer)
}

// printLevels prints how small the demo's answers become, and how long that takes, by coding and
// level: what the levels of chain/compress were chosen by.
func printLevels(out io.Writer) {
	answers := demoAnswers()
	encoders := map[string]func() resetter{}
	names := []string{}
	add := func(name string, make func() resetter) {
		names = append(names, name)
		encoders[name] = make
	}
	for _, level := range []int{1, 5, 6, flate.BestCompression} {
		add(fmt.Sprintf("gzip %d", level), func() resetter { z, _ := gzip.NewWriterLevel(io.Discard, level); return z })
	}
	for _, level := range []int{1, 3, 4, 5, 7} {
		add(fmt.Sprintf("br %d", level), func() resetter {
			return brotli.NewWriterOptions(io.Discard, brotli.WriterOptions{Quality: level, LGWin: 18})
		})
	}
	for _, level := range []zstd.EncoderLevel{zstd.SpeedFastest, zstd.SpeedDefault, zstd.SpeedBetterCompression} {
		add("zstd "+level.String(), func() resetter {
			z, _ := zstd.NewWriter(
				io.Discard, zstd.WithEncoderLevel(level), zstd.WithWindowSize(256<<10), zstd.WithEncoderConcurrency(1),
				zstd.WithLowerEncoderMem(true),
			)
			return z
		})
	}
	for path, text := range answers {
		fmt.Fprintf(out, "%s: %d bytes\n", path, len(text))
		for _, name := range names {
			z := encoders[name]()
			var packed bytes.Buffer
			n := 0
			start := time.Now()
			for ; time.Since(start) < 20*time.Millisecond; n++ {
				packed.Reset()
				z.Reset(&packed)
				z.Write(text)
				z.Close()
			}
			fmt.Fprintf(
				out, "  %-24s %7d bytes %5.1f%%  %8.1f µs\n", name, packed.Len(), 100*float64(packed.Len())/float64(len(text)),
				float64(time.Since(start).Microseconds())/float64(n),
			)
		}
	}
}

// compressed is what the middleware adds over the bare encoder, for 20 KiB of JSON by gzip.
func compressed(m meter) result {
	text := []byte(
		`[` + strings.TrimSuffix(
			strings.Repeat(`{"lock":"bell","metres":2.417,"read":"2027-05-04T09:30:00Z"},`, 330),
			",",
		) + `]`,
	)
	serve := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Write(text)
	})
	ours := compress.Bodies(compress.Settings{Codings: []string{"gzip"}}).Wrap(serve)
	z, err := gzip.NewWriterLevel(io.Discard, 5)
	if err != nil {
		panic(err)
	}
	theirs := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Content-Encoding", "gzip")
		z.Reset(w)
		z.Write(text)
		z.Close()
	})
	ratio, a, b := m.compare(asked(ours, 200, "Accept-Encoding", "gzip"), asked(theirs, 200))
	return holds("", ratio, 1.05, "%.0f µs to %.0f µs", a/1000, b/1000)
}

// openStreams is the memory of a thousand streams that are open at once, in MiB: that of the coding for
// which it is the most.
func openStreams(meter) result {
	most, note := 0.0, ""
	for _, coding := range []string{"gzip", "zstd", "br"} {
		mib := heapOfStreams(coding) / (1 << 20)
		most, note = max(most, mib), note+fmt.Sprintf(" %s %.0f MiB", coding, mib)
	}
	return holds("", most, 100, "%s", note)
}

func heapOfStreams(coding string) float64 {
	const n = 1000
	proceed, opened := make(chan struct{}), make(chan struct{}, n)
	api := answering(wicketway.Group(wicketway.Chain(compress.Bodies(compress.Settings{Codings: []string{coding}})),
		wicketway.Route("GET /readings", func(context.Context, wicketway.None) (wicketway.Stream[reading], error) {
			return func(yield func(reading, error) bool) {
				for i := range 300 { // more than a piece, so that coding has begun
					if !yield(readingAt(i), nil) {
						return
					}
				}
				opened <- struct{}{}
				<-proceed
			}, nil
		})))
	before := heap()
	done := make(chan struct{})
	for range n {
		go func() {
			asked(api, 200, "Accept-Encoding", coding)(1)
			done <- struct{}{}
		}()
	}
	for range n {
		<-opened
	}
	grown := float64(heap() - before)
	close(proceed)
	for range n {
		<-done
	}
	runtime.KeepAlive(api)
	return grown
}
