package http

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/sign"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/system"
	"readyferry/core/want"
)

type reply struct {
	Status int
	Body   string
	connect.Receipt
}

func TestOneTry(t *testing.T) {
	var seen *http.Request
	var body string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		seen, body = r, string(b)
		switch r.URL.Path {
		case "/base/redirect":
			http.Redirect(w, r, "/base/elsewhere", http.StatusFound)
		case "/base/slow":
			<-r.Context().Done() // until the caller has had enough
		case "/base/switch":
			conn, _, err := w.(http.Hijacker).Hijack()
			if err != nil {
				t.Error(err)
				return
			}
			_, _ = io.WriteString(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: upgrade\r\nUpgrade: x\r\n\r\n")
			t.Cleanup(func() { _ = conn.Close() }) // it stays open
			return
		case "/base/large":
			_, _ = io.WriteString(w, strings.Repeat("x", 3<<20))
			return
		case "/base/large-fault":
			w.WriteHeader(http.StatusInternalServerError)
			_, _ = io.WriteString(w, strings.Repeat("x", 3<<20))
			return
		case "/base/broken":
			panic(http.ErrAbortHandler)
		}
		_, _ = io.WriteString(w, `{"ok":true}`)
	}))
	defer server.Close()
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	dead := "http://" + closed.Addr().String()
	_ = closed.Close()

	s := New(server.URL + "/base/")
	send := func(c connect.Connection, path string) (reply, error) {
		c.Name = "out"
		if c.TimeLimit == 0 {
			c.TimeLimit = 5 * time.Second
		}
		if c.Address == "" {
			c.Address = server.URL + "/base"
		}
		link, err := s.Open(context.Background(), &c)
		if err != nil {
			t.Fatal(err)
		}
		r, err := link.(connect.Sender).Send(
			context.Background(),
			connect.Request{ID: "key-1", Rules: retry.Default(), Request: want.Request{
				Method: "POST", Path: path, Body: []byte(`{"a":1}`), Headers: []message.Header{{Name: "Content-Type",
					Value: "application/json"}, {Name: "X-A", Value: "1"}},
			}},
		)
		b, bad := r.Body()
		return reply{r.Status(), string(b), r}, errors.Join(err, bad)
	}
	a, err := send(connect.Connection{SignIn: connect.SignIn{Kind: "bearer", Secrets: []string{"t"}}}, "/a%2Fb?q=1")
	if err != nil || a.Status != 200 || a.Body != `{"ok":true}` || a.Outcome != retry.Delivered {
		t.Fatalf("%+v %v", a, err)
	}
	if seen.RequestURI != "/base/a%2Fb?q=1" || body != `{"a":1}` || seen.Header.Get("Idempotency-Key") != "key-1" ||
		seen.Header.Get("X-A") != "1" ||
		seen.Header.Get("Authorization") != "Bearer t" {
		t.Errorf("%s %v %s", seen.RequestURI, seen.Header, body)
	}
	if _, err := send(connect.Connection{Address: "stand-in://redirect", SignIn: connect.SignIn{Kind: "basic", User: "u",
		Secrets: []string{"p"}}}, ""); err != nil ||
		seen.URL.Path != "/base/redirect" {
		t.Errorf("a stand-in: %v %s", err, seen.URL)
	}
	if u, p, _ := seen.BasicAuth(); u != "u" || p != "p" {
		t.Errorf("basic sign-in: %s %s", u, p)
	}
	if a, err := send(connect.Connection{SignIn: connect.SignIn{Kind: "none"}}, "/redirect"); err != nil ||
		a.Status != 302 ||
		a.Outcome != retry.Never {
		t.Errorf("a redirect is an answer: %+v %v", a, err)
	}
	if a, err := send(connect.Connection{SignIn: connect.SignIn{Kind: "none"}}, "/switch"); err != nil ||
		a.Status != 101 || a.Outcome != retry.Never {
		t.Errorf("another protocol: %+v %v", a.Receipt, err)
	}
	if a, err := send(connect.Connection{SignIn: connect.SignIn{Kind: "none"}}, "/large-fault"); err != nil ||
		a.Outcome != retry.Again {
		t.Errorf("a large fault: %v", err)
	}
	if a, err := send(connect.Connection{SignIn: connect.SignIn{Kind: "none"},
		Settings: system.Schema(`{"largest-answer": 3145728}`)}, "/large"); err != nil || len(a.Body) != 3<<20 {
		t.Errorf("as large as it may be: %d bytes, %v", len(a.Body), err)
	}
	for name, c := range map[string]struct {
		c          connect.Connection
		path, want string
		never      bool
	}{
		"slow":    {connect.Connection{TimeLimit: 50 * time.Millisecond}, "/slow", "did not answer within 50ms", false},
		"broken":  {connect.Connection{}, "/broken", "broke the connection off", false},
		"refused": {connect.Connection{Address: dead}, "/", "refused the connection", false},
		"too large": {connect.Connection{}, "/large",
			"answered 200 with more than 1048576 bytes, the largest answer that its connection takes", true},
		"no secret": {connect.Connection{SignIn: connect.SignIn{Kind: "api-key", Header: "x"}}, "/", "has no secret", false},
		"bad url":   {connect.Connection{Address: "http://%zz"}, "/", "cannot be made", true},
	} {
		if c.c.SignIn.Kind == "" {
			c.c.SignIn.Kind = "none"
		}
		_, err := send(c.c, c.path)
		if err == nil || !strings.Contains(err.Error(), c.want) || errors.Is(err, connect.ErrCannotSend) != c.never {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What a connection signs, the other side checks.
func TestRequestsAreSigned(t *testing.T) {
	var got *sign.Request
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		got = sign.Of(r, body)
		got.Scheme = "http"
	}))
	defer server.Close()
	const written = `sha256=${hmac(request.time + "." + request.body, secret, "sha256")}`
	for name, c := range map[string]struct {
		signIn string
		check  func(r *sign.Request) error
	}{
		"webhook": {`{"kind": "hmac"}`, func(r *sign.Request) error { return sign.VerifyWebhook(r, []string{"c2VjcmV0"}, time.Now()) }},
		"message": {`{"kind": "hmac", "scheme": "message-signature", "key-id": "k"}`, func(r *sign.Request) error {
			return (&sign.Message{Algorithm: sign.HMACSHA256, Secret: "c2VjcmV0", KeyID: "k"}).Verify(r, time.Now())
		}},
		"covers": {`{"kind": "hmac", "scheme": "message-signature", "covers": ["@method", "@target-uri", "idempotency-key"]}`,
			func(r *sign.Request) error {
				return (&sign.Message{Algorithm: sign.HMACSHA256, Secret: "c2VjcmV0",
					Components: []string{"@method", "@target-uri", "idempotency-key"}}).Verify(r, time.Now())
			}},
		"template": {`{"kind": "hmac", "scheme": "template", "value": ` + string(mustJSON(written)) + `, "header": "X-Mac", "time-header": "X-At"}`,
			func(r *sign.Request) error {
				tmpl, err := sign.ReadTemplate(written)
				if err != nil {
					return err
				}
				return tmpl.Verify(r, "X-Mac", "X-At", []string{"c2VjcmV0"}, time.Now())
			}},
	} {
		for _, method := range []string{"POST", "GET"} {
			registry, err := connect.NewRegistry(New(""))
			if err != nil {
				t.Fatal(err)
			}
			d, findings := registry.Read([]byte(`{"readyferry": "connection/1", "name": "c", "kind": "http", "address": "` + server.URL + `", "sign-in": ` +
				strings.Replace(c.signIn, `{"kind"`, `{"secret": "c2VjcmV0", "kind"`, 1) + `}`))
			if d == nil {
				t.Fatal(findings)
			}
			d.Connection.SignIn.Secrets = d.Secrets
			l, err := registry.Open(context.Background(), d.Connection)
			if err != nil {
				t.Fatal(err)
			}
			r, err := l.(connect.Sender).Send(context.Background(), connect.Request{ID: "id-1", Rules: retry.Default(), Request: want.Request{
				Method: method, Path: "/a%20b?c=d&e", Body: []byte(`{"n":1}`), Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
			}})
			if err != nil || r.Outcome != retry.Delivered {
				t.Fatalf("%s: %+v %v", name, r, err)
			}
			if err := c.check(got); err != nil {
				t.Errorf("%s %s: %v", name, method, err)
			}
		}
	}
}

// Bodies are compressed where the connection says so and it pays, on every try to the same
// bytes, and what is signed is what is sent.
func TestBodiesAreCompressed(t *testing.T) {
	var sent []byte
	var got *sign.Request
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		sent, _ = io.ReadAll(r.Body)
		got = sign.Of(r, sent)
		got.Scheme = "http"
	}))
	defer server.Close()
	registry, err := connect.NewRegistry(New(""))
	if err != nil {
		t.Fatal(err)
	}
	d, findings := registry.Read([]byte(`{"readyferry": "connection/1", "name": "c", "kind": "http", "address": "` + server.URL +
		`", "encoding": "gzip", "sign-in": {"kind": "hmac", "secret": "c2VjcmV0"}}`))
	if d == nil {
		t.Fatal(findings)
	}
	d.Connection.SignIn.Secrets = d.Secrets
	l, err := registry.Open(context.Background(), d.Connection)
	if err != nil {
		t.Fatal(err)
	}
	send := func(body string) (bytes []byte, encoding string) {
		t.Helper()
		r, err := l.(connect.Sender).Send(context.Background(), connect.Request{ID: "id-1", Rules: retry.Default(),
			Request: want.Request{Method: "POST", Path: "/", Body: []byte(body)}})
		if err != nil || r.Outcome != retry.Delivered {
			t.Fatalf("%+v %v", r, err)
		}
		if err := sign.VerifyWebhook(got, []string{"c2VjcmV0"}, time.Now()); err != nil {
			t.Error(err)
		}
		return sent, got.Header.Get("Content-Encoding")
	}
	if b, encoding := send("short"); string(b) != "short" || encoding != "" {
		t.Errorf("a short body is sent as %q, %q", b, encoding)
	}
	long := strings.Repeat("Larkfield ", 500)
	first, encoding := send(long)
	r, err := gzip.NewReader(bytes.NewReader(first))
	if err != nil || encoding != "gzip" {
		t.Fatal(encoding, err)
	}
	if b, err := io.ReadAll(r); err != nil || string(b) != long || len(first) > 500 {
		t.Errorf("%d bytes unfold to %d, %v", len(first), len(b), err)
	}
	if again, _ := send(long); !bytes.Equal(first, again) {
		t.Error("another try sends other bytes")
	}
}

func mustJSON(s string) []byte { b, _ := json.Marshal(s); return b }

// A connection with a proxy goes through it.
func TestAProxyIsGoneThrough(t *testing.T) {
	through := ""
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		through = r.URL.String()
		w.WriteHeader(http.StatusAccepted)
	}))
	defer proxy.Close()
	c := &connect.Connection{Name: "c", Address: "http://partner.invalid", TimeLimit: 5 * time.Second,
		SignIn: connect.SignIn{Kind: connect.SignInNone}, Settings: system.Schema(`{"proxy": "` + proxy.URL + `"}`)}
	l, err := New("").Open(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	if r, err := l.Check(context.Background()); err != nil || !r.OK || through != "http://partner.invalid/" {
		t.Errorf("%+v %v, through %s", r, err, through)
	}
	_ = l.Close()
}

// A server that wants a certificate gets ours; its own is trusted by the authority that
// the connection names, and by nothing else.
func TestACertificateSignsIn(t *testing.T) {
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if len(r.TLS.PeerCertificates) != 1 {
			w.WriteHeader(http.StatusForbidden)
		}
	}))
	server.TLS = &tls.Config{ClientAuth: tls.RequireAnyClientCert}
	server.StartTLS()
	defer server.Close()
	pair := server.TLS.Certificates[0] // good enough for both sides
	key, err := x509.MarshalPKCS8PrivateKey(pair.PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	certificate := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: pair.Certificate[0]}))
	private := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}))
	for name, c := range map[string]struct {
		signIn, authority string
		ok                bool
	}{
		"ours":           {"mtls", certificate, true},
		"none":           {"none", certificate, false},
		"nobody's trust": {"mtls", "", false},
	} {
		in := message.NewMap(message.Member{Name: "certificate", Value: message.NewString(certificate)})
		settings := message.NewMap(message.Member{Name: "sign-in", Value: in})
		if c.authority != "" {
			settings = settings.With("tls", message.NewMap(message.Member{Name: "ca", Value: message.NewString(c.authority)}))
		}
		l, err := New("").Open(context.Background(), &connect.Connection{Name: "c", Address: server.URL, TimeLimit: 5 * time.Second,
			SignIn: connect.SignIn{Kind: c.signIn, Secrets: []string{private}}, Settings: settings})
		if err != nil {
			t.Fatal(err)
		}
		r, err := l.(connect.Sender).Send(context.Background(), connect.Request{Rules: retry.Default(), Request: want.Request{Method: "POST", Path: "/"}})
		if ok := err == nil && r.Outcome == retry.Delivered; ok != c.ok {
			t.Errorf("%s: %+v %v", name, r, err)
		}
		report, err := l.Check(context.Background())
		if err != nil || c.ok && (!report.OK || !strings.HasPrefix(report.Steps[1].Detail, "TLS 1.")) {
			t.Errorf("%s: %+v %v", name, report, err)
		}
	}
}
