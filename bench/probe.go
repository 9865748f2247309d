package main

import (
	"context"
	"log/slog"
	"os"
	"time"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/examples/canal/demo"
	"github.com/wicketway/wicketway/internal/probe"
)

// probeDemo drives the demo in process, and gives milliseconds for each request.
func probeDemo(m meter) result {
	dir, err := os.MkdirTemp("", "bench-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	canal, err := demo.OpenAt(demo.Unlimited, dir, slog.New(slog.DiscardHandler))
	if err != nil {
		panic(err)
	}
	defer canal.Close()
	d, err := canal.API.Contract("v2")
	if err != nil {
		panic(err)
	}
	begun := time.Now()
	report, err := probe.Run(context.Background(), probe.Settings{
		Document: d, Send: probe.Handler(canal.API), Draws: 20 * m.pairs, Tokens: []string{canal.Skipper, canal.Keeper}, Other: canal.Visitor,
	})
	if err != nil {
		panic(err)
	}
	each := time.Since(begun).Seconds() * 1000 / float64(report.Sent)
	return holds("", each, 0.5, "%d requests, %.0f a second, %d findings", report.Sent, 1000/each, len(report.Findings))
}

// readyRequests makes a good request for each of 1,000 routes, and gives seconds.
func readyRequests(meter) result {
	document, err := contract.Of(build(parts(1_000)).Describe(), "")
	if err != nil {
		panic(err)
	}
	begun, made := time.Now(), 0
	maker := requests.Of(document)
	for path, item := range document.Paths.All() {
		for method := range item.Operations() {
			if _, err := maker.Good(method, path); err != nil {
				panic(err)
			}
			made++
		}
	}
	return holds("", time.Since(begun).Seconds(), 1, "%d requests", made)
}
