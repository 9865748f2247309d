// A program with an http.Server of its own, which says nothing of its API.
package main

import (
	"context"
	"log"
	"net/http"

	"github.com/wicketway/wicketway"
)

func main() {
	api, err := wicketway.Build(wicketway.Info{Title: "Own", Version: "1.0.0"},
		wicketway.Route("GET /locks", func(context.Context, wicketway.None) (string, error) { return "bell", nil }))
	if err != nil {
		log.Fatal(err)
	}
	log.Fatal(http.ListenAndServe("127.0.0.1:0", api))
}
