package mqtt

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/eclipse/paho.golang/paho"
	"github.com/google/uuid"

	"readyferry/connect"
)

// patience is how long a sample is waited for: what the broker keeps comes at once, and
// what is published meanwhile as it is.
const patience = 15 * time.Second

// Peek implements connect.Peeker. It subscribes for itself, and beside a shared
// subscription, so nobody misses the message.
func (l *link) Peek(ctx context.Context, in connect.Settings) (*connect.Arrival, error) {
	filter, err := peeked(in)
	if err != nil {
		return nil, err
	}
	came, broke := make(chan *paho.Publish, 1), make(chan error, 1)
	id := l.clientID("-look-" + uuid.NewString()[:8])
	client, err := l.join(ctx, paho.ClientConfig{
		ClientID: id,
		OnClientError: func(err error) {
			select {
			case broke <- err:
			default:
			}
		},
		OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(p paho.PublishReceived) (bool, error) {
			select {
			case came <- p.Packet:
			default: // one is enough
			}
			return true, nil
		}},
	}, &paho.Connect{ClientID: id, CleanStart: true}, nil)
	if err != nil {
		return nil, err
	}
	defer func() { _ = client.Disconnect(&paho.Disconnect{}) }()
	if err := subscribe(ctx, client, filter, 1); err != nil {
		return nil, err
	}
	timer := time.NewTimer(patience)
	defer timer.Stop()
	select {
	case p := <-came:
		return &connect.Arrival{ID: keyOf(p), Headers: headersOf(p), Body: p.Payload}, nil
	case err := <-broke:
		return nil, fmt.Errorf("the connection broke off: %w", err)
	case <-timer.C:
		return nil, fmt.Errorf("no message came for %s within %s; try again when one is published", filter, patience)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// peeked gives the filter that a sample is looked for by: that of the intake, beside a
// shared subscription.
func peeked(in connect.Settings) (string, error) {
	filter := in.Get("filter").Text
	if err := checkFilter(filter); err != nil {
		return "", err
	}
	if rest, shared := strings.CutPrefix(filter, "$share/"); shared {
		_, filter, _ = strings.Cut(rest, "/")
	}
	return filter, nil
}
