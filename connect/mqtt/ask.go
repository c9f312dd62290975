package mqtt

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"github.com/eclipse/paho.golang/paho"
	"github.com/google/uuid"

	"readyferry/connect"
	"readyferry/core/retry"
)

// asking is a client that asks and hears the answers: requests carry a response topic of
// its own, and correlation data by which each answer finds who asked (MQTT 5.0, 4.10).
type asking struct {
	client *paho.Client
	topic  string // where answers come
}

// hears hands an answer to whoever waits for it.
func (l *link) hears(p *paho.Publish) {
	if p.Properties != nil {
		l.answers.Hears(string(p.Properties.CorrelationData), p)
	}
}

// OnLate implements connect.Hearer.
func (l *link) OnLate(told func(id string, r connect.Receipt)) {
	l.answers.Late(func(id string, p *paho.Publish) { told(id, answered(p)) })
}

// answered makes a receipt of an answer.
func answered(p *paho.Publish) connect.Receipt {
	return connect.Receipt{Outcome: retry.Delivered, Code: "0x00", Headers: headersOf(p), Answer: bytes.NewReader(p.Payload)}
}

// Ask implements connect.Asker: a request is published, and the first answer with its
// correlation data taken. No answer in time leaves the outcome unknown, so it is asked
// again.
func (l *link) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	p, err := publishing(r)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	a, err := l.asks(ctx)
	if err != nil {
		var no *refused
		if errors.As(err, &no) {
			return receipt(no.code, err.Error()), nil
		}
		return connect.Receipt{}, err
	}
	correlation, wait, done := l.answers.Expect(r.ID)
	defer done()
	p.Properties.ResponseTopic, p.Properties.CorrelationData = a.topic, []byte(correlation)
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	answer, err := a.client.Publish(ctx, p)
	switch {
	case answer != nil && answer.ReasonCode >= 0x80:
		return receipt(answer.ReasonCode, ""), nil
	case errors.Is(err, paho.ErrInvalidArguments):
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	case err != nil && ctx.Err() == nil:
		l.left(a)
		return connect.Receipt{}, fmt.Errorf("the connection to %s broke off: %w", l.c.Name, err)
	case answer != nil && answer.ReasonCode == 0x10:
		return connect.Receipt{Outcome: retry.Again, Code: "0x10",
			Words: "nobody subscribes to " + p.Topic + ", so nobody answers (reason 0x10)"}, nil
	}
	select {
	case got := <-wait:
		return answered(got), nil
	case <-a.client.Done():
		l.left(a)
		return connect.Receipt{}, fmt.Errorf("the connection to %s broke off", l.c.Name)
	case <-ctx.Done():
		return connect.Receipt{}, fmt.Errorf("nobody answered at %s within %s", p.Topic, l.c.TimeLimit)
	}
}

// asks gives the client that asks, and makes it where there is none.
func (l *link) asks(ctx context.Context) (*asking, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.asker != nil {
		select {
		case <-l.asker.client.Done():
		default:
			return l.asker, nil
		}
	}
	l.asker = nil
	id := l.clientID("-ask-" + uuid.NewString()[:8])
	a := &asking{topic: "answers/" + id}
	client, err := l.join(ctx, paho.ClientConfig{ClientID: id,
		OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(p paho.PublishReceived) (bool, error) {
			l.hears(p.Packet)
			return true, nil
		}}}, &paho.Connect{ClientID: id, CleanStart: true}, nil)
	if err != nil {
		return nil, err
	}
	a.client = client
	if err := subscribe(ctx, client, a.topic, 1); err != nil {
		_ = client.Disconnect(&paho.Disconnect{})
		return nil, err
	}
	l.asker = a
	return a, nil
}

// left lets the next question begin with a new client.
func (l *link) left(a *asking) {
	l.mu.Lock()
	if l.asker == a {
		l.asker = nil
	}
	l.mu.Unlock()
	_ = a.client.Disconnect(&paho.Disconnect{})
}
