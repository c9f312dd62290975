package amqp

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	client "github.com/rabbitmq/amqp091-go"

	"readyferry/connect"
	"readyferry/core/retry"
)

// asking is a queue of our own into which answers come. Questions name it as reply-to,
// and carry a correlation-id by which each answer finds who asked (1.8.2).
type asking struct {
	queue string
	of    *client.Connection
	gone  chan struct{} // closed when no more answers come
}

// OnLate implements connect.Hearer.
func (l *link) OnLate(told func(id string, r connect.Receipt)) {
	l.answers.Late(func(id string, d *client.Delivery) { told(id, answered(d)) })
}

func answered(d *client.Delivery) connect.Receipt {
	return connect.Receipt{Outcome: retry.Delivered, Code: "answered", Headers: headersOf(d),
		Answer: bytes.NewReader(d.Body)}
}

// Ask implements connect.Asker: a question is published, and the first answer with its
// correlation-id taken. No answer in time leaves the outcome unknown, so it is asked
// again.
func (l *link) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	out, err := outgoingOf(r)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	a, err := l.asks(ctx)
	if err != nil {
		var no *refused
		if errors.As(err, &no) {
			return receipt(no.code, no.text)
		}
		return connect.Receipt{}, err
	}
	correlation, wait, done := l.answers.Expect(r.ID)
	defer done()
	out.CorrelationId, out.ReplyTo, out.DeliveryMode = correlation, a.queue, client.Transient
	sent, err := l.publish(ctx, out)
	if err != nil || sent.Outcome != retry.Delivered {
		return sent, err
	}
	select {
	case d := <-wait:
		return answered(d), nil
	case <-a.gone:
		return connect.Receipt{}, l.broke(nil)
	case <-ctx.Done():
		return connect.Receipt{}, fmt.Errorf("%s: nobody answered within %s", l.c.Name, l.c.TimeLimit)
	}
}

// asks gives the queue into which answers come, and makes it where there is none.
func (l *link) asks(ctx context.Context) (*asking, error) {
	conn, err := l.connection(ctx)
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.asker != nil && l.asker.of == conn {
		select {
		case <-l.asker.gone:
		default:
			return l.asker, nil
		}
	}
	ch, err := conn.Channel()
	if err != nil {
		return nil, l.broke(err)
	}
	q, err := ch.QueueDeclare("", false, true, true, false, nil)
	if err != nil {
		return nil, inWords(err)
	}
	came, err := ch.Consume(q.Name, "", true, true, false, false, nil)
	if err != nil {
		return nil, inWords(err)
	}
	a := &asking{queue: q.Name, of: conn, gone: make(chan struct{})}
	go func() {
		defer close(a.gone)
		for d := range came {
			l.answers.Hears(d.CorrelationId, &d)
		}
	}()
	l.asker = a
	return a, nil
}
