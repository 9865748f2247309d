// A program with an http.Server of its own, which describes its API all the same.
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
	if done, err := api.Described(); done {
		if err != nil {
			log.Fatal(err)
		}
		return
	}
	log.Fatal(http.ListenAndServe("127.0.0.1:0", api))
}
