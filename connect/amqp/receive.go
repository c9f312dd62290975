package amqp

import (
	"context"
	"errors"
	"fmt"
	"time"

	client "github.com/rabbitmq/amqp091-go"

	"readyferry/connect"
)

// batch is how many messages one commit takes at most.
const batch = 64

// looks is how often the length of the queue is looked at.
const looks = 10 * time.Second

// Receive implements connect.Receiver. The broker hands over as many messages as at-once
// says; they are acknowledged when the commit that stores them is through. There is no
// mark: what is not acknowledged the broker brings again, and its message-id tells that.
func (l *link) Receive(
	ctx context.Context,
	in connect.Settings,
	_ []byte,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error),
) error {
	conn, err := l.join(ctx, " "+connect.SettingText(in, "queue"), nil)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	ch, err := conn.Channel()
	if err != nil {
		return inWords(err)
	}
	ended := ch.NotifyClose(make(chan *client.Error, 1))
	came, err := consume(ch, in)
	if err != nil {
		return fmt.Errorf("taking from the queue %s: %w", connect.SettingText(in, "queue"), inWords(err))
	}
	connect.TellReady(ctx)
	look := time.NewTicker(looks)
	defer look.Stop()
	backlog(ctx, conn, connect.SettingText(in, "queue"))
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case why := <-ended:
			if why == nil {
				return l.broke(nil)
			}
			return l.broke(why)
		case <-look.C:
			backlog(ctx, conn, connect.SettingText(in, "queue"))
		case d, open := <-came:
			if !open {
				return errors.New("the broker takes the queue away, or ends the reception")
			}
			list := connect.Gather(d, came, batch)
			if err := store(ctx, list, take); err != nil {
				return err
			}
		}
	}
}

// consume asks for the messages of a queue.
func consume(ch *client.Channel, in connect.Settings) (<-chan client.Delivery, error) {
	queue, atOnce := connect.SettingText(in, "queue"), 64
	if n := connect.SettingText(in, "at-once"); n != "" {
		_, _ = fmt.Sscan(n, &atOnce)
	}
	if connect.SettingText(in, "make") == "true" {
		if _, err := ch.QueueDeclare(queue, true, false, false, false, nil); err != nil {
			return nil, err
		}
	}
	if bind := in.Get("bind"); bind != nil && connect.SettingText(bind, "exchange") != "" {
		if err := ch.QueueBind(queue, connect.SettingText(bind, "pattern"), connect.SettingText(bind, "exchange"), false, nil); err != nil {
			return nil, err
		}
	}
	if err := ch.Qos(atOnce, 0, false); err != nil {
		return nil, err
	}
	return ch.Consume(queue, "", false, false, false, false, nil)
}

// store has messages stored and acknowledges them.
func store(ctx context.Context, list []client.Delivery, take func(context.Context,
	[]connect.Arrival) ([]connect.Taken, error)) error {
	arrivals := make([]connect.Arrival, len(list))
	for i := range list {
		arrivals[i] = connect.Arrival{ID: list[i].MessageId, Headers: headersOf(&list[i]), Body: list[i].Body}
	}
	if _, err := take(ctx, arrivals); err != nil {
		return err
	}
	if err := list[len(list)-1].Ack(true); err != nil { // and all before it, which are stored as well
		return fmt.Errorf("acknowledging: %w", err)
	}
	return nil
}

// backlog tells how many messages wait in a queue. Its channel is its own, for a queue
// that cannot be looked at closes it.
func backlog(ctx context.Context, conn *client.Connection, queue string) {
	ch, err := conn.Channel()
	if err != nil {
		return
	}
	defer func() { _ = ch.Close() }()
	if q, err := ch.QueueDeclarePassive(queue, true, false, false, false, nil); err == nil {
		connect.TellBehind(ctx, int64(q.Messages))
	}
}

// Peek implements connect.Peeker: a message is got and given back, so that nobody misses
// it; the broker brings it to others as one that was handed over before.
func (l *link) Peek(ctx context.Context, in connect.Settings) (*connect.Arrival, error) {
	var out *connect.Arrival
	err := l.look(ctx, nil, func(ch *client.Channel) error {
		d, is, err := ch.Get(connect.SettingText(in, "queue"), false)
		if err != nil {
			return fmt.Errorf("looking into the queue %s: %w", connect.SettingText(in, "queue"), inWords(err))
		}
		if !is {
			return fmt.Errorf("no message waits in the queue %s", connect.SettingText(in, "queue"))
		}
		out = &connect.Arrival{ID: d.MessageId, Headers: headersOf(&d), Body: d.Body}
		return d.Nack(false, true)
	})
	return out, err
}
