package wicketway_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/health"
)

// started serves an API, and gives what stops it and what it returned.
func started(t *testing.T, api *wicketway.API, s wicketway.Serving) (at []net.Addr, stop func() error) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	open, served := make(chan []net.Addr, 1), make(chan error, 1)
	s.Ready = func(at []net.Addr) { open <- at }
	go func() { served <- api.ServeWith(ctx, s) }()
	select {
	case at = <-open:
	case err := <-served:
		t.Fatal(err)
	}
	return at, func() error { cancel(); return <-served }
}

// Under load: whoever has a connection before the door shuts gets an answer. To be refused while
// dialling is no loss.
func TestDrainLosesNobody(t *testing.T) {
	api := build(t, wicketway.Log(slog.New(slog.DiscardHandler)), wicketway.Route("GET /locks", func(context.Context, wicketway.None) (string, error) {
		time.Sleep(time.Millisecond)
		return "bell", nil
	}))
	for round := range 6 {
		at, stop := started(t, api, wicketway.Serving{Addresses: []string{"127.0.0.1:0"}})
		var clients sync.WaitGroup
		var answered, lost atomic.Int64
		enough := make(chan struct{})
		for i := range 64 {
			clients.Go(func() {
				for dialer := (net.Dialer{Timeout: 2 * time.Second}); ; {
					conn, err := dialer.Dial("tcp", at[0].String())
					if err != nil {
						return
					}
					if i%8 == 0 {
						time.Sleep(5 * time.Millisecond) // it has sent nothing yet
					}
					fmt.Fprint(conn, "GET /locks HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
					all, err := io.ReadAll(conn)
					if conn.Close(); err != nil || !strings.HasPrefix(string(all), "HTTP/1.1 200") {
						lost.Add(1)
					} else if answered.Add(1) == 200 {
						close(enough)
					}
				}
			})
		}
		<-enough
		if err := stop(); err != nil {
			t.Error(err)
		}
		if clients.Wait(); lost.Load() > 0 {
			t.Errorf("round %d: %d answered, %d lost", round, answered.Load(), lost.Load())
		}
	}
}

// What the drain says, and what it cuts off.
func TestDrain(t *testing.T) {
	var log strings.Builder
	hang := make(chan struct{})
	defer close(hang)
	api := build(t, wicketway.Log(slog.New(slog.NewTextHandler(&log, nil))), health.Routes(health.NewReadiness()),
		wicketway.Version("v1", wicketway.Route("GET /hang", func(context.Context, wicketway.None) (string, error) { <-hang; return "", nil })))
	at, stop := started(t, api, wicketway.Serving{Addresses: []string{"127.0.0.1:0"}, Notice: 300 * time.Millisecond, Drain: 100 * time.Millisecond})
	get := func(path string) int {
		resp, err := http.Get("http://" + at[0].String() + path)
		if err != nil {
			return 0
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	if got := get("/health/ready"); got != 200 {
		t.Errorf("ready: %d", got)
	}
	go get("/v1/hang")
	time.Sleep(50 * time.Millisecond)
	stopped := make(chan error, 1)
	go func() { stopped <- stop() }()
	time.Sleep(100 * time.Millisecond)
	if ready, live := get("/health/ready"), get("/health/live"); ready != 503 || live != 200 {
		t.Errorf("while the server gives notice: ready %d, live %d", ready, live)
	}
	if err := <-stopped; err == nil || !strings.Contains(err.Error(), "1 connections were cut off") {
		t.Errorf("the server ended with %v", err)
	}
	for _, want := range []string{"msg=listening url=http://127.0.0.1:", "mode=production", "msg=\"draining: ", "requests=1", "versions=v1", "routes=3", "open=3", "msg=\"requests were cut off\" connections=1"} {
		if !strings.Contains(log.String(), want) {
			t.Errorf("the log lacks %s: %s", want, log.String())
		}
	}
}

// writeCertificate makes a certificate for localhost with a serial number.
func writeCertificate(t *testing.T, folder string, serial int64) (certificate, key string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(serial), DNSNames: []string{"localhost"}, NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalECPrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	certificate, key = filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	for name, block := range map[string]*pem.Block{certificate: {Type: "CERTIFICATE", Bytes: der}, key: {Type: "EC PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(name, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return certificate, key
}

// TLS with certificates that change, HTTP/2 with and without it, sockets, and what is refused.
func TestServing(t *testing.T) {
	api := build(t, wicketway.Log(slog.New(slog.DiscardHandler)), wicketway.Handle("GET /proto", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, r.Proto)
	})))
	folder := t.TempDir()
	certificate, key := writeCertificate(t, folder, 1)
	socket := filepath.Join(folder, "canal.sock")
	if l, err := net.ListenUnix("unix", &net.UnixAddr{Name: socket, Net: "unix"}); err == nil { // one that was left behind
		l.SetUnlinkOnClose(false)
		l.Close()
	}
	at, stop := started(t, api, wicketway.Serving{Addresses: []string{"127.0.0.1:0", "unix:" + socket}, Certificate: certificate, Key: key})
	var serial *big.Int
	client := func(change func(*http.Transport)) string {
		transport := &http.Transport{DisableKeepAlives: true, ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true,
			VerifyConnection: func(s tls.ConnectionState) error { serial = s.PeerCertificates[0].SerialNumber; return nil }}}
		scheme := "https"
		if change != nil {
			change(transport)
			scheme = "http"
		}
		resp, err := (&http.Client{Transport: transport}).Get(scheme + "://" + at[0].String() + "/proto")
		if err != nil {
			return err.Error()
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		return string(body)
	}
	if got := client(nil); got != "HTTP/2.0" || serial.Int64() != 1 {
		t.Errorf("over TLS: %s, certificate %v", got, serial)
	}
	overSocket := func(tr *http.Transport) {
		tr.DialContext = func(context.Context, string, string) (net.Conn, error) { return net.Dial("unix", socket) }
	}
	if got := client(overSocket); got != "HTTP/1.1" {
		t.Errorf("over a socket: %s", got)
	}
	time.Sleep(1100 * time.Millisecond)
	writeCertificate(t, folder, 2)
	if client(nil); serial.Int64() != 2 {
		t.Errorf("the certificate is still %v", serial)
	}
	time.Sleep(1100 * time.Millisecond)
	os.WriteFile(key, []byte("broken"), 0o600)
	if client(nil); serial.Int64() != 2 {
		t.Errorf("with broken files the certificate is %v", serial)
	}
	if err := stop(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(socket); err == nil {
		t.Error("the socket is left behind")
	}
	ctx, cancel := context.WithCancel(t.Context())
	if err := api.Serve(ctx, "127.0.0.1:0", func(at net.Addr) {
		resp, err := http.Get("http://" + at.String() + "/proto") // what is ready can be called
		if err != nil || resp.StatusCode != 200 {
			t.Errorf("the server calls itself: %v %v", resp, err)
		}
		cancel()
	}); err != nil {
		t.Error(err)
	}
	at, stop = started(t, api, wicketway.Serving{Addresses: []string{"127.0.0.1:0"}, UnencryptedHTTP2: true, MaxHeaderBytes: 5000})
	cleartext := func(tr *http.Transport) {
		tr.Protocols = new(http.Protocols)
		tr.Protocols.SetUnencryptedHTTP2(true)
	}
	if got := client(cleartext); got != "HTTP/2.0" {
		t.Errorf("HTTP/2 without TLS: %s", got)
	}
	r, _ := http.NewRequest("GET", "http://"+at[0].String()+"/proto", nil)
	r.Header.Set("Long", strings.Repeat("x", 10_000))
	if resp, err := http.DefaultClient.Do(r); err != nil || resp.StatusCode != 431 {
		t.Errorf("a long header: %v %v", resp, err)
	}
	if err := api.ServeWith(t.Context(), wicketway.Serving{Addresses: []string{at[0].String()}}); err == nil {
		t.Error("an address that is taken")
	}
	full := filepath.Join(folder, "full.sock")
	crowded, err := net.ListenUnix("unix", &net.UnixAddr{Name: full, Net: "unix"})
	if err != nil {
		t.Fatal(err)
	}
	defer crowded.Close()
	for { // until its queue is full
		conn, err := net.Dial("unix", full)
		if err != nil {
			break
		}
		defer conn.Close()
	}
	if err := api.ServeWith(t.Context(), wicketway.Serving{Addresses: []string{"unix:" + full}}); err == nil {
		t.Error("the socket of a live server with a full queue")
	}
	for _, address := range []string{"", ":", "localhost:", "8080", "127.0.0.1", ":99999", ":-1", ":x"} {
		want := "has no port: write :8080"
		if strings.HasPrefix(address, ":") && address != ":" {
			want = "is not a number from 0 to 65535"
		}
		if err := api.Serve(t.Context(), address); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("the address %q: %v", address, err)
		}
	}
	stop()
	for _, bad := range []wicketway.Serving{{}, {Addresses: []string{"127.0.0.1:0"}, Certificate: "nowhere.pem", Key: "nowhere.pem"}, {Addresses: []string{"unix:" + folder}}} {
		if err := api.ServeWith(t.Context(), bad); err == nil {
			t.Errorf("%+v: no error", bad)
		}
	}
	for pid, want := range map[string]string{"1": "neither an address nor a listener", strconv.Itoa(os.Getpid()): `LISTEN_FDS is "many"`} {
		t.Setenv("LISTEN_PID", pid)
		t.Setenv("LISTEN_FDS", "many")
		if err := api.ServeWith(t.Context(), wicketway.Serving{Activated: true}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("activated for process %s: %v", pid, err)
		}
	}
}
