package requestid_test

import (
	"context"
	"fmt"
	"net/http/httptest"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/exchange"
)

func ExampleAssign() {
	api, _ := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"}, wicketway.Chain(requestid.Assign()),
		wicketway.Route("GET /id", func(ctx context.Context, _ wicketway.None) (string, error) { return exchange.Of(ctx).ID(), nil }))
	r := httptest.NewRequest("GET", "/id", nil)
	r.Header.Set(requestid.Header, "mine") // is not taken over
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	id := w.Header().Get(requestid.Header)
	fmt.Println(len(id), w.Body.String() == `"`+id+`"`+"\n")
	// Output: 36 true
}
