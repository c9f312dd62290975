package stream

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"

	"readyferry/connect"
)

// A receiver that hears nothing looks so often whether anybody is there.
const looks = 10 * time.Second

// session is how long the brokers wait for a member of a group that has gone without a
// word until others get its partitions: an application that was killed waits for itself.
const session = 10 * time.Second

// patience is how long a sample is waited for.
const patience = 15 * time.Second

// Receive implements connect.Receiver. A group's place is committed behind the commit that
// stores the records; partitions go to other members of the group between two batches,
// never within one. The mark is the brokers': they keep where a group stands.
func (l *link) Receive(
	ctx context.Context,
	in connect.Settings,
	_ []byte,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error),
) error {
	topic, group, atOnce := connect.SettingText(in, "topic"), connect.SettingText(in, "group"), 64
	if n := connect.SettingText(in, "at-once"); n != "" {
		_, _ = fmt.Sscan(n, &atOnce)
	}
	if group == "" {
		group = "readyferry-" + connect.FlowOf(ctx)
	}
	begin, err := from(connect.SettingText(in, "begin"))
	if err != nil {
		return err
	}
	client, err := l.client(
		kgo.ConsumeTopics(topic), kgo.ConsumerGroup(group), kgo.ConsumeResetOffset(begin), kgo.DisableAutoCommit(),
		kgo.SessionTimeout(session), kgo.HeartbeatInterval(session/4), kgo.RebalanceTimeout(2*session),
		kgo.BlockRebalanceOnPoll(), kgo.FetchMaxBytes(mostFetch), kgo.FetchMaxPartitionBytes(mostFetch/4),
	)
	if err != nil {
		return err
	}
	defer client.CloseAllowingRebalance()
	if err := l.there(ctx, client, topic); err != nil {
		return err
	}
	connect.TellReady(ctx)
	r := reading{client: client, behind: map[int32]int64{}, take: take}
	for {
		wait, cancel := context.WithTimeout(ctx, looks)
		fetches := client.PollRecords(wait, atOnce)
		cancel()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		for _, e := range fetches.Errors() {
			if !errors.Is(e.Err, context.DeadlineExceeded) {
				return fmt.Errorf("reading the topic %s: %w", topic, inWords(e.Err))
			}
		}
		if fetches.Empty() {
			client.AllowRebalance()
			if err := l.there(ctx, client, topic); err != nil {
				return err
			}
			continue
		}
		if err := r.store(ctx, fetches); err != nil {
			return err
		}
	}
}

// there looks whether a broker answers and has the topic: a client waits for both without
// a word.
func (l *link) there(ctx context.Context, client *kgo.Client, topic string) error {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	topics, err := kadm.NewClient(client).ListTopics(ctx, topic)
	if err == nil {
		err = topics[topic].Err
	}
	if err != nil {
		return fmt.Errorf("reading the topic %s: %w", topic, inWords(err))
	}
	return nil
}

// from says where a group begins.
func from(text string) (kgo.Offset, error) {
	at, earliest, err := beginning(text)
	switch {
	case err != nil:
		return kgo.Offset{}, err
	case earliest:
		return kgo.NewOffset().AtStart(), nil
	case at.IsZero():
		return kgo.NewOffset().AtEnd(), nil
	}
	return kgo.NewOffset().AfterMilli(at.UnixMilli()), nil
}

// reading reads for one flow.
type reading struct {
	client *kgo.Client
	behind map[int32]int64 // records behind the last one read, by partition
	take   func(context.Context, []connect.Arrival) ([]connect.Taken, error)
}

// store has records stored and commits the group's place behind them.
func (r *reading) store(ctx context.Context, fetches kgo.Fetches) error {
	defer r.client.AllowRebalance()
	records := fetches.Records()
	arrivals := make([]connect.Arrival, len(records))
	for i, one := range records {
		arrivals[i] = connect.Arrival{ID: idOf(one), Headers: headersOf(one), Body: one.Value}
	}
	if _, err := r.take(ctx, arrivals); err != nil {
		return err
	}
	if err := r.client.CommitRecords(ctx, records...); err != nil {
		return fmt.Errorf("committing where the group stands: %w", inWords(err))
	}
	fetches.EachPartition(func(p kgo.FetchTopicPartition) {
		if n := len(p.Records); n > 0 {
			r.behind[p.Partition] = max(0, p.HighWatermark-p.Records[n-1].Offset-1)
		}
	})
	total := int64(0)
	for _, n := range r.behind {
		total += n
	}
	connect.TellBehind(ctx, total)
	return nil
}

// idOf tells records apart: by the key that its sender gives, else by where it stands. A
// topic that was made anew begins at 0 again, so its time belongs to it.
func idOf(r *kgo.Record) string {
	for _, h := range r.Headers {
		if h.Key == KeyHeader && len(h.Value) > 0 {
			return string(h.Value)
		}
	}
	return fmt.Sprintf("%s/%d@%d/%d", r.Topic, r.Partition, r.Offset, r.Timestamp.UnixMilli())
}

// Peek implements connect.Peeker: the last record of a partition is read, without a group,
// so nobody misses it.
func (l *link) Peek(ctx context.Context, in connect.Settings) (*connect.Arrival, error) {
	client, err := l.client(
		kgo.ConsumeTopics(connect.SettingText(in, "topic")), kgo.ConsumeResetOffset(kgo.NewOffset().AtEnd().Relative(-1)),
		kgo.FetchMaxBytes(mostFetch),
	)
	if err != nil {
		return nil, err
	}
	defer client.Close()
	topic := connect.SettingText(in, "topic")
	if err := l.there(ctx, client, topic); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	fetches := client.PollRecords(ctx, 1)
	for _, e := range fetches.Errors() {
		if !errors.Is(e.Err, context.DeadlineExceeded) {
			return nil, fmt.Errorf("reading the topic %s: %w", connect.SettingText(in, "topic"), inWords(e.Err))
		}
	}
	if fetches.Empty() {
		return nil, fmt.Errorf("no record came from %s within %s; try again when there is one", connect.SettingText(in,
			"topic"), patience)
	}
	one := fetches.Records()[0]
	return &connect.Arrival{ID: idOf(one), Headers: headersOf(one), Body: one.Value}, nil
}
