package mqtt

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	client "github.com/eclipse/paho.mqtt.golang"
	"github.com/eclipse/paho.mqtt.golang/packets"
	"github.com/google/uuid"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// older is a link to a broker that speaks MQTT 3.1.1. That version has no properties: a
// message is a topic and a body, nobody says why something is refused, a delivery has no
// place for its key, and nothing can be asked.
type older struct{ of *link }

// Close implements connect.Link.
func (l *older) Close() error {
	l.of.mu.Lock()
	defer l.of.mu.Unlock()
	if l.of.older != nil {
		l.of.older.Disconnect(100)
	}
	l.of.older = nil
	return nil
}

// join makes a client and signs in. broke hears when its connection ends, came what comes.
func (l *older) join(ctx context.Context, id string, clean bool, broke func(error), came client.MessageHandler, w *reach.Way) (client.Client, error) {
	c, failed := l.of.c, error(nil)
	opts := client.NewClientOptions().AddBroker("tcp://broker").SetProtocolVersion(4).SetClientID(id).SetCleanSession(clean).
		SetAutoReconnect(false).SetConnectRetry(false).SetAutoAckDisabled(true).SetOrderMatters(true).
		SetKeepAlive(span(c, "/keep-alive", 30*time.Second)).SetConnectTimeout(c.TimeLimit).SetWriteTimeout(c.TimeLimit).
		SetConnectionLostHandler(func(_ client.Client, err error) { broke(fmt.Errorf("the connection broke off: %w", err)) }).
		SetDefaultPublishHandler(came). // what the broker kept comes before the subscription is made anew
		SetCustomOpenConnectionFn(func(*url.URL, client.ClientOptions) (net.Conn, error) {
			ctx, cancel := context.WithTimeout(ctx, c.TimeLimit)
			defer cancel()
			conn, err := l.of.door.Dial(ctx, c, w)
			if failed = err; err != nil {
				return nil, err
			}
			return &reach.Guarded{Conn: conn, Patience: c.TimeLimit, Look: new(guarded).look}, nil
		})
	if c.SignIn.Kind == connect.SignInBasic && len(c.SignIn.Secrets) > 0 {
		opts.SetUsername(c.SignIn.User).SetPassword(c.SignIn.Secrets[0])
	}
	made := client.NewClient(opts)
	token := made.Connect()
	if !token.WaitTimeout(c.TimeLimit) {
		made.Disconnect(0)
		return nil, &reach.Error{Step: "signing in", Err: fmt.Errorf("the broker did not answer within %s", c.TimeLimit),
			Repair: "look whether MQTT is spoken there"}
	}
	switch err := token.Error(); {
	case err == nil:
	case failed != nil:
		return nil, failed
	default:
		for returned, reason := range returns {
			if errors.Is(err, returned) {
				err = &refused{reason}
				break
			}
		}
		return nil, &reach.Error{Step: "signing in", Err: err, Repair: "look at the user, the password, and what the broker permits them"}
	}
	w.Did("signed in%s, MQTT 3.1.1", as(c))
	return made, nil
}

// returns are the return codes of MQTT 3.1.1 (3.2.2.3), and the reason codes of MQTT 5 that
// mean the same.
var returns = map[error]byte{
	packets.ErrorRefusedBadProtocolVersion: 0x84, packets.ErrorRefusedIDRejected: 0x85,
	packets.ErrorRefusedServerUnavailable: 0x88, packets.ErrorRefusedBadUsernameOrPassword: 0x86,
	packets.ErrorRefusedNotAuthorised: 0x87,
}

// Check implements connect.Link.
func (l *older) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	made, err := l.join(ctx, l.of.clientID("-test"), true, func(error) {}, nil, &w)
	r := w.Report(err, "the broker is reached, and the sign-in holds", "topics: tried by the flows that name them")
	var no *refused
	if errors.As(err, &no) {
		r.Code = fmt.Sprintf("0x%02X", no.code)
	}
	if err == nil {
		made.Disconnect(100)
	}
	return r, nil
}

// Send implements connect.Sender: one message is published, and delivered when the broker
// has acknowledged it.
func (l *older) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	p, err := publishing(r) // the same rules, without the properties
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	made, err := l.publishes(ctx)
	if err != nil {
		var no *refused
		if errors.As(err, &no) {
			return receipt(no.code, err.Error()), nil
		}
		return connect.Receipt{}, err
	}
	token := made.Publish(p.Topic, p.QoS, p.Retain, p.Payload)
	select {
	case <-token.Done():
	case <-time.After(l.of.c.TimeLimit):
		l.broken(made)
		return connect.Receipt{}, fmt.Errorf("%s did not acknowledge it within %s", l.of.c.Name, l.of.c.TimeLimit)
	case <-ctx.Done():
		return connect.Receipt{}, ctx.Err()
	}
	if err := token.Error(); err != nil {
		l.broken(made)
		return connect.Receipt{}, fmt.Errorf("the connection to %s broke off: %w", l.of.c.Name, err)
	}
	return connect.Receipt{Outcome: retry.Delivered, Code: "acknowledged"}, nil
}

// publishes gives the client that publishes, and makes it where there is none.
func (l *older) publishes(ctx context.Context) (client.Client, error) {
	l.of.mu.Lock()
	defer l.of.mu.Unlock()
	if l.of.older != nil && l.of.older.IsConnectionOpen() {
		return l.of.older, nil
	}
	made, err := l.join(ctx, l.of.clientID(""), true, func(error) {}, nil, nil)
	if err == nil {
		l.of.older = made
	}
	return made, err
}

func (l *older) broken(made client.Client) {
	l.of.mu.Lock()
	if l.of.older == made {
		l.of.older = nil
	}
	l.of.mu.Unlock()
	made.Disconnect(0)
}

// Receive implements connect.Receiver, as MQTT 5 does: what is stored and not acknowledged
// is told by its packet number.
func (l *older) Receive(
	ctx context.Context,
	in connect.Settings,
	mark []byte,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error),
) error {
	s, err := readIntake(in)
	if err != nil {
		return err
	}
	came, broke := make(chan *coming, s.atOnce), make(chan error, 4)
	fails := func(err error) {
		select {
		case broke <- err:
		default:
		}
	}
	id := l.of.clientID("-" + fingerprint([]byte(connect.FlowOf(ctx)), []byte(s.filter))[:12])
	made, err := l.join(ctx, id, false, fails, func(_ client.Client, m client.Message) {
		select { // the client reads no more while this waits, which bounds what is taken
		case came <- comingOf(m):
		case <-ctx.Done():
		}
	}, nil)
	if err != nil {
		return err
	}
	defer made.Disconnect(100)
	if err := l.subscribe(made, s.filter, s.qos); err != nil {
		return err
	}
	connect.TellReady(ctx)
	t := taking{stored: readMark(mark), most: int(s.atOnce), take: take}
	return t.all(ctx, came, broke)
}

func comingOf(m client.Message) *coming {
	out := &coming{packet: m.MessageID(), qos: m.Qos(), duplicate: m.Duplicate(), topic: m.Topic(), ack: func() error { m.Ack(); return nil }}
	out.arrival = connect.Arrival{Body: m.Payload(), Headers: []message.Header{
		{Name: headerTopic, Value: m.Topic()}, {Name: headerQoS, Value: fmt.Sprint(m.Qos())},
	}}
	if m.Retained() {
		out.arrival.Headers = append(out.arrival.Headers, message.Header{Name: headerRetained, Value: "true"})
	}
	return out
}

// subscribe asks for messages; the broker grants a quality, or refuses (3.9.3). Some refuse
// while they hold messages under the number of the packet, so it is asked with some others.
func (l *older) subscribe(made client.Client, filter string, qos byte) (err error) {
	for range 1 + mostHeld {
		if err = l.subscribeOnce(made, filter, qos); err == nil || !errors.Is(err, errRefused) {
			break
		}
	}
	return err
}

// mostHeld is how many numbers a broker may hold under which it refuses.
const mostHeld = 64

var errRefused = errors.New(words(0x87))

func (l *older) subscribeOnce(made client.Client, filter string, qos byte) error {
	token := made.Subscribe(filter, qos, nil)
	if !token.WaitTimeout(l.of.c.TimeLimit) {
		return fmt.Errorf("subscribing to %s: the broker did not answer within %s", filter, l.of.c.TimeLimit)
	}
	if err := token.Error(); err != nil {
		return fmt.Errorf("subscribing to %s: %w", filter, err)
	}
	if t, is := token.(*client.SubscribeToken); is && t.Result()[filter] >= 0x80 {
		return fmt.Errorf("subscribing to %s: %w", filter, errRefused)
	}
	return nil
}

// Peek implements connect.Peeker.
func (l *older) Peek(ctx context.Context, in connect.Settings) (*connect.Arrival, error) {
	filter, err := peeked(in)
	if err != nil {
		return nil, err
	}
	came := make(chan *coming, 1)
	made, err := l.join(ctx, l.of.clientID("-look-"+uuid.NewString()[:8]), true, func(error) {}, func(_ client.Client, m client.Message) {
		select {
		case came <- comingOf(m):
		default: // one is enough
		}
	}, nil)
	if err != nil {
		return nil, err
	}
	defer made.Disconnect(100)
	if err := l.subscribe(made, filter, 1); err != nil {
		return nil, err
	}
	select {
	case p := <-came:
		return &p.arrival, nil
	case <-time.After(patience):
		return nil, fmt.Errorf("no message came for %s within %s; try again when one is published", filter, patience)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// reading is what an intake says.
type reading struct {
	filter string
	atOnce uint16
	qos    byte
}

func readIntake(in connect.Settings) (reading, error) {
	var s struct {
		AtOnce uint16 `json:"at-once"`
		QoS    *byte
	}
	out := reading{in.Get("filter").Text, 64, 1}
	for name, into := range map[string]any{"at-once": &s.AtOnce, "qos": &s.QoS} {
		if n := in.Get(name); n != nil {
			_ = json.Unmarshal([]byte(n.Text), into)
		}
	}
	if s.AtOnce > 0 {
		out.atOnce = s.AtOnce
	}
	if s.QoS != nil {
		out.qos = *s.QoS
	}
	return out, checkFilter(out.filter)
}
