package exchange_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// Under plain net/http an exchange knows less, and each answer is right.
func TestUnderPlainHTTP(t *testing.T) {
	x := exchange.Of(context.Background())
	received, unpacked := x.BytesRead()
	methods, fields := x.AtPath()
	_, traced := x.Trace()
	x.SetUnpacked(5)
	x.Failure().MarkLogged()
	if x.Request() != nil || x.ID() != "" || x.Method() != "" || x.Template() != "" || x.Source() != "" || x.Version() != "" || x.Development() ||
		x.BodyLimit() != 0 || received != 0 || unpacked != 0 || x.ChainSets() != nil || methods != nil || fields != nil || x.Draining() != nil ||
		x.Failure() != nil || x.Caller().Key() != "" || traced {
		t.Errorf("an exchange of nothing knows something: %+v", x)
	}
	ctx := exchange.WithID(exchange.Keep(context.Background(), 7), [16]byte{15: 1})
	if n, ok := exchange.Kept[int](ctx); n != 7 || !ok || exchange.Of(ctx).ID() != "00000000-0000-0000-0000-000000000001" {
		t.Errorf("kept are %d %v and the id %q", n, ok, exchange.Of(ctx).ID())
	}
	if _, ok := exchange.Kept[string](ctx); ok {
		t.Error("a value of another type was found")
	}
	if _, ok := exchange.Attached[int](ctx); ok {
		t.Error("a value is attached outside of an API")
	}
}

// What Fail writes where no API is around it.
func TestFailUnderPlainHTTP(t *testing.T) {
	leaves := func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusAccepted) }
	for _, c := range []struct {
		err    error
		before func(http.ResponseWriter, *http.Request)
		status int
		want   string
	}{
		{problem.NotFound.New("No such lock."), nil, 404, `"code":"not-found"`},
		{errors.New("disk on fire"), nil, 500, `"code":"internal"`},
		{nil, nil, 500, `"code":"internal"`},
		{&http.MaxBytesError{Limit: 9}, nil, 413, `"limit":9`},
		{problem.Define(299, "odd", "Odd").New(""), nil, 500, `"code":"internal"`},
		{problem.Overloaded.New("").RetryAfter(1e9), leaves, 202, ""},
	} {
		w := httptest.NewRecorder()
		_, of := exchange.WriterOf(w)
		of.Header().Set("Content-Encoding", "gzip") // of an answer that is not sent
		if c.before != nil {
			c.before(of, nil)
		}
		exchange.Fail(of, httptest.NewRequestWithContext(exchange.WithID(t.Context(), [16]byte{1}), "GET", "/", nil), c.err)
		body := w.Body.String()
		if w.Code != c.status || !strings.Contains(body, c.want) || strings.Contains(body, "fire") ||
			c.want != "" && (w.Header().Get("Content-Type") != problem.MediaType || w.Header()["Content-Encoding"] != nil || !strings.Contains(body, "urn:uuid:01000000")) {
			t.Errorf("%v: %d %v %s", c.err, w.Code, w.Header(), body)
		}
	}
}
