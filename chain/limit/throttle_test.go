package limit_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/limit"
	"github.com/wicketway/wicketway/problem"
)

// Wrong credentials are bounded by account and by address, however they come; good ones do not count.
func TestThrottle(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var throttle limit.Throttle
		called := 0
		try := func(ctx context.Context, account string, good bool, wrong error) error {
			is, err := throttle.Try(ctx, account, func() (bool, error) { called++; return good, wrong })
			if err == nil && is != good {
				t.Errorf("%s: %t, want %t", account, is, good)
			}
			return err
		}
		tries := func(ctx context.Context, n int, account func(i int) string, good bool) (passed int) {
			for i := range n {
				if err := try(ctx, account(i), good, nil); err == nil {
					passed++
				} else if p := problem.In(err); p == nil || p.Kind() != limit.ErrTooManyAttempts || p.Header().Get("Retry-After") == "" || p.Detail() != "Wait before you try again." {
					t.Errorf("%v", err)
				}
			}
			return passed
		}
		one := func(name string) func(int) string { return func(int) string { return name } }
		if n := tries(t.Context(), 30, one("good"), true); n != 30 {
			t.Errorf("%d of 30 good attempts pass", n)
		}
		if n := tries(t.Context(), 20, one("grebe"), false); n != 5 {
			t.Errorf("%d wrong attempts pass", n)
		}
		before := called
		if n := tries(t.Context(), 1, one("grebe"), true); n != 0 || called != before {
			t.Error("a good attempt is tried though too many were wrong")
		}
		if n := tries(t.Context(), 20, one("nobody"), false); n != 5 {
			t.Errorf("%d wrong attempts pass for an account that does not exist", n)
		}
		for range 20 {
			if err := try(t.Context(), "failing", false, io.ErrUnexpectedEOF); !errors.Is(err, io.ErrUnexpectedEOF) {
				t.Errorf("an error of the attempt: %v", err)
			}
		}
		time.Sleep(12 * time.Second) // one of five a minute comes back
		if n := tries(t.Context(), 5, one("grebe"), false); n != 1 {
			t.Errorf("%d pass after 12 s", n)
		}
		// By address, in an API.
		var passed atomic.Int64
		api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Route("POST /{name}", func(ctx context.Context, in struct {
			Name string `from:"path name"`
		}) (wicketway.None, error) {
			_, err := throttle.Try(ctx, in.Name, func() (bool, error) { time.Sleep(time.Second); passed.Add(1); return false, nil })
			return wicketway.None{}, err
		}, wicketway.Fails(limit.ErrTooManyAttempts)))
		if err != nil {
			t.Fatal(err)
		}
		post := func(path, from string) int {
			r, w := httptest.NewRequest("POST", path, nil), httptest.NewRecorder()
			r.RemoteAddr = from
			api.ServeHTTP(w, r)
			return w.Code
		}
		var all sync.WaitGroup
		for range 100 { // at once
			all.Go(func() { post("/heron", "[2001:db8::1]:1") })
		}
		if all.Wait(); passed.Load() != 5 {
			t.Errorf("%d of 100 at once pass", passed.Load())
		}
		passed.Store(0)
		for i := range 100 { // each of another account, from one network
			all.Go(func() { post(fmt.Sprint("/vessel", i), fmt.Sprintf("[2001:db8::%x]:1", i+1)) })
		}
		if all.Wait(); passed.Load() != 45 { // 5 were wrong before
			t.Errorf("%d of 100 accounts pass from one address", passed.Load())
		}
		if code := post("/other", "192.0.2.1:1"); code != http.StatusNoContent {
			t.Errorf("from another address: %d", code)
		}
		broken := limit.Throttle{Store: wet{}}
		if _, err := broken.Try(t.Context(), "grebe", func() (bool, error) { return true, nil }); !errors.Is(err, problem.Overloaded) {
			t.Errorf("a store that fails: %v", err)
		}
		until := make(chan struct{})
		hanging := limit.Throttle{Store: deaf{until: until}}
		if _, err := hanging.Try(t.Context(), "grebe", func() (bool, error) { return true, nil }); !errors.Is(err, problem.Overloaded) {
			t.Errorf("a store that hangs: %v", err)
		}
		close(until)
	})
}

// Deaf is a store that does not heed its context.
type deaf struct {
	wet
	until chan struct{}
}

func (d deaf) Take(context.Context, string, limit.Rate) (limit.Decision, error) {
	<-d.until
	return limit.Decision{Allowed: true}, nil
}

// Wet is a store that fails.
type wet struct{}

func (wet) Take(context.Context, string, limit.Rate) (limit.Decision, error) {
	return limit.Decision{}, errors.New("the store is wet")
}
func (wet) Return(context.Context, string, limit.Rate) error { return errors.New("the store is wet") }

// A sign-in that nobody can guess at.
func ExampleThrottle() {
	var wrong limit.Throttle
	errWrongPIN := problem.Define(http.StatusForbidden, "wrong-pin", "Wrong plate or PIN")
	api, _ := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"},
		wicketway.Route("POST /tokens", func(ctx context.Context, in struct {
			Vessel string `json:"vessel"`
			PIN    string `json:"pin" rule:"writeOnly"`
		}) (string, error) {
			good, err := wrong.Try(ctx, in.Vessel, func() (bool, error) { return in.PIN == "2200", nil })
			if err == nil && !good {
				err = errWrongPIN.New("")
			}
			return "a token", err
		}, wicketway.Fails(errWrongPIN, limit.ErrTooManyAttempts)))
	for range 6 {
		r := httptest.NewRequest("POST", "/tokens", strings.NewReader(`{"vessel":"OB-1001","pin":"0000"}`))
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		fmt.Print(w.Code, " ")
	}
	// Output: 403 403 403 403 403 429
}
