package chain_test

import (
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http/httptest"
	"os"
	"strings"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/requestid"
)

// example answers a request by an API with one route and one more part.
func example(part wicketway.Part, header map[string]string, body string) *httptest.ResponseRecorder {
	api, err := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"}, part,
		wicketway.Route("POST /remarks", func(ctx context.Context, in struct {
			Body io.Reader `from:"body"`
		}) (string, error) {
			text, err := io.ReadAll(in.Body)
			return string(text), err
		}))
	if err != nil {
		panic(err)
	}
	r := httptest.NewRequest("POST", "/remarks", strings.NewReader(body))
	for name, value := range header {
		r.Header.Set(name, value)
	}
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	return w
}

// untimed drops what differs from run to run.
func untimed(_ []string, a slog.Attr) slog.Attr {
	if a.Key == slog.TimeKey || a.Key == "duration" {
		return slog.Attr{}
	}
	return a
}

func Example_accesslog() {
	logger := slog.New(slog.NewTextHandler(os.Stdout, &slog.HandlerOptions{ReplaceAttr: untimed}))
	example(wicketway.Chain(accesslog.To(logger)), nil, "moored")
	// Output: level=INFO msg=request method=POST path=/remarks route=/remarks status=200 bytes=9 request="" caller=""
}

func Example_redact() {
	logger := slog.New(accesslog.Redact(slog.NewTextHandler(os.Stdout, &slog.HandlerOptions{ReplaceAttr: untimed}), "berth"))
	logger.Info("signed in", "plate", "OB-1001", "pin", "2200", "berth", 7)
	// Output: level=INFO msg="signed in" plate=OB-1001 pin=[redacted] berth=[redacted]
}

func Example_auth() {
	w := example(wicketway.Guard(auth.Bearer(auth.HS256([]byte(strings.Repeat("k", 32))))), map[string]string{"Authorization": "Bearer rusty"}, "")
	fmt.Println(w.Code, w.Header().Get("WWW-Authenticate"))
	// Output: 401 Bearer error="invalid_token", error_description="The token is not a JWT"
}

func Example_compress() {
	var packed strings.Builder
	z := gzip.NewWriter(&packed)
	io.WriteString(z, strings.Repeat("moored ", 300))
	z.Close()
	w := example(wicketway.Chain(compress.Bodies(), compress.Requests()), map[string]string{"Content-Encoding": "gzip", "Accept-Encoding": "gzip"}, packed.String())
	fmt.Println(w.Code, w.Header().Get("Content-Encoding"), w.Body.Len() < 100)
	// Output: 200 gzip true
}

func Example_requestid() {
	w := example(wicketway.Chain(requestid.Assign()), map[string]string{requestid.Header: "mine"}, "")
	fmt.Println(len(w.Header().Get(requestid.Header)))
	// Output: 36
}
