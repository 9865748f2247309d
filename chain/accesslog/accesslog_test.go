package accesslog_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/proxy"
	"github.com/wicketway/wicketway/chain/requestid"
	"github.com/wicketway/wicketway/chain/tracecontext"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

type in struct {
	N    int64 `from:"path n"`
	Body struct {
		Crew int    `json:"crew" rule:"maximum=40"`
		PIN  string `json:"pin,omitzero"`
	} `from:"body"`
}

var errDry = problem.Define(502, "dry", "The canal is dry")

// traffic are routes that end in all ways that there are.
func traffic() wicketway.Part {
	stream := func(then error) func(context.Context, wicketway.None) (wicketway.Stream[int], error) {
		return func(context.Context, wicketway.None) (wicketway.Stream[int], error) {
			return func(yield func(int, error) bool) { _ = yield(1, nil) && yield(2, then) }, nil
		}
	}
	return wicketway.Group(
		wicketway.Version("v2", wicketway.Route("GET /good", func(ctx context.Context, _ wicketway.None) (string, error) {
			accesslog.Add(ctx, slog.String("lock", "bell"), slog.Int("gauge", 7))
			return strings.Repeat("x", 2000), nil
		})),
		wicketway.Route("POST /book/{n}", func(ctx context.Context, in in) (int64, error) {
			slog.New(accesslog.InContext(logHandler(ctx))).With("a", 1).WithGroup("g").InfoContext(ctx, "inside", "b", 2)
			return in.N, nil
		}),
		wicketway.Route("GET /gauge", func(context.Context, wicketway.None) (string, error) {
			return "", errDry.New("Gauge 7 is silent.").Private("line", "ttyS4").Because(fmt.Errorf("read: %w", io.ErrUnexpectedEOF))
		}, wicketway.Fails(errDry)),
		wicketway.Route("GET /error", func(context.Context, wicketway.None) (string, error) { return "", errors.New("locked") }),
		wicketway.Route("GET /panic", func(context.Context, wicketway.None) (string, error) { panic("no water") }),
		wicketway.Route("GET /slow", func(context.Context, wicketway.None) (string, error) {
			time.Sleep(30 * time.Millisecond)
			return "", nil
		}),
		wicketway.Route("GET /stream", stream(nil)),
		wicketway.Route("GET /broken", stream(io.ErrUnexpectedEOF)),
		wicketway.Handle("GET /abort", http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })),
		wicketway.Handle("GET /socket", http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			conn, _, err := w.(http.Hijacker).Hijack()
			if err == nil {
				conn.Close()
			}
		})),
		wicketway.Route("GET /left/stream", func(ctx context.Context, _ wicketway.None) (wicketway.Stream[int], error) {
			return func(yield func(int, error) bool) { yield(1, nil); <-ctx.Done(); yield(2, nil) }, nil
		}),
		wicketway.Route("GET /left", func(ctx context.Context, _ wicketway.None) (string, error) { <-ctx.Done(); return "", ctx.Err() }),
		wicketway.Handle("POST /plain", http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { io.Copy(io.Discard, r.Body) })),
		wicketway.Handle("POST /me", http.NotFoundHandler(), wicketway.Guard(nobody{})),
		wicketway.Route("GET /me", func(context.Context, wicketway.None) (string, error) { return "", nil }, wicketway.Guard(plate{})),
	)
}

// A nobody is a guard that lets nobody in.
type nobody struct{ plate }

func (nobody) Authenticate(*http.Request) (*exchange.Identity, error) {
	return nil, problem.Unauthorized.New("")
}

// A plate is a guard that takes the field Plate for the caller.
type plate struct{}

func (plate) Scheme() exchange.Scheme   { return exchange.Scheme{Name: "plate"} }
func (plate) Challenge([]string) string { return "Plate" }
func (plate) Authenticate(r *http.Request) (*exchange.Identity, error) {
	return &exchange.Identity{Subject: r.Header.Get("Plate")}, nil
}

type handlerKey struct{}

func logHandler(ctx context.Context) slog.Handler {
	h, ok := ctx.Value(handlerKey{}).(slog.Handler)
	if !ok {
		return slog.DiscardHandler
	}
	return h
}

// One record for each request, whatever becomes of it, with what is worth knowing.
func TestAccessLog(t *testing.T) {
	var log bytes.Buffer
	var mu sync.Mutex
	handler := slog.NewJSONHandler(writer(func(p []byte) (int, error) { mu.Lock(); defer mu.Unlock(); return log.Write(p) }), nil)
	networks, err := proxy.Networks("127.0.0.1", "10.0.0.0/8")
	if err != nil {
		t.Fatal(err)
	}
	api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"}, traffic(),
		wicketway.Log(slog.New(slog.DiscardHandler)),
		wicketway.Chain(requestid.Assign(networks...), proxy.Trust(proxy.XForwardedFor, networks...), tracecontext.Keep(),
			accesslog.To(slog.New(handler), accesslog.Settings{Slow: 25 * time.Millisecond, AtStart: true}), compress.Bodies(compress.Settings{}), compress.Requests(compress.Unpacking{})))
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewUnstartedServer(api)
	server.Config.BaseContext = func(net.Listener) context.Context {
		return context.WithValue(context.Background(), handlerKey{}, handler)
	}
	server.Config.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, 0)
	server.Start()
	defer server.Close()
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	io.WriteString(z, `{"crew":3}`+strings.Repeat(" ", 500))
	z.Close()
	const id, trace = "018f3a52-6f0c-7b1e-9d55-2a3c4e5f6071", "4bf92f3577b34da6a3ce929d0e0e4736"
	for _, c := range []struct {
		line, header, body string
		want               string // pieces of the record; ! those that it must not have
	}{
		{"GET /v2/good", "", "", `"level":"INFO" | "status":200 | "version":"v2" | "route":"/v2/good" | "lock":"bell" | "gauge":7 | "remote":"127.0.0.1" | "sent":2003 | !"written" | !"received" | !"code" | !"slow" | !"caller"`},
		{"GET /v2/good", "Accept-Encoding: gzip", "", `"written":2003 | "status":200 | !"sent":2003`},
		{"GET /v2/good", "X-Request-Id: " + id + "\nTraceparent: 00-" + trace + "-00f067aa0ba902b7-01", "", `"request":"` + id + `" | "trace":"` + trace + `" | !"caller_request"`},
		{"GET /v2/good", "X-Request-Id: hush\tx", "", `"caller_request":"hushx"`},
		{"GET /v2/good", "X-Forwarded-For: 198.51.100.7, 203.0.113.9, 10.1.1.1", "", `"remote":"203.0.113.9"`},
		{"GET /v2/good", "X-Forwarded-For: [2001:db8::7]:4711, 10.0.0.1", "", `"remote":"2001:db8::7"`},
		{"POST /book/7", "Content-Type: application/json", `{"crew":3}`, `"status":200 | "received":10 | !"unpacked"`},
		{"POST /book/7", "Content-Type: application/json\nContent-Encoding: gzip", packed.String(), `"status":200 | "unpacked":510 | "received":`},
		{"POST /book/x", "Content-Type: application/json", `{"crew":99}`, `"level":"WARN" | "status":400 | "code":"input-unreadable" | path n must be a whole number`},
		{"GET /none", "", "", `"level":"WARN" | "status":404 | "route":"" | "code":"not-found" | !"served"`},
		{"GET /gauge", "", "", `"level":"ERROR" | "status":502 | "code":"dry" | "served":"accesslog_test.traffic | "private":{"line":"ttyS4"} | unexpected EOF | "stack":["`},
		{"GET /error", "", "", `"level":"ERROR" | "status":500 | "code":"internal" | "error":"locked"`},
		{"GET /panic", "", "", `"level":"ERROR" | "status":500 | "error":"panic: no water" | "stack":[" | accesslog_test.go:`},
		{"GET /slow", "", "", `"level":"INFO" | "slow":true | "slowest":"call `},
		{"GET /stream", "", "", `"level":"INFO" | "status":200 | "sent":`},
		{"GET /broken", "", "", `"level":"ERROR" | "status":200 | "error":"unexpected EOF"`},
		{"GET /abort", "", "", `"level":"ERROR" | "status":0 | "error":"the handler gave up the connection`},
		{"GET /socket", "", "", `"level":"INFO" | "status":101`},
		{"GET /left/stream", "Accept: text/event-stream", "", `"level":"INFO" | "status":200 | "code":"caller-left"`},
		{"GET /left", "", "", `"level":"INFO" | "status":0 | "code":"caller-left" | "error":"the caller left before the answer was complete: context canceled"`},
		{"GET /me", "Plate: OB-1001", "", `"caller":"OB-1001"`},
	} {
		mu.Lock()
		log.Reset()
		mu.Unlock()
		method, path, _ := strings.Cut(c.line, " ")
		ctx, leave := context.WithCancel(t.Context())
		r, _ := http.NewRequestWithContext(ctx, method, server.URL+path, strings.NewReader(c.body))
		r.Header.Set("Accept-Encoding", "identity")
		for field := range strings.Lines(c.header) {
			name, value, _ := strings.Cut(strings.TrimSpace(field), ": ")
			r.Header[name] = []string{value}
		}
		if strings.HasPrefix(path, "/left") {
			time.AfterFunc(100*time.Millisecond, leave)
		}
		if resp, err := http.DefaultClient.Do(r); err == nil {
			io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
		leave()
		lines := waitFor(&mu, &log, func(text string) bool { return strings.Contains(text, `"msg":"request",`) })
		if strings.Count(lines, `"msg":"request"`) != 1 || strings.Count(lines, `"msg":"request begins","method":"`+method+`","path":"`+path) != 1 {
			t.Errorf("%s: not one record of its beginning and one of its end: %s", c.line, lines)
		}
		end := lines[strings.Index(lines, `{"time"`):]
		for line := range strings.Lines(lines) {
			if strings.Contains(line, `"msg":"request",`) {
				end = line
			}
			if strings.Contains(line, "inside") && !strings.Contains(line, `"a":1,"g":{"b":2}`) || strings.Contains(line, "inside") && !strings.Contains(line, `"msg":"inside","request":"0`) {
				t.Errorf("what is logged below does not say of which request: %s", line)
			}
		}
		for want := range strings.SplitSeq(c.want, " | ") {
			piece, not := strings.CutPrefix(want, "!")
			if strings.Contains(end, piece) == not {
				t.Errorf("%s (%s): %s in %s", c.line, c.header, want, end)
			}
		}
	}
}

// waitFor waits for what is logged after an answer has arrived.
func waitFor(mu *sync.Mutex, log *bytes.Buffer, done func(string) bool) string {
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(time.Millisecond) {
		mu.Lock()
		text := log.String()
		mu.Unlock()
		if done(text) || time.Now().After(until) {
			return text
		}
	}
}

type writer func([]byte) (int, error)

func (w writer) Write(p []byte) (int, error) { return w(p) }

// Of healthy requests some are logged, of others all; and it works alone.
func TestSampling(t *testing.T) {
	var log bytes.Buffer
	m := accesslog.To(slog.New(slog.NewTextHandler(&log, nil)), accesslog.Settings{Sample: 10})
	h := m.Wrap(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/bad" {
			w.WriteHeader(500)
		}
	}))
	for i := range 30 {
		h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/good", nil))
		if i%10 == 0 {
			h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/bad", nil))
		}
	}
	if good, bad := strings.Count(log.String(), "path=/good"), strings.Count(log.String(), "path=/bad"); good != 3 || bad != 3 || strings.Count(log.String(), "sampled=10") != 3 {
		t.Errorf("%d good and %d bad ones: %s", good, bad, log.String())
	}
}

// Colours are for terminals, and for those who say that they show what is written on one.
func TestConsoleColours(t *testing.T) {
	for _, c := range []struct {
		force, no string
		want      bool
	}{{"", "", false}, {"1", "", true}, {"0", "", false}, {"1", "1", false}} {
		t.Setenv("CLICOLOR_FORCE", c.force)
		t.Setenv("NO_COLOR", c.no)
		var log bytes.Buffer
		slog.New(accesslog.Console(&log)).Error("the pump has failed")
		if got := strings.Contains(log.String(), "\x1b["); got != c.want {
			t.Errorf("%+v: %q", c, log.String())
		}
	}
}

// What a person reads in development.
func TestConsole(t *testing.T) {
	var log bytes.Buffer
	logger := slog.New(accesslog.InContext(accesslog.Console(&log)))
	api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"}, traffic(), wicketway.Development(), wicketway.Log(logger),
		wicketway.Chain(accesslog.To(logger, accesslog.Settings{})))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		line, body string
		want       []string // in this order
	}{
		{"GET /v2/good", "", []string{"GET     /v2/good ", "200  ", "ms  ", "2003 B", "–\n", "fields  Content-Type: application/json\n", "more    lock=bell gauge=7\n"}},
		{"POST /book/7", `{"crew":3,"pin":"hush"}`, []string{"POST    /book/7 ", "200", `sent    {"crew":3,"pin":"[redacted]"}`}},
		{"POST /book/x", `{"crew":99}`, []string{"/book/x ", "400", "input-unreadable ", `sent    {"crew":99}`, "faults  path n must be a whole number\n", "        body /crew must be at most 40\n"}},
		{"GET /panic", "", []string{"/panic ", "500  internal ", "because panic: no water", "at      accesslog_test.go:", "traffic"}},
		{"GET /gauge", "", []string{"502", "dry", "because dry: Gauge 7 is silent.: read: unexpected EOF", "*problem.Problem, *fmt.wrapError, *errors.errorString", "more    private=(line=ttyS4)"}},
		{"GET /\x1b[31m", "", []string{`/\x1b[31m `, "404  not-found"}},
	} {
		log.Reset()
		method, path, _ := strings.Cut(c.line, " ")
		r := httptest.NewRequest(method, "/", strings.NewReader(c.body))
		r.URL.Path = path
		r.Header.Set("Content-Type", "application/json")
		api.ServeHTTP(httptest.NewRecorder(), r)
		rest := log.String()
		for _, want := range c.want {
			_, after, ok := strings.Cut(rest, want)
			if !ok {
				t.Errorf("%s: wanted %q in\n%s", c.line, want, log.String())
				break
			}
			rest = after
		}
		if strings.Contains(log.String(), "hush") || strings.Contains(log.String(), "\x1b") {
			t.Errorf("%s: %q", c.line, log.String())
		}
	}
	for _, c := range []struct{ line, media, body, want string }{ // what arrived, as it did
		{"POST /book/7?token=hush&lock=bell", "application/json", `{"crew":3,"email":"a@canal.example","pin":{"a":"hush"}}`, "sent    ?token=[redacted]&lock=bell\n" +
			"                      {\"crew\":3,\"email\":\"a@canal.example\",\"pin\":\"[redacted]\"}\n              fields  Content-Type: application/json\n"},
		{"POST /book/7", "application/json", `{"crew":3,"pin":"hush","x`, `{"crew":3,"pin":"[redacted]","x`},
		{"POST /book/7", "application/json", `{"crew":` + strings.Repeat(" ", 5000) + `3}`, " … 3510 bytes more\n"},
		{"POST /book/7", "text/plain", "crew=3", "415  unsupported-media-type"},
		{"POST /book/7", "text/plain", "crew=3", "sent    crew=3\n"},
		{"POST /book/7", "application/x-www-form-urlencoded", "crew=3&password=hush", "sent    crew=3&password=[redacted]\n"},
		{"POST /book/7", "multipart/form-data; boundary=x", "--x--", "sent    (5 bytes of multipart/form-data)\n"},
		{"POST /me", "application/json", `{"x":1}`, `sent    {"x":1}` + "\n              fields  Authorization: Bearer [redacted]  Content-Type: application/json\n"},
		{"POST /plain", "application/json", `{"x":1}`, `sent    {"x":1}`},
		{"POST /plain", "application/json", "a\x00b", "sent    (3 bytes of application/json)"},
	} {
		log.Reset()
		method, target, _ := strings.Cut(c.line, " ")
		r := httptest.NewRequest(method, target, strings.NewReader(c.body))
		r.Header.Set("Content-Type", c.media)
		if target == "/me" {
			r.Header.Set("Authorization", "Bearer hush")
		}
		api.ServeHTTP(httptest.NewRecorder(), r)
		if !strings.Contains(log.String(), c.want) || strings.Contains(log.String(), "hush") {
			t.Errorf("%s %s: wanted %q in\n%s", c.line, c.body, c.want, log.String())
		}
	}
	log.Reset()
	logger.With("gauge", 7).WithGroup("inner").Warn("the tide\x07 is late", "pin", "hush", "why", "wind and rain")
	if got := log.String(); !strings.HasSuffix(got, `  WARN  the tide\a is late  gauge=7  inner.pin=[redacted]  inner.why="wind and rain"`+"\n") {
		t.Errorf("%q", got)
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
	byText.Info("asked /locks?token="+hidden, "url", "https://canal.example/a?pin="+hidden+"&lock=bell&new_password="+hidden, "new_password", hidden, "UserPassword", hidden, "X-Api-Key", hidden)
	log.Info("input", "in", struct {
		Session string `from:"header X-Canal-Token"`
		Left    string `json:"-"`
		Mooring `json:"mooring"`
		Phone   string
	}{hidden, hidden, Mooring{hidden, "Wharf 8"}, hidden})
	text := out.String()
	if strings.Contains(text, hidden) {
		t.Errorf("a secret is in the log: %s", text)
	}
	for _, kept := range []string{"OB-1001", "OB-1038", "Grebe", "text/html", "third", "2027-05-04", "Wharf 7", `"kept":1`, `{"A":7}`, "YWJj", "EOF", "lock=bell", `"mooring":{`, "Wharf 8", accesslog.Blank} {
		if !strings.Contains(text, kept) {
			t.Errorf("%s is not in the log: %s", kept, text)
		}
	}
}

// A credential brings secrets under every kind of name.
type credential struct {
	Path   string    `from:"path token"`
	Query  string    `from:"query pin"`
	Header string    `from:"header X-Api-Key"`
	Cookie string    `from:"cookie session_token"`
	Body   signingIn `from:"body"`
}

type signingIn struct {
	NewPassword  string              `json:"new_password"`
	UserPassword *string             `json:"p"`
	PIN          int                 `json:"pin"`
	Code         string              `json:"code" rule:"writeOnly"`
	Secrets      []map[string]string `json:"secrets"`
	Deep         map[string]any      `json:"deep"`
	Short        string              `json:"password"`
}

// What was read under the name of a secret is in no text about the request, whoever writes it.
func TestSecretsThatWereReadAreBlanked(t *testing.T) {
	hidden := []string{"pa th-1", "queRy=2", "header/3", "cookie4", "Body \"5\"\nline", "pointed6", "7777", "written8", "listed9", "deep10", "bearer11", "guard12"}
	refused := problem.Define(422, "refused", "Refused")
	for name, fails := range map[string]func(ctx context.Context, in credential, texts []string) error{
		"error": func(_ context.Context, in credential, texts []string) error {
			return fmt.Errorf("saving %s", strings.Join(texts, ", "))
		},
		"quoted": func(_ context.Context, in credential, texts []string) error { return fmt.Errorf("saving %q", texts) },
		"escaped": func(_ context.Context, in credential, texts []string) error {
			return &url.Error{Op: "Get", URL: "https://canal.example/" + url.PathEscape(strings.Join(texts, "/")) + url.QueryEscape(strings.Join(texts, " ")), Err: io.EOF}
		},
		"struct": func(_ context.Context, in credential, _ []string) error {
			return fmt.Errorf("%+v %v", in.Body, *in.Body.UserPassword)
		},
		"joined": func(_ context.Context, in credential, texts []string) error {
			return errors.Join(io.EOF, errors.New(texts[4]+texts[5]))
		},
		"panic": func(_ context.Context, in credential, texts []string) error { panic(texts) },
		"private": func(_ context.Context, in credential, texts []string) error {
			return refused.New("No.").Private("texts", texts).Private("error", errors.New(texts[0])).Private("in", in).Private("number", in.Body.PIN).Private("bytes", []byte(texts[7]))
		},
		"added": func(ctx context.Context, in credential, texts []string) error {
			accesslog.Add(ctx, slog.String("saved", strings.Join(texts, " ")), slog.Any("list", texts), slog.Group("g", "error", errors.New(texts[8])))
			return nil
		},
		"short": func(_ context.Context, in credential, texts []string) error {
			return errors.New("x is x7, not axe: " + in.Body.Short)
		},
	} {
		for _, development := range []bool{false, true} {
			for _, logged := range []string{"chain", "own", "redacted"} {
				var log bytes.Buffer
				handler := slog.Handler(slog.NewJSONHandler(&log, &slog.HandlerOptions{ReplaceAttr: untimed}))
				settings := []wicketway.Part{wicketway.Log(slog.New(handler))}
				switch logged {
				case "chain":
					settings = append(settings, wicketway.Chain(accesslog.To(slog.New(handler), accesslog.Settings{})))
				case "redacted":
					handler = accesslog.Redact(handler)
				}
				if development {
					settings = append(settings, wicketway.Development())
				}
				api, err := wicketway.Build(wicketway.Info{Title: "Test", Version: "1.0.0"}, append(settings,
					wicketway.Route("POST /tokens/{token}", func(ctx context.Context, in credential) (wicketway.None, error) {
						texts := []string{in.Path, in.Query, in.Header, in.Cookie, in.Body.NewPassword, *in.Body.UserPassword, fmt.Sprint(in.Body.PIN), in.Body.Code, in.Body.Secrets[0]["any"], in.Body.Deep["token"].(string), "bearer11", "guard12"}
						if logged == "redacted" {
							slog.New(handler).InfoContext(ctx, texts[0]+texts[4], "texts", texts)
						}
						return wicketway.None{}, fails(ctx, in, texts)
					}, wicketway.Fails(refused)))...)
				if err != nil {
					t.Fatal(err)
				}
				r := httptest.NewRequest("POST", "/tokens/pa%20th-1?pin=queRy%3D2", strings.NewReader(`{"new_password":"Body \"5\"\nline","p":"pointed6","pin":7777,"code":"written8","secrets":[{"any":"listed9"}],"deep":{"token":"deep10"},"password":"x"}`))
				r.Header = http.Header{"Content-Type": {"application/json"}, "X-Api-Key": {"header/3"}, "Cookie": {"session_token=cookie4; other=guard12"}, "Authorization": {"Bearer bearer11"}}
				w := httptest.NewRecorder()
				api.ServeHTTP(w, r)
				all := log.String() + w.Body.String()
			texts:
				for _, text := range hidden {
					for _, form := range []string{text, strings.Trim(strconv.Quote(text), `"`), url.PathEscape(text), url.QueryEscape(text)} {
						if strings.Contains(all, form) || strings.Contains(all, strings.Trim(strconv.Quote(form), `"`)) {
							t.Errorf("%s, development %t, logged by %s: %s is in\n%s", name, development, logged, form, all)
							break texts
						}
					}
				}
				if name == "short" && logged == "chain" && !strings.Contains(all, "[redacted] is x7, not axe: [redacted]") {
					t.Error(all)
				}
			}
		}
	}
}

// untimed drops what differs from run to run.
func untimed(_ []string, a slog.Attr) slog.Attr {
	if a.Key == slog.TimeKey || a.Key == "duration_ms" {
		return slog.Attr{}
	}
	return a
}

func ExampleTo() {
	logger := slog.New(slog.NewTextHandler(os.Stdout, &slog.HandlerOptions{ReplaceAttr: untimed}))
	api, _ := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"}, wicketway.Chain(accesslog.To(logger, accesslog.Settings{})),
		wicketway.Route("GET /locks/{lock}", func(_ context.Context, in struct {
			Lock string `from:"path lock"`
		}) (string, error) {
			return in.Lock, nil
		}))
	api.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/locks/bell", nil))
	// Output: level=INFO msg=request method=GET path=/locks/bell route=/locks/{lock} status=200 sent=7 remote=192.0.2.1
}

func ExampleRedact() {
	logger := slog.New(accesslog.Redact(slog.NewTextHandler(os.Stdout, &slog.HandlerOptions{ReplaceAttr: untimed}), "berth"))
	logger.Info("signed in", "plate", "OB-1001", "pin", "2200", "berth", 7)
	// Output: level=INFO msg="signed in" plate=OB-1001 pin=[redacted] berth=[redacted]
}
