package schema_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"strings"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/schema"
)

// Work is what can be planned at a lock: dredging or a repair.
type Work interface{ Plan() string }

type Dredging struct {
	Metres int `json:"metres" rule:"minimum=1"`
}

type Repair struct {
	Gate string `json:"gate" rule:"enum=upper|lower"`
}

func (d Dredging) Plan() string { return fmt.Sprint("dredge ", d.Metres, " m") }
func (r Repair) Plan() string   { return "repair the " + r.Gate + " gate" }

type works struct{}

func (works) Cases() (string, map[string]Work) {
	return "kind", map[string]Work{"dredging": Dredging{}, "repair": Repair{}}
}

type AnyWork = schema.OneOf[Work, works]

func ExampleOneOf() {
	plan := func(_ context.Context, work AnyWork) (AnyWork, error) {
		fmt.Println(work.Value.Plan())
		return work, nil
	}
	api, err := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"}, wicketway.Route("POST /works", plan))
	if err != nil {
		fmt.Println(err)
	}
	for _, body := range []string{`{"gate":"upper","kind":"repair"}`, `{"kind":"dredging","metres":0}`, `{"kind":"paint"}`} {
		r := httptest.NewRequest("POST", "/works", strings.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		answer := w.Body.String()
		fmt.Println(w.Code, strings.TrimSpace(answer[max(0, strings.Index(answer, `"errors"`)):]))
	}
	// Output:
	// repair the upper gate
	// 200 {"kind":"repair","gate":"upper"}
	// 422 "errors":[{"in":"body","pointer":"/metres","rule":"minimum","want":1,"detail":"must be at least 1"}]}
	// 422 "errors":[{"in":"body","pointer":"/kind","rule":"enum","want":["dredging","repair"],"detail":"must be one of dredging, repair"}]}
}
