// Three editions of one API: each says only what it changes.
package main

import (
	"context"
	"log"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/requestid"
)

type oneLock struct {
	Lock string `from:"path lock" rule:"enum=bell|heron"`
}

type toll struct {
	Lock  string `json:"lock"`
	Pence int    `json:"pence"`
}

type berth struct {
	Lock   string `json:"lock"`
	Metres int    `json:"metres"`
}

func locks(context.Context, wicketway.None) ([]string, error) { return []string{"bell", "heron"}, nil }

func tolls(_ context.Context, in oneLock) (toll, error) { return toll{in.Lock, 250}, nil }

func tollsByLength(_ context.Context, in oneLock) ([]toll, error) {
	return []toll{{in.Lock, 250}, {in.Lock, 400}}, nil
}

func berths(_ context.Context, in oneLock) ([]berth, error) { return []berth{{in.Lock, 12}}, nil }

func main() {
	api, err := wicketway.Build(
		wicketway.Info{Title: "Editions", Version: "3.0.0"},
		wicketway.Chain(requestid.Assign(), accesslog.To(nil, accesslog.Settings{})),
		wicketway.Version("v1",
			wicketway.Retirement{
				Deprecated: time.Date(2026, time.September, 1, 0, 0, 0, 0, time.UTC),
				Sunset:     time.Date(2027, time.June, 30, 0, 0, 0, 0, time.UTC),
				Ends:       true,
				Successor:  "/v2/locks",
			},
			wicketway.Route("GET /locks", locks),
			wicketway.Route("GET /locks/{lock}/tolls", tolls),
		),
		wicketway.Version("v2",
			wicketway.Inherit("v1"),
			wicketway.Route("GET /locks/{lock}/tolls", tollsByLength, wicketway.Overrides()),
			wicketway.Route("GET /locks/{lock}/berths", berths),
		),
		wicketway.Version("v3",
			wicketway.Inherit("v2"),
			wicketway.Withdraw("GET /locks/{lock}/tolls"),
		),
	)
	if err != nil {
		log.Fatal(err)
	}
	log.Fatal(api.Serve(context.Background(), "127.0.0.1:8080"))
}
