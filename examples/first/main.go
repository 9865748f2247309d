// A first API: one route with a parameter, one that reads a checked body.
package main

import (
	"context"
	"log"
	"net/http"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/requestid"
)

type greet struct {
	Name string `from:"path name" rule:"maxLength=20"`
}

type report struct {
	Lock  string  `json:"lock" rule:"enum=bell|heron"`
	Level float64 `json:"level" rule:"minimum=0 maximum=9.5"`
}

func main() {
	api, err := wicketway.Build(
		wicketway.Info{Title: "First", Version: "1.0.0"},
		wicketway.Chain(requestid.Assign(), accesslog.To(nil, accesslog.Settings{})),
		wicketway.Route("GET /hello/{name}", func(_ context.Context, in greet) (string, error) {
			return "Welcome to the canal, " + in.Name, nil
		}),
		wicketway.Route("POST /levels", func(_ context.Context, in report) (report, error) {
			return in, nil
		}, wicketway.Answers(http.StatusCreated)),
	)
	if err != nil {
		log.Fatal(err)
	}
	log.Fatal(api.Serve(context.Background(), "127.0.0.1:8080"))
}
