package mqtt

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/eclipse/paho.golang/packets"
	"github.com/eclipse/paho.golang/paho"

	"readyferry/connect"
	"readyferry/core/flow"
)

// link is one connection to a broker: a client that publishes, made when it is needed
// and anew when it has broken, and one more for each flow that receives.
type link struct {
	c       *connect.Connection
	standIn func(name string) (net.Conn, error)
	mu      sync.Mutex
	// publisher is nil until something is published, and after it has broken.
	publisher *paho.Client
	asker     *asking
}

// Close implements connect.Link.
func (l *link) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	var errs []error
	if l.publisher != nil {
		errs = append(errs, l.publisher.Disconnect(&paho.Disconnect{}))
	}
	if l.asker != nil {
		errs = append(errs, l.asker.client.Disconnect(&paho.Disconnect{}))
	}
	l.publisher, l.asker = nil, nil
	return errors.Join(errs...)
}

// A step of reaching the broker that failed, in words.
type stepError struct {
	step string // what was tried
	err  error
	code byte // of the broker's answer; 0 for none
}

func (e *stepError) Error() string { return e.step + ": " + e.err.Error() }
func (e *stepError) Unwrap() error { return e.err }

func authorities(pem string) bool { return x509.NewCertPool().AppendCertsFromPEM([]byte(pem)) }

// dial reaches the broker's door: the name is resolved, the connection made, and where
// the address says so TLS spoken.
func (l *link) dial(ctx context.Context) (net.Conn, error) {
	if name, is := strings.CutPrefix(l.c.Address, "stand-in://"); is && l.standIn != nil {
		conn, err := l.standIn(name)
		if err != nil {
			return nil, &stepError{"reaching the stand-in " + name, err, 0}
		}
		return conn, nil
	}
	at, secure, err := hostPort(l.c)
	if err != nil {
		return nil, &stepError{"reading the address", err, 0}
	}
	host, _, _ := net.SplitHostPort(at)
	if _, err := net.DefaultResolver.LookupHost(ctx, host); err != nil {
		return nil, &stepError{"resolving the name " + host, errors.New("there is no such host"), 0}
	}
	plain, err := (&net.Dialer{Timeout: l.c.TimeLimit}).DialContext(ctx, "tcp", at)
	if err != nil {
		return nil, &stepError{"connecting to " + at, plainNet(err), 0}
	}
	if !secure {
		return plain, nil
	}
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if name := l.c.Text("/tls/server-name"); name != "" {
		config.ServerName = name
	}
	if pem := l.c.Text("/tls/ca"); pem != "" {
		config.RootCAs = x509.NewCertPool()
		config.RootCAs.AppendCertsFromPEM([]byte(pem))
	}
	conn := tls.Client(plain, config)
	if err := conn.HandshakeContext(ctx); err != nil {
		_ = plain.Close()
		return nil, &stepError{"speaking TLS with " + config.ServerName, err, 0}
	}
	return conn, nil
}

// plainNet says in words why a connection was not made.
func plainNet(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Timeout() {
		return errors.New("nobody answered in time")
	}
	if errors.As(err, &op) && op.Err != nil {
		return fmt.Errorf("it was refused (%w)", op.Err)
	}
	return err
}

// join makes a client of a configuration and signs in.
func (l *link) join(ctx context.Context, config paho.ClientConfig, cp *paho.Connect) (*paho.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.dial(ctx)
	if err != nil {
		return nil, err
	}
	config.Conn, config.PacketTimeout = packets.NewThreadSafeConn(&guarded{Conn: conn, patience: l.c.TimeLimit}), l.c.TimeLimit
	cp.KeepAlive = uint16(min(span(l.c, "/keep-alive", 30*time.Second)/time.Second, 65_535))
	if l.c.SignIn.Kind == connect.SignInBasic && len(l.c.SignIn.Secrets) > 0 {
		cp.UsernameFlag, cp.Username = true, l.c.SignIn.User
		cp.PasswordFlag, cp.Password = true, []byte(l.c.SignIn.Secrets[0])
	}
	if cp.Properties == nil {
		cp.Properties = &paho.ConnectProperties{}
	}
	cp.Properties.RequestProblemInfo = true // else user properties are left out
	most := uint32(largest)
	cp.Properties.MaximumPacketSize = &most
	client := paho.NewClient(config)
	answer, err := client.Connect(ctx, cp)
	if err != nil {
		_ = conn.Close()
		if answer != nil && answer.ReasonCode >= 0x80 {
			return nil, &stepError{"signing in", errors.New(words(answer.ReasonCode)), answer.ReasonCode}
		}
		return nil, &stepError{"signing in", err, 0}
	}
	return client, nil
}

// clientID is what a client of the connection calls itself.
func (l *link) clientID(part string) string {
	base := l.c.Text("/client-id")
	if base == "" {
		base = "readyferry-" + l.c.Name
	}
	return base + part
}

// span reads a setting that the schema has checked.
func span(c *connect.Connection, setting string, usual time.Duration) time.Duration {
	if d, err := flow.Duration(c.Text(setting)); err == nil && d > 0 {
		return d
	}
	return usual
}

// Check implements connect.Link: it goes as far as signing in and says where it ended.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	client, err := l.join(ctx, paho.ClientConfig{ClientID: l.clientID("-test")}, &paho.Connect{
		ClientID: l.clientID("-test"), CleanStart: true,
	})
	if err != nil {
		r := connect.Report{Detail: err.Error()}
		var step *stepError
		if errors.As(err, &step) && step.code != 0 {
			r.Code = fmt.Sprintf("0x%02X", step.code)
		}
		return r, nil
	}
	_ = client.Disconnect(&paho.Disconnect{})
	return connect.Report{OK: true, Code: "0x00", Detail: "the broker is reached, and the sign-in holds"}, nil
}
