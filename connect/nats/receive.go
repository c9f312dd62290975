package nats

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	client "github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"readyferry/connect"
	"readyferry/core/message"
)

// batch is how many messages one commit takes at most.
const batch = 64

// waits is how long one request for messages stays with the broker.
const waits = 5 * time.Second

// Receive implements connect.Receiver. A durable consumer keeps where the flow stands;
// what is not acknowledged it brings again.
func (l *link) Receive(
	ctx context.Context,
	in connect.Settings,
	_ []byte,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error),
) error {
	conn, err := l.join(ctx, nil)
	if err != nil {
		return err
	}
	defer conn.Close()
	js, err := jetstream.New(conn)
	if err != nil {
		return err
	}
	atOnce := 64
	if n := connect.SettingText(in, "at-once"); n != "" {
		_, _ = fmt.Sscan(n, &atOnce)
	}
	consumer, err := l.consumer(ctx, js, in, atOnce)
	if err != nil {
		return fmt.Errorf("taking from the stream %s: %w", connect.SettingText(in, "stream"), err)
	}
	connect.TellReady(ctx)
	return l.consume(ctx, conn, consumer, atOnce, take)
}

// consume takes what the broker hands over. The client asks for more while a commit is under
// way, so that a round trip and a commit do not wait for one another.
func (l *link) consume(ctx context.Context, conn *client.Conn, from jetstream.Consumer, atOnce int,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error)) error {
	came, broke := make(chan jetstream.Msg, atOnce), make(chan error, 1)
	handing, err := from.Consume(func(m jetstream.Msg) { came <- m }, jetstream.PullMaxMessages(atOnce),
		jetstream.PullExpiry(waits), jetstream.ConsumeErrHandler(func(_ jetstream.ConsumeContext, err error) {
			select {
			case broke <- err:
			default: // the first says enough
			}
		}))
	if err != nil {
		return fmt.Errorf("taking messages: %w", err)
	}
	defer giveBack(handing, came)
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case err := <-broke:
			if conn.IsClosed() {
				err = fmt.Errorf("the connection to %s broke off", l.c.Name)
			}
			return fmt.Errorf("taking messages: %w", err)
		case m := <-came:
			if err := store(ctx, connect.Gather(m, came, batch), take); err != nil {
				return err
			}
		}
	}
}

// giveBack ends the handing over and gives back what was not taken, so that it comes again
// at once, to whoever receives next.
func giveBack(handing jetstream.ConsumeContext, came <-chan jetstream.Msg) {
	handing.Stop()
	for {
		select {
		case m := <-came:
			_ = m.Nak() // where this does not come through, the broker's patience ends
		case <-handing.Closed():
			for len(came) > 0 {
				_ = (<-came).Nak()
			}
			return
		}
	}
}

// consumer gives the durable consumer of a flow, and makes it where it is not there.
func (l *link) consumer(ctx context.Context, js jetstream.JetStream, in connect.Settings,
	atOnce int) (jetstream.Consumer, error) {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	name := connect.SettingText(in, "consumer")
	if name == "" {
		name = "readyferry-" + connect.FlowOf(ctx)
	}
	c, err := js.Consumer(ctx, connect.SettingText(in, "stream"), name)
	if !errors.Is(err, jetstream.ErrConsumerNotFound) {
		return c, err
	}
	config := jetstream.ConsumerConfig{Durable: name, AckPolicy: jetstream.AckExplicitPolicy,
		FilterSubject: connect.SettingText(in,
			"filter"),
		MaxAckPending: atOnce, DeliverPolicy: jetstream.DeliverNewPolicy}
	switch begin := connect.SettingText(in, "begin"); begin {
	case "", "new":
	case "all":
		config.DeliverPolicy = jetstream.DeliverAllPolicy
	default:
		at, err := time.Parse(time.RFC3339, begin)
		if err != nil {
			return nil, fmt.Errorf("begin: %q is neither all nor new, nor a time such as 2026-03-17T06:00:00Z", begin)
		}
		config.DeliverPolicy, config.OptStartTime = jetstream.DeliverByStartTimePolicy, &at
	}
	return js.CreateConsumer(ctx, connect.SettingText(in, "stream"), config)
}

// store has messages stored and acknowledges them.
func store(ctx context.Context, list []jetstream.Msg, take func(context.Context,
	[]connect.Arrival) ([]connect.Taken, error)) error {
	arrivals := make([]connect.Arrival, len(list))
	behind := uint64(0)
	for i, m := range list {
		a, pending, err := arrival(m)
		if err != nil {
			return err
		}
		arrivals[i], behind = a, pending
	}
	if _, err := take(ctx, arrivals); err != nil {
		return err
	}
	for _, m := range list {
		if err := m.Ack(); err != nil {
			return fmt.Errorf("acknowledging: %w", err)
		}
	}
	connect.TellBehind(ctx, int64(behind))
	return nil
}

// arrival makes an arrival of a message, and says how many come behind it.
func arrival(m jetstream.Msg) (connect.Arrival, uint64, error) {
	at, err := m.Metadata()
	if err != nil {
		return connect.Arrival{}, 0, fmt.Errorf("a message of no stream came: %w", err)
	}
	out := connect.Arrival{Body: m.Data(), Headers: headersOf(m.Subject(), m.Headers()),
		ID: m.Headers().Get(client.MsgIdHdr)}
	if out.ID == "" {
		out.ID = idOf(at.Stream, at.Sequence.Stream, at.Timestamp)
	}
	out.Headers = append(out.Headers, place(at.Stream, at.Sequence.Stream, at.Timestamp)...)
	if at.NumDelivered > 1 {
		out.Headers = append(out.Headers, message.Header{Name: "Nats-Redelivered", Value: "true"})
	}
	return out, at.NumPending, nil
}

// idOf tells messages of a stream apart. One that was made anew begins at 1 again, so the
// time belongs to it.
func idOf(stream string, sequence uint64, at time.Time) string {
	return fmt.Sprintf("%s/%d/%d", stream, sequence, at.UnixNano())
}

func place(stream string, sequence uint64, at time.Time) []message.Header {
	return []message.Header{
		{Name: "Nats-Stream", Value: stream}, {Name: "Nats-Sequence", Value: strconv.FormatUint(sequence, 10)},
		{Name: "Nats-Timestamp", Value: at.UTC().Format(time.RFC3339Nano)},
	}
}

// Peek implements connect.Peeker: the last message of a stream is read, beside its
// consumers, so nobody misses it.
func (l *link) Peek(ctx context.Context, in connect.Settings) (*connect.Arrival, error) {
	var out *connect.Arrival
	name := connect.SettingText(in, "stream")
	err := l.look(ctx, nil, func(ctx context.Context, js jetstream.JetStream) error {
		s, err := js.Stream(ctx, name)
		if err != nil {
			return fmt.Errorf("looking into the stream %s: %w", name, err)
		}
		filter := connect.SettingText(in, "filter")
		if filter == "" {
			filter = ">"
		}
		m, err := s.GetLastMsgForSubject(ctx, filter)
		if err != nil {
			return fmt.Errorf("no message is in the stream %s that fits: %w", name, err)
		}
		out = &connect.Arrival{ID: m.Header.Get(client.MsgIdHdr), Body: m.Data,
			Headers: append(headersOf(m.Subject, m.Header), place(name, m.Sequence, m.Time)...)}
		if out.ID == "" {
			out.ID = idOf(name, m.Sequence, m.Time)
		}
		return nil
	})
	return out, err
}
