package amqp1

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	client "github.com/Azure/go-amqp"

	"readyferry/connect"
	"readyferry/core/retry"
)

// Send implements connect.Sender: one message is transferred, and delivered when the broker
// has accepted it.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	out, err := outgoingOf(r)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	return l.transfer(ctx, out)
}

func (l *link) transfer(ctx context.Context, out *outgoing) (connect.Receipt, error) {
	s, err := l.sender(ctx, out.target)
	if err != nil {
		return l.ended(ctx, err)
	}
	sent, err := s.SendWithReceipt(ctx, out.Message, nil)
	if err == nil {
		var state client.DeliveryState
		if state, err = sent.Wait(ctx); err == nil {
			return settled(state)
		}
	}
	l.lost(out.target, s)
	return l.ended(ctx, err)
}

// asking is a source of our own, named by the broker, from which answers come.
type asking struct {
	address string
	of      *joined
	gone    chan struct{} // closed when no more answers come
}

// OnLate implements connect.Hearer.
func (l *link) OnLate(told func(id string, r connect.Receipt)) {
	l.answers.Late(func(id string, m *client.Message) { told(id, answered(m)) })
}

func answered(m *client.Message) connect.Receipt {
	return connect.Receipt{Outcome: retry.Delivered, Code: "answered", Headers: headersOf(m),
		Answer: bytes.NewReader(bodyOf(m))}
}

// Ask implements connect.Asker: a question is transferred, and the first answer with its
// correlation-id taken.
func (l *link) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	out, err := outgoingOf(r)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	a, err := l.asks(ctx)
	if err != nil {
		return l.ended(ctx, err)
	}
	key, wait, done := l.answers.Expect(r.ID)
	defer done()
	out.Properties.CorrelationID, out.Properties.ReplyTo = key, &a.address
	sent, err := l.transfer(ctx, out)
	if err != nil || sent.Outcome != retry.Delivered {
		return sent, err
	}
	select {
	case m := <-wait:
		return answered(m), nil
	case <-a.gone:
		return connect.Receipt{}, l.broke(nil)
	case <-ctx.Done():
		return connect.Receipt{}, fmt.Errorf("%s: nobody answered within %s", l.c.Name, l.c.TimeLimit)
	}
}

// asks gives the source of answers, and makes it where there is none.
func (l *link) asks(ctx context.Context) (*asking, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	j, err := l.connection(ctx)
	if err != nil {
		return nil, err
	}
	if l.asker != nil && l.asker.of == j {
		select {
		case <-l.asker.gone:
		default:
			return l.asker, nil
		}
	}
	own := l.c.Text("/reply-to")
	from, err := j.session.NewReceiver(ctx, own, &client.ReceiverOptions{DynamicAddress: own == "", Credit: 1000,
		MaxMessageSize: largest})
	if err != nil {
		return nil, err
	}
	a := &asking{address: own, of: j, gone: make(chan struct{})}
	if own == "" {
		a.address = from.Address()
	}
	go func() {
		defer close(a.gone)
		for {
			m, err := from.Receive(context.Background(), nil)
			if err != nil {
				return
			}
			_ = from.AcceptMessage(context.Background(), m)
			if m.Properties != nil {
				l.answers.Hears(idText(m.Properties.CorrelationID), m)
			}
		}
	}()
	l.asker = a
	return a, nil
}

// Receive implements connect.Receiver. The broker hands over as many messages as at-once
// says; they are accepted when the commit that stores them is through.
func (l *link) Receive(
	ctx context.Context,
	in connect.Settings,
	_ []byte,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error),
) error {
	source, atOnce := connect.SettingText(in, "source"), 64
	if n := connect.SettingText(in, "at-once"); n != "" {
		_, _ = fmt.Sscan(n, &atOnce)
	}
	j, err := l.join(ctx, nil)
	if err != nil {
		return err
	}
	defer func() {
		if j != nil {
			j.close()
		}
	}()
	from, err := l.receiver(ctx, j, source, int32(atOnce))
	if err != nil {
		return fmt.Errorf("receiving from %s: %w", source, inWords(err))
	}
	connect.TellReady(ctx)
	for {
		m, err := awaits(ctx, from)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.Is(err, context.DeadlineExceeded):
			j.close() // the whole connection: what is stuck answers to nothing
			if j, err = l.join(ctx, nil); err != nil {
				return err
			}
			if from, err = l.receiver(ctx, j, source, int32(atOnce)); err != nil {
				return fmt.Errorf("receiving from %s: %w", source, inWords(err))
			}
			continue
		case err != nil:
			return l.broke(err)
		}
		list := []*client.Message{m}
		for len(list) < batch {
			if m = from.Prefetched(); m == nil {
				break
			}
			list = append(list, m)
		}
		if err := store(ctx, from, list, take); err != nil {
			return err
		}
	}
}

// quiet is how long nothing comes before a receiver connects anew: some brokers lose count of
// what they may hand over, and hand nothing over any more. What was on its way comes again.
var quiet = 5 * time.Minute

func awaits(ctx context.Context, from *client.Receiver) (*client.Message, error) {
	ctx, cancel := context.WithTimeout(ctx, quiet)
	defer cancel()
	return from.Receive(ctx, nil)
}

// batch is how many messages one commit takes at most.
const batch = 64

func (l *link) receiver(ctx context.Context, j *joined, source string, credit int32) (*client.Receiver, error) {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	return j.session.NewReceiver(ctx, source, &client.ReceiverOptions{Credit: credit, MaxMessageSize: largest})
}

// store has messages stored and accepts them.
func store(
	ctx context.Context,
	from *client.Receiver,
	list []*client.Message,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error),
) error {
	arrivals := make([]connect.Arrival, len(list))
	for i, m := range list {
		arrivals[i] = connect.Arrival{Headers: headersOf(m), Body: bodyOf(m)}
		if m.Properties != nil {
			arrivals[i].ID = idText(m.Properties.MessageID)
		}
	}
	if _, err := take(ctx, arrivals); err != nil {
		return err
	}
	for _, m := range list {
		if err := from.AcceptMessage(ctx, m); err != nil {
			return fmt.Errorf("accepting: %w", inWords(err))
		}
	}
	return nil
}

// Peek implements connect.Peeker: a message is received and released, so that nobody misses
// it.
func (l *link) Peek(ctx context.Context, in connect.Settings) (*connect.Arrival, error) {
	j, err := l.join(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer j.close()
	from, err := l.receiver(ctx, j, connect.SettingText(in, "source"), 1)
	if err != nil {
		return nil, fmt.Errorf("looking at %s: %w", connect.SettingText(in, "source"), inWords(err))
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	m, err := from.Receive(ctx, nil)
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return nil, fmt.Errorf("no message came from %s within %s", connect.SettingText(in, "source"), l.c.TimeLimit)
	case err != nil:
		return nil, l.broke(err)
	}
	out := &connect.Arrival{Headers: headersOf(m), Body: bodyOf(m)}
	if m.Properties != nil {
		out.ID = idText(m.Properties.MessageID)
	}
	return out, from.ReleaseMessage(ctx, m)
}
