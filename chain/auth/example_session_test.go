package auth_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/exchange"
)

type signIn struct {
	Vessel string    `from:"form vessel"`
	PIN    string    `from:"form pin"`
	Back   auth.Back `from:"form back" rule:"default=/"`
}

// Somebody without a session is led to the page where they sign in, and back to where they were going.
func ExampleSessions() {
	sessions := auth.NewSessions(auth.SessionSettings{Secrets: [][]byte{bytes.Repeat([]byte("k"), 32)}, SignIn: "/sign-in"}, auth.Settings{})
	wrong := auth.ErrSessionMissing
	enter := func(ctx context.Context, in signIn) (wicketway.Reply[wicketway.Redirect], error) {
		to := wicketway.Reply[wicketway.Redirect]{Header: http.Header{}, Value: wicketway.Redirect{Path: string(in.Back)}}
		if in.PIN != "4711" { // of the vessel, in earnest
			return to, wrong.New("Plate or PIN is wrong.")
		}
		return to, sessions.Begin(to.Header, exchange.Of(ctx).Request(), in.Vessel)
	}
	api, err := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"}, wicketway.Guard(sessions),
		wicketway.Route("GET /passages", func(ctx context.Context, _ wicketway.None) (string, error) {
			return wicketway.Caller(ctx).Subject, nil
		}),
		wicketway.Route("POST /sign-in", enter, wicketway.Public(), wicketway.Fails(wrong)))
	if err != nil {
		fmt.Println(err)
		return
	}
	request := func(method, path, accept, cookie, body string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(method, path, strings.NewReader(body))
		r.Header = http.Header{"Accept": {accept}, "Cookie": {cookie}, "Content-Type": {"application/x-www-form-urlencoded"}}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		fmt.Println(strings.TrimSpace(fmt.Sprint(w.Code, " ", w.Header().Get("Location"))))
		return w
	}
	request("GET", "/passages?limit=2", "application/json", "", "")
	request("GET", "/passages?limit=2", "text/html", "", "")
	request("POST", "/sign-in", "text/html", "", "vessel=OB-1001&pin=4711&back=//lock.example/")
	w := request("POST", "/sign-in", "text/html", "", "vessel=OB-1001&pin=4711&back=/passages?limit=2")
	cookie, _, _ := strings.Cut(w.Header().Get("Set-Cookie"), ";")
	fmt.Print(request("GET", "/passages?limit=2", "text/html", cookie, "").Body)
	// Output:
	// 401
	// 303 /sign-in?back=%2Fpassages%3Flimit%3D2
	// 400
	// 303 /passages?limit=2
	// 200
	// "OB-1001"
}
