package html_test

import (
	"context"
	"fmt"
	"html/template"
	"net/http"
	"net/http/httptest"
	"strings"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/format/html"
)

// An API that answers JSON alone has a page of its own for people who follow a dead link.
func ExamplePages_problems() {
	pages := template.Must(template.New("404").Parse("<h1>{{.Title}}</h1><p>{{.Method}} {{.Path}}</p>\n"))
	api, err := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"},
		wicketway.ProblemPages(html.Pages(pages)),
		wicketway.Route("GET /locks", func(context.Context, wicketway.None) ([]string, error) { return []string{"bell"}, nil }))
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, accept := range []string{"text/html", "application/json"} {
		r := httptest.NewRequest("GET", "/lochs", nil)
		r.Header.Set("Accept", accept)
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		fmt.Println(w.Code, w.Header().Get("Content-Type"))
		if accept == "text/html" {
			fmt.Print(w.Body)
		}
	}
	// Output:
	// 404 text/html; charset=utf-8
	// <h1>Nothing is here</h1><p>GET /lochs</p>
	// 404 application/problem+json
}

type signUp struct {
	Vessel string `from:"form vessel" rule:"pattern='^[A-Z]{2}-[0-9]{4}$'" says:"pattern='must be a plate such as OB-1001'"`
	PIN    string `from:"form pin" rule:"minLength=4"`
}

// A form whose input has faults is shown again with them and with what was typed, except the PIN.
func ExamplePages_form() {
	pages := template.Must(template.New("input-invalid").Parse(`<form method="post">
<input name="vessel" value="{{.Values.Get "vessel"}}"> {{range .Faults "vessel"}}{{.}}{{end}}
<input name="pin" value="{{.Values.Get "pin"}}"> {{range .Faults "pin"}}{{.}}{{end}}
</form>
`))
	api, err := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"},
		wicketway.ProblemPages(html.Pages(pages)),
		wicketway.Route("POST /account", func(context.Context, signUp) (wicketway.Redirect, error) {
			return wicketway.Redirect{Path: "/account"}, nil
		}))
	if err != nil {
		fmt.Println(err)
		return
	}
	r := httptest.NewRequest("POST", "/account", strings.NewReader("vessel=%22Grebe%22&pin=12"))
	r.Header = http.Header{"Content-Type": {"application/x-www-form-urlencoded"}, "Accept": {"text/html"}}
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	fmt.Print(w.Code, "\n", w.Body)
	// Output:
	// 422
	// <form method="post">
	// <input name="vessel" value="&#34;Grebe&#34;"> must be a plate such as OB-1001
	// <input name="pin" value=""> must have at least 4 characters
	// </form>
}
