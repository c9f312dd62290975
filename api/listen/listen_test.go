package listen

import (
	"crypto/tls"
	"crypto/x509"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestOneAddressHoldsSoManyConnections(t *testing.T) {
	l, err := Open(Config{Address: "127.0.0.1:0", PerAddress: 3})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	accepted := make(chan net.Conn)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				close(accepted)
				return
			}
			accepted <- c
		}
	}()
	dial := func() net.Conn {
		c, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	var held []net.Conn
	for range 3 {
		dial()
		held = append(held, <-accepted)
	}
	if _, err := dial().Read(make([]byte, 1)); err == nil {
		t.Error("a fourth one stays open")
	}
	if err := held[0].Close(); err != nil {
		t.Fatal(err)
	}
	_ = held[0].Close() // twice counts once
	dial()
	<-accepted
	if _, err := dial().Read(make([]byte, 1)); err == nil {
		t.Error("closing twice made room for two")
	}
}

// A certificate is read anew when its files change, HTTP/2 is spoken, old TLS is not, and a pair that
// cannot be read leaves the last one.
func TestCertificates(t *testing.T) {
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	dir, now := t.TempDir(), time.Now()
	f, err := SelfMade(dir, []string{"localhost", "127.0.0.1"}, log, now)
	if err != nil {
		t.Fatal(err)
	}
	f.Now = func() time.Time { return now }
	config, err := f.Config()
	if err != nil {
		t.Fatal(err)
	}
	l, err := Open(Config{Address: "127.0.0.1:0", TLS: config})
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_,
			_ = io.WriteString(w, r.Proto)
	}),
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelInfo)}
	go func() { _ = server.Serve(l) }()
	defer server.Close()
	ask := func(c *tls.Config) (string, *x509.Certificate, error) {
		client := &http.Client{Transport: &http.Transport{TLSClientConfig: c, ForceAttemptHTTP2: true}}
		res, err := client.Get("https://" + l.Addr().String())
		if err != nil {
			return "", nil, err
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		return string(b), res.TLS.PeerCertificates[0], err
	}
	pool := func() *x509.CertPool {
		text, err := os.ReadFile(f.Cert)
		if err != nil {
			t.Fatal(err)
		}
		p := x509.NewCertPool()
		p.AppendCertsFromPEM(text)
		return p
	}
	proto, first, err := ask(&tls.Config{RootCAs: pool()})
	if err != nil || proto != "HTTP/2.0" {
		t.Fatalf("%s %v", proto, err)
	}
	if _, _, err := ask(&tls.Config{RootCAs: pool(), MaxVersion: tls.VersionTLS11,
		MinVersion: tls.VersionTLS10}); err == nil {
		t.Error("TLS 1.1 is spoken")
	}
	again, err := SelfMade(dir, []string{"localhost"}, log, now)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(again.Key); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key may be read by others: %v %v", info.Mode(), err)
	}
	if _, same, err := ask(&tls.Config{RootCAs: pool()}); err != nil || !same.Equal(first) {
		t.Errorf("another was made: %v", err)
	}
	if _, err := SelfMade(dir, []string{"ferry.example.org"}, log, now); err != nil {
		t.Fatal(err)
	}
	later := time.Now().Add(time.Minute)
	for _, name := range []string{f.Cert, f.Key} {
		if err := os.Chtimes(name, later, later); err != nil {
			t.Fatal(err)
		}
	}
	now = now.Add(lookEach)
	if _, other, err := ask(&tls.Config{RootCAs: pool(), ServerName: "ferry.example.org"}); err != nil ||
		other.Equal(first) {
		t.Errorf("the new certificate is not shown: %v", err)
	}
	if err := os.WriteFile(filepath.Join(dir, "self-made.key"), []byte("none"), 0o600); err != nil {
		t.Fatal(err)
	}
	now = now.Add(lookEach)
	if _, _, err := ask(&tls.Config{RootCAs: pool(), ServerName: "ferry.example.org"}); err != nil {
		t.Errorf("the last one does not stay: %v", err)
	}
}
