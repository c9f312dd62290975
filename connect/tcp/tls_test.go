package tcp

import (
	"crypto/tls"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
	"readyferry/connect/reach"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// secured is a connection that shows a certificate and trusts an authority.
func secured(t *testing.T, address string, own, ca *connecttest.Issued) *connect.Connection {
	t.Helper()
	text := message.NewString
	c := &connect.Connection{Address: address, TimeLimit: 10 * time.Second, Settings: message.NewMap(
		message.Member{Name: "tls", Value: message.NewMap(message.Member{Name: "ca", Value: text(ca.Certificate)},
			message.Member{Name: "server-name", Value: text("partner.example.org")})},
		message.Member{Name: "sign-in", Value: message.NewMap(message.Member{Name: "certificate",
			Value: text(own.Certificate)})})}
	c.SignIn = connect.SignIn{Kind: reach.SignInMTLS, Secrets: []string{own.Key}}
	return c
}

func TestAListenerOverTLSKnowsWhoComes(t *testing.T) {
	until := time.Now().Add(time.Hour)
	ca := connecttest.Issue(t, "County CA", nil, until)
	other := connecttest.Issue(t, "Other CA", nil, until)
	got := make(chan connect.Arrival, 10)
	in := secured(t, "listens://", connecttest.Issue(t, "partner.example.org", ca, until), ca)
	at := receivesBy(t, in, `{}`, func(a connect.Arrival) (connect.Answer, error) {
		got <- a
		return connect.Answer{Status: 202}, nil
	})

	s := New(nil)
	l := connecttest.Open(t, s, secured(t, "tcps://"+at, connecttest.Issue(t, "home-visits", ca, until), ca))
	if r, err := connecttest.Send(l, `{}`, "x", admit); err != nil || r.Outcome != retry.Delivered {
		t.Fatalf("%+v %v", r, err)
	}
	if h := (<-got).Headers; h[len(h)-1] != (message.Header{Name: HeaderClient, Value: "home-visits"}) {
		t.Errorf("the headers are %v", h)
	}

	stranger := connecttest.Open(t, s, secured(t, "tcps://"+at, connecttest.Issue(t, "stranger", other, until), ca))
	if r, err := connecttest.Send(stranger, `{}`, "x", admit); err == nil && r.Outcome == retry.Delivered {
		t.Error("a certificate of another authority is let in")
	}
	if answer := dial(t, at)(admit); strings.Contains(answer, "MSA|AA") {
		t.Error("who speaks no TLS is let in")
	}
	conn, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12})
	if err == nil { // with TLS 1.3 the refusal comes with the first answer
		_, _ = conn.Write([]byte("\x0B" + admit + "\x1C\r"))
		if n, err := conn.Read(make([]byte, 1)); err == nil {
			t.Errorf("who shows no certificate has an answer of %d bytes", n)
		}
		_ = conn.Close()
	}
	if len(got) > 0 {
		t.Errorf("a message of %v was taken", (<-got).Headers)
	}
}

func TestAListenerOverTLSNeedsACertificate(t *testing.T) {
	var codes []string
	c := &connect.Connection{Address: "listens://127.0.0.1:2575"}
	New(nil).Check(c, func(_, code, _, _ string) { codes = append(codes, code) })
	if len(codes) != 1 || codes[0] != "missing-key" {
		t.Errorf("found %v", codes)
	}
	codes = nil
	New(nil).Check(&connect.Connection{Address: "listen://127.0.0.1:2575", Settings: connecttest.Settings(map[string]string{
		"proxy": "http://proxy.example.org"})}, func(_, code, _, _ string) { codes = append(codes, code) })
	if len(codes) != 1 || codes[0] != "wrong-value" {
		t.Errorf("a proxy of one who listens: %v", codes)
	}
	c.SignIn = connect.SignIn{Kind: reach.SignInMTLS, Secrets: []string{"no key"}}
	report, err := (&link{c: c}).Check(t.Context())
	if err != nil || report.OK || !strings.Contains(report.Detail, "do not belong together") {
		t.Errorf("%+v %v", report, err)
	}
}
