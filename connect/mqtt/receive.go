package mqtt

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/eclipse/paho.golang/paho"

	"readyferry/connect"
)

// batch is how many messages one commit takes at most.
const batch = 64

// Receive implements connect.Receiver. The broker hands over as many messages as
// at-once says; each is acknowledged when the commit that stores it is through. The
// mark holds what is stored and perhaps not acknowledged: what the broker brings again
// because it has not heard of it (the flag DUP, 3.3.1.1) is acknowledged and not taken.
func (l *link) Receive(
	ctx context.Context,
	in connect.Settings,
	mark []byte,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error),
) error {
	s, err := readIntake(in)
	if err != nil {
		return err
	}
	filter, atOnce, qos := s.filter, s.atOnce, s.qos
	came, broke := make(chan *coming, atOnce), make(chan error, 4)
	fails := func(err error) {
		select {
		case broke <- err:
		default:
		}
	}
	id := l.clientID("-" + fingerprint([]byte(connect.FlowOf(ctx)), []byte(filter))[:12])
	keeps := uint32(min(span(l.c, "/session", 24*time.Hour)/time.Second, 1<<32-2))
	client, err := l.join(ctx, paho.ClientConfig{
		ClientID:                   id,
		EnableManualAcknowledgment: true,
		SendAcksInterval:           20 * time.Millisecond,
		OnClientError:              func(err error) { fails(fmt.Errorf("the connection broke off: %w", err)) },
		OnServerDisconnect: func(d *paho.Disconnect) {
			fails(errors.New(words(d.ReasonCode)))
		},
		OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(p paho.PublishReceived) (bool, error) {
			one := p.Packet
			select {
			case came <- &coming{one.PacketID, one.QoS, one.Duplicate(), one.Topic,
				connect.Arrival{ID: keyOf(one), Headers: headersOf(one), Body: one.Payload}, func() error { return p.Client.Ack(one) }}:
			case <-ctx.Done():
			}
			return true, nil
		}},
	}, &paho.Connect{
		ClientID: id, CleanStart: false,
		Properties: &paho.ConnectProperties{SessionExpiryInterval: &keeps, ReceiveMaximum: &atOnce},
	}, nil)
	if err != nil {
		return err
	}
	defer func() { _ = client.Disconnect(&paho.Disconnect{}) }()
	if err := subscribe(ctx, client, filter, qos); err != nil {
		return err
	}
	connect.TellReady(ctx)
	t := taking{stored: readMark(mark), most: int(atOnce), take: take}
	return t.all(ctx, came, broke)
}

// all takes what comes until it breaks.
func (t *taking) all(ctx context.Context, came <-chan *coming, broke <-chan error) error {
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case err := <-broke:
			return err
		case p := <-came:
			if err := t.these(ctx, connect.Gather(p, came, batch)); err != nil {
				return err
			}
		}
	}
}

// inUse is the reason code of a packet number that is taken. Some brokers count their own
// numbers with ours, so that a subscription is refused while they hold messages for us.
const inUse = 0x91

// subscribe asks for messages; each time with another packet number.
func subscribe(ctx context.Context, client *paho.Client, filter string, qos byte) error {
	for tries := 0; ; tries++ {
		answer, err := client.Subscribe(ctx, &paho.Subscribe{Subscriptions: []paho.SubscribeOptions{
			{Topic: filter, QoS: qos, RetainAsPublished: true, RetainHandling: 1}, // kept messages for a new subscription alone
		}})
		if err == nil {
			return nil
		}
		if answer == nil || len(answer.Reasons) != 1 || answer.Reasons[0] < 0x80 {
			return fmt.Errorf("subscribing to %s: %w", filter, err)
		}
		if answer.Reasons[0] != inUse || tries == math.MaxUint16 {
			return fmt.Errorf("subscribing to %s: %s", filter, words(answer.Reasons[0]))
		}
	}
}

// coming is a message that the broker hands over, of either version of the protocol.
type coming struct {
	packet    uint16
	qos       byte
	duplicate bool // it was handed over before (3.3.1.1)
	topic     string
	arrival   connect.Arrival
	ack       func() error
}

// taking takes what a broker hands over.
type taking struct {
	stored []stored // what is stored and perhaps not acknowledged, the newest last
	most   int      // of them: the broker hands over no more before the first is acknowledged
	take   func(context.Context, []connect.Arrival) ([]connect.Taken, error)
}

// stored is a message that a commit holds: the number that the broker gave it, and what
// it was. The number is given away anew once the message is acknowledged.
type stored struct {
	Packet uint16 `json:"packet"`
	Print  string `json:"print"`
}

// note adds a message to those that are stored, and tells whether it was there.
func (t *taking) note(p *coming) (was bool) {
	one := stored{p.packet, fingerprint([]byte(p.topic), p.arrival.Body)}
	at := slices.IndexFunc(t.stored, func(s stored) bool { return s.Packet == one.Packet })
	if at >= 0 {
		was = t.stored[at] == one
		t.stored = slices.Delete(t.stored, at, at+1)
	}
	if t.stored = append(t.stored, one); len(t.stored) > t.most {
		t.stored = slices.Delete(t.stored, 0, len(t.stored)-t.most)
	}
	return was
}

// these stores messages and acknowledges them.
func (t *taking) these(ctx context.Context, list []*coming) error {
	var arrivals []connect.Arrival
	for _, p := range list {
		if again := p.qos > 0 && t.note(p) && p.duplicate; !again {
			arrivals = append(arrivals, p.arrival)
		}
	}
	if len(arrivals) > 0 {
		mark, err := json.Marshal(t.stored)
		if err != nil {
			return err
		}
		arrivals[len(arrivals)-1].Mark = mark
		if _, err := t.take(ctx, arrivals); err != nil {
			return err
		}
	}
	for _, p := range list {
		if err := p.ack(); err != nil {
			return fmt.Errorf("acknowledging: %w", err)
		}
	}
	return nil
}

// keyOf is what the sender tells repeats by; "" where it says nothing.
func keyOf(p *paho.Publish) string {
	if p.Properties == nil {
		return ""
	}
	for _, u := range p.Properties.User {
		if strings.EqualFold(u.Key, KeyProperty) {
			return u.Value
		}
	}
	return ""
}

// fingerprint tells texts apart.
func fingerprint(parts ...[]byte) string {
	h := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(h, "%d:", len(p))
		h.Write(p)
	}
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil)[:18])
}

// readMark reads what an earlier mark holds; nothing where it is none.
func readMark(mark []byte) (out []stored) {
	_ = json.Unmarshal(mark, &out)
	return out
}
