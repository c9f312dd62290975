package reach

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"readyferry/connect/connecttest"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"

	"readyferry/connect"
)

// listen speaks TLS until the handshake is through.
func listen(t *testing.T, config *tls.Config) string {
	t.Helper()
	door, err := tls.Listen("tcp", "127.0.0.1:0", config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = door.Close() })
	go func() {
		for {
			c, err := door.Accept()
			if err != nil {
				return
			}
			go func() {
				if c.(*tls.Conn).Handshake() == nil {
					_, _ = c.Write([]byte("x"))
				}
				_ = c.Close()
			}()
		}
	}()
	_, port, _ := net.SplitHostPort(door.Addr().String())
	return port
}

func connection(address string, settings map[string]string) *connect.Connection {
	root := message.NewMap()
	for name, value := range settings {
		root = root.With(name, message.NewString(value))
	}
	return &connect.Connection{
		Name: "c", Address: address, TimeLimit: 5 * time.Second,
		Settings: message.NewMap(message.Member{Name: "tls", Value: root}),
	}
}

var door = &Door{Schemes: map[string]string{"amqp": "5672", "amqps": "5671"}}

func TestEachStepSaysWhereItEndsAndWhatToDo(t *testing.T) {
	ca := connecttest.Issue(t, "County CA", nil, time.Now().Add(time.Hour))
	good := listen(t, &tls.Config{Certificates: []tls.Certificate{connecttest.Issue(t, "localhost", ca,
		time.Now().Add(time.Hour)).Pair}})
	old := listen(t, &tls.Config{Certificates: []tls.Certificate{connecttest.Issue(t, "localhost", ca,
		time.Now().Add(-time.Minute)).Pair}})
	other := listen(t, &tls.Config{Certificates: []tls.Certificate{connecttest.Issue(t, "desk.example", ca,
		time.Now().Add(time.Hour)).Pair}})
	weak := listen(t, &tls.Config{MaxVersion: tls.VersionTLS12, Certificates: []tls.Certificate{
		connecttest.Issue(t, "localhost", ca, time.Now().Add(time.Hour)).Pair,
	}})
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := free.Addr().String()
	_ = free.Close()
	trusts := map[string]string{"ca": ca.Certificate}
	for name, c := range map[string]struct {
		connection  *connect.Connection
		steps       int // that were made
		fault, mend string
	}{
		"good": {connection("amqps://localhost:"+good, trusts), 3, "", ""},
		"of one line": {connection("amqps://localhost:"+good,
			map[string]string{"ca": strings.ReplaceAll(ca.Certificate, "\n", " ")}), 3, "", ""},
		"unknown name":   {connection("amqps://nobody.invalid:1", nil), 0, "there is no such host", "name service"},
		"nobody listens": {connection("amqp://"+nobody, nil), 0, "it was refused", "firewall"},
		"unknown CA":     {connection("amqps://localhost:"+good, nil), 2, "unknown authority", "certificate authority"},
		"ended":          {connection("amqps://localhost:"+old, trusts), 2, "expired", "renew"},
		"of another":     {connection("amqps://localhost:"+other, trusts), 2, "desk.example", "name under TLS the server"},
		"of another named": {connection("amqps://localhost:"+other, map[string]string{
			"ca": ca.Certificate, "server-name": "desk.example",
		}), 3, "", ""},
		"too low": {connection("amqps://localhost:"+weak, map[string]string{
			"ca": ca.Certificate, "lowest": "1.3",
		}), 2, "protocol version", "another version"},
		"no stand-in": {connection("stand-in://desk", nil), 0, "there are no stand-ins here", "under Stand-ins"},
	} {
		t.Run(name, func(t *testing.T) {
			var w Way
			conn, err := door.Dial(context.Background(), c.connection, &w)
			made := len(w.Steps)
			r := w.Report(err, "good", "signed in")
			if conn != nil {
				_ = conn.Close()
			}
			if made != c.steps || r.OK != (c.fault == "") {
				t.Fatalf("%d steps, %v: %+v", made, err, r)
			}
			if c.fault == "" {
				if last := r.Steps[made-1].Detail; !strings.Contains(last, "by County CA") || !strings.HasPrefix(last, "TLS 1.") {
					t.Errorf("%q", last)
				}
				return
			}
			failed, untried := r.Steps[made], r.Steps[made+1]
			if !strings.Contains(failed.Detail, c.fault) || !strings.Contains(failed.Repair, c.mend) || !untried.Untried {
				t.Errorf("%+v", r.Steps)
			}
		})
	}
}

func TestWhoWantsACertificateOfOursGetsIt(t *testing.T) {
	ca := connecttest.Issue(t, "County CA", nil, time.Now().Add(time.Hour))
	ours := connecttest.Issue(t, "ferry", ca, time.Now().Add(time.Hour))
	stranger := connecttest.Issue(t, "x", nil, time.Now().Add(time.Hour))
	pool := x509.NewCertPool()
	pool.AddCert(ca.Parsed)
	port := listen(t, &tls.Config{ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: pool,
		Certificates: []tls.Certificate{
			connecttest.Issue(t, "localhost", ca, time.Now().Add(time.Hour)).Pair,
		}})
	for name, c := range map[string]struct {
		certificate, key string
		let              bool
		fault            string
	}{
		"ours":            {ours.Certificate, ours.Key, true, ""},
		"key in one line": {ours.Certificate, strings.TrimSpace(strings.ReplaceAll(ours.Key, "\n", "")), true, ""},
		"a stranger's":    {stranger.Certificate, stranger.Key, false, ""},
		"not its key":     {ours.Certificate, stranger.Key, false, "do not belong together"},
	} {
		t.Run(name, func(t *testing.T) {
			of := connection("amqps://localhost:"+port, map[string]string{"ca": ca.Certificate})
			of.SignIn = connect.SignIn{Kind: SignInMTLS, Secrets: []string{c.key}}
			of.Settings = of.Settings.With("sign-in", message.NewMap(message.Member{Name: "certificate",
				Value: message.NewString(c.certificate)}))
			conn, err := door.Dial(context.Background(), of, nil)
			if c.fault != "" {
				if err == nil || !strings.Contains(err.Error(), c.fault) {
					t.Fatal(err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			n, err := conn.Read(make([]byte, 1))
			if let := err == nil && n == 1; let != c.let {
				t.Errorf("let in: %v (%v)", let, err)
			}
			_ = conn.Close()
		})
	}
}

func TestAddressesAreLookedAt(t *testing.T) {
	for address, want := range map[string]string{
		"amqp://desk": "", "amqps://desk:1": "", "stand-in://desk": "", "http://desk": "no address", "amqp://": "no address",
		"amqp://desk/x": "no address", "amqp://u:p@desk": "holds a user", "amqp://desk?x=1": "no address",
	} {
		var got []string
		door.Check(connection(address, nil), func(_, _, msg, repair string) {
			if repair == "" {
				t.Error("it does not say what to do")
			}
			got = append(got, msg)
		})
		if (want == "") != (len(got) == 0) || want != "" && !strings.Contains(got[0], want) {
			t.Errorf("%s: %q", address, got)
		}
	}
	for address, want := range map[string]string{"amqp://desk": "desk:5672 false", "amqps://desk": "desk:5671 true",
		"amqps://[::1]:7": "[::1]:7 true"} {
		at, secure, err := door.HostPort(address)
		if got := fmt.Sprint(at, " ", secure); err != nil || got != want {
			t.Errorf("%s: %s %v", address, got, err)
		}
	}
	var bad []string
	c := connection("amqps://desk", map[string]string{"ca": "nothing"})
	c.SignIn.Kind = SignInMTLS
	CheckTLS(c, func(ptr, _, _, _ string) { bad = append(bad, ptr) })
	if fmt.Sprint(bad) != "[/tls/ca /sign-in]" {
		t.Error(bad)
	}
	if _, err := jsonfmt.Decode([]byte("{" + SignInProperty("none", "basic",
		"mtls") + "," + TLSProperty + "}")); err != nil {
		t.Error(err)
	}
	if e := (&Error{"a", errors.New("b"), ""}); e.Error() != "a: b" {
		t.Error(e)
	}
}
