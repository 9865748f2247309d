package trail_test

import (
	"context"
	"fmt"
	"log"
	"net/http/httptest"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/observe/trail"
	"github.com/wicketway/wicketway/problem"
)

func Example() {
	type oneLock struct {
		Lock string `from:"path lock"`
	}
	find := func(_ context.Context, in oneLock) (string, error) {
		return "", problem.NotFound.Newf("No lock is called %q.", in.Lock)
	}
	var trails trail.Trails
	api, err := wicketway.Build(wicketway.Info{Title: "Locks", Version: "1.0.0"},
		wicketway.Development(),
		trails.Parts("/trails"),
		wicketway.Chain(requestid.Assign()),
		wicketway.Route("GET /locks/{lock}", find),
	)
	if err != nil {
		log.Fatal(err)
	}
	api.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/locks/nowhere", nil))

	found, _ := trails.Find("1")
	fmt.Println(found.Method, found.Target, found.Status, found.Code, found.Input)
	for _, e := range found.Events {
		fmt.Printf("%d %s %q\n", e.Depth, e.Kind, e.Name+e.Text+e.Error)
	}
	// Output:
	// GET /locks/nowhere 404 not-found {"Lock":"nowhere"}
	// 0 middleware "requestid"
	// 1 read ""
	// 1 call "not-found: No lock is called \"nowhere\"."
	// 1 fail "404 not-found"
}
