package demo_test

import (
	"bytes"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/examples/canal/demo"
)

// What the contract makes of requests is answered as it says: good ones with a success, and each wrong one with the status
// and the code that it names.
func TestRequestsOfTheContract(t *testing.T) {
	canal, err := demo.Open(t.TempDir(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	defer canal.Close()
	d, err := canal.API.Contract("v2")
	if err != nil {
		t.Fatal(err)
	}
	tried := map[string]int{}
	for path, item := range d.Paths.All() {
		for method, o := range item.Operations() {
			wrong, err := requests.Of(d).Wrong(method, path)
			if err != nil {
				t.Errorf("%s %s: %v", method, path, err)
				continue
			}
			tried[o.ID] = len(wrong)
			for _, r := range wrong {
				token := canal.Skipper
				if o.ID == "locks.operate" || o.ID == "passages.importAll" {
					token = canal.Keeper
				}
				without, other := canal.Keeper, canal.Visitor
				if token == canal.Keeper {
					without, other = canal.Skipper, canal.Keeper
				}
				sent := httptest.NewRequest(r.Method, r.Target, bytes.NewReader(r.Body))
				for _, f := range r.Header {
					sent.Header.Set(f.Name, strings.NewReplacer(requests.TokenWithoutScopes, without, requests.OtherToken, other, requests.Token, token).Replace(f.Value))
				}
				w := httptest.NewRecorder()
				canal.API.ServeHTTP(w, sent)
				var got struct {
					Code string `json:"code"`
				}
				json.Unmarshal(w.Body.Bytes(), &got)
				if w.Code != r.Status && w.Code != r.Or || r.Code != "" && got.Code != r.Code || w.Code == http.StatusTooManyRequests {
					t.Errorf("%s, with %s: %d %s, want %d %s\n%s\n%s", o.ID, r.Wrong, w.Code, got.Code, r.Status, r.Code, r.Line("http://canal.example"), w.Body)
				}
			}
		}
	}
	if tried["passages.book"] < 20 {
		t.Errorf("too little is tried: %v", tried)
	}
	t.Log(tried)
}
