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
	for ctx.Err() == nil {
		list, err := fetch(ctx, consumer, min(atOnce, batch))
		if err != nil {
			return fmt.Errorf("taking from the stream %s: %w", connect.SettingText(in, "stream"), err)
		}
		if conn.IsClosed() {
			return fmt.Errorf("the connection to %s broke off", l.c.Name)
		}
		if len(list) == 0 {
			continue
		}
		if err := store(ctx, list, take); err != nil {
			return err
		}
	}
	return ctx.Err()
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

// fetch takes what is there: it waits for the first message, and takes those behind it that
// have come.
func fetch(ctx context.Context, consumer jetstream.Consumer, limit int) ([]jetstream.Msg, error) {
	some, err := consumer.FetchNoWait(limit)
	if err != nil {
		return nil, err
	}
	list, err := collect(some)
	if err != nil || len(list) > 0 {
		return list, err
	}
	wait, cancel := context.WithTimeout(ctx, waits)
	defer cancel()
	if some, err = consumer.Fetch(1, jetstream.FetchContext(wait)); err != nil {
		return nil, err
	}
	return collect(some)
}

func collect(some jetstream.MessageBatch) (list []jetstream.Msg, err error) {
	for m := range some.Messages() {
		list = append(list, m)
	}
	err = some.Error()
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, client.ErrTimeout) || errors.Is(err,
		jetstream.ErrNoMessages) ||
		errors.Is(err, context.Canceled) {
		err = nil
	}
	return list, err
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
