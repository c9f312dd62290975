package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"readyferry/core/flow"
	"readyferry/store"
)

// takeFromTopic takes the next messages of a subscription. Its position moves
// in the database transaction in which the messages' own transactions begin,
// so several flows that share a subscription never take the same one.
func (c *consumer) takeFromTopic(tx *store.Tx, f *flowState, after *aftermath) (more bool, err error) {
	topic, name := c.source.name, c.source.subscription
	sub, err := tx.Subscription(topic, name)
	if errors.Is(err, ErrNotFound) {
		return false, nil // a person has removed it
	}
	if err != nil {
		return false, err
	}
	inFlight, err := tx.TakenFromTopic(topic, name, f.name)
	if err != nil {
		return false, err
	}
	free := min(f.live.Document.Intake.InFlight-int(inFlight), taken)
	if free <= 0 {
		return false, nil
	}
	rows, err := tx.ReadTopic(&sub, free)
	if err != nil || len(rows) == 0 {
		return false, err
	}
	for i := range rows {
		m := &rows[i]
		after.taken[subscriptionChannel(topic, name)]++
		a := arrival{m.Headers, m.Body, m.Reference, fmt.Sprintf("topic %s, offset %d", topic, m.N)}
		err := c.e.take(tx, f, a, after, func(t *store.Transaction) error {
			t.FromTopic = true
			return tx.TakeFromTopic(&store.TopicTaken{Tx: t.ID, Topic: topic, Subscription: name, Flow: f.name, N: m.N})
		}, func() error { return nil })
		if err != nil {
			return false, fmt.Errorf("offset %d: %w", m.N, err)
		}
	}
	sub.Position = rows[len(rows)-1].N + 1
	return len(rows) == free, tx.SaveSubscription(&sub)
}

// beginAt gives the offset at which a new subscription begins, or an old one is
// set to.
func beginAt(tx *store.Tx, t store.Topic, b flow.Begin) (int64, error) {
	switch {
	case b.Latest:
		return t.Next, nil
	case b.Offset != nil:
		return max(t.First, min(*b.Offset, t.Next)), nil
	case !b.Time.IsZero():
		return tx.OffsetAt(t, b.Time)
	}
	return t.First, nil
}

// subscribe makes the subscription that an intake reads, unless it is there.
func (e *Engine) subscribe(tx *store.Tx, in *flow.Intake) error {
	if in.Kind != "topic" {
		return nil
	}
	return tx.Subscribe(in.Topic, in.Subscription, e.clock(), func(t store.Topic) (int64, error) { return beginAt(tx, t, in.Begin) })
}

// Rewind sets a subscription to another place in its topic, back or forward.
// What it works on goes on. It gives the new position.
func (e *Engine) Rewind(ctx context.Context, topic, subscription string, to flow.Begin) (at int64, err error) {
	err = e.store.Write(ctx, func(tx *store.Tx) error {
		s, err := tx.Subscription(topic, subscription)
		if err != nil {
			return err
		}
		t, err := tx.Topic(topic)
		if err != nil {
			return err
		}
		if to.Offset != nil && (*to.Offset < t.First || *to.Offset > t.Next) {
			return fmt.Errorf("%w: the topic %s holds the offsets from %d to %d; %d is none of them", ErrDecision, topic, t.First, t.Next-1, *to.Offset)
		}
		if at, err = beginAt(tx, t, to); err != nil {
			return err
		}
		s.Position = at
		return tx.SaveSubscription(&s)
	})
	if err == nil {
		e.Events.Publish(TopicQueues)
		e.wakeReaders(topicChannel(topic))
	}
	return at, err
}

// Unsubscribe removes a subscription that no live flow reads.
func (e *Engine) Unsubscribe(ctx context.Context, topic, subscription string) error {
	if readers := e.TopicReaders()[source{"topic", topic, subscription}.key()]; len(readers) > 0 {
		return fmt.Errorf("%w: the flow %s reads the subscription %s", ErrInUse, readers[0], subscription)
	}
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Subscription(topic, subscription); err != nil {
			return err
		}
		return tx.Unsubscribe(topic, subscription)
	})
	if err == nil {
		e.Events.Publish(TopicQueues)
	}
	return err
}

// Retention says how old and how large the log of a topic may become.
type Retention struct {
	KeepFor    time.Duration // 0: no bound
	KeepBytes  int64         // 0: no bound
	DropUnread bool
}

// SetRetention sets the retention of a topic that exists.
func (e *Engine) SetRetention(ctx context.Context, topic string, r Retention) error {
	if r.KeepFor < 0 || r.KeepBytes < 0 {
		return fmt.Errorf("%w: an age or a size cannot be negative; 0 stands for no bound", ErrDecision)
	}
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		all, err := tx.Topic(topic)
		if err != nil {
			return err
		}
		if all.Next == 0 && !e.known(topicChannel(topic)) {
			return ErrNotFound
		}
		all.KeepFor, all.KeepBytes, all.DropUnread = r.KeepFor, r.KeepBytes, r.DropUnread
		return tx.SaveTopic(&all)
	})
	if err != nil {
		return err
	}
	e.Events.Publish(TopicQueues)
	return e.retain(ctx)
}

// known tells whether a live flow reads a queue or topic.
func (e *Engine) known(channel string) bool { return len(e.readers(channel, false)) > 0 }

// retain drops what topics need not keep any longer, a little at a time.
func (e *Engine) retain(ctx context.Context) error {
	topics, err := e.store.Topics()
	if err != nil {
		return err
	}
	for _, t := range topics {
		for {
			dropped := 0
			err := e.store.Write(ctx, func(tx *store.Tx) (err error) {
				dropped, err = tx.Retain(t.Name, e.clock(), batch)
				return err
			})
			if err != nil {
				return fmt.Errorf("topic %s: %w", t.Name, err)
			}
			if dropped > 0 {
				e.Events.Publish(TopicQueues)
			}
			if dropped < batch {
				break
			}
		}
	}
	return nil
}

// SubscriptionKey names a subscription among those of all topics.
func SubscriptionKey(topic, subscription string) string {
	return source{"topic", topic, subscription}.key()
}

func (s source) key() string { return s.name + "/" + s.subscription }

// TopicReaders lists the subscriptions that live flows read, with the flows.
func (e *Engine) TopicReaders() map[string][]string {
	e.mu.RLock()
	defer e.mu.RUnlock()
	out := map[string][]string{}
	for _, f := range e.flows {
		if f.live == nil {
			continue
		}
		if s, ok := sourceOf(&f.live.Document.Intake); ok && s.kind == "topic" {
			out[s.key()] = append(out[s.key()], f.name)
			slices.Sort(out[s.key()])
		}
	}
	return out
}

// TopicRate tells how many messages were put into a topic in the last minute,
// and SubscriptionRate how many were read, since the last start.
func (e *Engine) TopicRate(topic string) int {
	in, _ := e.rates.lastMinute(topicChannel(topic), e.clock())
	return in
}

// SubscriptionRate tells how many messages a subscription took in the last minute.
func (e *Engine) SubscriptionRate(topic, subscription string) int {
	_, out := e.rates.lastMinute(subscriptionChannel(topic, subscription), e.clock())
	return out
}
