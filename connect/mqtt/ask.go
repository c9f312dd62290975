package mqtt

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

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

	mu    sync.Mutex
	waits map[string]chan *paho.Publish // by correlation data
}

// hears hands an answer to whoever waits for it. One that nobody waits for, because it
// comes late or a second time, is left.
func (a *asking) hears(p *paho.Publish) {
	if p.Properties == nil {
		return
	}
	a.mu.Lock()
	wait := a.waits[string(p.Properties.CorrelationData)]
	delete(a.waits, string(p.Properties.CorrelationData))
	a.mu.Unlock()
	if wait != nil {
		wait <- p // it has room for one
	}
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
		var step *stepError
		if errors.As(err, &step) && step.code != 0 {
			return receipt(step.code, step.Error()), nil
		}
		return connect.Receipt{}, err
	}
	correlation := uuid.NewString() // each try hears its own answer alone
	p.Properties.ResponseTopic, p.Properties.CorrelationData = a.topic, []byte(correlation)
	wait := make(chan *paho.Publish, 1)
	a.mu.Lock()
	a.waits[correlation] = wait
	a.mu.Unlock()
	defer func() {
		a.mu.Lock()
		delete(a.waits, correlation)
		a.mu.Unlock()
	}()
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	answer, err := a.client.Publish(ctx, p)
	switch {
	case answer != nil && answer.ReasonCode >= 0x80:
		return receipt(answer.ReasonCode, words(answer.ReasonCode)), nil
	case errors.Is(err, paho.ErrInvalidArguments):
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	case err != nil && ctx.Err() == nil:
		l.left(a)
		return connect.Receipt{}, fmt.Errorf("the connection to %s broke off: %w", l.c.Name, err)
	case answer != nil && answer.ReasonCode == 0x10:
		return connect.Receipt{Outcome: retry.Again, Code: "0x10",
			Answer: strings.NewReader("nobody subscribes to " + p.Topic + ", so nobody answers")}, nil
	}
	select {
	case got := <-wait:
		return connect.Receipt{Outcome: retry.Delivered, Code: "0x00", Headers: headersOf(got),
			Answer: strings.NewReader(string(got.Payload))}, nil
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
	a := &asking{topic: "answers/" + id, waits: map[string]chan *paho.Publish{}}
	client, err := l.join(ctx, paho.ClientConfig{ClientID: id,
		OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(p paho.PublishReceived) (bool, error) {
			a.hears(p.Packet)
			return true, nil
		}}}, &paho.Connect{ClientID: id, CleanStart: true})
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
