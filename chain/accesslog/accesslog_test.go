package accesslog_test

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/requestid"
)

func build(t *testing.T, log io.Writer, parts ...wicketway.Part) *wicketway.API {
	api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"}, append(parts, wicketway.Chain(requestid.Assign(), accesslog.To(slog.New(slog.NewJSONHandler(log, nil)))))...)
	if err != nil {
		t.Fatal(err)
	}
	return api
}

// One line for each request, with the cause that the caller is not told.
func TestAccessLog(t *testing.T) {
	var log bytes.Buffer
	api := build(t, &log,
		wicketway.Route("GET /text/{n}", func(_ context.Context, in struct {
			N int `from:"path n"`
		}) (string, error) {
			if in.N == 0 {
				panic("no water")
			}
			return "x", nil
		}),
	)
	gone, leave := context.WithCancel(context.Background())
	leave()
	for _, c := range []struct {
		path   string
		ctx    context.Context
		status int
		level  string
		route  string
		err    string
		stack  bool
	}{
		{"/text/1", context.Background(), 200, "INFO", "/text/{n}", "", false},
		{"/text/x", context.Background(), 400, "INFO", "/text/{n}", "path n must be a whole number", false},
		{"/text/0", context.Background(), 500, "ERROR", "/text/{n}", "panic: no water", true},
		{"/none", context.Background(), 404, "INFO", "", "not-found", false},
		{"/text/1", gone, 200, "INFO", "/text/{n}", "", false}, // the answer was ready all the same
	} {
		log.Reset()
		w := httptest.NewRecorder()
		api.ServeHTTP(w, httptest.NewRequest("GET", c.path, nil).WithContext(c.ctx))
		var line struct {
			Level, Method, Path, Route, Request, Caller, Error, Stack string
			Status, Bytes                                             int
			Duration                                                  int64
		}
		if err := json.Unmarshal(log.Bytes(), &line, json.MatchCaseInsensitiveNames(true)); err != nil {
			t.Errorf("%s: not one line: %v\n%s", c.path, err, log.String())
		}
		if line.Status != c.status || line.Level != c.level || line.Route != c.route || line.Path != c.path || line.Method != "GET" ||
			!strings.Contains(line.Error, c.err) || (line.Error == "") != (c.err == "") || (line.Stack != "") != c.stack ||
			line.Bytes != w.Body.Len() || line.Request != w.Header().Get("X-Request-Id") || line.Duration <= 0 {
			t.Errorf("%s: %s", c.path, log.String())
		}
	}
}

type vessel struct {
	Plate     string         `json:"plate"`
	Telephone string         `json:"telephone"`
	Code      string         `json:"code" rule:"writeOnly"`
	Owner     *vessel        `json:"owner"`
	Extra     map[string]any `json:"extra"`
	private   string
	pin       string
	*Mooring
	crew map[any]any
}

type Mooring struct {
	Secret string
	Name   string
}

// No secret reaches the log, whatever it is in; what is none stays as it was.
func TestRedact(t *testing.T) {
	const hidden = "hush"
	v := &vessel{Plate: "OB-1001", Telephone: hidden, Code: hidden, private: "kept private", pin: hidden, Mooring: &Mooring{hidden, "Wharf 7"}, crew: map[any]any{"token": hidden, 7: "x"},
		Owner: &vessel{Plate: "OB-1038", Telephone: hidden}, Extra: map[string]any{"API-Key": hidden, "list": []any{map[string]string{"e_mail": hidden, "name": "Grebe"}}}}
	v.Owner.Owner = v // a value that contains itself ends
	var out bytes.Buffer
	log := slog.New(accesslog.Redact(slog.NewJSONHandler(&out, nil), "berth"))
	log.With("PIN", hidden, "kept", 1).WithGroup("request").With("cookie", hidden).Info("hello",
		"vessel", v, "header", http.Header{"Authorization": {hidden}, "Accept": {"text/html"}}, "Berth", hidden,
		slog.Group("inner", "access_token", hidden, "name", "Grebe"), "plain", struct{ A int }{7}, "bytes", []byte("abc"), "error", io.EOF)
	log.WithGroup("secret").Info("all", "a", hidden)
	byText := slog.New(accesslog.Redact(slog.NewTextHandler(&out, nil)))
	byText.Info("text", "vessel", struct{ pin, name string }{hidden, "x"}, "crew", map[any]string{"api_key": hidden, 3: "third"}, "at", time.Date(2027, 5, 4, 0, 0, 0, 0, time.UTC),
		"deep", struct{ in struct{ Token string } }{struct{ Token string }{hidden}}, "keys", map[[2]string]any{{"a", "b"}: map[string]string{"password": hidden}})
	text := out.String()
	if strings.Contains(text, hidden) {
		t.Errorf("a secret is in the log: %s", text)
	}
	for _, kept := range []string{"OB-1001", "OB-1038", "Grebe", "text/html", "third", "2027-05-04", "Wharf 7", `"kept":1`, `{"A":7}`, "YWJj", "EOF", accesslog.Blank} {
		if !strings.Contains(text, kept) {
			t.Errorf("%s is not in the log: %s", kept, text)
		}
	}
}

// untimed drops what differs from run to run.
func untimed(_ []string, a slog.Attr) slog.Attr {
	if a.Key == slog.TimeKey || a.Key == "duration" {
		return slog.Attr{}
	}
	return a
}

func ExampleTo() {
	logger := slog.New(slog.NewTextHandler(os.Stdout, &slog.HandlerOptions{ReplaceAttr: untimed}))
	api, _ := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"}, wicketway.Chain(accesslog.To(logger)),
		wicketway.Route("GET /locks/{lock}", func(_ context.Context, in struct {
			Lock string `from:"path lock"`
		}) (string, error) {
			return in.Lock, nil
		}))
	api.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/locks/bell", nil))
	// Output: level=INFO msg=request method=GET path=/locks/bell route=/locks/{lock} status=200 bytes=7 request="" caller=""
}

func ExampleRedact() {
	logger := slog.New(accesslog.Redact(slog.NewTextHandler(os.Stdout, &slog.HandlerOptions{ReplaceAttr: untimed}), "berth"))
	logger.Info("signed in", "plate", "OB-1001", "pin", "2200", "berth", 7)
	// Output: level=INFO msg="signed in" plate=OB-1001 pin=[redacted] berth=[redacted]
}
