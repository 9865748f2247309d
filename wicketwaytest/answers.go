package wicketwaytest

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
)

// Answers sends a request to an API without a socket, and fails the test where the answer is another than it must be: the
// status (0: any success), the code of its problem ("": it is not held), or where its contract does not have it ([Honest]). It
// returns the answer. The handbook and wicketway probe --tests write calls of it.
func Answers(t testing.TB, api *wicketway.API, r *http.Request, status int, code string) *http.Response {
	t.Helper()
	w := httptest.NewRecorder()
	Honest(t, api).ServeHTTP(w, r)
	answer := w.Result()
	got, read := "", *answer
	read.Body = io.NopCloser(bytes.NewReader(w.Body.Bytes()))
	if p, err := problem.Read(&read, api.Kinds()...); err == nil {
		got = p.Kind().Code()
	}
	isSuccess := w.Code >= 200 && w.Code < 400
	switch {
	case status == 0 && !isSuccess:
		t.Errorf("%s %s: got %d %s, want a success\n%s", r.Method, r.URL, w.Code, got, w.Body)
	case status != 0 && w.Code != status, code != "" && got != code:
		t.Errorf("%s %s: got %d %s, want %d %s\n%s", r.Method, r.URL, w.Code, got, status, code, w.Body)
	}
	return answer
}
