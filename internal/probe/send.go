package probe

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"time"
)

// A Sender sends a request, and gives what came back. A stream is left after a time, or after enough of it; 0 is for what is
// none.
type Sender func(r *http.Request, listen time.Duration) (Answer, error)

// An Answer is what came back.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
	Cut    bool // it was left before its end
}

// How long an answer may take, and how much of it is read. A stream is listened to for a while, and once several had to be
// left, for a moment: they may have no end.
const (
	patience     = 15 * time.Second
	aWhile       = 60 * time.Millisecond
	aMoment      = time.Millisecond
	severalLeft  = 4
	mostBody     = 8 << 20
	mostOfStream = 16 << 10
)

func limits(listen time.Duration) (time.Duration, int) {
	if listen > 0 {
		return listen, mostOfStream
	}
	return patience, mostBody
}

// Handler sends to a handler, without a socket. A body after the header of an answer to HEAD is there for it to be seen.
func Handler(h http.Handler) Sender {
	return func(r *http.Request, listen time.Duration) (a Answer, err error) {
		length, size := limits(listen)
		ctx, leave := context.WithCancel(r.Context())
		defer leave()
		w := &keeping{ResponseRecorder: httptest.NewRecorder(), most: size, leave: leave}
		timer := time.AfterFunc(length, func() { w.late.Store(true); leave() })
		defer timer.Stop()
		body := r.Body
		r = r.WithContext(ctx)
		r.RequestURI, r.RemoteAddr = r.URL.RequestURI(), "192.0.2.1:1234"
		if r.Body = body; body == nil {
			r.Body = http.NoBody
		}
		defer func() {
			v := recover()
			late := w.late.Load()
			got := w.Result()
			a = Answer{got.StatusCode, got.Header, w.Body.Bytes(), late && listen > 0 || w.full}
			switch {
			case v != nil && v != http.ErrAbortHandler:
				err = fmt.Errorf("the handler panicked: %v", v)
			case a.Cut && !w.begun:
				a.Status = 0
			case a.Cut:
			case late:
				err = fmt.Errorf("no answer within %v", patience)
			case v != nil:
				err = errors.New("the answer broke off")
			}
		}()
		h.ServeHTTP(w, r)
		return a, err
	}
}

// keeping keeps as much of an answer as is read.
type keeping struct {
	*httptest.ResponseRecorder
	most  int
	begun bool // the header is there
	full  bool
	late  atomic.Bool // the caller has left
	leave context.CancelFunc
}

func (k *keeping) WriteHeader(status int) {
	k.begun = k.begun || status >= 200 && !k.late.Load()
	k.ResponseRecorder.WriteHeader(status)
}

func (k *keeping) Write(b []byte) (int, error) {
	k.begun = k.begun || !k.late.Load()
	if k.Body.Len()+len(b) > k.most {
		k.full = true
		k.leave()
		return 0, errors.New("the caller has left")
	}
	return k.ResponseRecorder.Write(b)
}

// Address sends to an http or https address, and nowhere else: neither redirects nor proxies of the environment are
// followed. Done closes its connections.
func Address(to *url.URL) (send Sender, done func()) {
	transport := &http.Transport{DisableCompression: true, ResponseHeaderTimeout: patience, MaxIdleConns: 1}
	return func(r *http.Request, listen time.Duration) (Answer, error) {
		ctx, leave := context.WithTimeout(r.Context(), patience)
		defer leave()
		r = r.WithContext(ctx)
		r.URL.Scheme, r.URL.Host, r.Host = to.Scheme, to.Host, to.Host
		if r.Method == http.MethodHead {
			return sendAlone(ctx, r)
		}
		got, err := transport.RoundTrip(r)
		if err != nil {
			return Answer{}, inWords(err)
		}
		defer got.Body.Close()
		length, size := limits(listen)
		var late atomic.Bool
		timer := time.AfterFunc(length, func() { late.Store(true); leave() })
		defer timer.Stop()
		body, err := io.ReadAll(io.LimitReader(got.Body, int64(size)+1))
		a := Answer{Status: got.StatusCode, Header: got.Header, Body: body}
		if len(body) > size || listen > 0 && late.Load() {
			a.Body, a.Cut, err = body[:min(len(body), size)], true, nil
		}
		return a, inWords(err)
	}, transport.CloseIdleConnections
}

// sendAlone sends a request over a connection of its own, and reads whatever comes: a client of HTTP would not see a body
// where none may be (RFC 9110, 9.3.2).
func sendAlone(ctx context.Context, r *http.Request) (a Answer, err error) {
	host := r.URL.Host
	if r.URL.Port() == "" {
		host = net.JoinHostPort(r.URL.Hostname(), map[string]string{"http": "80", "https": "443"}[r.URL.Scheme])
	}
	var conn net.Conn
	if r.URL.Scheme == "https" {
		conn, err = (&tls.Dialer{}).DialContext(ctx, "tcp", host)
	} else {
		conn, err = (&net.Dialer{}).DialContext(ctx, "tcp", host)
	}
	if err != nil {
		return a, inWords(err)
	}
	defer conn.Close()
	if at, has := ctx.Deadline(); has {
		conn.SetDeadline(at)
	}
	r.Close = true
	if err := r.Write(conn); err != nil {
		return a, inWords(err)
	}
	text, err := io.ReadAll(io.LimitReader(conn, mostBody))
	if err != nil && len(text) == 0 {
		return a, inWords(err)
	}
	got, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(text)), r)
	if err != nil {
		return a, inWords(err)
	}
	a = Answer{Status: got.StatusCode, Header: got.Header}
	for rest := string(text); ; { // past interim answers (RFC 9110, 15.2)
		head, after, _ := strings.Cut(rest, "\r\n\r\n")
		if a.Body, rest = []byte(after), after; !strings.HasPrefix(head, "HTTP/1.1 1") {
			return a, nil
		}
	}
}

// inWords leaves out what the URL was, which is in the request.
func inWords(err error) error {
	if e, is := errors.AsType[*url.Error](err); is {
		err = e.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("no answer within %v", patience)
	}
	return err
}
