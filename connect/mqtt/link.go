package mqtt

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/eclipse/paho.golang/packets"
	"github.com/eclipse/paho.golang/paho"
	client "github.com/eclipse/paho.mqtt.golang"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/flow"
)

// link is one connection to a broker: a client that publishes, made when it is needed
// and anew when it has broken, and one more for each flow that receives.
type link struct {
	c    *connect.Connection
	door *reach.Door
	mu   sync.Mutex
	// publisher is nil until something is published, and after it has broken.
	publisher *paho.Client
	older     client.Client // publishes by MQTT 3.1.1
	asker     *asking
	answers   connect.Answers[*paho.Publish]
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

// refused is what a broker answers with a reason code.
type refused struct{ code byte }

func (e *refused) Error() string { return words(e.code) }

// join makes a client of a configuration and signs in.
func (l *link) join(ctx context.Context, config paho.ClientConfig, cp *paho.Connect, w *reach.Way) (*paho.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.door.Dial(ctx, l.c, w)
	if err != nil {
		return nil, err
	}
	config.Conn, config.PacketTimeout = packets.NewThreadSafeConn(&reach.Guarded{Conn: conn, Patience: l.c.TimeLimit, Look: new(guarded).look}), l.c.TimeLimit
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
			err = &refused{answer.ReasonCode}
		}
		return nil, &reach.Error{Step: "signing in", Err: err, Repair: "look at the user, the password, and what the broker permits them"}
	}
	w.Did("signed in%s", as(l.c))
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

// as says who has signed in.
func as(c *connect.Connection) string {
	switch c.SignIn.Kind {
	case connect.SignInBasic:
		return " as " + c.SignIn.User
	case reach.SignInMTLS:
		return " with the client certificate"
	}
	return ", as nobody in particular"
}

// Check implements connect.Link: it goes as far as publishing could, and says where it
// ended.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	client, err := l.join(ctx, paho.ClientConfig{ClientID: l.clientID("-test")}, &paho.Connect{
		ClientID: l.clientID("-test"), CleanStart: true,
	}, &w)
	r := w.Report(err, "the broker is reached, and the sign-in holds", "topics: tried by the flows that name them")
	if err != nil {
		var no *refused
		if errors.As(err, &no) {
			r.Code = fmt.Sprintf("0x%02X", no.code)
		}
		return r, nil
	}
	_ = client.Disconnect(&paho.Disconnect{})
	r.Code = "0x00"
	return r, nil
}
